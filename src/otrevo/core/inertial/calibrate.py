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
from otrevo.core.inertial.poses import SEAT_SD_M
from otrevo.core.inertial.seat_fit import SeatFit
from otrevo.core.inertial.stills import find_stills
from otrevo.core.inertial.travel import find_leg_factor

# how far legs are from what the height says, and how far steps are from what legs are
LEGS_SD, STEPS_SD = 0.04, 0.015


def calibrate_wearer(recording, measures, progress=lambda share: None):
    """(Skeleton, SuitCalibration, notes) of whoever wears a suit: by a warm-up's SuitRecording and their measures {name: metres}.

    Legs that nobody measured are as long as the steps of the warm-up say. Raises InputError as `calibrate_suit_alone` and
    `measured_skeleton` do.
    """
    skeleton, notes = measured_skeleton(measures)
    found = calibrate_suit_alone(recording, skeleton, lambda share: progress(0.8 * share))
    if not {"hip_height_m", "knee_height_m"} & set(measures):
        legs = _leg_measures(recording, found, skeleton)
        if legs:
            skeleton, notes = measured_skeleton(measures | legs)
            notes = [
                *notes,
                f"legs are as long as the steps of the warm-up say: hips {legs['hip_height_m']:.2f} m high",
            ]
    progress(1.0)
    return skeleton, found, notes


def _leg_measures(recording, found, skeleton):
    """{measure: metres} of legs by the steps of a warm-up; empty where they say nothing."""
    recording = put_right(recording, found.exchanged)
    times = recording.times_s[[0, -1]]
    angle = found.heading_rad + (times - found.zero_s)[:, None] * found.drift_rad_s
    headings = Headings(times, angle, np.zeros_like(angle))
    local = fit_pose(skeleton, found.names, sensed_bones(recording, found, headings), recording.rate_hz)
    factor, sd = find_leg_factor(recording, found, headings, skeleton, local)
    known = LEGS_SD**2 / (LEGS_SD**2 + STEPS_SD**2 + sd**2)
    if known < 0.5:
        return {}
    longer = known * (factor - 1)
    thigh, shin = (-skeleton.rest_offset_m[skeleton.index(f"left{b}"), 1] for b in ("LowerLeg", "Foot"))
    hip = skeleton.rest_offset_m[[0, skeleton.index("leftUpperLeg")], 1].sum()
    return {"hip_height_m": float(hip + longer * (thigh + shin)), "knee_height_m": float(hip - thigh + longer * shin)}


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
