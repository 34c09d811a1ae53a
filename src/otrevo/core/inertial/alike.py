"""Sensors that feel so much alike that their joints do not tell who has changed places with whom.

A collar bone hardly moves: the trunk carries both of them and the chest alike. But as an arm is raised its collar bone turns with it beside
the chest, and not with the other arm. A head turns beside the collar bones, and the chest hardly does.
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
COLLAR_BONES, UPPER_ARMS = ("leftShoulder", "rightShoulder"), ("leftUpperArm", "rightUpperArm")
SLOW_HZ = 2.0  # above it skin swings and the trunk shakes
EACH_S = 0.05
HEADING_SD = np.radians(30.0)  # of a sensor to the chest's, at most, so that axes can be compared
ARMS_TURN, COLLARS_TURN = np.radians(15.0), np.radians(2.0)  # a second, RMS beside the chest, at least
# How collar bones follow arms, as a sum of four correlations, each -1 to 1. Of 60 warm-ups worn as they say it is 0.5 to 1.6 in the 52 in which
# arms are raised, and -0.1 to 0.25 in those in which the trunk turns more; so low is it where collar bones are in each other's place
OTHER_ARM = -0.4
# A collar bone and the chest in each other's place: so much better is it the other way round, and so good then. Worn as they say, that makes it worse
# by 0.24 or more in those 52 warm-ups; in the others it is up to 0.2 better, and 0.33 then
BETTER, FOLLOWS = 0.22, 0.4
# So many times as much do collar bones turn beside the chest as beside the head where these two are in each other's place, and a collar bone beside
# the chest as the head does where those two are. Worn as they say it is at most half as much in all these warm-ups, the other way round at least twice
AS_MUCH = 1.5
HEADS_BETTER = 0.08  # as BETTER, beside that: the other way round it makes the least of them 0.16 better
# The cosine between the way to the elbow and that to the hand, above which the hand is on the elbow's side. Of 58 arms in such warm-ups none was
# above -0.7, and the wrong way round none below 0.65
INWARDS = 0.2
NEAR_M = 0.015  # so near to each other, two sensors do not tell which of them is farther out


def find_exchanged_alike(felt, recording):
    """[(sensor, sensor)] of the Felt of a SuitRecording that have changed places though their joints hardly tell."""
    pairs = [(side + "LowerArm", side + "Hand") for side in SIDES if _hand_is_inwards(felt, side)]
    turning = _turning_beside_each_other(felt, recording)
    if _collar_bones_follow_head(turning):
        pairs.append(("chest", "head"))
        turning["chest"], turning["head"] = turning["head"], turning["chest"]
    return pairs + _where_arms_hang(turning)


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


def _collar_bones_follow_head(turning):
    """Whether collar bones turn less beside what is called the head than beside the chest: of {sensor: angular velocity (K, 3)}."""
    collars = [n for n in COLLAR_BONES if n in turning]
    if not collars or "head" not in turning:
        return False
    chest, head = (np.sqrt(np.mean([_rms(turning[c] - turning[n]) ** 2 for c in collars])) for n in ("chest", "head"))
    return chest > COLLARS_TURN and chest > AS_MUCH * head


def _where_arms_hang(turning):
    """[(sensor, sensor)], at most one pair, of the chest, the head and the collar bones, by which arm collar bones turn with; turning: as above."""
    if not {"chest", *COLLAR_BONES, *UPPER_ARMS} <= set(turning):
        return []
    chest = turning["chest"]
    beside = {n: _rms(turning[n] - chest) for n in turning}
    if min(beside[n] for n in COLLAR_BONES) < COLLARS_TURN or min(beside[n] for n in UPPER_ARMS) < ARMS_TURN:
        return []
    now = _follow(turning)
    if now < OTHER_ARM:
        return [COLLAR_BONES]
    follows = {}
    for collar in COLLAR_BONES:
        others = [("chest", BETTER)]
        if "head" in turning and beside[collar] > AS_MUCH * beside["head"]:
            others.append(("head", HEADS_BETTER))
        for other, least in others:
            follows[other, collar] = _follow(turning | {other: turning[collar], collar: turning[other]}), least
    pair = max(follows, key=follows.get)
    most, least = follows[pair]
    return [pair] if most > max(FOLLOWS, now + least) else []


def _rms(turning):
    return np.sqrt((turning**2).sum(axis=1).mean())


def _follow(turning):
    """How much more the two collar bones turn with their own arm than with the other, beside the chest, -4 to 4; turning: as above."""
    beside = np.array([turning[n] for n in (*COLLAR_BONES, *UPPER_ARMS)]) - turning["chest"]
    alike = np.einsum("atk,btk->ab", beside, beside)
    size = np.sqrt(alike.diagonal())
    alike = alike[:2, 2:] / np.outer(size[:2], size[2:])
    return alike[0, 0] + alike[1, 1] - alike[0, 1] - alike[1, 0]


def _turning_beside_each_other(felt, recording):
    """{sensor: slow angular velocity (K, 3), rad/s} of the chest, the head, collar bones and upper arms, along the axes of the chest's filter; without
    those whose heading to it is not known."""
    if "chest" not in felt.names:
        return {}
    turning = {"chest": _turning(recording, "chest")[1]}
    for name, joint in (("head", "neck"), *((n, n) for n in (*COLLAR_BONES, *UPPER_ARMS))):
        link = find_link(felt, "chest", name, joint) if name in felt.names else None
        if link and link.heading_sd < HEADING_SD:
            times, own = _turning(recording, name)
            turn = heading_matrix(link.heading_rad + link.drift_rad_s * (times - link.zero_s))
            turning[name] = np.einsum("tij,tj->ti", turn, own)
    return turning


def _turning(recording, name):
    """(times of the device (K,), slow angular velocity (K, 3) of a sensor in its filter's world, rad/s)."""
    rotation = recording.rotation[:, recording.names.index(name)]
    known = np.isfinite(rotation[:, 0])
    times = recording.times_s
    rotation = slerp(times[known], make_continuous(rotation[known]), np.clip(times, *times[known][[0, -1]]))
    steps = rotvec_from_quaternion(quaternion_multiply(rotation[1:], quaternion_conjugate(rotation[:-1])))
    step = max(1, int(EACH_S * recording.rate_hz))
    return times[1::step], low_pass(steps * recording.rate_hz, recording.rate_hz, SLOW_HZ)[::step]
