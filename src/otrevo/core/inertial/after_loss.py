"""Filters that began anew while nobody heard them: another battery, or a receiver that was switched on again.

Such a filter comes back with any heading. What the body tells of headings in the seconds before a loss is compared with what it tells in those
after it; whoever was heard all the time has the heading they had.
"""

from dataclasses import replace

import numpy as np

from otrevo.core.conventions import (
    find_runs,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    within_half_a_turn,
)
from otrevo.core.inertial.calibration import UP
from otrevo.core.inertial.felt import felt, felt_again
from otrevo.core.inertial.headings import told_by_span
from otrevo.core.inertial.t_poses import yaw_rad

LOSS_S = 0.4  # whoever is away for less has not been set anew
WINDOW_S, SHORTEST_S = 20.0, 3.0  # looked at before and after
ANEW_RAD, SIGMAS = np.radians(15.0), 4.0  # from so far a heading has leapt, if it is known so well
KNOWN_RAD = np.radians(15.0)
MOST = 0.5  # of all sensors: if so many have leapt in a silence, all were set anew


def headings_put_back(recording, calibration):
    """(the SuitRecording with the headings that its sensors had before their losses, [(name, s from the beginning, leap in rad)]).

    recording, calibration: of the same sensors, in the same order.
    """
    losses = _losses(recording)
    sensed, told = felt(recording) if losses else None, []
    for first, ends in losses:
        leap = _leaps(recording, calibration, sensed, first, ends)
        turned = np.flatnonzero(leap)
        if len(turned):
            rotation = recording.rotation.copy()
            for s in turned:
                back = quaternion_from_rotvec(-leap[s] * UP)
                rotation[ends[s] :, s] = quaternion_multiply(back, rotation[ends[s] :, s])
            recording = replace(recording, rotation=rotation)
            sensed = felt_again(sensed, recording, turned)
            told += [(recording.names[s], ends[s] / recording.rate_hz, float(leap[s])) for s in turned]
    return recording, told


def _losses(recording):
    """[(first frame, frame (S,) after each sensor's loss, 0 of those that are heard)] in order: of LOSS_S and more; those that overlap are one."""
    away = np.isnan(recording.rotation[..., 0])
    runs = [(a, b, s) for s in range(away.shape[1]) for a, b in find_runs(away[:, s])]
    runs = sorted(r for r in runs if r[1] - r[0] >= LOSS_S * recording.rate_hz and r[0] > 0 and r[1] < len(away))
    out = []
    for a, b, s in runs:
        if not out or a >= out[-1][1].max():
            out.append((a, np.zeros(away.shape[1], dtype=int)))
        out[-1][1][s] = b
    return out


def _leaps(recording, calibration, sensed, first, ends):
    """By how much each filter's heading has leapt (S,), rad, in a loss of some sensors; 0 where it has not, or nobody can tell."""
    lost, end = ends > 0, ends.max()
    width, times = round(WINDOW_S * recording.rate_hz), recording.times_s
    spans = [(times[max(0, first - width)], times[first]), (times[end], times[min(len(times) - 1, end + width)])]
    if min(np.ptp(span) for span in spans) < SHORTEST_S:
        return np.zeros(len(lost))
    before, after = (told_by_span(recording, calibration, sensed, span) for span in spans)
    leap = after.angle - before.angle - calibration.drift_rad_s * (np.mean(spans[1]) - np.mean(spans[0]))
    hips = recording.names.index("hips")
    free = lost.copy()
    if lost.all():  # then their headings are told by each other's alone
        free[hips] = False
    count = len(lost)
    doubt = before.covariance[:count, :count] + after.covariance[:count, :count]
    leap, sd = _against_the_others(leap, doubt, free)
    leapt = free & (np.abs(leap) > np.maximum(ANEW_RAD, SIGMAS * sd)) & (sd < KNOWN_RAD)
    if lost.all() and leapt.sum() > MOST * count:
        return within_half_a_turn(leap + _facing_on(recording.rotation[:, hips], ends[hips]))
    return np.where(leapt, leap, 0.0)


def _against_the_others(leap, doubt, free):
    """(leaps (S,) of the `free` ones if no other one has leapt, how well they are known, one sigma), by leaps of which all may be off alike
    and their covariance `doubt` (S, S).
    """
    sure = np.where(free, np.inf, np.diag(doubt)).argmin()
    leap = within_half_a_turn(leap - leap[sure])
    moves = np.column_stack([np.eye(len(leap))[:, free], np.ones(len(leap))])
    firm = np.linalg.solve(doubt, moves)
    covariance = np.linalg.inv(moves.T @ firm)
    found = covariance @ (firm.T @ leap)
    out, sd = np.zeros(len(leap)), np.zeros(len(leap))
    out[free], sd[free] = within_half_a_turn(found[:-1]), np.sqrt(np.diag(covariance)[:-1])
    return out, sd


def _facing_on(reading, end):
    """By how much the heading of the hips' filter has leapt in a loss that ends at a frame, if the body faces the way it did; reading (T, 4)."""
    before = np.flatnonzero(np.isfinite(reading[:end, 0]))[-1]
    return float(yaw_rad(quaternion_multiply(reading[end], quaternion_conjugate(reading[before]))))
