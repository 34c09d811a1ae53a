"""Following named markers through nameless points with the body as the guide. Compiled.

For each frame: the pose is predicted at constant angular speed; every marker's predicted position is its position on that
pose plus the last known slip of skin over bone; points are matched to markers one to one within a gate that widens
while a marker is unseen; the pose is refined on the matches (core.body.tree_solver); a match that the body cannot
explain is undone. A point's own column is a hint and never a proof: trajectories break, change hands and swap.

Metres, frames; points (T, N, 3) with NaN where there is none.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

from otrevo.core.body.compiled_rotations import copy_rotations, exp_rotation, multiply, rotation_between
from otrevo.core.body.tree_solver import Expected, Observed, place_markers, pose_joints, refine_pose
from otrevo.core.markers.limb_search import find_other_names, regain_limb, squared_distance
from otrevo.core.markers.matching import match_points, observed_of

jit = njit(cache=True, error_model="numpy")
FASTEST_RAD_S = 30.0  # faster than any limb
WAITING_FRAMES = 4  # a point without a name for so long may be a limb that came back
RETRY_S = 0.08  # between two searches for the same limb
END_RETRY_S = 0.25  # between two doubts about the names at the same end of the body
END_REACH_M = 0.25  # how far from a limb's markers a point may wait to be one of them
# steps of a fit; NumPy's integer, because a bare one has what it is given to compiled anew for each number
ONE_STEP = np.int64(1)


class Limbs(NamedTuple):
    """Limbs to search for after a loss: markers (L, M) that belong to each, bases (L,) their first bones; tries
    (K, 2, 3): rotation vectors to start from, of the first bone and of the one after it. ends (L,): forearms,
    shins and the neck, whose few markers are easily exchanged; end_tries (K, 2, 3): the same for them, the first on top of
    how it is turned.
    """

    markers: np.ndarray
    bases: np.ndarray
    tries: np.ndarray
    ends: np.ndarray
    end_tries: np.ndarray


class Way(NamedTuple):
    """How to follow: from frame `start` to `stop` (exclusive) in steps of +1 or -1, at `rate` frames a second.

    tolerance_m: how far a marker may sit from the solved body; sigma_m: of markers; known (M,): false keeps a name from
    being given at all.
    """

    start: int
    stop: int
    step: int
    rate: float
    tolerance_m: float
    sigma_m: float
    known: np.ndarray


class Followed(NamedTuple):
    """What following gives, for every frame: label (T, N) of points, a marker or -1; root_m (T, 3), local (T, B, 3, 3)
    and residual_m (T, M) of the pose.
    """

    label: np.ndarray
    root_m: np.ndarray
    local: np.ndarray
    residual_m: np.ndarray


class _State(NamedTuple):
    """What is carried from frame to frame. Of markers: slip over the skin and its mean over the last second or so, which
    is to be expected after hiding, frames unseen, the point each has. Of bones: turn a frame, markers seen at and below
    it. Of points: the marker of each now and a frame ago (`hint`), for how long it had none.
    """

    slip: np.ndarray
    usual_slip: np.ndarray
    unseen: np.ndarray
    point_of: np.ndarray
    spin: np.ndarray
    seen_below: np.ndarray
    marker_of: np.ndarray
    hint: np.ndarray
    free_age: np.ndarray
    last_try: np.ndarray
    last_doubt: np.ndarray
    root_speed: np.ndarray


@jit
def _predict(state, local, predicted, smooth):
    """The pose as it goes on at its speed, into predicted (B, 3, 3), and how much that counts, into smooth (B,)."""
    a33 = np.empty((3, 3))
    for b in range(local.shape[0]):
        damp = 1.0 if state.seen_below[b] > 0 else 0.9
        for i in range(3):
            state.spin[b, i] *= damp
        exp_rotation(state.spin[b], a33)
        multiply(local[b], a33, predicted[b])
        smooth[b] = 8.0 if state.seen_below[b] > 0 else 60.0


@jit
def _expect_markers(body, way, state, first, world, x, gate):
    """Slip is added to the markers' positions x (M, 3); gate (M,) says how far from there a marker is looked for."""
    tolerance = way.tolerance_m
    for m in range(x.shape[0]):
        b = body.marker_bone[m]
        fade = 1.0 if state.unseen[m] < 1 else 0.98 ** state.unseen[m]
        for i in range(3):
            for k in range(3):
                x[m, i] += world[b, i, k] * (
                    state.usual_slip[m, k] + fade * (state.slip[m, k] - state.usual_slip[m, k])
                )
        widen = state.unseen[m] / way.rate
        gate[m] = 0.6 * tolerance + 0.004 + min(0.5 * widen, 1.4 * tolerance)
        if state.seen_below[b] <= 0:
            gate[m] += min(0.5 * widen, 1.0 * tolerance)
        if first:
            gate[m] = 2.0 * tolerance
        if not way.known[m]:
            gate[m] = 0.0


@jit
def _search_limbs(body, limbs, way, state, t, points, joint, root, local):
    """Look for limbs that lost most of their markers while points without a name wait where they could be."""
    n = points.shape[0]
    free = np.empty(n, dtype=np.bool_)
    for j in range(n):
        is_free = (not np.isnan(points[j, 0])) and state.marker_of[j] < 0
        state.free_age[j] = state.free_age[j] + 1 if is_free else 0
    for limb in range(limbs.bases.shape[0]):
        members, missing, base = 0, 0, limbs.bases[limb]
        for m in range(state.point_of.shape[0]):
            if limbs.markers[limb, m]:
                members += 1
                if state.point_of[m] < 0:
                    missing += 1
        waiting = 0
        for j in range(n):
            free[j] = state.free_age[j] >= WAITING_FRAMES
            if free[j]:
                d = 0.0
                for i in range(3):
                    d += (points[j, i] - joint[base, i]) ** 2
                if d < 1.1:
                    waiting += 1
        rested = abs(t - state.last_try[limb]) > RETRY_S * way.rate
        if waiting >= 3 and 2 * missing > members and missing >= 3 and rested:
            state.last_try[limb] = t
            found = regain_limb(
                body, points, free, limbs.markers[limb], base, limbs.tries, way.tolerance_m, root, local
            )
            if found > 0:
                for m in range(state.point_of.shape[0]):
                    if limbs.markers[limb, m]:
                        for i in range(3):
                            state.slip[m, i] = state.usual_slip[m, i]


@jit
def _doubt_ends(body, limbs, way, state, t, points, x, residual, root, local):
    """Where a marker of an arm's, a leg's or the neck's end is missing while a point without a name waits beside it, its
    names may have been exchanged, as where hands touch; then look for better ones. x (M, 3): where markers are on the
    pose; residual (M,): how far from there their points are, m. Returns whether the pose has changed.
    """
    own, changed = np.empty(points.shape[0], dtype=np.bool_), False
    for limb in range(limbs.bases.shape[0]):
        if not limbs.ends[limb] or abs(t - state.last_doubt[limb]) <= END_RETRY_S * way.rate:
            continue
        members = limbs.markers[limb] & way.known
        missing, cost = 0, 0.0
        for m in range(x.shape[0]):
            if members[m]:
                unnamed = state.point_of[m] < 0
                missing += 1 if unnamed else 0
                cost += 1.0 if unnamed else min(1.0, (residual[m] / way.tolerance_m) ** 2)
        if missing == 0:
            continue
        waiting = 0
        for j in range(points.shape[0]):
            own[j] = state.marker_of[j] >= 0 and members[state.marker_of[j]]
            if state.free_age[j] >= WAITING_FRAMES and squared_distance(points[j], members, x) < END_REACH_M**2:
                own[j] = True
                waiting += 1
        if waiting == 0:
            continue
        state.last_doubt[limb] = t
        base, tolerance = limbs.bases[limb], way.tolerance_m
        if find_other_names(body, points, own, members, base, limbs.end_tries, tolerance, cost, root, local):
            changed = True
            for m in range(x.shape[0]):
                if members[m]:
                    if state.point_of[m] >= 0:  # the next frame names them anew
                        state.marker_of[state.point_of[m]] = -1
                        state.point_of[m] = -1
                    for i in range(3):  # what was learnt under wrong names is worth nothing
                        state.slip[m, i] = state.usual_slip[m, i] = 0.0
    return changed


@jit
def _remember(body, way, state, seen, world, x):
    """What this frame showed of markers and of the bones below which they sit; world and x (M, 3) of the pose found."""
    v = np.empty(3)
    state.seen_below[:] = 0.0
    for m in range(x.shape[0]):
        b = body.marker_bone[m]
        if state.point_of[m] >= 0:
            state.seen_below[b] += 1
            state.unseen[m] = 0
            for i in range(3):
                v[i] = seen[m, i] - x[m, i]
            for i in range(3):
                state.slip[m, i] = world[b, 0, i] * v[0] + world[b, 1, i] * v[1] + world[b, 2, i] * v[2]
                state.usual_slip[m, i] += (state.slip[m, i] - state.usual_slip[m, i]) / way.rate
        else:
            state.unseen[m] += 1
    for b in range(state.seen_below.shape[0] - 1, 0, -1):
        state.seen_below[body.parents[b]] += state.seen_below[b]


@jit
def follow(body, points, limbs, way, root, local, out):
    """Follow through points (T, N, 3), NaN where there is none, from a pose root (3,), local (B, 3, 3), which go along.

    body: BodyArrays; limbs: Limbs; way: Way; out: Followed receives the frames of the way.
    """
    markers, bones, n = body.marker_bone.shape[0], body.parents.shape[0], points.shape[1]
    world, joint, x = np.empty((bones, 3, 3)), np.empty((bones, 3)), np.empty((markers, 3))
    state = _State(
        np.zeros((markers, 3)), np.zeros((markers, 3)), np.zeros(markers), np.empty(markers, dtype=np.int64),
        np.zeros((bones, 3)), np.zeros(bones), np.empty(n, dtype=np.int64), np.full(n, -1, dtype=np.int64), np.zeros(n),
        np.full(limbs.bases.shape[0], -1e9), np.full(limbs.bases.shape[0], -1e9), np.zeros(3),
    )  # fmt: skip
    seen, weight = np.empty((markers, 3)), np.full(markers, 1.0 / (way.sigma_m * way.sigma_m))
    residual, gate, zero = np.empty(markers), np.empty(markers), np.zeros(bones)
    predicted, smooth, v = np.empty((bones, 3, 3)), np.empty(bones), np.empty(3)
    first = True
    t = way.start
    while t != way.stop:
        _predict(state, local, predicted, smooth)
        before_root, before_local = root.copy(), local.copy()
        for i in range(3):
            root[i] += state.root_speed[i]
        copy_rotations(predicted, local)
        pose_joints(body, root, local, world, joint)
        place_markers(body, world, joint, x)
        _expect_markers(body, way, state, first, world, x, gate)
        match_points(x, gate, points[t], state.hint, 0.0001, state.marker_of, state.point_of)
        observed_of(points[t], state.point_of, seen)
        observed = Observed(seen, weight, way.tolerance_m)
        expected = Expected(predicted, smooth, local, zero, np.empty((0, 6)))
        refine_pose(body, observed, expected, root, local, 3 if first else 2, 1e-3, residual)
        undone = 0  # what the body cannot explain is no marker of it
        for m in range(markers):
            if state.point_of[m] >= 0 and residual[m] > 1.6 * way.tolerance_m:
                state.marker_of[state.point_of[m]] = -1
                state.point_of[m] = -1
                seen[m, 0] = np.nan
                undone += 1
        if undone > 0:
            refine_pose(body, observed, expected, root, local, ONE_STEP, 1e-3, residual)
        _search_limbs(body, limbs, way, state, t, points[t], joint, root, local)
        pose_joints(body, root, local, world, joint)
        place_markers(body, world, joint, x)
        if _doubt_ends(body, limbs, way, state, t, points[t], x, residual, root, local):
            pose_joints(body, root, local, world, joint)
            place_markers(body, world, joint, x)
        _remember(body, way, state, seen, world, x)
        for j in range(points.shape[1]):
            state.hint[j] = out.label[t, j] = state.marker_of[j]
        if not first:
            for i in range(3):
                state.root_speed[i] = root[i] - before_root[i]
            for b in range(bones):
                rotation_between(before_local[b], local[b], v)
                size = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
                for i in range(3):
                    state.spin[b, i] = v[i] if size * way.rate < FASTEST_RAD_S else 0.0
        copy_rotations(local, out.local[t])
        for i in range(3):
            out.root_m[t, i] = root[i]
        for m in range(residual.shape[0]):
            out.residual_m[t, m] = residual[m]
        first = False
        t += way.step
