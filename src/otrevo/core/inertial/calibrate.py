"""Calibrate a suit by its warm-up alone: who has changed places, where joints lie, how sensors sit (core.inertial.seat_fit), and how
long the legs are.
"""

from dataclasses import replace

import numpy as np

from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.errors import InputError
from otrevo.core.inertial.alike import find_exchanged_alike
from otrevo.core.inertial.exchanged import find_exchanged, net_pairs, put_right
from otrevo.core.inertial.felt import PLACES_HZ, felt
from otrevo.core.inertial.first_seats import FirstSeats
from otrevo.core.inertial.headings import Headings
from otrevo.core.inertial.joints import find_links
from otrevo.core.inertial.measures import measured_skeleton
from otrevo.core.inertial.pose import fit_pose, sensed_bones
from otrevo.core.inertial.poses import LIMBS, SEAT_SD_M
from otrevo.core.inertial.seat_fit import SeatFit
from otrevo.core.inertial.stills import find_stills
from otrevo.core.inertial.travel import find_leg_factor

# how far legs are from what the height says, and how far steps are from what legs are
LEGS_SD, STEPS_SD = 0.04, 0.015
# how far limbs are from what the height says, as a share of it, and from what is between their joints as a warm-up places them
LIMBS_SD, JOINTS_SD_M = 0.06, {"UpperArm": 0.008, "UpperLeg": 0.02, "LowerLeg": 0.02}
MOST_OFF = 0.15  # of a limb's length: no limb is further from what the height says


def calibrate_wearer(recording, measures, progress=lambda share: None):
    """(Skeleton, SuitCalibration, notes) of whoever wears a suit: by a warm-up's SuitRecording and their measures {name: metres}.

    What nobody measured the warm-up tells: joints say how long upper arms are and where the knees are, and steps how long legs are. Raises
    InputError as `calibrate_suit_alone` and `measured_skeleton` do.
    """
    skeleton, notes = measured_skeleton(measures)
    found = calibrate_suit_alone(recording, skeleton, lambda share: progress(0.8 * share))
    lengths = _lengths_between_joints(found, skeleton)
    if "knee_height_m" not in measures:
        legs, said = _leg_measures(recording, found, skeleton, lengths, "hip_height_m" in measures)
        skeleton, told = measured_skeleton(measures | legs)
        notes = [*told, *said] if said else notes
    if "UpperArm" in lengths:
        upper, arm = lengths["UpperArm"], _length(skeleton, "LowerArm") + _length(skeleton, "Hand")
        forearm = arm - upper if "arm_span_m" in measures else _length(skeleton, "Hand")
        skeleton = _with_lengths(skeleton, {"LowerArm": upper, "Hand": forearm})
    progress(1.0)
    return skeleton, found, notes


def _lengths_between_joints(found, skeleton):
    """{limb: metres} of upper arms, thighs and shins: as a SuitCalibration places their joints, and as the Skeleton has them, by how well each is known."""
    out = {}
    for limb, sd in JOINTS_SD_M.items():
        joint = LIMBS[limb]
        usual = _length(skeleton, joint)
        both = [side for side in ("left", "right") if side + limb in found.places and side + joint in found.places]
        if both:
            seen = np.mean([np.linalg.norm(found.places[s + joint][0] - found.places[s + limb][1]) for s in both])
            known = (LIMBS_SD * usual) ** 2 / ((LIMBS_SD * usual) ** 2 + sd**2)
            out[limb] = usual * float(1 + np.clip(known * (seen / usual - 1), -MOST_OFF, MOST_OFF))
    return out


def _leg_measures(recording, found, skeleton, lengths, measured):
    """({measure: metres} of legs, notes): joints, by lengths as of `_lengths_between_joints`, say where the knees are, and the steps of a warm-up how long
    legs are; measured: the height of the hips is known, and legs are as long as that.
    """
    thigh, shin = (_length(skeleton, b) for b in ("LowerLeg", "Foot"))
    leg = thigh + shin
    ankle = skeleton.rest_offset_m[[0, skeleton.index("leftUpperLeg")], 1].sum() - leg
    own = np.array([lengths.get("UpperLeg", thigh), lengths.get("LowerLeg", shin)])
    own *= leg / own.sum()
    as_joints_say = _with_lengths(skeleton, {"LowerLeg": own[0], "Foot": own[1]})
    longer = None if measured else _longer_by_steps(recording, found, as_joints_say)
    said = []
    if longer:
        own *= longer
        said = [f"legs are as long as the steps of the warm-up say: hips {ankle + own.sum():.2f} m high"]
    return {"hip_height_m": float(ankle + own.sum()), "knee_height_m": float(ankle + own[1])}, said


def _longer_by_steps(recording, found, skeleton):
    """How many times as long as the Skeleton's the legs are by the steps of a warm-up; None where they say nothing."""
    recording = put_right(recording, found.exchanged)
    times = recording.times_s[[0, -1]]
    angle = found.heading_rad + (times - found.zero_s)[:, None] * found.drift_rad_s
    headings = Headings(times, angle, np.zeros_like(angle))
    local = fit_pose(skeleton, found.names, sensed_bones(recording, found, headings), recording.rate_hz)
    factor, sd = find_leg_factor(recording, found, headings, skeleton, local)
    known = LEGS_SD**2 / (LEGS_SD**2 + STEPS_SD**2 + sd**2)
    return float(1 + known * (factor - 1)) if known >= 0.5 else None


def _length(skeleton, bone):
    """How far the left one of a bone, called without its side, is from the bone above, metres."""
    return float(np.linalg.norm(skeleton.rest_offset_m[skeleton.index("left" + bone)]))


def _with_lengths(skeleton, lengths):
    """The Skeleton with bones, called without their sides, so far from those above: {bone: metres}."""
    rest = skeleton.rest_offset_m.copy()
    for bone, length in lengths.items():
        at = [skeleton.index(side + bone) for side in ("left", "right")]
        rest[at] *= length / _length(skeleton, bone)
    return skeleton.with_offsets(rest)


def calibrate_suit_alone(recording, skeleton=None, progress=lambda share: None):
    """The SuitCalibration by a warm-up's SuitRecording.

    skeleton: the performer's, for the lengths of limbs. Raises InputError when no pose is held still, or too few sensors are there.
    """
    skeleton = skeleton or generic_skeleton()
    if "hips" not in recording.names:
        raise InputError("The suit has no sensor on the pelvis; expected one, as everything else hangs on it.")
    stills = find_stills(recording)
    if len(stills) == 0:
        raise InputError("The warm-up holds no still pose; expected arms down and a T-pose, each held for two seconds.")
    sensed = felt(recording)
    progress(0.1)
    exchanged = find_exchanged(sensed)
    progress(0.3)
    if exchanged:
        recording = put_right(recording, exchanged)
        sensed = felt(recording)
    alike = find_exchanged_alike(sensed, recording)
    if alike:
        exchanged = exchanged + alike
        recording = put_right(recording, alike)
        sensed = felt(recording)
    first = FirstSeats(recording, stills, find_links(sensed), skeleton)
    sides = first.exchanged_sides()
    if sides:
        exchanged = exchanged + sides
        recording = put_right(recording, sides)
        first = FirstSeats(recording, stills, find_links(felt(recording)), skeleton)
    progress(0.4)
    links = find_links(felt(recording, PLACES_HZ), first.expected_places(), SEAT_SD_M)
    progress(0.5)
    found = SeatFit(recording, stills, links, skeleton).solve(progress)
    return replace(found, exchanged=tuple(net_pairs(exchanged)))
