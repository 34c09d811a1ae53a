"""The simulated stage: one call rolls a take and returns what every device recorded, with the truth kept apart."""

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from otrevo.core.devices.catalogue import DEVICES
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.bodies import limbs
from otrevo.core.sim.carried import carry
from otrevo.core.sim.devices import device_stream
from otrevo.core.sim.motions import perform
from otrevo.core.sim.optical import held, see, see_prop, worn
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.recorded import RecordedStream
from otrevo.core.sim.rig import Faults, film

OPTICAL_RATE = Fraction(120)
KIT = tuple(d.id for d in DEVICES)


@dataclass(frozen=True)
class RolledTake:
    """streams by name; truth: performer, performance, optical labels; starts_s and drifts of the device clocks."""

    streams: dict
    zero_timecode_s: float
    performer: object
    performance: object
    optical: object
    clocks: dict
    props: dict = field(default_factory=dict)


def roll(motion_name, performer_seed, take_seed, height_m, fmt, timecode_frame, kit=KIT,
         position_m=(0.3, -0.2), facing_rad=0.4, hidden=0.06, props=(), room=None,
         seconds=0.0):  # fmt: skip
    """Roll one take by one performer. fmt: TimecodeFormat; timecode_frame: the frame number at the roll.

    props: Props that carry markers in this take; only a performance that holds one moves it. The take's `props` has
    the true Motion of each by name. room: a sim.rig Room, whose cameras then deliver centroids instead of ready-made points.
    seconds: how long it rolls at least; who is done before that stays as they are.
    """
    rng = np.random.default_rng([take_seed, 97])
    chart = shipped_chart()
    performer = make_performer(performer_seed, chart, height_m=height_m)
    performance = perform(motion_name, performer, take_seed, OPTICAL_RATE, position_m, facing_rad).until(seconds)
    zero = float(fmt.seconds(timecode_frame))
    seconds = len(performance.motion) / float(OPTICAL_RATE)
    streams, clocks = {}, {}
    optical, carried = None, {}
    count = np.arange(0, len(performance.motion), 30)
    stamps = np.stack([count.astype(float), (zero + count / 120.0 + rng.normal(0, 1e-5, len(count))) % 86400.0], 1)
    if "optical" in kit and room is not None:
        carried = {prop.name: carry(performance, prop, take_seed) for prop in props}
        positions, bodies = _before(performance, performer, take_seed, hidden, carried, props)
        faults = Faults(ghosts=0.02, lost_frames=0.01)
        centroids, _ = film(room.cameras, positions, take_seed, faults, bodies, room.lamps)
        extra = {"cameras": [c.name for c in room.cameras]}
        streams["cameras"] = RecordedStream("cameras", "centroids", OPTICAL_RATE, centroids.rows(), stamps, extra)
    elif "optical" in kit:
        optical = see(performance, performer, chart, take_seed, hidden=hidden)
        for prop in props:
            carried[prop.name] = carry(performance, prop, take_seed)
            optical = see_prop(optical, carried[prop.name], prop, take_seed, hidden=hidden)
        streams["optical"] = RecordedStream(
            "optical", "points", OPTICAL_RATE, optical.points_m.astype(np.float32), stamps
        )
    for device in DEVICES:
        if device.id in kit and device.id != "optical":
            streams[device.id], clock = device_stream(
                device, performance, performer_seed, take_seed, fmt, timecode_frame
            )
            if clock is not None:
                clocks[device.id] = clock
    return RolledTake(streams, zero, performer, performance, optical, clocks, carried)


def performed(motion, performer_seed, seed, height_m, position_m=(0.3, -0.2), facing_rad=0.4):
    """(the simulated performer, their Performance) of a motion."""
    performer = make_performer(performer_seed, shipped_chart(), height_m=height_m)
    return performer, perform(motion, performer, seed, OPTICAL_RATE, tuple(position_m), facing_rad)


def before_cameras(
    motion, performer_seed, seed, height_m, position_m=(0.3, -0.2), facing_rad=0.4, hidden=0.06, props=()
):
    """A performance as cameras have it before them: marker positions (T, K, 3), NaN where covered, and the bodies in the way."""
    performer, performance = performed(motion, performer_seed, seed, height_m, position_m, facing_rad)
    return _before(performance, performer, seed, hidden, {p.name: carry(performance, p, seed) for p in props}, props)


def _before(performance, performer, seed, hidden, carried, props):
    positions, visible = worn(performance, performer, shipped_chart(), np.random.default_rng([seed, 37]), hidden=hidden)
    for prop in props:
        more, bare = held(carried[prop.name], prop, np.random.default_rng([seed, 41]), hidden)
        positions, visible = np.concatenate([positions, more], 1), np.concatenate([visible, bare], 1)
    return np.where(visible[..., None], positions, np.nan), limbs(performance.motion)
