"""How sure a body from a suit alone is: by how well sensors' seats and headings are known, about which axes.

A seat is known about three axes of its bone, of which the bone's own line is often the worst, as forearms roll and nothing tells how
far: that turns the joint, and does not move the one at its end. A heading is off about the vertical alone. What is said is half
of the angle or distance within which a joint is 95 times in 100, as of a body from markers (core.solve.uncertainty).
"""

import numpy as np

from otrevo.core.body.kinematics import forward_kinematics
from otrevo.core.body.skeleton import BODY_BONES, parents_among
from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.inertial.calibration import passed_on
from otrevo.core.inertial.poses import above_of, plain
from otrevo.core.solve.uncertainty import half_of_95

# about each axis, of a bone that has no sensor: between two that have one, where limbs may be anywhere that joints allow, and where nothing
# below it has one, as people hold themselves and as recorded movement strays from that
BETWEEN_DEG = {"UpperArm": 12.0, "LowerArm": 12.0, "UpperLeg": 8.0, "LowerLeg": 8.0}
BETWEEN_IN_TRUNK_DEG = 3.0
UNKNOWN_DEG = {"Shoulder": 6.0, "UpperArm": 40.0, "LowerArm": 45.0, "Hand": 15.0, "UpperLeg": 25.0, "LowerLeg": 30.0, "Foot": 10.0,
               "Toes": 8.0, "neck": 13.0, "head": 13.0}  # fmt: skip
UNKNOWN_IN_TRUNK_DEG = 6.0
# people hold poses better than the fit trusts them to, as it must not follow the one who does not
HELD = 0.28
# how far bones are from what a height tells, or for legs the warm-up's steps; one share of all bones of a kind
LENGTHS = {"trunk": 0.04, "Shoulder": 0.1, "UpperArm": 0.05, "LowerArm": 0.05, "Hand": 0.05, "UpperLeg": 0.03, "LowerLeg": 0.03,
           "Foot": 0.04}  # fmt: skip
JOINT_M = 0.014  # how far a joint is from where bodies of that height have it, besides
READ_RAD = np.radians(1.4)  # how far a sensor is turned against its bone at any moment, as skin swings and filters err
SKIN_ROLL_DEG = {"UpperArm": 3.5}  # by which skin that turns less than its limb is not known, about the limb's line
LOST_DEG = 15.0  # more where a sensor is lost for longer than can be bridged
_PARENTS = {
    bone: BODY_BONES[p] if p >= 0 else None for bone, p in zip(BODY_BONES, parents_among(BODY_BONES), strict=True)
}
BLOCK = 500  # frames at a time
UP = np.array([0.0, 1.0, 0.0])


def unknown_bones(names):
    """Those of BODY_BONES about which the sensors `names` say nothing: they have none, and nothing that hangs on them has one. No toes."""
    told = set(names)
    for bone in reversed(BODY_BONES):  # parents come before what hangs on them
        if bone in told and bone != "hips":
            told.add(_PARENTS[bone])
    return tuple(b for b in BODY_BONES if b not in told and not b.endswith("Toes"))


def _unheard_deg(bone, names):
    """How far a bone without a sensor of its own may be turned about each axis, one sigma."""
    part = plain(bone)
    if part == "Toes" or bone in unknown_bones(names):
        return UNKNOWN_DEG.get(part, UNKNOWN_IN_TRUNK_DEG)
    return BETWEEN_DEG.get(part, BETWEEN_IN_TRUNK_DEG)


def place_sd(world, calibration, headings, times_s, motion):
    """How sure joints' places are from the hips, (F, B) m over BODY_BONES.

    Parameters
    ----------
    world : ndarray (F, S, 4)
        What sensors said at times_s, NaN where they were lost.
    calibration : SuitCalibration
    headings : Headings
    times_s : ndarray (F,)
    motion : Motion
        The body that was found, of the same frames.
    """
    heading = np.stack([np.interp(times_s, headings.times_s, column) for column in headings.sd_rad.T], axis=1)
    lost = np.isnan(world[..., 0])
    _, turned = forward_kinematics(motion.skeleton, motion.root_position_m, motion.rotation_local)
    share, news = passed_on(calibration)
    news = HELD * news
    blocks = [
        _places(
            calibration.names, share * news, heading[at], lost[at], motion.skeleton, matrix_from_quaternion(turned[at])
        )
        for at in (slice(f, f + BLOCK) for f in range(0, len(world), BLOCK))
    ]
    return np.concatenate(blocks)


def _places(names, seat_rad, heading_rad, lost, skeleton, rotation):
    """The same of some frames, by rotations (F, B, 3, 3); seat_rad (S, S, 3): how far each seat is off by the error of each."""
    number = {n: s for s, n in enumerate(names)}
    shape = len(rotation), len(BODY_BONES)
    covariance = np.zeros((*shape, 3, 3))
    seats = np.zeros((len(names), *shape, 3, 3))  # by one sigma of each seat about each axis
    longer = np.zeros((len(LENGTHS), *shape, 3))  # where joints go as bones of one kind get longer
    for b, bone in enumerate(BODY_BONES):
        if bone == "hips":
            continue
        above = skeleton.parents[skeleton.index(bone)]
        name, axes = skeleton.names[above], rotation[:, above]
        along = axes @ skeleton.rest_offset_m[skeleton.index(bone)]
        swept = np.cross(axes.swapaxes(1, 2), along[:, None])  # (F, 3, 3): by a radian about each axis
        for summed in (covariance[None], seats, longer):
            summed[:, :, b] = summed[:, :, BODY_BONES.index(name)]
        if name in number:
            s = number[name]
            own = READ_RAD**2 + np.where(lost[:, s], np.radians(LOST_DEG) ** 2, 0.0)
            seats[:, :, b] += seat_rad[s][:, None, :, None] * swept
            aside = np.cross(UP, along) * heading_rad[:, s, None]
            covariance[:, b] += aside[:, :, None] * aside[:, None]
        else:
            own = np.full(len(rotation), np.radians(_unheard_deg(name, names)) ** 2)
        covariance[:, b] += own[:, None, None] * (swept.swapaxes(1, 2) @ swept)
        longer[_kind(name)][:, b] += along
    covariance += np.einsum("sfbki,sfbkj->fbij", seats, seats, optimize=True)
    for moved, part in zip(longer, LENGTHS.values(), strict=True):
        covariance += part**2 * moved[..., None] * moved[..., None, :]
    covariance[:, 1:] += JOINT_M**2 * np.eye(3)
    return _half_of_95(covariance)


def joint_sd(calibration, headings):
    """{bone: how sure its joint is, child in parent, degrees}: by how well seats and headings of both are known."""
    names = calibration.names
    heading = dict(zip(names, (headings.sd_rad**2).mean(axis=0) / 3, strict=True))  # verticals are where limbs are
    seat = dict(zip(names, (HELD * np.radians(calibration.seat_sd_deg)) ** 2, strict=True))
    joint = dict(zip(names, (HELD * np.radians(calibration.joint_sd_deg)) ** 2, strict=True))
    out = {}
    for bone in BODY_BONES:
        above = above_of(bone)
        if bone not in seat:
            variance = np.full(3, np.radians(_unheard_deg(bone, names)) ** 2)
        elif above in seat:
            variance = joint[bone] + heading[bone] + heading[above] + 2 * READ_RAD**2
        else:
            variance = seat[bone] + heading[bone] + READ_RAD**2
        variance = variance + [np.radians(SKIN_ROLL_DEG.get(plain(bone), 0.0)) ** 2, 0.0, 0.0]
        out[bone] = round(float(np.degrees(_half_of_95(np.diag(variance)))), 2)
    return out


def _kind(bone):
    """The number in LENGTHS of what a bone belongs to."""
    part = plain(bone)
    return list(LENGTHS).index(part if part in LENGTHS else "trunk")


def _half_of_95(covariance):
    """Of covariances (..., 3, 3) what half_of_95 says (...), 0 where nothing is unsure."""
    variance, squared = np.trace(covariance, axis1=-2, axis2=-1), (covariance**2).sum(axis=(-2, -1))
    unsure = variance > 0
    return np.where(unsure, half_of_95(np.where(unsure, variance, 1.0), np.where(unsure, squared, 1.0)), 0.0)
