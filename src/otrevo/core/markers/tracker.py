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

jit = njit(cache=True, error_model="numpy")
FASTEST_RAD_S = 30.0  # faster than any limb
WAITING_FRAMES = 4  # a point without a name for so long may be a limb that came back
RETRY_S = 0.08  # between two searches for the same limb
# steps of a fit; NumPy's integers, because a bare one has what it is given to compiled anew for each number
TWO_STEPS, ONE_STEP = np.int64(2), np.int64(1)


class Limbs(NamedTuple):
    """Limbs to search for after a loss: markers (L, M) that belong to each, bases (L,) their first bones; tries
    (K, 2, 3): rotation vectors to start from, of the first bone and of the one after it.
    """

    markers: np.ndarray
    bases: np.ndarray
    tries: np.ndarray


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
    root_speed: np.ndarray


@jit
def match_points(predicted, gate, points, hint, hint_bonus, marker_of, point_of):
    """One-to-one matching of markers to points by ascending cost (distance / gate)^2, then improving exchanges.

    predicted (M, 3); gate (M,) metres, <= 0 skips a marker; points (N, 3); hint (N,) the marker this point's column
    carried a frame ago or -1; marker_of (N,) and point_of (M,) receive indices or -1.
    """
    markers, n = predicted.shape[0], points.shape[0]
    marker_of[:] = -1
    point_of[:] = -1
    capacity = 16 * markers + 64
    cost = np.empty(capacity)
    pair_m = np.empty(capacity, dtype=np.int64)
    pair_n = np.empty(capacity, dtype=np.int64)
    count = 0
    for j in range(n):
        if np.isnan(points[j, 0]):
            continue
        for m in range(markers):
            if gate[m] <= 0.0:
                continue
            d0 = points[j, 0] - predicted[m, 0]
            if d0 > gate[m] or d0 < -gate[m]:
                continue
            d1 = points[j, 1] - predicted[m, 1]
            d2 = points[j, 2] - predicted[m, 2]
            c = (d0 * d0 + d1 * d1 + d2 * d2) / (gate[m] * gate[m])
            if c < 1.0 and count < capacity:
                # compare in metres, whatever the gate: a wide gate must not make a far point look near
                cost[count] = c * gate[m] * gate[m] - (hint_bonus if hint[j] == m else 0.0)
                pair_m[count] = m
                pair_n[count] = j
                count += 1
    order = np.argsort(cost[:count])
    for k in order:
        m, j = pair_m[k], pair_n[k]
        if point_of[m] < 0 and marker_of[j] < 0:
            point_of[m] = j
            marker_of[j] = m
    for _ in range(2):  # exchange two matches, or hand a point on, where that lowers the sum
        changed = False
        for k in range(count):
            m, j = pair_m[k], pair_n[k]
            if point_of[m] == j:
                continue
            j2, m2 = point_of[m], marker_of[j]
            if j2 < 0 or m2 < 0:
                continue
            before = 0.0
            after = cost[k]
            other = False
            for q in range(count):
                if pair_m[q] == m and pair_n[q] == j2 or pair_m[q] == m2 and pair_n[q] == j:
                    before += cost[q]
                elif pair_m[q] == m2 and pair_n[q] == j2:
                    after += cost[q]
                    other = True
            if other and after < before - 1e-12:
                point_of[m], point_of[m2] = j, j2
                marker_of[j], marker_of[j2] = m, m2
                changed = True
        if not changed:
            break


@jit
def observed_of(points, point_of, out):
    """The points that markers have, into out (M, 3), NaN where a marker has none."""
    for m in range(point_of.shape[0]):
        for i in range(3):
            out[m, i] = points[point_of[m], i] if point_of[m] >= 0 else np.nan


@jit
def icp_pose(body, points, gates, weight_value, root, local, marker_of, point_of):
    """Articulated closest-point fit of a body to one cloud, gates tightening; root and local change in place.

    Returns the cost: mean over markers of the squared distance to the matched point, truncated at the last gate (0..1).
    """
    markers, bones = body.marker_bone.shape[0], body.parents.shape[0]
    world, joint, x = np.empty((bones, 3, 3)), np.empty((bones, 3)), np.empty((markers, 3))
    seen, weight = np.empty((markers, 3)), np.full(markers, weight_value)
    residual, gate, zero = np.empty(markers), np.empty(markers), np.zeros(bones)
    no_hint = np.full(points.shape[0], -1, dtype=np.int64)
    for g in gates:
        pose_joints(body, root, local, world, joint)
        place_markers(body, world, joint, x)
        gate[:] = g
        match_points(x, gate, points, no_hint, 0.0, marker_of, point_of)
        observed_of(points, point_of, seen)
        expected = Expected(local, zero, local, zero)
        refine_pose(body, Observed(seen, weight, 0.5 * g), expected, root, local, TWO_STEPS, 1e-3, residual)
    last = gates[-1]
    total = 0.0
    for m in range(markers):
        r = residual[m]
        total += 1.0 if np.isnan(r) or r > last else (r / last) ** 2
    return total / markers


@jit
def _best_try(body, points, free, limb_marker, base, tries, root, local):
    """The local rotations (B, 3, 3), a limb turned by one of the tries, that explain the free points best."""
    bones, markers = body.parents.shape[0], body.marker_bone.shape[0]
    world, joint, x = np.empty((bones, 3, 3)), np.empty((bones, 3)), np.empty((markers, 3))
    best = local.copy()
    best_score = -1.0
    spread = 0.10
    for k in range(tries.shape[0]):
        trial = local.copy()
        exp_rotation(tries[k, 0], trial[base])
        if base + 1 < bones and body.parents[base + 1] == base:
            exp_rotation(tries[k, 1], trial[base + 1])
        pose_joints(body, root, trial, world, joint)
        place_markers(body, world, joint, x)
        score = 0.0
        for j in range(points.shape[0]):
            if not free[j]:
                continue
            near = 1e9
            for m in range(markers):
                if limb_marker[m]:
                    d = (points[j, 0] - x[m, 0]) ** 2 + (points[j, 1] - x[m, 1]) ** 2 + (points[j, 2] - x[m, 2]) ** 2
                    near = min(near, d)
            score += np.exp(-near / (2 * spread * spread))
        if score > best_score:
            best_score, best = score, trial
    return best


@jit
def _held_but_for(parents, base):
    """Weights (B,) that hold every bone but those of the limb that begins with `base`."""
    hold = np.full(parents.shape[0], 1e6)
    for b in range(base, parents.shape[0]):
        inside = b == base
        p = parents[b]
        while p >= 0 and not inside:
            inside = p == base
            p = parents[p]
        if inside:
            hold[b] = 0.0
    return hold


@jit
def regain_limb(body, points, free, limb_marker, base, tries, tolerance, root, local):
    """Search for a limb whose markers came back somewhere else.

    limb_marker (M,) true for its markers; base: its first bone; tries (K, 2, 3) rotation vectors for the base bone and
    the bone after it. The free points are explained by the limb from each try; the best is refined. Returns the number
    of free points explained within `tolerance`; local changes only if that is more than half of them.
    """
    bones, markers = body.parents.shape[0], body.marker_bone.shape[0]
    world, joint, x = np.empty((bones, 3, 3)), np.empty((bones, 3)), np.empty((markers, 3))
    best = _best_try(body, points, free, limb_marker, base, tries, root, local)
    # refine the winner on the free points, everything else held by strong smoothness
    cloud = points.copy()
    available = 0
    for j in range(points.shape[0]):
        if not free[j]:
            cloud[j, :] = np.nan
        else:
            available += 1
    hold, fixed = _held_but_for(body.parents, base), local.copy()
    gate, seen = np.empty(markers), np.empty((markers, 3))
    weight, residual, zero = np.full(markers, 1.0 / (0.01 * 0.01)), np.empty(markers), np.zeros(bones)
    no_hint = np.full(points.shape[0], -1, dtype=np.int64)
    marker_of, point_of = np.empty(points.shape[0], dtype=np.int64), np.empty(markers, dtype=np.int64)
    position = root.copy()
    for step in range(10):
        g = 0.20 * (1.0 - step / 10.0) + tolerance
        pose_joints(body, position, best, world, joint)
        place_markers(body, world, joint, x)
        for m in range(markers):
            gate[m] = g if limb_marker[m] else 0.0
        match_points(x, gate, cloud, no_hint, 0.0, marker_of, point_of)
        observed_of(cloud, point_of, seen)
        expected = Expected(fixed, hold, best, zero)
        refine_pose(body, Observed(seen, weight, 0.5 * g), expected, position, best, TWO_STEPS, 1e-3, residual)
        position = root.copy()
    good = 0
    for m in range(markers):
        if not np.isnan(residual[m]) and residual[m] < tolerance:
            good += 1
    if good >= 3 and 2 * good > available:
        copy_rotations(best, local)
    else:
        good = 0
    return good


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
        np.full(limbs.bases.shape[0], -1e9), np.zeros(3),
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
        expected = Expected(predicted, smooth, local, zero)
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
