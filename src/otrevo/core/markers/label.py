"""Label: names for nameless points of a take by a calibrated performer.

The take is followed forwards from the T-pose at its start and backwards from the T-pose at its end, or from the last
pose where it does not end in one (core.markers.tracker). Both readings vote on every tracklet, a stretch of one column
without break or jump, and a vote weighs more the better the body explains the point; a tracklet that clearly carries
two markers one after the other is cut there. Where two tracklets claim one marker at one time, the better supported keeps
it. What nobody claims stays nameless and is reported as a ghost.
"""

from dataclasses import dataclass, field
from functools import cache

import numpy as np
from numba import njit

from otrevo.core.body.model import MARKER_SIGMA_M
from otrevo.core.errors import InputError
from otrevo.core.markers.start import find_start, find_t_pose, still_cloud
from otrevo.core.markers.tracker import Followed, Limbs, Way, follow

TOLERANCE_M = 0.03  # a calibrated marker's distance from the solved body: soft tissue, not a stranger
UNSURE_M = 0.01  # of a rebuilt point; twice what skin moves over bone
VOTE_SCALE_M = 0.008
LONG_STEP_M = 0.08
LIMBS = ("UpperArm", "LowerArm", "UpperLeg", "LowerLeg")
JUMP_M = 0.015  # a column that leaves its own straight path by this much within a frame has changed hands


@dataclass(frozen=True)
class Labels:
    """labels (T, N): marker index per point or -1; labelled_m (T, M, 3); confidence (T, M) 0..1, NaN where absent;
    start_cost: how well the T-pose fitted (0 best); root_m (T, 3), local (T, B, 3, 3): the pose that was followed.
    """

    labels: np.ndarray
    labelled_m: np.ndarray
    confidence: np.ndarray
    start_cost: float
    root_m: np.ndarray
    local: np.ndarray
    figures: dict = field(default_factory=dict)


def limb_table(model):
    """Limbs to search for after a loss: (L, M) marker membership, (L,) first bone and (L,) which end in a hand, a foot or the head."""
    names, parents = model.skeleton.names, model.skeleton.parents
    rows, bases, ends = [], [], []
    for base in (*(side + limb for limb in LIMBS for side in ("left", "right")), "neck"):
        b = names.index(base)
        below = np.zeros(len(names), dtype=bool)
        below[b] = True
        for c in range(b + 1, len(names)):
            below[c] = parents[c] >= 0 and below[parents[c]]
        rows.append(below[model.marker_bone])
        bases.append(b)
        ends.append(base == "neck" or "Lower" in base)
    return np.array(rows), np.array(bases, dtype=np.int64), np.array(ends)


def _spread(count, bases):
    """Evenly spread numbers from 0 to 1, (count, len(bases)), by Halton's sequences."""
    out = np.zeros((count, len(bases)))
    for column, base in enumerate(bases):
        for i in range(count):
            f, k = 1.0, i + 1
            while k:
                f /= base
                out[i, column] += f * (k % base)
                k //= base
    return out


@cache
def end_tries(count=64):
    """Rotation vectors to look for other names at an end of the body from, (K, 2, 3): how a forearm, a shin or the neck may
    be turned on from how it is said to be, and every way a hand, a foot or the head can be held.
    """
    return (_spread(count, (2, 3, 5, 7, 11, 13)).reshape(count, 2, 3) - 0.5) * np.array(
        [[2.4, 0.6, 0.6], [2.0, 1.6, 1.6]]
    )


@cache
def limb_tries(count=160):
    """Rotation vectors to start a limb search from, (K, 2, 3): evenly spread over what arms and legs can do."""
    u = _spread(count, (2, 3, 5, 7))
    tries = np.zeros((count, 2, 3))
    tries[:, 0] = (u[:, :3] - 0.5) * np.array([3.2, 3.6, 3.4])
    bend = u[:, 3] * 2.2
    tries[::2, 1, 1] = -bend[::2]  # arms bend about y (both signs are tried: the limits decide), legs about x
    tries[1::4, 1, 1] = bend[1::4]
    tries[3::4, 1, 0] = bend[3::4]
    return tries


def follow_take(points_m, rate, model, start, tolerance_m, first=0, step=1, known=None):
    """Follow the markers through a take from a known pose.

    Parameters
    ----------
    points_m : ndarray (T, N, 3)
        Nameless points in metres, world axes, NaN where absent.
    rate : Fraction
        Frames a second.
    model : BodyModel
        The calibrated body.
    start : tuple
        Root (3,) and local rotations (B, 3, 3) at frame `first`.
    tolerance_m : float
        How far a marker may sit from the solved body.
    first, step : int
        Where to begin; step 1 goes to the end of the take and -1 to its beginning.
    known : ndarray (M,) of bool, optional
        Markers that may get a name at all.

    Returns
    -------
    tuple
        Labels (T, N), root (T, 3), local (T, B, 3, 3) and residual (T, M); -1 or NaN where the tracker did not come.
    """
    frames, n = points_m.shape[:2]
    bones, markers = len(model.skeleton.names), len(model.marker_names)
    label = np.full((frames, n), -1, dtype=np.int64)
    root = np.full((frames, 3), np.nan)
    local = np.full((frames, bones, 3, 3), np.nan)
    residual = np.full((frames, markers), np.nan)
    root0, local0 = (np.array(a, dtype=float) for a in start)
    known = np.ones(markers, dtype=bool) if known is None else known
    way = Way(first, frames if step > 0 else -1, step, float(rate), float(tolerance_m), MARKER_SIGMA_M, known)
    markers_of, bases, ends = limb_table(model)
    limbs = Limbs(markers_of, bases, limb_tries(), ends, end_tries())
    follow(model.arrays, points_m, limbs, way, root0, local0, Followed(label, root, local, residual))
    return label, root, local, residual


def follow_both_ways(points_m, rate, model, start, tolerance_m, at, known=None):
    """The whole take followed from the T-pose at frame `at`: on to the end, and back to the beginning."""
    onwards = follow_take(points_m, rate, model, start, tolerance_m, at, known=known)
    if at > 0:
        back = follow_take(points_m[: at + 1], rate, model, start, tolerance_m, at, -1, known)
        for whole, part in zip(onwards, back, strict=True):
            whole[:at] = part[:at]
    return onwards


def tracklets(points_m, jump_m=JUMP_M):
    """Stretches of one column without break or jump: rows (column, start, end), end exclusive."""
    here = np.isfinite(points_m[..., 0])
    begins = _begins(np.ascontiguousarray(points_m), here, jump_m)
    ends = here.copy()
    ends[:-1] &= ~here[1:] | begins[1:]
    column, start = np.nonzero(begins.T)
    end = np.nonzero(ends.T)[1] + 1
    return list(zip(column.tolist(), start.tolist(), end.tolist(), strict=True))


@njit(cache=True)
def _begins(points_m, here, jump_m):
    """Which samples (T, N) go on from none before, or jump away from how their column moved; here (T, N): which there are."""
    out = here.copy()
    for t in range(1, here.shape[0]):
        for c in range(here.shape[1]):
            if not here[t, c] or not here[t - 1, c]:
                continue
            # how far it is from the last sample, and from the straight continuation of the last two
            step2, bend2 = 0.0, 0.0
            for i in range(3):
                step = points_m[t, c, i] - points_m[t - 1, c, i]
                step2 += step * step
                if t > 1 and here[t - 2, c]:
                    bend = step - (points_m[t - 1, c, i] - points_m[t - 2, c, i])
                    bend2 += bend * bend
            out[t, c] = step2 > (0.5 * jump_m) ** 2 and (step2 > LONG_STEP_M**2 or bend2 > jump_m**2)
    return out


def _most(names):
    """The name that most of these have, -1 where none has one."""
    named = names[names >= 0]
    return int(np.bincount(named).argmax()) if len(named) else -1


def _split_by_readings(row, readings, minimum):
    """Cut a tracklet where both readings change from one marker to another, whichever each of them holds it for."""
    c, s, e = row
    cuts = []
    for number, reading in enumerate(readings):
        names, other = reading[s:e, c], readings[1 - number][s:e, c]
        known = np.flatnonzero(names >= 0)
        if len(known) < 2 * minimum:
            continue
        values = names[known]
        edges = np.concatenate([[0], np.flatnonzero(values[1:] != values[:-1]) + 1, [len(values)]])
        runs = [(a, b) for a, b in zip(edges[:-1], edges[1:], strict=True) if b - a >= minimum]
        for (a, b), (a_next, b_next) in zip(runs[:-1], runs[1:], strict=True):
            before, after = known[a:b], known[a_next:b_next]
            others = [_most(other[part[0] : part[-1] + 1]) for part in (before, after)]
            if values[b - 1] == values[a_next] or min(others) < 0 or others[0] == others[1]:
                continue
            cuts.append(s + int(before[-1] + after[0]) // 2 + 1)
    cuts.sort()
    cuts = [cut for i, cut in enumerate(cuts) if i == 0 or cut - cuts[i - 1] >= minimum]
    bounds = [s, *cuts, e]
    return [(c, int(p), int(q)) for p, q in zip(bounds[:-1], bounds[1:], strict=True) if q > p]


def _weights(label, residual_m):
    """How much each named point's vote counts, (T, N): 1 where the body explains it, less by its residual."""
    at = np.take_along_axis(residual_m, np.maximum(label, 0), axis=1)
    return np.where(label >= 0, 1.0 / (1.0 + (np.nan_to_num(at, nan=0.05) / VOTE_SCALE_M) ** 2), 0.0)


def vote(points_m, readings, markers, rate):
    """One name per tracklet from two readings, each (label (T, N), residual_m (T, M)).

    Returns labels (T, N), -1 for nameless, and support (T, N) 0..1.
    """
    (forward, forward_residual), (backward, backward_residual) = readings
    weight = np.stack([_weights(forward, forward_residual), _weights(backward, backward_residual)])
    minimum = max(4, int(0.06 * float(rate)))
    rows = []
    for row in tracklets(points_m):
        rows += _split_by_readings(row, (forward, backward), minimum)
    claims = []
    for c, s, e in rows:
        votes = np.concatenate([forward[s:e, c], backward[s:e, c]])
        named = votes[votes >= 0]
        if len(named) < 0.25 * len(votes):
            continue
        weighed = weight[:, s:e, c].ravel()[votes >= 0]
        counts = np.bincount(named, weights=weighed, minlength=markers)
        for m in np.argsort(-counts)[:3]:
            if counts[m] > 0.25 * weighed.sum():
                claims.append((float(counts[m]), counts[m] / max(weighed.sum(), 1e-9), c, s, e, int(m)))
    claims.sort(reverse=True)
    labels = np.full(forward.shape, -1, dtype=np.int64)
    support = np.zeros(forward.shape)
    taken = np.zeros((len(forward), markers), dtype=bool)
    done = np.zeros(forward.shape, dtype=bool)
    for _, share, c, s, e, m in claims:
        if done[s, c]:
            continue
        clash = taken[s:e, m]
        if clash.mean() > 0.3:
            continue
        free = ~clash
        labels[s:e, c][free] = m
        support[s:e, c] = share
        taken[s:e, m] = True
        done[s:e, c] = True
    return labels, support


def label_take(points_m, rate, model, tolerance_m=TOLERANCE_M, sd_m=None):
    """Name the points of a take.

    Parameters
    ----------
    points_m : ndarray (T, N, 3)
        Nameless points in metres, world axes with Y up, NaN where absent.
    rate : Fraction
        Frames a second.
    model : BodyModel
        The performer's calibrated body.
    tolerance_m : float
        How far a marker may sit from the solved body.
    sd_m : ndarray (T, N), optional
        How far each point may be off by its triangulation. A point that is unsure by more than UNSURE_M gets no name.

    Returns
    -------
    Labels
        Names, confidence and figures.

    Raises
    ------
    InputError
        For an empty take, or when no T-pose is found in it.
    """
    points_m = np.ascontiguousarray(points_m, dtype=float)
    unsure_points = 0
    if sd_m is not None:
        unsure = np.asarray(sd_m) > UNSURE_M
        points_m, unsure_points = np.where(unsure[..., None], np.nan, points_m), int(unsure.sum())
    frames = len(points_m)
    if frames < 2:
        raise InputError(f"The take has {frames} frames of points; labelling needs at least 2.")
    start, at = find_start(model, points_m, rate)
    forward, root, local, residual = follow_both_ways(
        points_m, rate, model, (start.root_m, start.local), tolerance_m, at
    )
    end = end_pose(points_m, rate, model, (root[-1], local[-1]), residual[-1], start.cost)
    back = follow_take(points_m, rate, model, end, tolerance_m, frames - 1, -1)
    back = back[0], back[3]  # without the poses: takes are long
    labels, support = vote(points_m, ((forward, residual), back), len(model.marker_names), rate)
    del forward, residual, back
    found = gather(points_m, labels, support, start, root, local, len(model.marker_names))
    found.figures["unsure_points"] = unsure_points
    return found


def by_marker(labels, values, markers):
    """Values (T, N) of nameless points brought into marker order, (T, M), NaN where a marker is hidden; labels: of Labels."""
    out = np.full((len(labels), markers), np.nan)
    t, c = np.nonzero(labels >= 0)
    out[t, labels[t, c]] = values[t, c]
    return out


def end_pose(points_m, rate, model, followed, residual_m, start_cost):
    """Where to begin reading backwards: the pose (root, local) followed to the end, or the T-pose at the end where there is
    one as good as at the start and it explains more of what is seen: two names that were exchanged on the way must not
    be exchanged on the way back as well. residual_m (M,): of the last frame.
    """
    here = int(np.isfinite(points_m[-1, :, 0]).sum())
    explained = int((residual_m < 2 * VOTE_SCALE_M).sum())
    if explained >= min(here, len(residual_m)):
        return followed
    try:
        end = find_t_pose(model, still_cloud(points_m[::-1], rate), settle=False)
    except InputError:
        return followed
    if end.cost >= 1.5 * start_cost + 0.05:
        return followed
    *_, anew = follow_take(points_m[-1:], rate, model, (end.root_m, end.local), TOLERANCE_M)
    return (end.root_m, end.local) if (anew[0] < 2 * VOTE_SCALE_M).sum() > explained else followed


def gather(points_m, labels, support, start, root, local, markers):
    """Labels with the points brought into marker order, and the figures a technician reads."""
    frames = len(points_m)
    labelled = np.full((frames, markers, 3), np.nan)
    confidence = np.full((frames, markers), np.nan)
    t, c = np.nonzero(labels >= 0)
    labelled[t, labels[t, c]] = points_m[t, c]
    confidence[t, labels[t, c]] = support[t, c]
    present = np.isfinite(points_m[..., 0])
    figures = {
        "named_share": float((labels >= 0).sum() / max(1, present.sum())),
        "nameless_samples": int((present & (labels < 0)).sum()),
        "hidden_share": float(np.isnan(labelled[..., 0]).mean()),
        "lowest_marker_share": float(np.isfinite(labelled[..., 0]).mean(axis=0).min()),
        "start_cost": start.cost,
        "start_matched": start.matched,
    }
    return Labels(labels, labelled, confidence, start.cost, root, local, figures)
