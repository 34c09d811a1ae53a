"""Damped Gauss-Newton on a skeleton, with normal equations kept as the tree that the skeleton is. Compiled.

Unknowns of one frame: the root's translation (3) and, for every bone b, a small rotation w_b about world axes through
its joint p_b that turns the whole subtree. A marker x on bone b moves by dx = dt + sum over a in chain(b) of
w_a x (x - p_a).

Residuals, all weighted to be dimensionless:
  markers      sqrt(W) (observed - x), metres, W = 1 / sigma^2, re-weighted by Geman-McClure: (1 + r^2/c^2)^-2, which
               takes wrong labels and ghosts out instead of bending the body towards them;
  orientation  rotation vector from the bone's world rotation to a target (a suit sensor), radians;
  stiffness    the local rotation vector over `sigma` (prior towards rest), and the part beyond the soft limits;
  smoothness   local rotation vector from the predicted pose.

Because J_a = -[x - p_a]x, the blocks J_a^T J_b summed over the markers of a subtree need only the moments
sum W, sum W x, sum W x x^T of that subtree, so assembly costs O(bones * depth) whatever the number of markers. A block
is non-zero only between a bone and its ancestors; eliminating from the leaves to the root creates no fill-in, so the
factorisation costs O(bones * depth^2) instead of O(bones^3) (the L^T L factorisation of branch-induced sparsity,
R. Featherstone, Rigid Body Dynamics Algorithms, 2008, ch. 6, here with 3x3 blocks).

All arrays float64, metres, radians; rotation matrices map local to parent (`local`) or to world (`world`).
"""

from typing import NamedTuple

import numpy as np

from otrevo.core.body.compiled_rotations import (
    exp_rotation,
    forearm_angles,
    invert3,
    jit,
    log_rotation,
    multiply,
    orthonormalise,
    rotation_to,
)

LIMIT_WEIGHT = 100.0  # per radian^2 beyond a soft limit
LARGEST_STEP = 0.6  # radians a joint may turn at once


class BodyArrays(NamedTuple):
    """A body of B bones (root first) and M markers riding on them, for compiled loops.

    parents (B,); chain: see `chains`; rest_offset_m (B, 3) from parent to joint in T-pose; marker_bone (M,) and
    marker_offset_m (M, 3) in T-pose axes; sigma, low, high (B, 3): stiffness and soft limits, radians, of the rotation vector, and where
    `rolls` (B,) says that the bone is a forearm, of its forearm_angles.
    """

    parents: np.ndarray
    chain: np.ndarray
    rest_offset_m: np.ndarray
    marker_bone: np.ndarray
    marker_offset_m: np.ndarray
    sigma: np.ndarray
    low: np.ndarray
    high: np.ndarray
    rolls: np.ndarray


class Observed(NamedTuple):
    """What cameras say of one frame: position_m (M, 3), NaN where unseen; weight (M,) = 1/sigma^2, 1/m^2.

    scale_m: of the Geman-McClure weights; at or below 0 there are none.
    """

    position_m: np.ndarray
    weight: np.ndarray
    scale_m: float


class Expected(NamedTuple):
    """What is expected of one frame besides: local (B, 3, 3) rotations as predicted, with weight (B,); and bones' world
    rotations (B, 3, 3) as sensors say, with world_weight (B,), 1/rad^2. Weight 0 is for none.
    """

    local: np.ndarray
    weight: np.ndarray
    world: np.ndarray
    world_weight: np.ndarray


class _Normal(NamedTuple):
    """Normal equations of one frame: h (N, depth, 3, 3) as the chains have their blocks, g (N, 3), and the pose they are of.

    s0, s1, s2: sums of W, W x and W x x^T over the markers of each bone's subtree, x from the root joint; force and
    moment (B, 3): of the weighted residuals; sensed (B,): weight of sensors in each subtree. inverse (N, 3, 3), step (N, 3),
    v, slope, pull (3,) and a, b (3, 3) are scratch: these loops run a hundred thousand times a take.
    """

    h: np.ndarray
    g: np.ndarray
    world: np.ndarray
    joint: np.ndarray
    marker: np.ndarray
    s0: np.ndarray
    s1: np.ndarray
    s2: np.ndarray
    force: np.ndarray
    moment: np.ndarray
    sensed: np.ndarray
    inverse: np.ndarray
    step: np.ndarray
    v: np.ndarray
    slope: np.ndarray
    pull: np.ndarray
    a: np.ndarray
    b: np.ndarray


def chains(parents):
    """Ancestor table: row k lists block k, its parent, ... down to block 0 (the translation); -1 pads.

    Block 0 is the root's translation, block b + 1 is bone b.
    """
    parents = np.asarray(parents)
    rows = []
    for b in range(-1, len(parents)):
        row = [b + 1]
        while b >= 0:
            b = parents[b]
            row.append(b + 1)
        rows.append(row)
    table = -np.ones((len(rows), max(map(len, rows))), dtype=np.int64)
    for k, row in enumerate(rows):
        table[k, : len(row)] = row
    return table


@jit
def pose_joints(body, root, local, world, joint):
    """World rotations and joints of one pose, into world (B, 3, 3) and joint (B, 3)."""
    offsets = body.rest_offset_m
    for b in range(body.parents.shape[0]):
        p = body.parents[b]
        if p < 0:
            for i in range(3):
                joint[b, i] = root[i]
                for j in range(3):
                    world[b, i, j] = local[b, i, j]
        else:
            for i in range(3):
                joint[b, i] = (
                    joint[p, i]
                    + world[p, i, 0] * offsets[b, 0]
                    + world[p, i, 1] * offsets[b, 1]
                    + world[p, i, 2] * offsets[b, 2]
                )
            multiply(world[p], local[b], world[b])


@jit
def place_markers(body, world, joint, out):
    """World positions of the markers, into out (M, 3)."""
    offset = body.marker_offset_m
    for m in range(body.marker_bone.shape[0]):
        b = body.marker_bone[m]
        for i in range(3):
            out[m, i] = (
                joint[b, i]
                + world[b, i, 0] * offset[m, 0]
                + world[b, i, 1] * offset[m, 1]
                + world[b, i, 2] * offset[m, 2]
            )


@jit
def _add_markers(body, observed, root, n):
    """Moments of the markers of each bone, positions from the root joint."""
    s0, s1, s2, force, moment, marker = n.s0, n.s1, n.s2, n.force, n.moment, n.marker
    seen, weight, scale = observed.position_m, observed.weight, observed.scale_m
    for m in range(body.marker_bone.shape[0]):
        w = weight[m]
        if np.isnan(seen[m, 0]) or w <= 0.0:
            continue
        b = body.marker_bone[m]
        r0, r1, r2 = seen[m, 0] - marker[m, 0], seen[m, 1] - marker[m, 1], seen[m, 2] - marker[m, 2]
        if scale > 0.0:
            q = 1.0 + (r0 * r0 + r1 * r1 + r2 * r2) / (scale * scale)
            w /= q * q
        x0, x1, x2 = marker[m, 0] - root[0], marker[m, 1] - root[1], marker[m, 2] - root[2]
        s0[b] += w
        s1[b, 0] += w * x0
        s1[b, 1] += w * x1
        s1[b, 2] += w * x2
        s2[b, 0, 0] += w * x0 * x0
        s2[b, 0, 1] += w * x0 * x1
        s2[b, 0, 2] += w * x0 * x2
        s2[b, 1, 1] += w * x1 * x1
        s2[b, 1, 2] += w * x1 * x2
        s2[b, 2, 2] += w * x2 * x2
        force[b, 0] += w * r0
        force[b, 1] += w * r1
        force[b, 2] += w * r2
        moment[b, 0] += w * (x1 * r2 - x2 * r1)
        moment[b, 1] += w * (x2 * r0 - x0 * r2)
        moment[b, 2] += w * (x0 * r1 - x1 * r0)


@jit
def _sum_subtrees(body, expected, n):
    """Sensors join in, and then every bone takes what its children have."""
    s0, s1, s2, force, moment, sensed, g, v = n.s0, n.s1, n.s2, n.force, n.moment, n.sensed, n.g, n.v
    bones = body.parents.shape[0]
    for b in range(bones):
        s2[b, 1, 0] = s2[b, 0, 1]
        s2[b, 2, 0] = s2[b, 0, 2]
        s2[b, 2, 1] = s2[b, 1, 2]
        w = expected.world_weight[b]
        if w > 0.0:  # every bone above turns this one as well
            rotation_to(expected.world[b], n.world[b], n.a, v)
            sensed[b] = w
            for i in range(3):
                g[b + 1, i] += w * v[i]
    for b in range(bones - 1, 0, -1):
        p = body.parents[b]
        s0[p] += s0[b]
        sensed[p] += sensed[b]
        for i in range(3):
            s1[p, i] += s1[b, i]
            force[p, i] += force[b, i]
            moment[p, i] += moment[b, i]
            g[p + 1, i] += g[b + 1, i]
            for j in range(3):
                s2[p, i, j] += s2[b, i, j]


@jit
def _assemble(body, root, n):
    """Blocks of what was measured, from the moments of every subtree."""
    s0, s1, s2, force, moment, sensed = n.s0, n.s1, n.s2, n.force, n.moment, n.sensed
    h, g, joint, chain = n.h, n.g, n.joint, body.chain
    for i in range(3):
        h[0, 0, i, i] = s0[0] + 1e-6
        g[0, i] = force[0, i]
    for b in range(body.parents.shape[0]):
        k = b + 1
        pk0, pk1, pk2 = joint[b, 0] - root[0], joint[b, 1] - root[1], joint[b, 2] - root[2]
        g[k, 0] += moment[b, 0] - (pk1 * force[b, 2] - pk2 * force[b, 1])
        g[k, 1] += moment[b, 1] - (pk2 * force[b, 0] - pk0 * force[b, 2])
        g[k, 2] += moment[b, 2] - (pk0 * force[b, 1] - pk1 * force[b, 0])
        # sum W (x - p_k) x^T and sum W (x - p_k), kept out of the arrays: a compiler reads those again after every store
        s10, s11, s12, all_w, turned = s1[b, 0], s1[b, 1], s1[b, 2], s0[b], sensed[b]
        m00, m01, m02 = s2[b, 0, 0] - pk0 * s10, s2[b, 0, 1] - pk1 * s10, s2[b, 0, 2] - pk2 * s10
        m10, m11, m12 = s2[b, 1, 0] - pk0 * s11, s2[b, 1, 1] - pk1 * s11, s2[b, 1, 2] - pk2 * s11
        m20, m21, m22 = s2[b, 2, 0] - pk0 * s12, s2[b, 2, 1] - pk1 * s12, s2[b, 2, 2] - pk2 * s12
        u0, u1, u2 = s10 - all_w * pk0, s11 - all_w * pk1, s12 - all_w * pk2
        for d in range(chain.shape[1]):
            block, at = chain[k, d], h[k, d]
            if block == 0:  # rotation against translation: sum W [x - p]x
                at[0, 1], at[0, 2], at[1, 2] = -u2, u1, -u0
                at[1, 0], at[2, 0], at[2, 1] = u2, -u1, u0
                break
            a = block - 1
            pa0, pa1, pa2 = joint[a, 0] - root[0], joint[a, 1] - root[1], joint[a, 2] - root[2]
            d0, d1, d2 = m00 - pa0 * u0, m11 - pa1 * u1, m22 - pa2 * u2
            at[0, 0], at[1, 1], at[2, 2] = d1 + d2 + turned, d0 + d2 + turned, d0 + d1 + turned
            at[0, 1], at[0, 2], at[1, 2] = pa0 * u1 - m01, pa0 * u2 - m02, pa1 * u2 - m12
            at[1, 0], at[2, 0], at[2, 1] = pa1 * u0 - m10, pa2 * u0 - m20, pa2 * u1 - m21


@jit
def _add_expected(body, expected, local, damping, n):
    """Stiffness, soft limits and the predicted pose; they act on the local rotation: d(theta) = parent^T w."""
    g, v, a, slope, pull, upright = n.g, n.v, n.a, n.slope, n.pull, n.b
    sigma, low, high, wanted = body.sigma, body.low, body.high, expected.local
    for i in range(3):
        for j in range(3):
            upright[i, j] = 1.0 if i == j else 0.0
    for b in range(body.parents.shape[0]):
        k, p = b + 1, body.parents[b]
        turn, own, wish = n.world[p] if p >= 0 else upright, n.h[k, 0], expected.weight[b]
        if body.rolls[b]:
            forearm_angles(local[b], v, a)
            multiply(turn, a, n.inverse[k])  # nothing is in there yet
            turn = n.inverse[k]
        else:
            log_rotation(local[b], v)
        for axis in range(3):
            slope[axis] = 1.0 / (sigma[b, axis] * sigma[b, axis])
            pull[axis] = -slope[axis] * v[axis]
            beyond = min(v[axis] - low[b, axis], 0.0) + max(v[axis] - high[b, axis], 0.0)
            if beyond != 0.0:
                slope[axis] += LIMIT_WEIGHT
                pull[axis] -= LIMIT_WEIGHT * beyond
        w0, w1, w2, e0, e1, e2 = slope[0], slope[1], slope[2], pull[0], pull[1], pull[2]
        for i in range(3):
            u0, u1, u2 = turn[i, 0], turn[i, 1], turn[i, 2]
            g[k, i] += u0 * e0 + u1 * e1 + u2 * e2
            u0, u1, u2 = w0 * u0, w1 * u1, w2 * u2
            for j in range(3):
                own[i, j] += u0 * turn[j, 0] + u1 * turn[j, 1] + u2 * turn[j, 2]
            own[i, i] += damping + wish
        if wish > 0.0:
            for i in range(3):
                for j in range(3):
                    a[i, j] = (
                        wanted[b, i, 0] * local[b, j, 0]
                        + wanted[b, i, 1] * local[b, j, 1]
                        + wanted[b, i, 2] * local[b, j, 2]
                    )
            log_rotation(a, v)
            turn = n.world[p] if p >= 0 else upright
            for i in range(3):
                g[k, i] += wish * (turn[i, 0] * v[0] + turn[i, 1] * v[1] + turn[i, 2] * v[2])


@jit
def _solve_tree(chain, normal):
    """Solve h step = g; h and g are used up. The chain of a bone above is the end of the chain below."""
    h, g, step, inverse, v = normal.h, normal.g, normal.step, normal.inverse, normal.v
    n, depth = chain.shape
    for k in range(n - 1, -1, -1):  # eliminate from the leaves
        invert3(h[k, 0], inverse[k])
        mine, own = h[k], inverse[k]
        deep = 1
        while deep < depth and chain[k, deep] >= 0:
            deep += 1
        for s in range(1, deep):
            above = chain[k, s]
            theirs = h[above]
            for i in range(3):  # a row of H_ka^T inverse_k at a time
                a0, a1, a2 = mine[s, 0, i], mine[s, 1, i], mine[s, 2, i]
                r0 = a0 * own[0, 0] + a1 * own[1, 0] + a2 * own[2, 0]
                r1 = a0 * own[0, 1] + a1 * own[1, 1] + a2 * own[2, 1]
                r2 = a0 * own[0, 2] + a1 * own[1, 2] + a2 * own[2, 2]
                g[above, i] -= r0 * g[k, 0] + r1 * g[k, 1] + r2 * g[k, 2]
                for t in range(s, deep):
                    theirs[t - s, i, 0] -= r0 * mine[t, 0, 0] + r1 * mine[t, 1, 0] + r2 * mine[t, 2, 0]
                    theirs[t - s, i, 1] -= r0 * mine[t, 0, 1] + r1 * mine[t, 1, 1] + r2 * mine[t, 2, 1]
                    theirs[t - s, i, 2] -= r0 * mine[t, 0, 2] + r1 * mine[t, 1, 2] + r2 * mine[t, 2, 2]
    for k in range(n):
        for i in range(3):
            v[i] = g[k, i]
        for s in range(1, depth):
            a = chain[k, s]
            if a < 0:
                break
            for i in range(3):
                v[i] -= h[k, s, i, 0] * step[a, 0] + h[k, s, i, 1] * step[a, 1] + h[k, s, i, 2] * step[a, 2]
        for i in range(3):
            step[k, i] = inverse[k, i, 0] * v[0] + inverse[k, i, 1] * v[1] + inverse[k, i, 2] * v[2]


@jit
def _move(body, n, root, local):
    """Take the step: local' = exp(parent^T w) local, no bone by more than LARGEST_STEP."""
    step, world, v, turned, product = n.step, n.world, n.v, n.a, n.b
    for i in range(3):
        root[i] += step[0, i]
    for b in range(body.parents.shape[0]):
        p, w0, w1, w2 = body.parents[b], step[b + 1, 0], step[b + 1, 1], step[b + 1, 2]
        size = np.sqrt(w0 * w0 + w1 * w1 + w2 * w2)
        f = 1.0 if size < LARGEST_STEP else LARGEST_STEP / size
        if p >= 0:
            for i in range(3):
                v[i] = f * (world[p, 0, i] * w0 + world[p, 1, i] * w1 + world[p, 2, i] * w2)
        else:
            v[0], v[1], v[2] = f * w0, f * w1, f * w2
        exp_rotation(v, turned)
        multiply(turned, local[b], product)
        orthonormalise(product)
        for i in range(3):
            for j in range(3):
                local[b, i, j] = product[i, j]


@jit
def distances(observed, marker, out):
    """Distance of every marker to where it was observed, into out (M,), NaN where it was not."""
    for m in range(marker.shape[0]):
        seen = observed.position_m[m]
        if np.isnan(seen[0]) or observed.weight[m] <= 0.0:
            out[m] = np.nan
        else:
            out[m] = np.sqrt(
                (seen[0] - marker[m, 0]) ** 2 + (seen[1] - marker[m, 1]) ** 2 + (seen[2] - marker[m, 2]) ** 2
            )


@jit
def refine_pose(body, observed, expected, root, local, iterations, damping, residual_m):
    """Improve one pose in place by `iterations` damped Gauss-Newton steps.

    body: BodyArrays; observed: Observed; expected: Expected; root (3,) and local (B, 3, 3) change. residual_m (M,):
    distance to the observation at the final pose, NaN where unseen.
    """
    bones, markers = body.parents.shape[0], body.marker_bone.shape[0]
    blocks, depth = body.chain.shape
    n = _Normal(
        np.empty((blocks, depth, 3, 3)), np.empty((blocks, 3)), np.empty((bones, 3, 3)), np.empty((bones, 3)),
        np.empty((markers, 3)), np.empty(bones), np.empty((bones, 3)), np.empty((bones, 3, 3)), np.empty((bones, 3)),
        np.empty((bones, 3)), np.empty(bones), np.empty((blocks, 3, 3)), np.empty((blocks, 3)), np.empty(3),
        np.empty(3), np.empty(3), np.empty((3, 3)), np.empty((3, 3)),
    )  # fmt: skip
    for iteration in range(iterations + 1):
        pose_joints(body, root, local, n.world, n.joint)
        place_markers(body, n.world, n.joint, n.marker)
        if iteration == iterations:
            break
        n.h[:] = 0.0
        n.g[:] = 0.0
        n.s0[:] = 0.0
        n.s1[:] = 0.0
        n.s2[:] = 0.0
        n.force[:] = 0.0
        n.moment[:] = 0.0
        n.sensed[:] = 0.0
        _add_markers(body, observed, root, n)
        _sum_subtrees(body, expected, n)
        _assemble(body, root, n)
        _add_expected(body, expected, local, damping, n)
        _solve_tree(body.chain, n)
        _move(body, n, root, local)
    distances(observed, n.marker, residual_m)
