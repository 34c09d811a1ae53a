"""The clap, as each stream shows it: a sound transient, a peak of the hands' accelerations, points that meet."""

import numpy as np
from numba import njit
from numpy.lib.stride_tricks import sliding_window_view

SEARCH_S = 8.0
EDGE_SHARE = 0.3
MEET_M, STOPPED_M_S, FASTEST_M_S, STOPS_WITHIN_S = 0.35, 0.9, 15.0, 0.05
SLOWER_SHARE, PAIRS = 0.3, 3


def clap_in_sound(samples, times_s):
    """Find the clap in a sound track.

    Parameters
    ----------
    samples : ndarray (S,)
        One channel, NaN where lost.
    times_s : ndarray (S,)
        Take times of the samples.

    Returns
    -------
    float or None
        Take time in seconds of the sharpest onset within the first seconds, None when nothing stands out.
    """
    near = times_s < times_s[0] + SEARCH_S
    loud = np.abs(np.nan_to_num(samples[near].astype(float)))  # what was lost makes no sound
    if len(loud) < 1000:
        return None
    peak = loud.max()
    if peak < 8 * np.median(loud) + 1e-9:
        return None
    return float(times_s[np.argmax(loud > EDGE_SHARE * peak)])


def clap_in_accelerations(acceleration, times_s):
    """Find the clap in sensor accelerations.

    Parameters
    ----------
    acceleration : ndarray (T, S, 3)
        m/s^2, NaN where lost.
    times_s : ndarray (T,)
        Take times.

    Returns
    -------
    float or None
        Take time in seconds, None when nothing stands out.
    """
    near = times_s < times_s[0] + SEARCH_S
    size = np.linalg.norm(acceleration[near].astype(float), axis=2)
    if len(size) < 50:
        return None
    two = np.sort(np.nan_to_num(size), axis=1)[:, -2:].min(axis=1)  # both hands feel it
    if two.max() < 3 * np.median(two) + 1e-9:
        return None
    return float(times_s[np.argmax(two > 0.5 * two.max())])


def clap_in_points(points_m, times_s):
    """Find the clap in nameless points.

    Parameters
    ----------
    points_m : ndarray (T, N, 3)
        Metres, NaN where absent.
    times_s : ndarray (T,)
        Take times.

    Returns
    -------
    float or None
        Take time in seconds, None when no two hands meet.

    Notes
    -----
    Hands that clap run towards each other, both of them, and stop dead: of all pairs of points near each other, at
    least three must do so in the same frame.
    """
    near = times_s < times_s[0] + SEARCH_S
    times, points = times_s[near], points_m[near].astype(float)
    if len(points) < 20:
        return None
    points = points[:, np.isfinite(points[..., 0]).sum(axis=0) > 2]
    velocity = np.gradient(points, times, axis=0)
    # the median keeps the edge of a stop and drops the jump of columns that trade their points
    velocity[2:-2] = np.median(sliding_window_view(velocity, 5, axis=0), axis=-1)
    half = max(1, round(STOPS_WITHIN_S / 2 / (times[1] - times[0])))
    together = np.zeros(len(points))
    _stops(np.ascontiguousarray(points), np.ascontiguousarray(velocity), half, together)
    if together.max() < STOPPED_M_S:
        return None
    quickest = int(together.argmax())
    part = slice(max(0, quickest - half), quickest + half + 1)
    return float(np.mean(times[part][together[part] > 0.9 * together.max()]))


@njit(cache=True, error_model="numpy")
def _stops(points, velocity, half, together):
    """By how much the third of the pairs that stop most in each frame slows down, m/s, into `together` (T,).

    points, velocity (T, N, 3); a pair is looked at `half` frames before and after.
    """
    frames, count = points.shape[0], points.shape[1]
    most = np.empty(PAIRS)
    for t in range(half, frames - half):
        before, after = t - half, t + half
        most[:] = 0.0
        for i in range(count):
            for j in range(i + 1, count):
                against = apart2 = nearing = 0.0
                for k in range(3):
                    apart = points[before, j, k] - points[before, i, k]
                    apart2 += apart * apart
                    nearing -= (velocity[before, j, k] - velocity[before, i, k]) * apart
                    against += velocity[before, i, k] * velocity[before, j, k]
                if not (apart2 < MEET_M**2 and against < 0.0):
                    continue
                closing = nearing / (np.sqrt(apart2) + 1e-9)
                slower = np.sqrt(min(_square(velocity[before, i]), _square(velocity[before, j])))
                # a thigh that is hit stands still
                if not (0.0 < closing < FASTEST_M_S and slower > SLOWER_SHARE * closing):
                    continue
                apart2 = nearing = relative2 = 0.0
                for k in range(3):
                    apart = points[after, j, k] - points[after, i, k]
                    relative = velocity[after, j, k] - velocity[after, i, k]
                    apart2 += apart * apart
                    nearing -= relative * apart
                    relative2 += relative * relative
                if not relative2 < (0.5 * closing) ** 2:  # hands that pass each other move on
                    continue
                lost = closing - max(nearing / (np.sqrt(apart2) + 1e-9), 0.0)
                least = np.argmin(most)
                if lost > most[least]:
                    most[least] = lost
        together[t] = most.min()


@njit(cache=True, error_model="numpy")
def _square(vector):
    return vector[0] ** 2 + vector[1] ** 2 + vector[2] ** 2
