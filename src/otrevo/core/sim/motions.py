"""Performed motions of the demo story, as key poses eased into each other on a body whose feet really stand still.

Every take starts in T-pose, claps once, performs, and ends in T-pose. Arms and trunk follow keyed joint rotations;
legs follow the pelvis and the feet by two-bone inverse kinematics, so a standing foot does not move by construction.
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy

from otrevo.core.body.kinematics import Motion, forward_kinematics
from otrevo.core.conventions import (
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_from_euler,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.sim.arms import hold
from otrevo.core.sim.ladder_and_fall import climb_ladder, fall
from otrevo.core.sim.legs import feet, frame_to, tilt, two_bone
from otrevo.core.sim.night_watch import climb, desk_watch
from otrevo.core.sim.suit_warm_up import fists, suit_warm_up, walk_to

T_POSE_S, CLAP_S, CLAP_SWING_S = 1.6, 2.9, 0.4
SEATED_M = 0.10  # the hips' joint over the ground on which somebody 1.75 m tall sits
LOW_M = 0.42  # the hips of somebody 1.75 m tall are no lower in a squat
PALMS_M = 0.09  # between the hands' joints when the palms meet
_CLAP_ELBOW = (0, -16, 0)


@dataclass(frozen=True)
class Performance:
    """True motion, the moment of the clap (s), from when to when the right hand holds the prop, if it does, and what no camera
    sees: (from s, to s, names of bones without their side).
    """

    motion: Motion
    clap_s: float
    name: str
    held_s: tuple | None = None
    covered: tuple = ()

    def first(self, seconds):
        """The beginning of the same, at most so long."""
        return replace(self, motion=self.motion.window(0, min(len(self.motion), int(seconds * self.motion.rate))))

    def until(self, seconds):
        """The same with the last pose held for as long as nobody cuts, to `seconds` after the beginning."""
        motion = self.motion
        at = np.minimum(np.arange(max(int(seconds * motion.rate), len(motion))), len(motion) - 1)
        held = Motion(motion.skeleton, motion.rate, motion.root_position_m[at], motion.rotation_local[at])
        return replace(self, motion=held)


class _Keys:
    """Key poses: for each time, joint rotation vectors in degrees, of forearms how they are rolled, bent and bent sideways.

    A bone that is not named is back at zero.
    """

    def __init__(self, meeting_deg=-97.0, seat_m=0.8, scale=1.0):
        self.meeting_deg = meeting_deg  # how far the upper arms turn forward when the palms meet
        self.scale = scale  # by which the pelvis' way is larger than the keys say; rungs are where they are
        self.seat_m = seat_m  # how far the hips go down from standing to sitting on the ground
        self.poses = []
        self.pelvis = [(0.0, (0.0, 0.0, 0.0))]
        self.held = None
        self.steps = []  # (start, end, side, target x, z and, on a step, y relative to the rest place)
        self.reaches = []  # (start, end, side, target x, y from the floor, z or None, way): what hands hold on to
        self.covered, self.climbed = [], 0

    def at(self, t, **bones):
        self.poses.append((t, bones))

    def both(self, **bones):
        """Left values given; the right side gets the mirrored ones."""
        out = {}
        for name, (x, y, z) in bones.items():
            out["left" + name] = (x, y, z)
            out["right" + name] = (x, -y, -z)
        return out


_DOWN = {"UpperArm": (0, -5, -72), "LowerArm": (0, -18, 0)}


def _open(k):
    k.at(0.0)
    k.at(T_POSE_S)
    reach = k.both(UpperArm=(0, -70, -12), LowerArm=_CLAP_ELBOW)
    k.at(CLAP_S - CLAP_SWING_S, **reach)
    for share in (0.3, 0.6, 0.85, 0.97, 1.0):  # quicker and quicker, then stopped dead by the other palm
        turned = -70 + (k.meeting_deg + 70) * share**2
        k.at(CLAP_S - CLAP_SWING_S * (1 - share), **k.both(UpperArm=(0, turned, -12 + 2 * share), LowerArm=_CLAP_ELBOW))
    k.at(CLAP_S + 0.3, **reach)
    return CLAP_S + 1.1


def _warm_up(k, rng):
    t = _open(k)
    k.at(t)

    def out_and_back(hold, *poses):
        nonlocal t
        for pose in poses:
            t += hold
            k.at(t, **pose)
        t += hold
        k.at(t)

    out_and_back(0.55, {"head": (25, 0, 0), "neck": (20, 0, 0)}, {"head": (-20, 0, 0), "neck": (-20, 0, 0)})
    out_and_back(0.6, {"head": (0, 35, 0), "neck": (0, 30, 0)}, {"head": (0, -35, 0), "neck": (0, -30, 0)})
    out_and_back(0.5, {"head": (0, 0, 18), "neck": (0, 0, 15)}, {"head": (0, 0, -18), "neck": (0, 0, -15)})
    out_and_back(
        0.6,
        k.both(Shoulder=(0, 0, 18), UpperArm=(0, 0, 65)),
        k.both(UpperArm=(0, 0, -70)),
        k.both(UpperArm=(0, -85, 0)),
        k.both(Shoulder=(0, 12, 0), UpperArm=(0, 25, -10)),
    )
    out_and_back(
        0.6,
        k.both(UpperArm=(0, -35, 35), Shoulder=(0, 0, 8)),
        k.both(UpperArm=(0, -80, -35)),
        k.both(UpperArm=(0, -10, -65)),
        k.both(UpperArm=(0, 22, 10)),
    )
    out_and_back(0.55, k.both(UpperArm=(60, 0, 0)), k.both(UpperArm=(-60, 0, 0)))
    out_and_back(0.6, k.both(LowerArm=(0, -125, 0)), k.both(LowerArm=(0, -60, 0), UpperArm=(40, 0, -20)))
    out_and_back(0.5, k.both(LowerArm=(70, -60, 0)), k.both(LowerArm=(-60, -60, 0)))
    out_and_back(
        0.45, k.both(Hand=(0, 0, -55)), k.both(Hand=(0, 0, 50)), k.both(Hand=(0, 22, 0)), k.both(Hand=(0, -22, 0))
    )
    fist = fists(k)
    t += 0.5
    k.at(t, **fist)
    t += 0.6
    k.at(t, **fist)
    t += 0.5
    k.at(t)
    t += 0.4
    k.at(t)
    out_and_back(0.7, {"spine": (28, 0, 0), "chest": (22, 0, 0), "upperChest": (12, 0, 0)},
                 {"spine": (-12, 0, 0), "chest": (-12, 0, 0), "upperChest": (-6, 0, 0)})  # fmt: skip
    out_and_back(0.6, {"spine": (0, 18, 0), "chest": (0, 18, 0), "upperChest": (0, 10, 0)},
                 {"spine": (0, -18, 0), "chest": (0, -18, 0), "upperChest": (0, -10, 0)})  # fmt: skip
    out_and_back(0.6, {"spine": (0, 0, 14), "chest": (0, 0, 14)}, {"spine": (0, 0, -14), "chest": (0, 0, -14)})
    for side, sign in (("left", 1.0), ("right", -1.0)):  # knee up, leg to the side, ankle, then a lunge
        for target, lift in (((sign * 0.02, 0.05), 0.42), ((sign * 0.30, 0.0), 0.12), ((0.0, -0.30), 0.14)):
            k.steps.append((t, t + 1.2, side, target, lift, True))
            k.pelvis += [(t, (0, 0, 0)), (t + 0.3, (-sign * 0.07, 0, 0)), (t + 0.9, (-sign * 0.07, 0, 0))]
            t += 1.2
            k.pelvis.append((t, (0, 0, 0)))
            k.at(t)
        k.steps.append((t, t + 0.7, side, (sign * 0.55, 0.05), 0.08, False))
        k.pelvis += [(t, (0, 0, 0)), (t + 0.25, (-sign * 0.04, 0, 0)), (t + 1.0, (sign * 0.36, -0.22, 0.02))]
        k.at(t + 1.0, hips=(0, sign * 10, 0), spine=(8, 0, 0))
        k.steps.append((t + 1.35, t + 2.0, side, (0.0, 0.0), 0.08, False))
        k.pelvis += [(t + 1.35, (sign * 0.25, -0.12, 0.0)), (t + 2.1, (0, 0, 0))]
        t += 2.1
        k.at(t)
    k.pelvis += [(t, (0, 0, 0)), (t + 1.0, (0, -0.36, -0.12)), (t + 1.3, (0, -0.36, -0.12)), (t + 2.2, (0, 0, 0))]
    k.at(t + 1.1, hips=(30, 0, 0), spine=(15, 0, 0), **k.both(UpperArm=(0, -60, 0)))
    t += 2.3
    k.at(t)
    return t


def _semaphore(k, rng):
    t = _open(k)
    angles = [-72, -40, 0, 40, 70]
    for _ in range(14):
        t += rng.uniform(0.55, 0.8)
        left, right = rng.choice(angles, 2)
        lean = rng.uniform(-6, 6)
        k.at(t, leftUpperArm=(0, -12, left), rightUpperArm=(0, 12, -right), leftLowerArm=(0, -6, 0),
             rightLowerArm=(0, 8, 0), head=(0, left / 6, 0), spine=(2, lean, lean / 2), leftShoulder=(0, 0, max(left, 0) / 6),
             rightShoulder=(0, 0, -max(right, 0) / 6))  # fmt: skip
        t += 0.35
        k.at(t, leftUpperArm=(0, -12, left), rightUpperArm=(0, 12, -right), leftLowerArm=(0, -6, 0),
             rightLowerArm=(0, 8, 0), head=(0, left / 6, 0), spine=(2, lean, lean / 2), leftShoulder=(0, 0, max(left, 0) / 6),
             rightShoulder=(0, 0, -max(right, 0) / 6))  # fmt: skip
        k.pelvis.append((t, (rng.uniform(-0.03, 0.03), -0.01, rng.uniform(-0.02, 0.02))))
    return t


def _rope_haul(k, rng):
    t = _open(k)
    k.steps += [
        (t, t + 0.6, "left", (0.05, 0.35), 0.06, False),
        (t + 0.6, t + 1.2, "right", (-0.05, -0.25), 0.06, False),
    ]
    k.pelvis += [(t, (0, 0, 0)), (t + 1.2, (0, -0.10, 0.05))]
    t += 1.2
    grip = {f"{s}{f}{p}": (0, 0, -sg * 65) for s, sg in (("left", 1), ("right", -1))
            for f in ("Index", "Middle", "Ring", "Little") for p in ("Proximal", "Intermediate")}  # fmt: skip
    for i in range(9):
        side, other, sg = ("left", "right", 1) if i % 2 == 0 else ("right", "left", -1)
        d = rng.uniform(0.55, 0.75)
        k.at(t + d, **grip, **{side + "UpperArm": (0, -sg * 80, -sg * 20), side + "LowerArm": (20, -sg * 15, 0),
             other + "UpperArm": (0, sg * 10, sg * 55), other + "LowerArm": (10, sg * 95, 0)},
             spine=(18, -sg * 14, 0), chest=(10, -sg * 12, 0), hips=(8, -sg * 8, 0), neck=(-10, 0, 0), head=(-8, sg * 10, 0))  # fmt: skip
        k.pelvis.append((t + d, (sg * 0.02, -0.14, 0.10 if i % 2 else -0.06)))
        t += d
    k.steps += [(t + 0.4, t + 1.0, "left", (0, 0), 0.06, False), (t + 1.0, t + 1.5, "right", (0, 0), 0.06, False)]
    k.pelvis += [(t + 0.3, (0, -0.08, 0.02)), (t + 1.5, (0, 0, 0))]
    return t + 1.3


def _lantern(k, rng):
    t = _open(k)
    taken = t + 1.2
    rest = {"leftUpperArm": (0, -5, -68), "leftLowerArm": (0, -15, 0)}
    k.steps.append((t + 0.2, t + 0.8, "right", (-0.12, 0.18), 0.05, False))
    k.pelvis += [(t, (0, 0, 0)), (t + 1.2, (0, -0.24, 0.02)), (t + 2.2, (-0.02, -0.01, 0.05))]
    k.at(t + 1.2, hips=(30, 0, 0), spine=(15, 0, 0), rightUpperArm=(0, 55, 45), rightLowerArm=(0, 10, 0), **rest)
    k.at(t + 2.3, rightUpperArm=(0, 60, 10), rightLowerArm=(0, 40, 0), head=(-8, -12, 0), **rest)
    t += 2.6
    for _ in range(6):
        k.at(t, rightUpperArm=(0, 70, -55), rightLowerArm=(0, 22, 0), spine=(0, 10, 5), head=(-15, 0, 0), **rest)
        k.pelvis.append((t, (-0.05, -0.01, 0.05)))
        t += rng.uniform(0.6, 0.8)
        k.at(t, rightUpperArm=(0, 15, -35), rightLowerArm=(0, 15, 0), spine=(0, -14, -6), head=(-12, -25, 0), **rest)
        k.pelvis.append((t, (0.0, -0.02, 0.05)))
        t += rng.uniform(0.6, 0.8)
    k.at(t + 0.5, hips=(30, 0, 0), spine=(15, 0, 0), rightUpperArm=(0, 55, 45), rightLowerArm=(0, 10, 0), **rest)
    k.pelvis.append((t + 0.5, (0, -0.24, 0.02)))
    k.held = (taken, t + 0.5)
    t += 1.0
    k.steps.append((t, t + 0.6, "right", (0, 0), 0.05, False))
    k.pelvis.append((t + 0.8, (0, 0, 0)))
    return t + 0.5


def _radio_watch(k, rng):
    t = _open(k)
    # stands, steps back to the stool, sits, listens, stands up again
    k.steps += [
        (t, t + 0.5, "left", (0.02, 0.12), 0.05, False),
        (t + 0.4, t + 0.9, "right", (-0.02, 0.12), 0.05, False),
    ]
    sit = (0.0, -0.40, -0.28)
    k.pelvis += [(t, (0, 0, 0)), (t + 1.6, sit)]
    down = {
        "leftUpperArm": (0, -30, -60),
        "leftLowerArm": (0, -65, 0),
        "rightUpperArm": (0, 30, 60),
        "rightLowerArm": (0, 65, 0),
    }
    k.at(t + 1.0, hips=(25, 0, 0), spine=(15, 0, 0), **down)
    t += 1.9
    for i in range(8):
        d = rng.uniform(0.9, 1.4)
        hand = {"rightUpperArm": (30, 60, 10), "rightLowerArm": (0, 125, 0)} if i % 2 else {}
        k.at(t + d, **(down | hand | {"spine": (rng.uniform(-2, 12), rng.uniform(-14, 14), 0), "hips": (-4, 0, 0),
             "neck": (rng.uniform(0, 14), rng.uniform(-20, 20), 0), "head": (rng.uniform(-6, 10), rng.uniform(-20, 20), rng.uniform(-8, 8))}))  # fmt: skip
        k.pelvis.append((t + d, (rng.uniform(-0.02, 0.02), sit[1], sit[2])))
        t += d
    k.at(t + 0.7, hips=(28, 0, 0), spine=(15, 0, 0), **down)
    k.pelvis += [(t + 0.3, sit), (t + 1.6, (0, 0, 0.05))]
    k.steps += [(t + 1.7, t + 2.1, "left", (0, 0), 0.05, False), (t + 2.1, t + 2.5, "right", (0, 0), 0.05, False)]
    k.pelvis.append((t + 2.6, (0, 0, 0)))
    return t + 2.4


def _quay_walk(k, rng):
    t = _open(k)
    down = k.both(UpperArm=(0, -5, -80), LowerArm=(0, -10, 0))
    k.at(t + 0.8, **down)
    t += 0.9
    for _ in range(4):
        t = walk_to(k, t, [0.5, 1.0, 1.5, 2.0, 2.5, 2.5], down, rng.uniform(0.5, 0.6))
        t = walk_to(k, t + 0.2, [2.1, 1.6, 1.1, 0.6, 0.0, 0.0], down, rng.uniform(0.5, 0.6))
    return t + 0.4


def _night_climb(k, rng):
    return climb(k, _open(k), rng)


def _desk_watch(k, rng):
    return desk_watch(k, _open(k), rng)


def _ladder(k, rng):
    return climb_ladder(k, _open(k), rng)


def _fall(k, rng):
    return fall(k, _open(k), rng)


MOTIONS = {
    "warm-up": _warm_up,
    "suit warm-up": suit_warm_up,
    "quay walk": _quay_walk,
    "semaphore": _semaphore,
    "rope haul": _rope_haul,
    "lantern": _lantern,
    "radio watch": _radio_watch,
    "night climb": _night_climb,
    "desk watch": _desk_watch,
    "ladder": _ladder,
    "fall": _fall,
}


def band_noise(rng, frames, channels, rate_hz, low_hz, high_hz, lead_s=2.0):
    """Band-limited noise (frames, channels) of unit standard deviation, which has gone on for lead_s: slow waves take long to settle."""
    pad = int(lead_s * rate_hz)
    sos = scipy.signal.butter(2, [low_hz, high_hz], btype="band", fs=rate_hz, output="sos")
    noise = scipy.signal.sosfiltfilt(sos, rng.normal(size=(frames + 2 * pad, channels)), axis=0)[pad:-pad]
    return noise / noise.std(axis=0)


def _eased(keys, times, size):
    """PCHIP through (time, value) keys, later keys at an equal time replacing earlier ones; held at the ends."""
    values = {}
    for t, v in keys:
        values[round(float(t), 4)] = np.asarray(v, dtype=float)
    at = np.array(sorted(values))
    table = np.array([values[t] for t in at])
    if len(at) == 1:
        return np.repeat(table, len(times), axis=0)
    return scipy.interpolate.PchipInterpolator(at, table)(np.clip(times, at[0], at[-1])).reshape(len(times), size)


def perform(name, performer, seed, rate, position_m=(0.0, 0.0), facing_rad=0.0):
    """The named motion by a performer, standing at `position_m` (x, z) and turned by `facing_rad` about +Y.

    `rate` is a Fraction in Hz. Raises KeyError for an unknown motion. Returns a Performance with all 52 bones.
    """
    rng = np.random.default_rng([seed, 23])
    scale = performer.height_m / 1.75
    k = _Keys(_meeting_deg(performer), performer.skeleton.rest_offset_m[0, 1] / scale - SEATED_M, scale)
    last = MOTIONS[name](k, rng) + 0.9
    k.at(last)
    k.pelvis.append((last, (0.0, 0.0, 0.0)))
    k.at(last + 1.5)
    skeleton = performer.skeleton
    hz = float(rate)
    times = np.arange(int((last + 1.5) * hz)) / hz
    frames = len(times)
    bones = len(skeleton.names)
    rotvec = np.zeros((frames, bones, 3))
    for b, bone in enumerate(skeleton.names):
        keyed = [(t, np.radians(pose.get(bone, (0, 0, 0)))) for t, pose in k.poses]
        rotvec[:, b] = _eased(keyed, times, 3)
    # nobody hits a pose exactly: this person's own T-pose, plus slow wandering and breathing
    rotvec += performer.sloppiness_rad
    wander = band_noise(rng, frames, bones * 3, hz, 0.08, 0.7).reshape(frames, bones, 3) * np.radians(1.2)
    rotvec += wander
    breath = np.sin(2 * np.pi * 0.27 * times + rng.uniform(0, 6))
    rotvec[:, skeleton.index("chest"), 0] -= np.radians(1.0) * breath
    for side in ("left", "right"):  # elbows do not bend backwards, whatever the sloppiness says
        b = skeleton.index(f"{side}LowerArm")
        s = 1.0 if side == "left" else -1.0
        rotvec[:, b, 1] = s * np.minimum(s * rotvec[:, b, 1], np.radians(2.0))
        rotvec[:, b, 2] *= 0.2
    local = quaternion_from_rotvec(rotvec)
    for side in ("left", "right"):  # a forearm is keyed as rolled about its own line, bent and bent sideways
        b = skeleton.index(f"{side}LowerArm")
        local[:, b] = quaternion_from_euler("YZX", np.roll(rotvec[:, b], -1, axis=1))

    rest = skeleton.rest_offset_m
    sway = band_noise(rng, frames, 3, hz, 0.1, 0.8) * np.array([0.006, 0.0015, 0.006])
    pelvis = _eased(k.pelvis, times, 3) * scale + sway
    pelvis[:, 1] += rest[0, 1] - 0.012
    legs = []
    for side, sign in (("left", 1.0), ("right", -1.0)):
        upper, lower, foot = (skeleton.index(side + n) for n in ("UpperLeg", "LowerLeg", "Foot"))
        thigh, shin = np.linalg.norm(rest[lower]), np.linalg.norm(rest[foot])
        stance = np.array([rest[upper, 0] + sign * rng.uniform(0.01, 0.05), 0.0, rng.uniform(-0.02, 0.02)])
        stance[1] = 0.08 * scale
        legs.append((side, sign, upper, lower, foot, thigh, shin, *feet(k, times, side, stance)))
    hips = [pelvis + quaternion_rotate(local[:, 0], rest[leg[2]]) for leg in legs]
    pelvis[:, 1] -= _lower_by(hips, [leg[7] for leg in legs], [leg[5] + leg[6] for leg in legs], hz)
    for _, sign, upper, lower, foot, thigh, shin, ankle, lift in legs:
        hip = pelvis + quaternion_rotate(local[:, 0], rest[upper])
        toe_out = np.full((frames, 1), np.radians(sign * rng.uniform(2, 12)))
        yaw = quaternion_from_rotvec(np.concatenate([np.zeros((frames, 1)), toe_out, np.zeros((frames, 1))], 1))
        forward = quaternion_rotate(yaw, np.array([0.0, 0.0, 1.0]))
        # knees of somebody who sits on the ground point up
        forward = forward + np.clip((LOW_M * scale - pelvis[:, 1:2]) / 0.15, 0.0, 1.0) * np.array([0.0, 1.0, 0.0])
        knee, ankle = two_bone(hip, ankle, thigh, shin, forward)
        # knees are hinges: thigh and shin turn about the normal of the plane that they lie in
        across = np.cross(forward, ankle - hip)
        thigh_world = frame_to((knee - hip) / thigh, across)
        shin_world = frame_to((ankle - knee) / shin, across)
        # the rest pose's own direction of the bone is not exactly -Y
        thigh_world = quaternion_multiply(thigh_world, tilt(rest[lower]))
        shin_world = quaternion_multiply(shin_world, tilt(rest[foot]))
        # flat on the floor; in the air it hangs from the shin, and the ankle goes through its range
        air = np.clip(lift / 0.12, 0, 1)[:, None]
        pitch = np.radians(28) * np.sin(times * 5.0)
        hanging = quaternion_multiply(shin_world, quaternion_from_rotvec(pitch[:, None] * np.array([1.0, 0, 0])))
        lifted = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(yaw), hanging))
        foot_world = quaternion_multiply(yaw, quaternion_from_rotvec(air * air * (3 - 2 * air) * lifted))
        local[:, upper] = quaternion_multiply(quaternion_conjugate(local[:, 0]), thigh_world)
        local[:, lower] = quaternion_multiply(quaternion_conjugate(thigh_world), shin_world)
        local[:, foot] = quaternion_multiply(quaternion_conjugate(shin_world), foot_world)
    hold(skeleton, k, times, pelvis, local)
    rotation = quaternion_from_rotvec(np.array([0.0, facing_rad, 0.0]))
    root = quaternion_rotate(rotation, pelvis) + np.array([position_m[0], 0.0, position_m[1]])
    local[:, 0] = quaternion_multiply(rotation, local[:, 0])
    return Performance(Motion(skeleton, rate, root, local), CLAP_S, name, k.held, tuple(k.covered))


def _lower_by(hips, ankles, lengths_m, hz):
    """How far (T,) the pelvis goes down, in metres, so that both legs reach their ankles.

    Whoever stands with the feet apart stands lower. A foot that the leg cannot reach would be dragged along.
    """
    low = np.zeros(len(hips[0]))
    for hip, ankle, length in zip(hips, ankles, lengths_m, strict=True):
        away = np.linalg.norm((ankle - hip)[:, [0, 2]], axis=1)
        highest = ankle[:, 1] + np.sqrt(np.maximum((0.998 * length) ** 2 - away**2, 0.01))
        low = np.maximum(low, hip[:, 1] - highest)
    width = int(0.16 * hz) | 1
    low = scipy.ndimage.maximum_filter1d(np.minimum(low, 0.15), width)
    for _ in range(2):
        low = scipy.ndimage.uniform_filter1d(low, width // 2 | 1)
    return low


def _meeting_deg(performer):
    """How far this performer turns both upper arms forward (degrees, negative) until the palms meet in a clap."""
    skeleton = performer.skeleton
    angles = np.arange(-75.0, -125.0, -0.5)
    rotvec = np.tile(performer.sloppiness_rad, (len(angles), 1, 1))
    for side, sign in (("left", 1.0), ("right", -1.0)):
        rotvec[:, skeleton.index(f"{side}UpperArm")] += np.radians([[0, sign * a, sign * -10] for a in angles])
        rotvec[:, skeleton.index(f"{side}LowerArm"), 1] += np.radians(sign * _CLAP_ELBOW[1])
    joints, _ = forward_kinematics(skeleton, np.zeros((len(angles), 3)), quaternion_from_rotvec(rotvec))
    hands = joints[:, [skeleton.index("leftHand"), skeleton.index("rightHand")]]
    apart = np.linalg.norm(hands[:, 0] - hands[:, 1], axis=1)
    nearest = int(apart.argmin())  # beyond it the arms cross
    met = np.flatnonzero(apart[: nearest + 1] < PALMS_M * performer.height_m / 1.75)
    return float(angles[met[0] if len(met) else nearest])


def marker_positions(motion, bone, offset_m):
    """World positions (T, M, 3) of markers fixed to bones."""
    joint, rotation = forward_kinematics(motion.skeleton, motion.root_position_m, motion.rotation_local)
    matrix = matrix_from_quaternion(rotation)
    return joint[:, bone] + np.einsum("tmij,mj->tmi", matrix[:, bone], offset_m)
