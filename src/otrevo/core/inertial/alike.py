"""Sensors that feel so much alike that their joints do not tell who has changed places with whom.

A collar bone hardly moves: the trunk carries both alike. But as an arm is raised its collar bone turns with it, and not with the other arm.
A wrist that is held stiff makes one limb of a forearm and its hand. But the hand lies beyond the forearm as seen from the elbow.

Source of the first: V. T. Inman, J. B. Saunders, L. C. Abbott, Observations on the function of the shoulder joint, 1944.
"""

import numpy as np

from otrevo.core.conventions import (
    make_continuous,
    quaternion_conjugate,
    quaternion_multiply,
    rotvec_from_quaternion,
    slerp,
)
from otrevo.core.inertial.exchanged import MOVES_MS2
from otrevo.core.inertial.joints import find_link, heading_matrix
from otrevo.core.zero_phase import low_pass

SIDES = "left", "right"
SLOW_HZ = 2.0  # above it skin swings and the trunk shakes
EACH_S = 0.05
HEADING_SD = np.radians(30.0)  # of a sensor to the chest's, at most, so that axes can be compared
ARMS_TURN, COLLARS_TURN = np.radians(15.0), np.radians(2.0)  # a second, RMS beside the chest, at least
# How much more collar bones turn with the other arm, as a sum of four correlations, each -1 to 1, before they have changed places. In 64
# warm-ups worn as they say none was above 0.1, and in the 58 of them in which arms are raised the least the wrong way round is 0.57
OTHER_ARM = 0.4
# The cosine between the way to the elbow and that to the hand, above which the hand is on the elbow's side. Of 58 arms in such warm-ups none was
# above -0.7, and the wrong way round none below 0.65
INWARDS = 0.2
NEAR_M = 0.015  # so near to each other, two sensors do not tell which of them is farther out


def find_exchanged_alike(felt, recording):
    """[(sensor, sensor)] of the Felt of a SuitRecording that have changed places though their joints hardly tell."""
    pairs = [(side + "LowerArm", side + "Hand") for side in SIDES if _hand_is_inwards(felt, side)]
    return pairs + ([("leftShoulder", "rightShoulder")] if _collar_bones_follow_other_arms(felt, recording) else [])


def _hand_is_inwards(felt, side):
    """Whether the hand's sensor lies between the elbow and that of the forearm."""
    upper, forearm, hand = (side + part for part in ("UpperArm", "LowerArm", "Hand"))
    if not {upper, forearm, hand} <= set(felt.names):
        return False
    elbow, wrist = find_link(felt, upper, forearm, forearm), find_link(felt, forearm, hand, hand)
    if min(elbow.felt_ms2, wrist.felt_ms2) < MOVES_MS2:
        return False
    a, b = felt.names.index(forearm), felt.names.index(hand)
    known = felt.known[:, a] & felt.known[:, b]
    turn = heading_matrix(wrist.heading_rad + wrist.drift_rad_s * (felt.times_s[known] - wrist.zero_s))
    more = np.einsum("tij,tj->ti", turn, felt.force[known, b]) - felt.force[known, a]
    bend = felt.bend[known, a]
    to_hand = np.linalg.lstsq(bend.reshape(-1, 3), more.ravel(), rcond=None)[0]
    size = np.linalg.norm(to_hand), np.linalg.norm(elbow.below_m)
    return min(size) > NEAR_M and to_hand @ elbow.below_m > INWARDS * size[0] * size[1]


def _collar_bones_follow_other_arms(felt, recording):
    """Whether each collar bone's sensor turns as the arm of the other side does."""
    names = [side + part for part in ("Shoulder", "UpperArm") for side in SIDES]
    if not {"chest", *names} <= set(felt.names):
        return False
    times, chest = _turning(recording, "chest")
    turning = []
    for name in names:
        link = find_link(felt, "chest", name, name)
        if link.heading_sd > HEADING_SD:
            return False
        turn = heading_matrix(link.heading_rad + link.drift_rad_s * (times - link.zero_s))
        turning.append(np.einsum("tij,tj->ti", turn, _turning(recording, name)[1]) - chest)
    alike = np.einsum("atk,btk->ab", turning, turning)
    size = np.sqrt(alike.diagonal())
    rms = size / np.sqrt(len(times))
    if rms[:2].min() < COLLARS_TURN or rms[2:].min() < ARMS_TURN:
        return False
    alike = alike[:2, 2:] / np.outer(size[:2], size[2:])
    return alike[0, 1] + alike[1, 0] - alike[0, 0] - alike[1, 1] > OTHER_ARM


def _turning(recording, name):
    """(times of the device (K,), slow angular velocity (K, 3) of a sensor in its filter's world, rad/s)."""
    rotation = recording.rotation[:, recording.names.index(name)]
    known = np.isfinite(rotation[:, 0])
    times = recording.times_s
    rotation = slerp(times[known], make_continuous(rotation[known]), np.clip(times, *times[known][[0, -1]]))
    steps = rotvec_from_quaternion(quaternion_multiply(rotation[1:], quaternion_conjugate(rotation[:-1])))
    step = max(1, int(EACH_S * recording.rate_hz))
    return times[1::step], low_pass(steps * recording.rate_hz, recording.rate_hz, SLOW_HZ)[::step]
