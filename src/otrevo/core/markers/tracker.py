"""Following named markers through nameless points with the body as the guide. Compiled.

For each frame: the pose is predicted at constant angular speed; every marker's predicted place is its place on that
pose plus the last known slip of skin over bone; points are matched to markers one to one within a gate that widens
while a marker is unseen; the pose is refined on the matches (core.body.tree_solver); a match that the body cannot
explain is undone. A point's own column is a hint and never a proof: trajectories break, change hands and swap.

Metres, frames; points (T, N, 3) with NaN where there is none.
"""

import numpy as np
from numba import njit

from otrevo.core.body.tree_solver import exp_rotation, log_rotation, multiply, place_markers, pose_joints, refine_pose

jit = njit(cache=True, error_model="numpy")


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
def icp_pose(
    parents, chain, offsets, marker_bone, marker_offset, sigma, low, high, points, gates, weight_value, root, local,
    marker_of, point_of,
):  # fmt: skip
    """Articulated closest-point fit of a body to one cloud, gates tightening; root and local change in place.

    Returns the cost: mean over markers of the squared distance to the matched point, truncated at the last gate (0..1).
    """
    markers = marker_bone.shape[0]
    bones = parents.shape[0]
    world = np.empty((bones, 3, 3))
    joint = np.empty((bones, 3))
    x = np.empty((markers, 3))
    observed = np.empty((markers, 3))
    weight = np.full(markers, weight_value)
    residual = np.empty(markers)
    no_hint = np.full(points.shape[0], -1, dtype=np.int64)
    zero = np.zeros(bones)
    gate = np.empty(markers)
    for g in gates:
        pose_joints(parents, offsets, root, local, world, joint)
        place_markers(marker_bone, marker_offset, world, joint, x)
        gate[:] = g
        match_points(x, gate, points, no_hint, 0.0, marker_of, point_of)
        for m in range(markers):
            for i in range(3):
                observed[m, i] = points[point_of[m], i] if point_of[m] >= 0 else np.nan
        refine_pose(
            parents, chain, offsets, marker_bone, marker_offset, observed, weight, 0.5 * g,
            sigma, low, high, local, zero, local, zero, root, local, 2, 1e-3, residual,
        )  # fmt: skip
    last = gates[-1]
    total = 0.0
    for m in range(markers):
        r = residual[m]
        total += 1.0 if np.isnan(r) or r > last else (r / last) ** 2
    return total / markers


@jit
def regain_limb(
    parents, chain, offsets, marker_bone, marker_offset, sigma, low, high, points, free, limb_marker, limb_base,
    tries, tolerance, root, local,
):  # fmt: skip
    """Search for a limb whose markers came back somewhere else.

    limb_marker (M,) true for its markers; limb_base: its first bone; tries (K, 2, 3) rotation vectors for the base
    bone and the bone after it. The free points are explained by the limb from each try; the best is refined. Returns
    the number of free points explained within `tolerance`; local changes only if that is more than half of them.
    """
    bones = parents.shape[0]
    markers = marker_bone.shape[0]
    world = np.empty((bones, 3, 3))
    joint = np.empty((bones, 3))
    x = np.empty((markers, 3))
    trial = local.copy()
    best = local.copy()
    best_score = -1.0
    spread = 0.10
    for k in range(tries.shape[0]):
        trial[:] = local
        exp_rotation(tries[k, 0], trial[limb_base])
        if limb_base + 1 < bones and parents[limb_base + 1] == limb_base:
            exp_rotation(tries[k, 1], trial[limb_base + 1])
        pose_joints(parents, offsets, root, trial, world, joint)
        place_markers(marker_bone, marker_offset, world, joint, x)
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
            best_score = score
            best[:] = trial
    # refine the winner on the free points, everything else held by strong smoothness
    cloud = points.copy()
    available = 0
    for j in range(points.shape[0]):
        if not free[j]:
            cloud[j, :] = np.nan
        else:
            available += 1
    hold = np.full(bones, 1e6)
    b = limb_base
    while b < bones:
        inside = b == limb_base
        p = parents[b]
        while p >= 0 and not inside:
            inside = p == limb_base
            p = parents[p]
        if inside:
            hold[b] = 0.0
        b += 1
    fixed = local.copy()
    gate = np.empty(markers)
    observed = np.empty((markers, 3))
    weight = np.full(markers, 1.0 / (0.01 * 0.01))
    residual = np.empty(markers)
    no_hint = np.full(points.shape[0], -1, dtype=np.int64)
    marker_of = np.empty(points.shape[0], dtype=np.int64)
    point_of = np.empty(markers, dtype=np.int64)
    zero = np.zeros(bones)
    place = root.copy()
    for step in range(10):
        g = 0.20 * (1.0 - step / 10.0) + tolerance
        pose_joints(parents, offsets, place, best, world, joint)
        place_markers(marker_bone, marker_offset, world, joint, x)
        for m in range(markers):
            gate[m] = g if limb_marker[m] else 0.0
        match_points(x, gate, cloud, no_hint, 0.0, marker_of, point_of)
        for m in range(markers):
            for i in range(3):
                observed[m, i] = cloud[point_of[m], i] if point_of[m] >= 0 else np.nan
        refine_pose(
            parents, chain, offsets, marker_bone, marker_offset, observed, weight, 0.5 * g,
            sigma, low, high, fixed, hold, best, zero, place, best, 2, 1e-3, residual,
        )  # fmt: skip
        place[:] = root
    good = 0
    for m in range(markers):
        if not np.isnan(residual[m]) and residual[m] < tolerance:
            good += 1
    if good >= 3 and 2 * good > available:
        local[:] = best
    else:
        good = 0
    return good


@jit
def follow(
    parents, chain, offsets, marker_bone, marker_offset, sigma, low, high, points, tolerance, marker_sigma, rate,
    limb_markers, limb_bases, tries, root0, local0, start, stop, step, known,
    label, root_out, local_out, residual_out,
):  # fmt: skip
    """Follow from frame `start` to `stop` (exclusive) in steps of +1 or -1; label (T, N) receives marker indices or -1.

    tolerance: how far a marker may sit from the solved body, metres; limb_markers (L, M) and limb_bases (L,) describe
    limbs to search for after a loss; known (M,): false keeps a name from being given at all. root_out (T, 3), local_out (T, B, 3, 3), residual_out (T, M) receive the fit.
    """
    markers, bones, n = marker_bone.shape[0], parents.shape[0], points.shape[1]
    world = np.empty((bones, 3, 3))
    joint = np.empty((bones, 3))
    x = np.empty((markers, 3))
    observed = np.empty((markers, 3))
    slip = np.zeros((markers, 3))
    usual_slip = np.zeros((markers, 3))  # its mean over the last second or so: what to expect after hiding
    weight = np.full(markers, 1.0 / (marker_sigma * marker_sigma))
    residual = np.empty(markers)
    unseen = np.zeros(markers)
    hint = np.full(n, -1, dtype=np.int64)
    marker_of = np.empty(n, dtype=np.int64)
    point_of = np.empty(markers, dtype=np.int64)
    gate = np.empty(markers)
    root = root0.copy()
    local = local0.copy()
    root_speed = np.zeros(3)
    turn = np.zeros((bones, 3))
    predicted = np.empty((bones, 3, 3))
    smooth = np.empty(bones)
    zero = np.zeros(bones)
    v = np.empty(3)
    a33 = np.empty((3, 3))
    seen_below = np.zeros(bones)
    free = np.empty(n, dtype=np.bool_)
    free_age = np.zeros(n)
    last_try = np.full(limb_bases.shape[0], -1e9)
    first = True
    t = start
    while t != stop:
        for b in range(bones):
            damp = 1.0 if seen_below[b] > 0 else 0.9
            for i in range(3):
                turn[b, i] *= damp
            exp_rotation(turn[b], a33)
            multiply(local[b], a33, predicted[b])
            smooth[b] = 8.0 if seen_below[b] > 0 else 60.0
        previous_root = root.copy()
        previous_local = local.copy()
        for i in range(3):
            root[i] += root_speed[i]
        local[:] = predicted
        pose_joints(parents, offsets, root, local, world, joint)
        place_markers(marker_bone, marker_offset, world, joint, x)
        for m in range(markers):
            b = marker_bone[m]
            fade = 1.0 if unseen[m] < 1 else 0.98 ** unseen[m]
            for i in range(3):
                for k in range(3):
                    x[m, i] += world[b, i, k] * (usual_slip[m, k] + fade * (slip[m, k] - usual_slip[m, k]))
            widen = unseen[m] / rate
            gate[m] = 0.6 * tolerance + 0.004 + min(0.5 * widen, 1.4 * tolerance)
            if seen_below[b] <= 0:
                gate[m] += min(0.5 * widen, 1.0 * tolerance)
            if first:
                gate[m] = 2.0 * tolerance
            if not known[m]:
                gate[m] = 0.0
        match_points(x, gate, points[t], hint, 0.0001, marker_of, point_of)
        for m in range(markers):
            for i in range(3):
                observed[m, i] = points[t, point_of[m], i] if point_of[m] >= 0 else np.nan
        refine_pose(
            parents, chain, offsets, marker_bone, marker_offset, observed, weight, tolerance,
            sigma, low, high, predicted, smooth, local, zero, root, local, 3 if first else 2, 1e-3, residual,
        )  # fmt: skip
        # what the body cannot explain is no marker of it
        undone = 0
        for m in range(markers):
            if point_of[m] >= 0 and residual[m] > 1.6 * tolerance:
                marker_of[point_of[m]] = -1
                point_of[m] = -1
                observed[m, 0] = np.nan
                undone += 1
        if undone > 0:
            refine_pose(
                parents, chain, offsets, marker_bone, marker_offset, observed, weight, tolerance,
                sigma, low, high, predicted, smooth, local, zero, root, local, 1, 1e-3, residual,
            )  # fmt: skip
        for j in range(n):
            free[j] = (not np.isnan(points[t, j, 0])) and marker_of[j] < 0
            free_age[j] = free_age[j] + 1 if free[j] else 0
        for limb in range(limb_bases.shape[0]):
            members = 0
            missing = 0
            for m in range(markers):
                if limb_markers[limb, m]:
                    members += 1
                    if point_of[m] < 0:
                        missing += 1
            waiting = 0
            for j in range(n):
                if free_age[j] >= 4:
                    b = limb_bases[limb]
                    d = 0.0
                    for i in range(3):
                        d += (points[t, j, i] - joint[b, i]) ** 2
                    if d < 1.1:
                        waiting += 1
            if waiting >= 3 and 2 * missing > members and missing >= 3 and abs(t - last_try[limb]) > 0.08 * rate:
                last_try[limb] = t
                for j in range(n):
                    free[j] = free_age[j] >= 4
                found = regain_limb(
                    parents, chain, offsets, marker_bone, marker_offset, sigma, low, high, points[t], free,
                    limb_markers[limb], limb_bases[limb], tries, tolerance, root, local,
                )  # fmt: skip
                if found > 0:
                    for m in range(markers):
                        if limb_markers[limb, m]:
                            slip[m] = usual_slip[m]
        seen_below[:] = 0.0
        pose_joints(parents, offsets, root, local, world, joint)
        place_markers(marker_bone, marker_offset, world, joint, x)
        for m in range(markers):
            b = marker_bone[m]
            if point_of[m] >= 0:
                seen_below[b] += 1
                unseen[m] = 0
                for i in range(3):
                    v[i] = observed[m, i] - x[m, i]
                for i in range(3):
                    slip[m, i] = world[b, 0, i] * v[0] + world[b, 1, i] * v[1] + world[b, 2, i] * v[2]
                    usual_slip[m, i] += (slip[m, i] - usual_slip[m, i]) / rate
            else:
                unseen[m] += 1
        for b in range(bones - 1, 0, -1):
            seen_below[parents[b]] += seen_below[b]
        for j in range(n):
            hint[j] = marker_of[j]
            label[t, j] = marker_of[j]
        for i in range(3):
            if not first:
                root_speed[i] = root[i] - previous_root[i]
            root_out[t, i] = root[i]
        for b in range(bones):
            if not first:
                for i in range(3):
                    for k in range(3):
                        a33[i, k] = (
                            previous_local[b, 0, i] * local[b, 0, k]
                            + previous_local[b, 1, i] * local[b, 1, k]
                            + previous_local[b, 2, i] * local[b, 2, k]
                        )
                log_rotation(a33, v)
                size = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
                for i in range(3):  # 30 rad/s is faster than any limb
                    turn[b, i] = v[i] if size * rate < 30.0 else 0.0
            local_out[t, b] = local[b]
        residual_out[t] = residual
        first = False
        t += step
