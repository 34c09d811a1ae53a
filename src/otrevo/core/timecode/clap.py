"""The clap, as each stream shows it: a sound transient, a peak of the hands' accelerations."""

import numpy as np

SEARCH_S = 8.0
EDGE_SHARE = 0.3


def clap_in_sound(samples, times_s):
    """Take time (s) of the sharpest onset within the first seconds of a track, or None when nothing stands out."""
    near = times_s < times_s[0] + SEARCH_S
    loud = np.abs(samples[near].astype(float))
    if len(loud) < 1000:
        return None
    peak = loud.max()
    if peak < 8 * np.median(loud) + 1e-9:
        return None
    return float(times_s[np.argmax(loud > EDGE_SHARE * peak)])


def clap_in_accelerations(acceleration, times_s):
    """Take time (s) of the clap in sensor accelerations (T, S, 3), m/s2, or None when nothing stands out."""
    near = times_s < times_s[0] + SEARCH_S
    size = np.linalg.norm(acceleration[near].astype(float), axis=2)
    if len(size) < 50:
        return None
    two = np.sort(np.nan_to_num(size), axis=1)[:, -2:].min(axis=1)  # both hands feel it
    if two.max() < 3 * np.median(two) + 1e-9:
        return None
    return float(times_s[np.argmax(two > 0.5 * two.max())])
