"""Rigid bodies strapped to a performer's limbs, as a tracker reports them: askew, on skin that gives and turns in part, now and then lost."""

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.conventions import quaternion_from_rotvec, quaternion_multiply, quaternion_rotate
from otrevo.core.sim.motions import band_noise
from otrevo.core.sim.suit import line_of, turned_about_line

ALL = ("hips", "chest", "head", *(s + b for s in ("left", "right") for b in (
    "UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg", "Foot")))  # fmt: skip
TEN = ("hips", "chest", *(s + b for s in ("left", "right") for b in ("UpperArm", "Hand", "LowerLeg", "Foot")))
SIX = ("hips", "head", "leftHand", "rightHand", "leftFoot", "rightFoot")
_MIDDLE = {
    "UpperArm": "LowerArm",
    "LowerArm": "Hand",
    "UpperLeg": "LowerLeg",
    "LowerLeg": "Foot",
    "Hand": "MiddleProximal",
}
MISSED = {"UpperArm": 0.25, "UpperLeg": 0.1}  # shares of a limb's turns about its own line that its skin misses


def strap_on(motion, seed, bones=ALL, skin_deg=2.0, skin_m=0.006, lost=0.004, missed=MISSED):
    """Positions (T, N, 3) and rotations (T, N, 4) of bodies on the bones of a Motion, NaN where the tracker lost them."""
    rng = np.random.default_rng([seed, 91])
    joint, world = motion_joints(motion)
    index = [motion.skeleton.index(b) for b in bones]
    frames, count, hz = len(motion), len(bones), float(motion.rate)
    seat = np.array([_seat(motion.skeleton, b) for b in bones]) + rng.normal(0, 0.02, (count, 3))
    mount = quaternion_from_rotvec(rng.normal(0, 1.2, (count, 3)))
    give = (
        np.radians(skin_deg) * band_noise(rng, frames, 3 * count, hz, 0.3, 4.0).reshape(frames, count, 3) / np.sqrt(3)
    )
    slide = skin_m * band_noise(rng, frames, 3 * count, hz, 0.3, 4.0).reshape(frames, count, 3) / np.sqrt(3)
    world = world[:, index]
    for n, bone in enumerate(bones):
        share = missed.get(bone.removeprefix("left").removeprefix("right"))
        if share:
            back = -share * turned_about_line(motion, bone)[:, None] * line_of(motion.skeleton, bone)
            world[:, n] = quaternion_multiply(world[:, n], quaternion_from_rotvec(back))
    position = joint[:, index] + quaternion_rotate(world, seat + slide) + rng.normal(0, 0.0004, (frames, count, 3))
    rotation = quaternion_multiply(world, quaternion_multiply(quaternion_from_rotvec(give), mount))
    rotation = quaternion_multiply(rotation, quaternion_from_rotvec(rng.normal(0, np.radians(0.2), (frames, count, 3))))
    gone = rng.random((frames, count)) < lost
    position[gone], rotation[gone] = np.nan, np.nan
    return position, rotation


def _seat(skeleton, bone):
    side = "left" if bone.startswith("left") else "right" if bone.startswith("right") else ""
    end = _MIDDLE.get(bone.removeprefix(side))
    if end is not None:
        return 0.5 * skeleton.rest_offset_m[skeleton.index(side + end)] + [0.0, 0.03, 0.03]
    return np.array(
        {"hips": (0.0, 0.09, -0.12), "chest": (0.0, 0.1, 0.12), "head": (0.0, 0.16, 0.0)}.get(bone, (0.0, 0.02, 0.06))
    )
