"""The simulated stage: one call rolls a take and returns what every device recorded, with the truth kept apart."""

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.audio import ltc_track, room_track
from otrevo.core.sim.bodies import limbs
from otrevo.core.sim.carried import carry
from otrevo.core.sim.devices import face_stream, glove_stream, make_clock, suit_stream
from otrevo.core.sim.motions import perform
from otrevo.core.sim.optical import held, see, see_prop, worn
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.rig import Faults, film

OPTICAL_RATE = Fraction(120)
SUIT_HZ, GLOVE_HZ, FACE_HZ, AUDIO_HZ = 100.0, 90.0, 60.0, 48000.0


@dataclass(frozen=True)
class RecordedStream:
    """What one device delivered: kind, nominal rate, data (T, ...), stamps (K, 2) of sample number and seconds of day."""

    name: str
    kind: str
    rate: Fraction
    data: np.ndarray
    stamps: np.ndarray
    extra: dict = field(default_factory=dict)


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


def roll(motion_name, performer_seed, take_seed, height_m, fmt, timecode_frame, kit=("optical", "suit", "gloves", "face", "sound"),
         place_m=(0.3, -0.2), facing_rad=0.4, hidden=0.06, props=(), room=None,
         seconds=0.0):  # fmt: skip
    """Roll one take by one performer. fmt: TimecodeFormat; timecode_frame: the frame number at the roll.

    props: Props that carry markers in this take; only a performance that holds one moves it. The take's `props` has
    the true Motion of each by name. room: a sim.rig Room, whose cameras then deliver centroids instead of ready-made points.
    seconds: how long it rolls at least; who is done before that stays as they are.
    """
    rng = np.random.default_rng([take_seed, 97])
    chart = shipped_chart()
    performer = make_performer(performer_seed, chart, height_m=height_m)
    performance = perform(motion_name, performer, take_seed, OPTICAL_RATE, place_m, facing_rad).until(seconds)
    zero = float(fmt.seconds(timecode_frame))
    seconds = len(performance.motion) / float(OPTICAL_RATE)
    streams, clocks = {}, {}
    optical, carried = None, {}
    count = np.arange(0, len(performance.motion), 30)
    stamps = np.stack([count.astype(float), (zero + count / 120.0 + rng.normal(0, 1e-5, len(count))) % 86400.0], 1)
    if "optical" in kit and room is not None:
        carried = {prop.name: carry(performance, prop, take_seed) for prop in props}
        places, bodies = _before(performance, performer, take_seed, hidden, carried, props)
        faults = Faults(ghosts=0.02, lost_frames=0.01)
        centroids, _ = film(room.cameras, places, take_seed, faults, bodies, room.lamps)
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
    for name, kind, hz, make, seed in (
        ("suit", "orientations", SUIT_HZ, suit_stream, performer_seed),
        ("gloves", "bends", GLOVE_HZ, glove_stream, performer_seed),
    ):
        if name in kit:
            clocks[name] = make_clock(rng, hz)
            times, data = make(performance, seed, rng, clocks[name])
            stamps = clocks[name].stamps(times, zero, rng)
            streams[name] = RecordedStream(name, kind, Fraction(int(hz)), data.astype(np.float32), stamps)
    if "face" in kit:
        clocks["face"] = make_clock(rng, FACE_HZ)
        times, data = face_stream(performance, performer_seed, take_seed, rng, clocks["face"])
        stamps = clocks["face"].stamps(times, zero, rng)
        streams["face"] = RecordedStream("face", "shapes", Fraction(60), data.astype(np.float32), stamps)
    if "sound" in kit:
        speed = 1 + 1e-6 * rng.uniform(-40, 40)
        # audio ranks whole frames of code from the frame that was running at the roll
        code, _, _ = ltc_track(fmt, timecode_frame, seconds, int(AUDIO_HZ), speed=speed, seed=take_seed)
        none = np.zeros((0, 2))
        streams["timecode"] = RecordedStream("timecode", "audio", Fraction(48000), code, none)
        sound = room_track(seconds, performance.clap_s * speed, int(AUDIO_HZ), take_seed)
        streams["room"] = RecordedStream("room", "audio", Fraction(48000), sound, none)
    return RolledTake(streams, zero, performer, performance, optical, clocks, carried)


def before_cameras(motion, performer_seed, seed, height_m, place_m=(0.3, -0.2), facing_rad=0.4, hidden=0.06, props=()):
    """A performance as cameras have it before them: marker places (T, K, 3), NaN where covered, and the bodies in the way."""
    chart = shipped_chart()
    performer = make_performer(performer_seed, chart, height_m=height_m)
    performance = perform(motion, performer, seed, OPTICAL_RATE, tuple(place_m), facing_rad)
    return _before(performance, performer, seed, hidden, {p.name: carry(performance, p, seed) for p in props}, props)


def _before(performance, performer, seed, hidden, carried, props):
    places, visible = worn(performance, performer, shipped_chart(), np.random.default_rng([seed, 37]), hidden=hidden)
    for prop in props:
        more, bare = held(carried[prop.name], prop, np.random.default_rng([seed, 41]), hidden)
        places, visible = np.concatenate([places, more], 1), np.concatenate([visible, bare], 1)
    return np.where(visible[..., None], places, np.nan), limbs(performance.motion)
