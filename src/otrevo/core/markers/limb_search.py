"""Finding a limb again: one that comes back somewhere else, or one whose markers have been exchanged. Compiled.

Metres; points (N, 3) with NaN where there is none.
"""

import numpy as np
from numba import njit

from otrevo.core.body.compiled_rotations import copy_rotations, exp_rotation, multiply
from otrevo.core.body.tree_solver import Expected, Observed, place_markers, pose_joints, refine_pose
from otrevo.core.markers.matching import TWO_STEPS, match_points, observed_of

jit = njit(cache=True, error_model="numpy")
END_FITS = 6  # poses that are fitted where the names at an end of the body are in doubt
NEAR_M, NEAR_END_M = 0.10, 0.04  # how near points and markers have to be for a try to look good
LESS_BY = 0.4  # of a marker's cost: what other names have to explain better before they are taken


@jit
def squared_distance(point, limb_marker, x):
    """Squared distance, m^2, of a point (3,) to the nearest marker x (M, 3) of a limb."""
    near = 1e9
    for m in range(x.shape[0]):
        if limb_marker[m]:
            near = min(near, (point[0] - x[m, 0]) ** 2 + (point[1] - x[m, 1]) ** 2 + (point[2] - x[m, 2]) ** 2)
    return near


@jit
def _nearness(points, which, limb_marker, x, spread):
    """How near the chosen points are to a limb's markers x (M, 3): the sum over them of a bell of this width, metres."""
    score = 0.0
    for j in range(points.shape[0]):
        if not which[j]:
            continue
        score += np.exp(-squared_distance(points[j], limb_marker, x) / (2 * spread * spread))
    return score


@jit
def _best_try(body, points, free, limb_marker, base, tries, root, local):
    """The local rotations (B, 3, 3), a limb turned by one of the tries, that explain the free points best."""
    bones, markers = body.parents.shape[0], body.marker_bone.shape[0]
    world, joint, x = np.empty((bones, 3, 3)), np.empty((bones, 3)), np.empty((markers, 3))
    best = local.copy()
    best_score = -1.0
    for k in range(tries.shape[0]):
        trial = local.copy()
        exp_rotation(tries[k, 0], trial[base])
        if base + 1 < bones and body.parents[base + 1] == base:
            exp_rotation(tries[k, 1], trial[base + 1])
        pose_joints(body, root, trial, world, joint)
        place_markers(body, world, joint, x)
        score = _nearness(points, free, limb_marker, x, NEAR_M)
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
    best = _best_try(body, points, free, limb_marker, base, tries, root, local)
    available = 0
    for j in range(points.shape[0]):
        if free[j]:
            available += 1
    good, _ = _fit_limb(body, points, free, limb_marker, base, tolerance, root, best)
    if good >= 3 and 2 * good > available:
        copy_rotations(best, local)
    else:
        good = 0
    return good


@jit
def _fit_limb(body, points, free, limb_marker, base, tolerance, root, local):
    """Fit a limb to the free points, gates tightening, everything else held; local (B, 3, 3) changes in place.

    Returns how many of its markers are explained within `tolerance`, and the cost: the sum over its markers of the
    squared residual, in tolerances, 1 where that is more or there is no point.
    """
    bones, markers = body.parents.shape[0], body.marker_bone.shape[0]
    world, joint, x = np.empty((bones, 3, 3)), np.empty((bones, 3)), np.empty((markers, 3))
    cloud = points.copy()
    for j in range(points.shape[0]):
        if not free[j]:
            cloud[j, :] = np.nan
    hold, fixed = _held_but_for(body.parents, base), local.copy()
    gate, seen = np.empty(markers), np.empty((markers, 3))
    weight, residual, zero = np.full(markers, 1.0 / (0.01 * 0.01)), np.empty(markers), np.zeros(bones)
    no_hint = np.full(points.shape[0], -1, dtype=np.int64)
    marker_of, point_of = np.empty(points.shape[0], dtype=np.int64), np.empty(markers, dtype=np.int64)
    position = root.copy()
    for step in range(10):
        g = 0.20 * (1.0 - step / 10.0) + tolerance
        pose_joints(body, position, local, world, joint)
        place_markers(body, world, joint, x)
        for m in range(markers):
            gate[m] = g if limb_marker[m] else 0.0
        match_points(x, gate, cloud, no_hint, 0.0, marker_of, point_of)
        observed_of(cloud, point_of, seen)
        expected = Expected(fixed, hold, local, zero, np.empty((0, 6)))
        refine_pose(body, Observed(seen, weight, 0.5 * g), expected, position, local, TWO_STEPS, 1e-3, residual)
        position = root.copy()
    good, cost = 0, 0.0
    for m in range(markers):
        if limb_marker[m]:
            far = np.isnan(residual[m]) or residual[m] >= tolerance
            good += 0 if far else 1
            cost += 1.0 if far else (residual[m] / tolerance) ** 2
    return good, cost


@jit
def _turn_end(base, one_try, from_here, out):
    """A limb's first bone turned on from where it is, and its second one turned from rest, into out (B, 3, 3)."""
    turned = np.empty((3, 3))
    exp_rotation(one_try[0], turned)
    multiply(from_here[base], turned, out[base])
    exp_rotation(one_try[1], out[base + 1])


@jit
def find_other_names(body, points, own, limb_marker, base, tries, tolerance, cost_now, root, local):
    """Whether the points at an end of the body are better explained by other names of its markers.

    own (N,): the points that may be this limb's; cost_now: of the names they have, as _fit_limb counts it. The limb is
    fitted from where it is, and from the tries that come nearest to the points; each turns the limb's first bone on from
    where it is and its second one from rest. local (B, 3, 3) changes only if one of them is clearly better.
    """
    best, best_cost = local.copy(), cost_now - LESS_BY
    markers, bones = body.marker_bone.shape[0], body.parents.shape[0]
    world, joint, x = np.empty((bones, 3, 3)), np.empty((bones, 3)), np.empty((markers, 3))
    from_here, trial = local.copy(), local.copy()
    score = np.empty(tries.shape[0])
    for k in range(tries.shape[0]):
        _turn_end(base, tries[k], from_here, trial)
        pose_joints(body, root, trial, world, joint)
        place_markers(body, world, joint, x)
        score[k] = _nearness(points, own, limb_marker, x, NEAR_END_M)
    changed = False
    order = np.argsort(-score)
    for i in range(END_FITS):
        copy_rotations(from_here, trial)
        if i > 0:
            _turn_end(base, tries[order[i - 1]], from_here, trial)
        good, cost = _fit_limb(body, points, own, limb_marker, base, tolerance, root, trial)
        if good >= 3 and cost < best_cost:
            best_cost, changed = cost, True
            copy_rotations(trial, best)
    if changed:
        copy_rotations(best, local)
    return changed
