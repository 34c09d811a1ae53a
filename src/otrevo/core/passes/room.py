"""What the passes that prepare a room work on and what they give. They are declared like the passes of a take."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from fractions import Fraction

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.centroids import Centroids
from otrevo.core.optics.accuracy import moved_covariance
from otrevo.core.optics.wand import Wand


@dataclass(frozen=True)
class RoomRecording:
    """What the cameras saw: read() -> Centroids numbered over `cameras`, ids; seconds; notes on what was odd.

    wand: the one in the picture, or None; name: of the take, where it is one's recording.
    """

    read: Callable[[], Centroids]
    cameras: tuple[str, ...]
    rate: Fraction
    seconds: float = 0.0
    wand: Wand | None = None
    notes: tuple[str, ...] = ()
    name: str = ""


@dataclass(frozen=True)
class RoomCalibration:
    """Calibrated cameras and Blinds numbered over them, in a world that is levelled or free.

    version: its number, 0 before it has one; how: "sweep", "level" or "placed anew"; words: for people; covariance
    (15 C, 15 C) of the cameras' numbers or None; rows, failed, notes, figures and wand_rms_mm: what its sweep said.
    """

    cameras: tuple
    blinds: tuple = ()
    levelled: bool = False
    version: int = 0
    how: str = ""
    words: str = ""
    covariance: np.ndarray | None = None
    rows: tuple = ()
    failed: dict = field(default_factory=dict)
    notes: tuple = ()
    figures: dict = field(default_factory=dict)
    wand_rms_mm: float | None = None

    def moved(self, rotation, shift_m):
        """The same in a world that was turned by rotation (3, 3) and shifted by (3,): new = rotation old + shift.

        Figures that are places (the wand's trail, where it was measured worst) follow it.
        """
        positions = {k: np.asarray(self.figures[k]) for k in ("trail_m", "wand_worst_at_m") if k in self.figures}
        there = {k: np.round(v @ rotation.T + shift_m, 3).tolist() for k, v in positions.items()}
        covariance = None if self.covariance is None else moved_covariance(self.covariance, rotation)
        cameras = tuple(c.moved(rotation, shift_m) for c in self.cameras)
        return replace(self, cameras=cameras, covariance=covariance, figures=self.figures | there)


@dataclass(frozen=True)
class RoomMaterial:
    """All that a pass over a room may work on.

    rig: RigCameras; blinds: over the rig. still, sweep, wand_on_floor and floor_markers: recordings, None where there is
    none. calibration: the one that counts; levelled: the newest that is levelled. camera: the id of the one that was
    knocked; takes: recordings that tell of it, the one that was asked about first.
    """

    rig: tuple
    rate: Fraction
    blinds: tuple = ()
    still: RoomRecording | None = None
    sweep: RoomRecording | None = None
    wand_on_floor: RoomRecording | None = None
    floor_markers: RoomRecording | None = None
    calibration: RoomCalibration | None = None
    levelled: RoomCalibration | None = None
    camera: str = ""
    takes: tuple[RoomRecording, ...] = ()

    def recording(self, name):
        """A recording that must be there, its wand too if it has one in it. Raises InputError."""
        found = getattr(self, name)
        if found is None:
            raise InputError(f"There is no recording of the {name.replace('_', ' ')} yet; record one first.")
        return found

    def calibrated(self, what):
        """The calibration that must be there to `what`. Raises InputError."""
        if self.calibration is None:
            raise InputError(f"There is no calibration to {what} yet; sweep and solve the cameras first.")
        return self.calibration


@dataclass(frozen=True)
class RoomOutcome:
    """figures: plain JSON; blinds: those found, over the rig; calibration: a new one; used: numbers of the takes used."""

    figures: dict
    blinds: tuple | None = None
    calibration: RoomCalibration | None = None
    used: tuple[int, ...] = ()
