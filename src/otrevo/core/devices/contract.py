"""What a device says of itself.

A device is one file here that declares a Device, and one line in `core.devices.catalogue`. The recorder, the Floor, the
kits in Cast, the warm-up, the line-up, the solve, the lanes on the Bench and packages take it from there.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.performer import PerformerCalibration


@dataclass(frozen=True)
class Curve:
    """One curve of a lane. channel: of the flattened sample; side: "left", "right" or "" picks the colour."""

    channel: int
    side: str = ""
    line: str = "solid"


@dataclass(frozen=True)
class Lane:
    """How a device's stream looks on the Bench.

    draws: "share" (of those of its `parts` that ever answered), "curves" (each over what it reaches, at least `least_span`) or "wave".
    height: pixels; detail: the small words under the lane's name, of a share after the number of parts that ever answered.
    """

    detail: str
    height: int
    draws: str
    parts: int = 1
    curves: tuple[Curve, ...] = ()
    least_span: float = 0.0


@dataclass(frozen=True)
class SolvedBody:
    """A body solved from markers, for what a device takes from it.

    performer: their calibration; motion (T frames); seen (T, M) bool, which markers were there; times_s (T,) take time.
    """

    performer: PerformerCalibration
    motion: Motion
    seen: np.ndarray
    times_s: np.ndarray


@dataclass(frozen=True)
class DeviceTrack:
    """Values (T, N) that a device adds to a solved take, from the take's zero at the device's rate, NaN where lost."""

    name: str
    kind: str
    values: np.ndarray


@dataclass(frozen=True)
class Guides:
    """What a device knows of a body while markers are hidden. world: rotations {bone: (T, 4)}; figures: plain JSON; felt: a
    core.solve.carried_root.FeltAt that carries the whole body, or None; snags: what is wrong with the device; stray_rad: {bone: how
    far its rotations are off about each axis, one sigma}.
    """

    world: dict
    figures: dict = field(default_factory=dict)
    felt: object = None
    snags: tuple = ()
    stray_rad: dict = field(default_factory=dict)


@dataclass(frozen=True)
class Device:
    """id: stays the same for ever, the name of its stream and of its calibration; words: as a person reads it.

    kind: of its stream; rate: nominal samples a second; shape: of one sample, float32, NaN where a part did not answer;
    per_packet: samples that travel together; channels: names of the flattened sample.
    worn: by a performer, and then part of a kit; else it is the room's. stamped: its packets show timecode; the clock
    of a device without stamps is that of the timecode track.
    lane: None for what the Bench draws in its own way.
    clap(data, times_s) -> take time of the clap in seconds, or None.
    calibrate(stream, solved) -> its plain JSON document from a warm-up; solved is None where no markers showed the body;
    raises InputError in a sentence.
    says(document) -> (a few words, a line of details) about that document.
    doubts(document, duration_s) -> [Snag] of how it was worn, by that document.
    guides(stream, document, solved) -> the Guides that the solve takes up beside the markers.
    completes(stream, document, motion, times_s) -> the Motion with what the device knows of it.
    track(stream, document, duration_s) -> DeviceTrack or None.
    A stream is a core.passes.contract.TakeStream.
    """

    id: str
    words: str
    kind: str
    rate: Fraction
    shape: tuple[int, ...]
    per_packet: int
    lane: Lane | None
    channels: tuple[str, ...] = ()
    worn: bool = True
    stamped: bool = True
    details: dict = field(default_factory=dict)
    clap: Callable | None = None
    calibrate: Callable | None = None
    says: Callable | None = None
    guides: Callable | None = None
    doubts: Callable | None = None
    completes: Callable | None = None
    track: Callable | None = None

    @property
    def width(self):
        """Numbers in one sample."""
        return math.prod(self.shape)

    def channel_names(self):
        """A name for each number of a sample, as a table of readings has them."""
        return self.channels or tuple(f"{self.id} {i + 1}" for i in range(self.width))
