"""Matching points to the markers of a body one to one, and fitting the body to a cloud that way. Compiled.

Metres; points (N, 3) with NaN where there is none.
"""

import numpy as np
from numba import njit

from otrevo.core.body.tree_solver import Expected, Observed, place_markers, pose_joints, refine_pose

jit = njit(cache=True, error_model="numpy")
TWO_STEPS = np.int64(
    2
)  # of a fit; NumPy's integer, because a bare one has what it is given to compiled anew for each number


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
    cost_of = np.full((markers, n), np.nan)
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
                cost_of[m, j] = cost[count]
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
            # a pair out of reach costs NaN, and NaN is never less
            if cost[k] + cost_of[m2, j2] < cost_of[m, j2] + cost_of[m2, j] - 1e-12:
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
        expected = Expected(local, zero, local, zero, np.empty((0, 6)))
        refine_pose(body, Observed(seen, weight, 0.5 * g), expected, root, local, TWO_STEPS, 1e-3, residual)
    last = gates[-1]
    total = 0.0
    for m in range(markers):
        r = residual[m]
        total += 1.0 if np.isnan(r) or r > last else (r / last) ** 2
    return total / markers
