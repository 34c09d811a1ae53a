"""Finding a prop among nameless points, naming its markers, and its position and rotation over time.

A prop is rigid, so nothing needs to be known of where it starts: in any frame, three points at the distances of three of
its markers give a pose, and the pose with most markers explained wins if that is all but one (four at least). Once
found it is followed at constant speed while three markers are seen, forwards and backwards; of both readings the one
that explains more markers counts. The pose is the least-squares rigid fit (W. Kabsch, Acta Cryst. A32, 1976).
World axes, metres.
"""

from dataclasses import dataclass, field
from itertools import combinations

import numpy as np
from numba import njit

from otrevo.core.body.kinematics import Motion
from otrevo.core.conventions import find_runs, make_continuous, quaternion_from_matrix, slerp
from otrevo.core.errors import InputError

TOLERANCE_M = 0.008
REACH_M = 0.05  # how far a followed marker may be from where it was going
BRIDGE_S = 0.5  # a prop unseen for longer is lost, not interpolated

jit = njit(cache=True, error_model="numpy")


@dataclass(frozen=True)
class PropTrack:
    """labels (T, N): marker index per point or -1; labelled_m (T, K, 3), NaN where hidden."""

    labels: np.ndarray
    labelled_m: np.ndarray
    figures: dict = field(default_factory=dict)


@dataclass(frozen=True)
class PropSolution:
    """motion of the prop's origin; residual_m (T, K); lost (T,): where neither seen nor bridged, the pose is held."""

    motion: Motion
    residual_m: np.ndarray
    lost: np.ndarray
    figures: dict = field(default_factory=dict)


@jit
def _rigid(offset, observed, used, rotation):
    """Rigid fit of offset to observed over `used`; rotation (3, 3) receives the rotation, the translation is returned."""
    a, b = np.zeros(3), np.zeros(3)
    count = 0
    for k in range(len(used)):
        if used[k]:
            a += offset[k]
            b += observed[k]
            count += 1
    a /= count
    b /= count
    h = np.zeros((3, 3))
    for k in range(len(used)):
        if used[k]:
            for i in range(3):
                for j in range(3):
                    h[i, j] += (offset[k, i] - a[i]) * (observed[k, j] - b[j])
    u, _, vt = np.linalg.svd(h)
    d = np.sign(np.linalg.det(vt.T @ u.T))
    for i in range(3):
        vt[2, i] *= d
    rotation[:] = vt.T @ u.T
    return b - rotation @ a


@jit
def _nearest(points, free, x, gate, point_of):
    """The free point nearest to each place x (K, 3) within gate, each point once, nearest first. Returns how many."""
    count = 0
    point_of[:] = -1
    for _ in range(len(x)):
        best, bk, bj = gate * gate, -1, -1
        for k in range(len(x)):
            if point_of[k] >= 0:
                continue
            for j in range(len(points)):
                if not free[j]:
                    continue
                d = (points[j, 0] - x[k, 0]) ** 2 + (points[j, 1] - x[k, 1]) ** 2 + (points[j, 2] - x[k, 2]) ** 2
                if d < best:
                    taken = False
                    for q in range(len(x)):
                        taken = taken or point_of[q] == j
                    if not taken:
                        best, bk, bj = d, k, j
        if bk < 0:
            break
        point_of[bk] = bj
        count += 1
    return count


@jit
def _find(points, free, offset, triples, needed, tolerance, rotation, position, point_of):
    """Search one frame. Returns how many markers are explained, 0 if fewer than `needed`; the pose comes back in place."""
    n, markers = len(points), len(offset)
    best, best_error = 0, np.inf
    trial_rotation, used = np.empty((3, 3)), np.zeros(markers, dtype=np.bool_)
    trial_of, observed, x = np.empty(markers, dtype=np.int64), np.zeros((markers, 3)), np.empty((markers, 3))
    for a, b, c in triples:
        ab = np.sqrt(np.sum((offset[a] - offset[b]) ** 2))
        ac = np.sqrt(np.sum((offset[a] - offset[c]) ** 2))
        bc = np.sqrt(np.sum((offset[b] - offset[c]) ** 2))
        for i in range(n):
            if not free[i]:
                continue
            for j in range(n):
                if j == i or not free[j]:
                    continue
                d0 = points[i, 0] - points[j, 0]
                d1 = points[i, 1] - points[j, 1]
                d2 = points[i, 2] - points[j, 2]
                if abs(np.sqrt(d0 * d0 + d1 * d1 + d2 * d2) - ab) > tolerance:
                    continue
                for k in range(n):
                    if k in (i, j) or not free[k]:
                        continue
                    if abs(np.sqrt(np.sum((points[i] - points[k]) ** 2)) - ac) > tolerance:
                        continue
                    if abs(np.sqrt(np.sum((points[j] - points[k]) ** 2)) - bc) > tolerance:
                        continue
                    used[:] = False
                    used[a] = used[b] = used[c] = True
                    observed[a], observed[b], observed[c] = points[i], points[j], points[k]
                    trial = _rigid(offset, observed, used, trial_rotation)
                    for m in range(markers):
                        x[m] = trial_rotation @ offset[m] + trial
                    count = _nearest(points, free, x, 1.5 * tolerance, trial_of)
                    if count < max(best, needed):
                        continue
                    for m in range(markers):
                        used[m] = trial_of[m] >= 0
                        if used[m]:
                            observed[m] = points[trial_of[m]]
                    trial = _rigid(offset, observed, used, trial_rotation)
                    error = 0.0
                    for m in range(markers):
                        if used[m]:
                            error += np.sum((trial_rotation @ offset[m] + trial - observed[m]) ** 2)
                    error = np.sqrt(error / count)
                    if error < tolerance and (count > best or error < best_error):
                        best, best_error = count, error
                        rotation[:], position[:], point_of[:] = trial_rotation, trial, trial_of
    return best


@jit
def _follow(points, offset, triples, needed, tolerance, reach, step, point_of, count_of, error_of):
    """One reading of all frames in steps of +1 or -1; point_of (T, K), count_of (T,), error_of (T,) receive it."""
    frames, n, markers = points.shape[0], points.shape[1], len(offset)
    free = np.empty(n, dtype=np.bool_)
    rotation, position, before = np.eye(3), np.zeros(3), np.zeros(3)
    x, last, speed = np.empty((markers, 3)), np.empty((markers, 3)), np.zeros((markers, 3))
    used, observed = np.zeros(markers, dtype=np.bool_), np.zeros((markers, 3))
    followed = False
    t = 0 if step > 0 else frames - 1
    for _ in range(frames):
        for j in range(n):
            free[j] = not np.isnan(points[t, j, 0])
        count = 0
        if followed:
            count = _nearest(points[t], free, last + speed, reach, point_of[t])
            while count >= 3:  # the marker that fits worst is let go until the rest agree
                for m in range(markers):
                    used[m] = point_of[t, m] >= 0
                    if used[m]:
                        observed[m] = points[t, point_of[t, m]]
                before[:] = _rigid(offset, observed, used, rotation)
                worst, at = 0.0, -1
                for m in range(markers):
                    x[m] = rotation @ offset[m] + before
                    if used[m]:
                        d = np.sqrt(np.sum((x[m] - observed[m]) ** 2))
                        if d > worst:
                            worst, at = d, m
                if worst < tolerance:
                    position[:] = before
                    break
                point_of[t, at] = -1
                count -= 1
        if count < 3:
            count = _find(points[t], free, offset, triples, needed, 0.75 * tolerance, rotation, position, point_of[t])
            followed = False
        if count >= 3:
            error = 0.0
            for m in range(markers):
                x[m] = rotation @ offset[m] + position
                if point_of[t, m] >= 0:
                    error += np.sum((x[m] - points[t, point_of[t, m]]) ** 2)
            speed[:] = x - last if followed else np.zeros_like(x)
            last[:] = x
            followed = True
            error_of[t] = np.sqrt(error / count)
        else:
            point_of[t] = -1
        count_of[t] = count
        t += step


def _covering_triples(markers, needed):
    """A few triples such that whichever `needed` markers are seen, one triple is among them."""
    left = [set(c) for c in combinations(range(markers), needed)]
    chosen = []
    while left:
        best = max(combinations(range(markers), 3), key=lambda t: sum(set(t) <= s for s in left))
        chosen.append(best)
        left = [s for s in left if not set(best) <= s]
    return np.array(chosen, dtype=np.int64)


def find_prop(points_m, rate, prop):
    """Name a prop's markers among nameless points.

    Parameters
    ----------
    points_m : ndarray (T, N, 3)
        Metres, NaN where absent.
    rate : Fraction
        Frames a second.
    prop : Prop
        Its markers and where they are on it.

    Returns
    -------
    PropTrack
        Labels, named markers and figures.

    Raises
    ------
    InputError
        For an empty take.
    """
    points_m = np.ascontiguousarray(points_m, dtype=float)
    if points_m.ndim != 3 or len(points_m) < 1:
        raise InputError(f"The take has no frames of points to look for the {prop.name} in.")
    frames, n = points_m.shape[:2]
    markers = len(prop.names)
    needed = max(4, markers - 1)
    triples = _covering_triples(markers, needed)
    readings = []
    for step in (1, -1):
        point_of = np.full((frames, markers), -1, dtype=np.int64)
        count, error = np.zeros(frames, dtype=np.int64), np.full(frames, np.inf)
        _follow(points_m, prop.offset_m, triples, needed, TOLERANCE_M, REACH_M, step, point_of, count, error)
        readings.append((point_of, count, error))
    (forward, fc, fe), (backward, bc, be) = readings
    better = (bc > fc) | ((bc == fc) & (be < fe))
    point_of = np.where(better[:, None], backward, forward)
    for s, e in find_runs((point_of >= 0).any(axis=1)):  # a chance likeness does not last
        if e - s < max(3, int(0.05 * float(rate))):
            point_of[s:e] = -1
    labels = np.full((frames, n), -1, dtype=np.int64)
    labelled = np.full((frames, markers, 3), np.nan)
    t, k = np.nonzero(point_of >= 0)
    labels[t, point_of[t, k]] = k
    labelled[t, k] = points_m[t, point_of[t, k]]
    seen = np.isfinite(labelled[..., 0])
    figures = {"seen_share": float((seen.sum(1) >= 3).mean()), "marker_share": float(seen.mean())}
    return PropTrack(labels, labelled, figures)


def without(points_m, labels):
    """The points that are not the prop's, (T, N, 3)."""
    out = np.array(points_m, dtype=float)
    out[labels >= 0] = np.nan
    return out


def solve_prop(labelled_m, rate, prop):
    """Solve a prop as a rigid body.

    Parameters
    ----------
    labelled_m : ndarray (T, K, 3)
        Its named markers in metres, NaN where hidden.
    rate : Fraction
        Frames a second.
    prop : Prop
        Its markers and where they are on it.

    Returns
    -------
    PropSolution
        Motion, residuals, where it was lost, figures.

    Raises
    ------
    InputError
        When three markers are never seen at once.
    """
    seen = np.isfinite(labelled_m[..., 0])
    good = seen.sum(axis=1) >= 3
    if not good.any():
        raise InputError(f"The {prop.name} is never seen with three markers at once, so it cannot be placed.")
    w = seen.astype(float)[..., None]
    count = np.maximum(seen.sum(1), 1)[:, None]
    x = np.nan_to_num(labelled_m)
    mean = (x * w).sum(1) / count
    offset_mean = (prop.offset_m[None] * w).sum(1) / count
    h = np.einsum("tki,tkj->tij", (prop.offset_m[None] - offset_mean[:, None]) * w, x - mean[:, None])
    u, _, vt = np.linalg.svd(h)
    flip = np.sign(np.linalg.det(u @ vt))
    vt[:, 2] *= flip[:, None]
    matrix = np.einsum("tji,tkj->tik", vt, u)  # V Uᵀ
    position = mean - np.einsum("tij,tj->ti", matrix, offset_mean)
    residual = np.where(
        seen,
        np.linalg.norm(labelled_m - np.einsum("tij,kj->tki", matrix, prop.offset_m) - position[:, None], axis=2),
        np.nan,
    )
    residual[~good] = np.nan
    frames = len(labelled_m)
    times, at = np.arange(frames, dtype=float), np.flatnonzero(good)
    rotation = make_continuous(quaternion_from_matrix(matrix[good]))
    inside = np.clip(times, at[0], at[-1])
    rotations = slerp(at.astype(float), rotation, inside) if len(at) > 1 else np.repeat(rotation, frames, axis=0)
    root = np.stack([np.interp(times, at, position[good, i]) for i in range(3)], axis=1)
    lost = np.zeros(frames, dtype=bool)
    for s, e in find_runs(~good):
        if (e - s) / float(rate) > BRIDGE_S or s == 0 or e == frames:
            lost[s:e] = True
            if s > 0:  # held where it was last seen: a path that nobody saw is not made up
                root[s:e], rotations[s:e] = root[s - 1], rotations[s - 1]
    motion = Motion(prop.skeleton, rate, root, rotations[:, None])
    rms = 1000 * float(np.sqrt(np.nanmean(residual**2)))
    figures = {"residual_rms_mm": rms, "lost_s": float(lost.sum() / float(rate)), "seen_share": float(good.mean())}
    return PropSolution(motion, residual, lost, figures)
