"""What a body looks like in the poses of a warm-up, and where on it suits have their sensors."""

import numpy as np

from otrevo.core.conventions import quaternion_from_rotvec, quaternion_multiply

# how well people hold a pose: degrees about x (left), y (up), z (forward); of what FOLLOWS a bone, against that one
T_POSE_SD = {"hips": (4, 6, 3), "chest": (5, 6, 4), "head": (8, 8, 5), "Shoulder": (4, 4, 4), "UpperArm": (12, 5, 5),
         "LowerArm": (14, 5, 6), "Hand": (14, 10, 10), "UpperLeg": (8, 9, 6), "LowerLeg": (9, 10, 5), "Foot": (5, 9, 4)}  # fmt: skip
ARMS_DOWN_SD = T_POSE_SD | {
    "Shoulder": (7, 7, 8),
    "UpperArm": (9, 22, 9),
    "LowerArm": (14, 25, 9),
    "Hand": (16, 28, 12),
}
STRETCHED_BEND_DEG = {"LowerArm": -3.0, "Hand": -3.0}  # elbows do not bend backwards, and are seldom quite straight
HANGING_DEG = {"Shoulder": -4.0, "UpperArm": -78.0, "LowerArm": -80.0, "Hand": -80.0}
HANGING_BEND_DEG = {"LowerArm": -12.0, "Hand": -14.0}  # elbows hang a little bent
# a forearm that is rolled out by so much in one pose and not in the other has its palm forward in it
PALMS_FORWARD_RAD = np.radians(35.0)
# where on a bone suits have their sensors, from its joint, or for limbs from their middle; metres, within SEAT_SD_M
SEATS = {"hips": (0.0, 0.07, -0.06), "chest": (0.0, 0.1, 0.0), "head": (0.0, 0.1, 0.0), "Shoulder": (0.08, 0.02, -0.03),
         "UpperArm": (0.0, 0.0, 0.0), "LowerArm": (0.0, 0.0, 0.0), "Hand": (0.05, 0.0, 0.0), "UpperLeg": (0.03, 0.0, 0.02),
         "LowerLeg": (0.02, 0.0, 0.02), "Foot": (0.0, -0.02, 0.08)}  # fmt: skip
SEAT_SD_M = 0.03
# what hangs on its neighbour in a pose, however that is held: on the first of these that has a sensor
FOLLOWS = {"chest": ("hips",), "head": ("chest", "hips"), "Shoulder": ("chest",), "UpperArm": ("Shoulder", "chest"),
           "LowerArm": ("UpperArm",), "Hand": ("LowerArm",)}  # fmt: skip
# the next bone up that suits have a sensor on
ABOVE = {"spine": "hips", "chest": "hips", "upperChest": "chest", "neck": "chest", "head": "chest", "Shoulder": "chest",
         "UpperArm": "Shoulder", "LowerArm": "UpperArm", "Hand": "LowerArm", "UpperLeg": "hips", "LowerLeg": "UpperLeg", "Foot": "LowerLeg",
         "Toes": "Foot"}  # fmt: skip
LIMBS = {"UpperArm": "LowerArm", "LowerArm": "Hand", "UpperLeg": "LowerLeg", "LowerLeg": "Foot"}


def plain(bone):
    """A bone's name without its side."""
    return bone.removeprefix("left").removeprefix("right")


def above_of(bone):
    """The bone that a joint is told against, the next one up that suits have a sensor on; None of the hips."""
    part = plain(bone)
    found = ABOVE.get(part)
    return found if found is None or found in ("hips", "chest") else bone.removesuffix(part) + found


def sensor_above(bone, names):
    """The next bone up that is among `names`, those with a sensor; None where there is none."""
    above = above_of(bone)
    while above is not None and above not in names:
        above = above_of(above)
    return above


def side_sign(bone):
    return 1.0 if bone.startswith("left") else -1.0


def bone_end(skeleton, bone):
    """Where the next joint lies from a limb's own joint in T-pose axes (3,), metres; None for what is no limb."""
    end = LIMBS.get(plain(bone))
    return None if end is None else skeleton.rest_offset_m[skeleton.index(bone.removesuffix(plain(bone)) + end)]


def usual_seat(skeleton, bone):
    """Where suits have the sensor of a bone, from its joint in T-pose axes (3,), metres."""
    part = bone if bone in SEATS else plain(bone)
    seat = np.array(SEATS[part]) * ([1, 1, 1] if bone in SEATS else [side_sign(bone), 1, 1])
    end = bone_end(skeleton, bone)
    return seat if end is None else seat + 0.5 * end


def arms_down(bone):
    """The rotation (4,) of a bone while the arms hang."""
    z = np.radians(HANGING_DEG.get(plain(bone), 0.0)) * side_sign(bone)
    return quaternion_multiply(quaternion_from_rotvec(np.array([0.0, 0.0, z])), _bent(bone, HANGING_BEND_DEG))


def arms_level(bone):
    """The rotation (4,) of a bone while the arms are stretched to the sides: the T-pose, as people can hold it."""
    return _bent(bone, STRETCHED_BEND_DEG)


def _bent(bone, degrees):
    y = np.radians(degrees.get(plain(bone), 0.0)) * side_sign(bone)
    return quaternion_from_rotvec(np.array([0.0, y, 0.0]))
