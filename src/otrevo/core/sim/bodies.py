"""Bodies in the way: limbs as capsules, for cameras whose view they block."""

import numpy as np

from otrevo.core.body.kinematics import forward_kinematics

_RADIUS = {
    "spine": 0.13, "chest": 0.14, "upperChest": 0.14, "neck": 0.12, "head": 0.06, "UpperArm": 0.06, "LowerArm": 0.045,
    "Hand": 0.035, "UpperLeg": 0.09, "LowerLeg": 0.07, "Foot": 0.045, "Toes": 0.035,
}  # fmt: skip


def limbs(motion, frames=slice(None), scale=0.85):
    """Axes (T, S, 2, 3) and radii (S,) of a body's limbs, metres: each bone's joint to its parent's, and the skull."""
    joints, _ = forward_kinematics(motion.skeleton, motion.root_position_m[frames], motion.rotation_local[frames])
    ends, radii = [], []
    for b, name in enumerate(motion.skeleton.names):
        plain = name.removeprefix("left").removeprefix("right")
        if motion.skeleton.parents[b] >= 0 and plain in _RADIUS:
            ends.append(np.stack([joints[:, motion.skeleton.parents[b]], joints[:, b]], axis=1))
            radii.append(scale * _RADIUS[plain])
    head = joints[:, motion.skeleton.index("head")]
    ends.append(np.stack([head + [0, 0.05, 0], head + [0, 0.13, 0]], axis=1))
    radii.append(scale * 0.1)
    return np.stack(ends, axis=1), np.array(radii)
