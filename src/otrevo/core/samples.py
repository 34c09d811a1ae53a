"""Samples of several sources that come with times of their own, put in order and on one grid: suits and trackers send them so."""

import numpy as np

from otrevo.core.conventions import (
    find_runs,
    make_continuous,
    quaternion_conjugate,
    quaternion_multiply,
    rotvec_from_quaternion,
    slerp,
)
from otrevo.core.errors import InputError

SAME_S = 1e-6
LONGEST_S = 7200.0
MOST_EMPTY = 100  # times as long as its samples are together: a time in it is wrong
MOST_BACKWARDS = 0.05  # of all samples; a few may come late
HELD_S = 0.1  # what a receiver repeats for so long it has not heard
LEAPS = 5.0  # times as far as from one sample to the next, as a rule, from where it held to where it is heard again


def in_seconds(times, source, slowest_hz, fastest_hz):
    """(times (K,) in seconds, [note]) of the samples of sources (K,), whose times may be in milliseconds or less.

    Seconds are believed unless that would be slower than slowest_hz, and another unit is between slowest_hz and fastest_hz.
    """
    steps = np.diff(times[np.argsort(source, kind="stable")])
    steps = steps[steps > 0]
    rate = 1.0 / np.median(steps) if len(steps) else slowest_hz
    for unit, each_s in (("milliseconds", 1e-3), ("microseconds", 1e-6), ("nanoseconds", 1e-9)):
        if slowest_hz <= rate / each_s <= fastest_hz and rate < slowest_hz:
            return times * each_s, [f"times are in {unit}"]
    return times, []


def in_order(times_s, source, good, where):
    """Sort the samples of each source by time and keep each once.

    Parameters
    ----------
    times_s : ndarray (K,)
    source : ndarray (K,) of int
        Which of the sources each sample is of.
    good : ndarray (K,) of bool
        Samples that count.
    where : str
        For messages.

    Returns
    -------
    tuple of dict and list of str
        {source: numbers of its samples in order}, for sources with two of them, and what was odd.

    Raises
    ------
    InputError
        When time runs backwards for more than MOST_BACKWARDS of the samples.
    """
    parts, twice, back, notes = {}, 0, 0, []
    for number in np.unique(source):
        mine = np.flatnonzero((source == number) & good)
        if len(mine) < 2:
            continue
        back += int((np.diff(times_s[mine]) < 0).sum())
        order = mine[np.argsort(times_s[mine], kind="stable")]
        once = np.concatenate([[True], np.diff(times_s[order]) > SAME_S])
        twice += int((~once).sum())
        parts[int(number)] = order[once]
    if back > MOST_BACKWARDS * max(1, sum(len(p) for p in parts.values())):
        raise InputError(f"{where}: time runs backwards {back} times; expected seconds that increase.")
    if back:
        notes.append(f"{back} samples came late and were sorted in")
    if twice:
        notes.append(f"{twice} samples were there twice; kept once")
    return parts, notes


def held_on(own, rotation, values):
    """Which samples (K,) of one source only repeat the last that was heard: many devices send that again while they hear nothing.

    own (K,), in s; rotation (K, 4), values (K, C). Whoever holds still repeats samples too, so only those count from which the source leaps to where
    it is heard again, or which last to the end of what moved before.
    """
    out = np.zeros(len(own), dtype=bool)
    same = rotation[1:, 0] == rotation[:-1, 0]
    if not same.any():
        return out
    same &= (np.diff(rotation, axis=0) == 0).all(axis=1) & (np.diff(values, axis=0) == 0).all(axis=1)
    runs = [(a, b) for a, b in find_runs(same) if own[b] - own[a] >= HELD_S]  # samples a + 1 to b repeat sample a
    if not runs or same.all():
        return out
    turned = quaternion_multiply(quaternion_conjugate(rotation[:-1]), rotation[1:])
    steps = [np.linalg.norm(rotvec_from_quaternion(turned), axis=1), np.linalg.norm(np.diff(values, axis=0), axis=1)]
    leaps = np.max([step / max(np.median(step[~same]), 1e-9) for step in steps], axis=0)
    for a, b in runs:
        out[a + 1 : b + 1] = leaps[b] > LEAPS if b < len(leaps) else a > 0 and leaps[a - 1] > 1.0
    return out


def without_repeats(parts, times_s, rotation, values):
    """({source: its samples}, {source: s}): parts as of in_order without what held_on finds in them, and for how long a source held on, where it did."""
    left, held_s = {}, {}
    for source, rows in parts.items():
        held = held_on(times_s[rows], rotation[rows], values[rows])
        left[source] = rows[~held]
        if held.any():
            held_s[source] = float(np.diff(times_s[rows])[held[1:]].sum())
    return left, held_s


def common_grid(own_times, slowest_hz, fastest_hz, shortest_s, where):
    """(rate in Hz, times (T,)) that sources with times of their own, a list of (K,), share.

    Raises InputError for rates and lengths that cannot be.
    """
    rate = 1.0 / np.median(np.concatenate([np.diff(t) for t in own_times]))
    start, end = min(t[0] for t in own_times), max(t[-1] for t in own_times)
    if not slowest_hz <= rate <= fastest_hz:
        raise InputError(f"{where}: {rate:.1f} samples a second; expected {slowest_hz:.0f} to {fastest_hz:.0f}.")
    if end - start < shortest_s:
        raise InputError(f"{where}: {end - start:.1f} s long; expected at least {shortest_s:.0f} s.")
    if end - start > LONGEST_S or (end - start) * rate > MOST_EMPTY * max(map(len, own_times)):
        raise InputError(
            f"{where}: few samples from {start:.0f} s to {end:.0f} s; expected one take, of {LONGEST_S / 3600:.0f} hours at most."
        )
    rate = round(rate, 1) if abs(rate - round(rate, 1)) < 0.02 else rate
    return float(rate), start + np.arange(int((end - start) * rate + 1e-6) + 1) / rate


def on_grid(own, rotation, values, at, longest_gap_s):
    """Rotations (T, 4) and values (T, C) at times (T,) of one source's (K, 4) and (K, C) at times `own` (K,); NaN in longer gaps."""
    turned, out = np.full((len(at), 4), np.nan), np.full((len(at), values.shape[1]), np.nan)
    inside = (at >= own[0] - 1e-9) & (at <= own[-1] + 1e-9)
    after = np.clip(np.searchsorted(own, at - 1e-9), 1, len(own) - 1)
    near = np.minimum(np.abs(at - own[after]), np.abs(at - own[after - 1])) < 1e-4  # a sample is just there
    known = inside & (near | (own[after] - own[after - 1] <= longest_gap_s))
    turned[known] = slerp(own, make_continuous(rotation), at[known])
    for c in range(values.shape[1]):
        out[known, c] = np.interp(at[known], own, values[:, c])
    return turned, out
