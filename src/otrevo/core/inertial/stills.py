"""Moments in which a body holds still, found by how little any sensor turns."""

import numpy as np
import scipy

from otrevo.core.conventions import find_runs, quaternion_conjugate, quaternion_multiply, rotvec_from_quaternion

STILL_RAD_S = np.radians(18.0)  # people sway
STEP_S, SMOOTH_S = 0.2, 0.3  # over which a turn is told from noise, and averaged
SHORTEST_S = 0.8
MOVING_SHARE = 0.2  # so many sensors may turn and the body still counts as still: a hand fidgets


def turn_speed(recording):
    """Angular speed (T, S) of every sensor, rad/s, smoothed; NaN where it is not known."""
    q, rate = recording.rotation, recording.rate_hz
    step = max(1, round(STEP_S * rate))
    speed = np.full(q.shape[:2], np.nan)
    turned = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(q[:-step]), q[step:]))
    half = step // 2
    speed[half : half + len(turned)] = np.linalg.norm(turned, axis=-1) * rate / step
    known = np.isfinite(speed)
    window = max(1, int(SMOOTH_S * rate))
    share = scipy.ndimage.uniform_filter1d(known.astype(float), window, axis=0)
    smooth = scipy.ndimage.uniform_filter1d(np.where(known, speed, 0.0), window, axis=0) / np.maximum(share, 1e-6)
    return np.where(share > 0.3, smooth, np.nan)


def find_stills(recording):
    """Intervals [start, end) (N, 2), samples, in which the body holds still."""
    speed = turn_speed(recording)
    known = np.isfinite(speed)
    moving = ((speed > STILL_RAD_S) & known).sum(axis=1) / np.maximum(known.sum(axis=1), 1)
    still = (moving <= MOVING_SHARE) & (known.sum(axis=1) >= 0.5 * known.any(axis=0).sum())
    runs = find_runs(still)
    return runs[(runs[:, 1] - runs[:, 0]) >= SHORTEST_S * recording.rate_hz]


def hold_still(recording):
    """Whether the body holds still in every sample (T,)."""
    still = np.zeros(len(recording), dtype=bool)
    for start, end in find_stills(recording):
        still[start:end] = True
    return still
