"""What joints like to do: stiffness towards rest and soft limits, per bone and axis.

Values describe the local rotation vector (radians) in T-pose world axes of the left side: +x flexes a knee, -y flexes
the left elbow, z raises or lowers an arm. Those of a forearm are how it is rolled, bent and bent sideways. Right limbs
are mirrored (y and z change sign). `sigma` is how far a joint strays from rest before the prior pulls as hard as one
standard deviation; small values are stiff. They are weak against markers and matter only where nothing measures
(collar bones, toes, a hand that lost its markers).
"""

import numpy as np

_ANY = 3.2
# name: sigma (x, y, z), low (x, y, z), high (x, y, z)
_TRUNK = {
    "hips": ((9, 9, 9), (-_ANY,) * 3, (_ANY,) * 3),
    "spine": ((0.25, 0.2, 0.2), (-0.6, -0.5, -0.5), (0.8, 0.5, 0.5)),
    "chest": ((0.2, 0.2, 0.2), (-0.5, -0.5, -0.5), (0.7, 0.5, 0.5)),
    "upperChest": ((0.15, 0.15, 0.15), (-0.4, -0.4, -0.4), (0.6, 0.4, 0.4)),
    "neck": ((0.3, 0.4, 0.25), (-0.9, -1.0, -0.7), (0.9, 1.0, 0.7)),
    "head": ((0.3, 0.4, 0.25), (-0.8, -0.9, -0.7), (0.8, 0.9, 0.7)),
}
_LEFT = {
    "Shoulder": ((0.06, 0.15, 0.2), (-0.3, -0.6, -0.4), (0.3, 0.5, 0.8)),
    "UpperArm": ((1.2, 1.5, 1.5), (-2.0, -2.6, -1.9), (2.0, 1.4, 2.0)),
    "LowerArm": ((0.7, 2.0, 0.12), (-2.0, -2.7, -0.25), (2.0, 0.12, 0.25)),
    "Hand": ((0.12, 0.4, 0.6), (-0.5, -0.8, -1.5), (0.5, 0.8, 1.5)),
    "UpperLeg": ((1.5, 0.8, 0.8), (-2.6, -1.0, -0.9), (1.0, 1.2, 1.2)),
    "LowerLeg": ((2.0, 0.12, 0.1), (-0.1, -0.5, -0.15), (2.7, 0.5, 0.15)),
    "Foot": ((0.5, 0.3, 0.3), (-0.9, -0.6, -0.6), (1.1, 0.6, 0.6)),
    "Toes": ((0.25, 0.05, 0.05), (-1.1, -0.2, -0.2), (0.6, 0.2, 0.2)),
}
_FINGER = ((0.8, 0.3, 0.8), (-0.6, -0.6, -2.0), (0.6, 0.6, 0.5))


def rolling(skeleton):
    """(B,): whether a bone is a forearm, whose table is of how it is rolled, bent and bent sideways (compiled_rotations.forearm_angles)."""
    return np.array([name.endswith("LowerArm") for name in skeleton.names])


def joint_tables(skeleton):
    """Stiffness and limits of every bone: sigma, low, high, each (B, 3) radians."""
    sigma, low, high = (np.empty((len(skeleton.names), 3)) for _ in range(3))
    for b, name in enumerate(skeleton.names):
        if name in _TRUNK:
            s, lo, hi = (np.array(v, dtype=float) for v in _TRUNK[name])
        else:
            side = "left" if name.startswith("left") else "right"
            s, lo, hi = (np.array(v, dtype=float) for v in _LEFT.get(name[len(side) :], _FINGER))
            if side == "right":  # mirror: rotation about x keeps its sign, about y and z turns round
                lo, hi = np.array([lo[0], -hi[1], -hi[2]]), np.array([hi[0], -lo[1], -lo[2]])
        sigma[b], low[b], high[b] = s, lo, hi
    return sigma, low, high
