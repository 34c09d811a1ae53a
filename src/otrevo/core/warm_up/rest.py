"""How much frames pull joints towards rest while a body's geometry is fitted.

The rest pose is the T-pose, as well as people hold it. A warm-up squats and reaches, so its other frames count for little: a share of
what they would in a take, by how near rest the joint mostly is.
"""

import numpy as np

from otrevo.core.body.compiled_rotations import angles_of_forearms
from otrevo.core.inertial.poses import PALMS_FORWARD_RAD, plain

# how well people hold each joint in a T-pose, degrees; feet are flat on the floor however the knees are bent
HELD_DEG = {"hips": 4.0, "spine": 3.0, "chest": 3.0, "upperChest": 3.0, "Shoulder": 4.0, "UpperArm": 7.0, "LowerArm": 5.0, "Hand": 6.0,
            "UpperLeg": (8.0, 9.0, 5.0), "LowerLeg": (9.0, 4.0, 4.0), "Foot": (20.0, 5.0, 20.0)}  # fmt: skip
USUALLY_HELD_DEG = 5.0
# how far knees and elbows turn about what is not their hinge, degrees by axis, and in how many frames that is news
HINGE_DEG = {"LowerLeg": {1: 8.0, 2: 4.0}, "LowerArm": {2: 6.0}, "Hand": {0: 6.0}}
INDEPENDENT = 20


def facing_forward(points_m, root_m, local, held):
    """Frames' points (F, M, 3), root places (F, 3) and joint rotations (F, B, 3, 3), turned about the vertical until frame `held` faces +Z."""
    ahead = local[held, 0, :, 2]
    c, s = np.array([ahead[2], ahead[0]]) / np.hypot(ahead[0], ahead[2])
    back = np.array([[c, 0.0, -s], [0.0, 1.0, 0.0], [s, 0.0, c]])
    turned = local.copy()
    turned[:, 0] = back @ local[:, 0]
    return points_m @ back.T, root_m @ back.T, turned


def share_of_rest(model, held, usual, others, local=None):
    """(F, B, 3): how much of their usual pull the joints of a BodyModel feel towards rest in every frame.

    held (F,): whether a frame is the T-pose, which faces +Z as rest does. usual: the share in other frames; others: {bone without its side: another one, or one for each
    axis}. local (F, B, 3, 3), optional: about how the joints are turned; a forearm whose palm faces forward in the T-pose is not pulled
    back. Knees, elbows and wrists turn about their hinges whatever the frame.
    """
    names, sigma = model.skeleton.names, model.sigma
    out = np.full((len(held), *sigma.shape), float(usual))
    for b, bone in enumerate(names):
        out[:, b] = others.get(plain(bone), usual)
        for axis, degrees in HINGE_DEG.get(plain(bone), {}).items():
            firm = (sigma[b, axis] / np.radians(degrees)) ** 2 * min(1.0, INDEPENDENT / len(held))
            out[:, b, axis] = np.maximum(out[:, b, axis], firm)
        out[held, b] = (sigma[b] / np.radians(HELD_DEG.get(plain(bone), USUALLY_HELD_DEG))) ** 2
        if plain(bone) == "LowerArm" and local is not None:
            rolled = angles_of_forearms(local[:, b])[:, 0]
            out[held & (rolled < -PALMS_FORWARD_RAD), b, 0] = others.get(plain(bone), usual)
    return out
