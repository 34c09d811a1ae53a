"""Reach: how far a hand or a foot keeps its place rather than its angles, from 0 to 1 over time.

Its place is the performer's, from the room's origin and floor, times the scale of the path. The limb of two bones is bent there
(`core.retarget.limb`); what it cannot reach it points at, and the frames are counted. World axes, metres.
"""

import numpy as np

from otrevo.core.retarget.angles import follow, place_joints
from otrevo.core.retarget.feet import bend_limb, sole_height

LIMBS = {
    "leftHand": ("left", "UpperArm", "LowerArm", "Hand"), "rightHand": ("right", "UpperArm", "LowerArm", "Hand"),
    "leftFoot": ("left", "UpperLeg", "LowerLeg", "Foot"), "rightFoot": ("right", "UpperLeg", "LowerLeg", "Foot"),
}  # fmt: skip
MISSED_M = 0.003


def reach_places(plan, motion, joint, settings, scale, at, rotations, positions):
    """Bend the limbs of a posed character to their places, as far as `settings.reach` says.

    joint (T, S, 3): the performer's joints; scale: of places in the room; at (T, 3), rotations (T, B, 4), positions (T, B, 3): the
    character's, changed in place. Returns {limb: frames whose place could not be reached}.
    """
    times = np.arange(len(motion)) / float(motion.rate)
    ground, names = sole_height(plan.character), motion.skeleton.names
    missed = {}
    for limb, (side, upper, lower, end) in LIMBS.items():
        share = settings.reach_at(limb, times)
        parts = [side + part for part in (upper, lower, end)]
        if not share.any() or any(p not in plan.joints for p in parts) or limb not in names:
            continue
        bone = plan.joints[limb]
        place = scale * joint[:, names.index(limb)] + [0.0, ground, 0.0]
        target = positions[:, bone] + share[:, None] * (place - positions[:, bone])
        bend_limb(plan, side, upper, lower, end, target, rotations, positions)
        follow(plan.arrays, 0, len(times), rotations)
        place_joints(plan.arrays, 0, len(times), plan.root, at, rotations, positions)
        missed[limb] = int((np.linalg.norm(positions[:, bone] - target, axis=1) > MISSED_M).sum())
    return missed
