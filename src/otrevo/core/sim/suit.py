"""A body suit as it really is: sensors askew on skin that swings and turns in part, filters whose heading drifts, magnets, lost packets.

The solver knows none of these numbers. A sensor on bone b reads q = H(t) E(t) R_b(t) W(t) M: R_b the bone's world
rotation, M how the sensor sits on the limb, W what the skin under it swings, E the error of the filter's tilt and H its own heading (+Y).
Its accelerometer reads the specific force at the place where it sits, in its own axes.
"""

from dataclasses import dataclass, field

import numpy as np
import scipy

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.conventions import (
    make_continuous,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    slerp,
)
from otrevo.core.inertial.recording import suit_recording
from otrevo.core.sim.motions import band_noise
from otrevo.core.solve.suit import SUIT_BONES

GRAVITY = np.array([0.0, 9.81, 0.0])
RATE_HZ = 100.0
SMOOTH_HZ = 14.0  # what a body does is slower; a recording's own tremble is not what its sensors felt
SLIPS_S = 0.15  # how long a knocked sensor takes to slip
SWING_HZ, SWING_DAMPING, SWING_RAD_PER_MS2 = 9.0, 0.25, np.radians(0.12)

# where on its bone a sensor sits: share of the way to the bone's end, and how far out of the line (x left, y up, z forward), metres
_SEATS = {
    "hips": (0.0, (0.0, 0.08, -0.11)), "chest": (0.0, (0.0, 0.10, 0.11)), "head": (0.0, (0.0, 0.12, -0.09)),
    "Shoulder": (0.6, (0.0, 0.03, -0.05)), "UpperArm": (0.6, (0.0, 0.03, -0.03)), "LowerArm": (0.75, (0.0, 0.03, 0.0)),
    "Hand": (0.4, (0.0, 0.02, 0.0)), "UpperLeg": (0.5, (0.07, 0.0, 0.04)), "LowerLeg": (0.4, (0.03, 0.0, 0.05)),
    "Foot": (0.6, (0.0, 0.03, 0.0)),
}  # fmt: skip
_ENDS = {"Shoulder": "UpperArm", "UpperArm": "LowerArm", "LowerArm": "Hand", "Hand": "MiddleProximal",
         "UpperLeg": "LowerLeg", "LowerLeg": "Foot", "Foot": "Toes"}  # fmt: skip


@dataclass(frozen=True)
class Suit:
    """One day's suit on one body. names (S): bones; mount (S, 4); lever_m (S, 3) in bone axes; heading_rad (S,) at time 0 and
    drift_rad_s (S,); tilt_rad, bias_ms2 (S, 3); up: "Y" or "Z", of the filters' world. worn: {sensor's name: the bone it really sits on}.
    magnets: [(name, from s, to s, degrees)]; slips: [(name, at s, rotation vector)]; missed: {limb: share of its turns about its own
    line that its skin misses}.
    """

    names: tuple[str, ...]
    mount: np.ndarray
    lever_m: np.ndarray
    heading_rad: np.ndarray
    drift_rad_s: np.ndarray
    tilt_rad: np.ndarray
    bias_ms2: np.ndarray
    seed: int
    up: str = "Y"
    worn: dict = field(default_factory=dict)
    magnets: tuple = ()
    slips: tuple = ()
    missed: dict = field(default_factory=dict)


def make_suit(skeleton, seed, names=SUIT_BONES, misaligned_deg=25.0, any_seat=True, up="Y", **faults):
    """A Suit on a body. misaligned_deg: at most, about a random axis; any_seat: the sensors' axes have nothing to do with the limbs'."""
    rng = np.random.default_rng([seed, 61])
    count = len(names)
    axes = rng.normal(size=(count, 3))
    axes /= np.linalg.norm(axes, axis=1, keepdims=True)
    mount = quaternion_from_rotvec(axes * np.radians(rng.uniform(0, misaligned_deg, count))[:, None])
    if any_seat:
        mount = quaternion_multiply(mount, quaternion_from_rotvec(rng.normal(0, 1.5, (count, 3))))
    lever = np.array([_seat(skeleton, faults.get("worn", {}).get(n, n)) for n in names]) + rng.normal(
        0, 0.012, (count, 3)
    )
    drift = np.radians(rng.uniform(0.5, 3.0, count) / 60) * rng.choice([-1, 1], count)
    return Suit(
        tuple(names), mount, lever, rng.uniform(-np.pi, np.pi, count), drift,
        np.radians(rng.normal(0, 0.45, (count, 3))), rng.normal(0, 0.05, (count, 3)), seed, up, **faults,
    )  # fmt: skip


def _seat(skeleton, bone):
    side = "right" if bone.startswith("right") else "left" if bone.startswith("left") else ""
    share, out = _SEATS[bone.removeprefix("left").removeprefix("right")]
    out = np.array(out) * ([-1, 1, 1] if side == "right" else [1, 1, 1])
    end = _ENDS.get(bone.removeprefix(side), "")
    along = skeleton.rest_offset_m[skeleton.index(side + end)] if end and side + end in skeleton.names else 0.0
    return share * np.asarray(along) + out


def read_suit(motion, suit, start_s=0.0, clock_s=0.0, lost=0.004):
    """What the sensors send.

    motion: the true Motion; start_s: age of the suit's headings at its first frame; clock_s: the device's time at it.
    Returns times (T,) of the device's clock, rotations (T, S, 4) and specific forces (T, S, 3), NaN where a packet was lost.
    """
    rng = np.random.default_rng([suit.seed, 62, int(1000 * start_s), len(motion)])
    times = np.arange(int((len(motion) - 1) / float(motion.rate) * RATE_HZ)) / RATE_HZ
    reading, force = sense(motion, suit, times, start_s, rng)
    gone = rng.random(reading.shape[:2]) < lost
    reading[gone], force[gone] = np.nan, np.nan
    return times + clock_s, reading, force


def sense(motion, suit, times, start_s, rng):
    """Rotations (T, S, 4) and specific forces (T, S, 3) at times (T,) of a Motion, the suit's headings being start_s old at its first frame."""
    joint, world = motion_joints(motion)
    names = motion.skeleton.names
    index = [names.index(suit.worn.get(n, n)) for n in suit.names]
    source = np.arange(len(motion)) / float(motion.rate)
    bone = slerp(source, make_continuous(world[:, index]), times)
    place = joint[:, index] + quaternion_rotate(world[:, index], suit.lever_m)
    felt = _smooth_acceleration(source, place, float(motion.rate), times) + GRAVITY
    swing = _swing(quaternion_rotate(quaternion_conjugate(bone), felt - GRAVITY), rng)
    sensor = quaternion_multiply(quaternion_multiply(bone, quaternion_from_rotvec(swing)), suit.mount)
    for name, share in suit.missed.items():
        s = suit.names.index(name)
        mount = suit.mount[s]
        turned = np.interp(times, source, turned_about_line(motion, name))[:, None] * line_of(motion.skeleton, name)
        back = quaternion_from_rotvec(quaternion_rotate(quaternion_conjugate(mount), -share * turned))
        sensor[:, s] = quaternion_multiply(sensor[:, s], back)
    for name, at, rotvec in suit.slips:
        s, share = suit.names.index(name), np.clip((times + start_s - at) / SLIPS_S, 0.0, 1.0)
        slid = (share**2 * (3 - 2 * share))[:, None] * np.asarray(rotvec, dtype=float)
        sensor[:, s] = quaternion_multiply(sensor[:, s], quaternion_from_rotvec(slid))
    count, sensors = len(times), len(suit.names)
    force = (
        quaternion_rotate(quaternion_conjugate(sensor), felt) + suit.bias_ms2 + rng.normal(0, 0.06, (count, sensors, 3))
    )
    wander = band_noise(rng, count, 3 * sensors, RATE_HZ, 0.02, 0.3, lead_s=50.0)
    wander = wander.reshape(count, sensors, 3) * np.radians(0.3)
    tilt = (suit.tilt_rad + wander) * [1.0, 0.0, 1.0]
    yaw = suit.heading_rad + (times[:, None] + start_s) * suit.drift_rad_s
    for name, begin, end, degrees in suit.magnets:
        t = times + start_s
        rise = 1 / (1 + np.exp(-(t - begin) / 0.15)) - 1 / (1 + np.exp(-(t - end) / 0.4))
        yaw[:, suit.names.index(name)] += np.radians(degrees) * rise
    heading = quaternion_from_rotvec(yaw[..., None] * np.array([0.0, 1.0, 0.0]))
    noise = quaternion_from_rotvec(rng.normal(0, np.radians(0.15), (count, sensors, 3)))
    reading = quaternion_multiply(
        heading, quaternion_multiply(quaternion_from_rotvec(tilt), quaternion_multiply(sensor, noise))
    )
    if suit.up == "Z":
        reading = quaternion_multiply(np.array([np.sqrt(0.5), 0.0, 0.0, np.sqrt(0.5)]), reading)
    return reading, force


def record_suit(motion, suit, age_s=0.0):
    """The SuitRecording of a motion, the device's clock showing the age of the suit's headings at its first frame."""
    times, rotation, force = read_suit(motion, suit, age_s, age_s)
    sensors = len(suit.names)
    return suit_recording(
        np.repeat(times, sensors), np.tile(np.arange(sensors), len(times)), suit.names, rotation.reshape(-1, 4), force.reshape(-1, 3)
    )  # fmt: skip


def _smooth_acceleration(source, place, rate_hz, times):
    """Second derivative (T', ...) of places (T, ...) at `times`, of what is slower than SMOOTH_HZ."""
    flat = place.reshape(len(place), -1)
    if rate_hz > 2.2 * SMOOTH_HZ:
        flat = scipy.signal.sosfiltfilt(scipy.signal.butter(2, SMOOTH_HZ, fs=rate_hz, output="sos"), flat, axis=0)
    return (
        scipy.interpolate.make_interp_spline(source, flat, k=5, axis=0)
        .derivative(2)(times)
        .reshape(len(times), *place.shape[1:])
    )


def line_of(skeleton, limb):
    """Along a limb in the T-pose, a unit (3,)."""
    side = limb.removesuffix(limb.removeprefix("left").removeprefix("right"))
    along = skeleton.rest_offset_m[skeleton.index(side + _ENDS[limb.removeprefix(side)])]
    return along / np.linalg.norm(along)


def turned_about_line(motion, limb):
    """How far a limb is turned about its line (T,), rad."""
    q = motion.rotation_local[:, motion.skeleton.index(limb)]
    return np.unwrap(2 * np.arctan2(q[:, :3] @ line_of(motion.skeleton, limb), q[:, 3]))


def _swing(acceleration, rng):
    """Rotation vectors (T, S, 3) of skin that lags behind its bone: a damped spring driven by what the limb feels."""
    omega = 2 * np.pi * SWING_HZ
    b, a = scipy.signal.bilinear([omega**2], [1, 2 * SWING_DAMPING * omega, omega**2], RATE_HZ)
    axes = rng.normal(size=(acceleration.shape[1], 3, 3))  # which way skin gives differs from limb to limb
    axes /= np.linalg.norm(axes, axis=(1, 2), keepdims=True)
    drive = np.einsum("sij,tsj->tsi", axes, acceleration) * SWING_RAD_PER_MS2
    swing = scipy.signal.lfilter(b, a, drive, axis=0)
    size = np.linalg.norm(swing, axis=-1, keepdims=True)
    return swing * np.minimum(1.0, np.radians(6.0) / np.maximum(size, 1e-9))
