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

import numpy as np
from numba import njit

LIMIT_WEIGHT = 100.0  # per radian^2 beyond a soft limit
jit = njit(cache=True, fastmath=False, error_model="numpy")


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
def exp_rotation(v, out):
    """Rotation matrix of rotation vector v (3,) by Rodrigues' formula, into out (3, 3)."""
    x, y, z = v[0], v[1], v[2]
    a2 = x * x + y * y + z * z
    if a2 < 1e-12:
        s, c = 1.0, 0.5
        ca = 1.0 - 0.5 * a2
    else:
        a = np.sqrt(a2)
        s = np.sin(a) / a
        ca = np.cos(a)
        c = (1.0 - ca) / a2
    out[0, 0] = ca + c * x * x
    out[1, 1] = ca + c * y * y
    out[2, 2] = ca + c * z * z
    out[0, 1] = c * x * y - s * z
    out[1, 0] = c * x * y + s * z
    out[0, 2] = c * x * z + s * y
    out[2, 0] = c * x * z - s * y
    out[1, 2] = c * y * z - s * x
    out[2, 1] = c * y * z + s * x


@jit
def log_rotation(m, out):
    """Rotation vector (3,) of rotation matrix m, into out; safe near 0 and pi."""
    x = m[2, 1] - m[1, 2]
    y = m[0, 2] - m[2, 0]
    z = m[1, 0] - m[0, 1]
    s2 = np.sqrt(x * x + y * y + z * z)
    trace = m[0, 0] + m[1, 1] + m[2, 2]
    angle = np.arctan2(s2, trace - 1.0)
    if s2 > 1e-6:
        f = angle / s2
        out[0], out[1], out[2] = f * x, f * y, f * z
    elif trace > 0.0:
        out[0], out[1], out[2] = 0.5 * x, 0.5 * y, 0.5 * z
    else:  # half a turn: the axis is the largest column of (R + I)
        k = 0
        for i in range(1, 3):
            if m[i, i] > m[k, k]:
                k = i
        n = 0.0
        for i in range(3):
            out[i] = m[i, k] + (1.0 if i == k else 0.0)
            n += out[i] * out[i]
        n = np.sqrt(n)
        for i in range(3):
            out[i] *= np.pi / n


@jit
def multiply(a, b, out):
    """out = a b for 3x3 matrices; out must be neither a nor b."""
    for i in range(3):
        for j in range(3):
            out[i, j] = a[i, 0] * b[0, j] + a[i, 1] * b[1, j] + a[i, 2] * b[2, j]


@jit
def orthonormalise(m):
    """One Newton step towards the nearest rotation, in place: keeps products of many small turns clean."""
    e = np.empty((3, 3))
    for i in range(3):
        for j in range(3):
            e[i, j] = m[0, i] * m[0, j] + m[1, i] * m[1, j] + m[2, i] * m[2, j]
    for i in range(3):
        r0, r1, r2 = m[i, 0], m[i, 1], m[i, 2]
        for j in range(3):
            m[i, j] = 1.5 * m[i, j] - 0.5 * (r0 * e[0, j] + r1 * e[1, j] + r2 * e[2, j])


@jit
def pose_joints(parents, offsets, root, local, world, joint):
    """World rotations and joints of one pose, into world (B, 3, 3) and joint (B, 3)."""
    for b in range(parents.shape[0]):
        p = parents[b]
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
def place_markers(marker_bone, marker_offset, world, joint, out):
    """World places of markers riding on bones, into out (M, 3)."""
    for m in range(marker_bone.shape[0]):
        b = marker_bone[m]
        for i in range(3):
            out[m, i] = (
                joint[b, i]
                + world[b, i, 0] * marker_offset[m, 0]
                + world[b, i, 1] * marker_offset[m, 1]
                + world[b, i, 2] * marker_offset[m, 2]
            )


@jit
def invert3(a, out):
    """Inverse of a symmetric positive 3x3 matrix by cofactors."""
    c00 = a[1, 1] * a[2, 2] - a[1, 2] * a[2, 1]
    c01 = a[1, 2] * a[2, 0] - a[1, 0] * a[2, 2]
    c02 = a[1, 0] * a[2, 1] - a[1, 1] * a[2, 0]
    d = 1.0 / (a[0, 0] * c00 + a[0, 1] * c01 + a[0, 2] * c02)
    out[0, 0] = c00 * d
    out[1, 0] = c01 * d
    out[2, 0] = c02 * d
    out[0, 1] = (a[0, 2] * a[2, 1] - a[0, 1] * a[2, 2]) * d
    out[1, 1] = (a[0, 0] * a[2, 2] - a[0, 2] * a[2, 0]) * d
    out[2, 1] = (a[0, 1] * a[2, 0] - a[0, 0] * a[2, 1]) * d
    out[0, 2] = (a[0, 1] * a[1, 2] - a[0, 2] * a[1, 1]) * d
    out[1, 2] = (a[0, 2] * a[1, 0] - a[0, 0] * a[1, 2]) * d
    out[2, 2] = (a[0, 0] * a[1, 1] - a[0, 1] * a[1, 0]) * d


@jit
def refine_pose(
    parents, chain, offsets, marker_bone, marker_offset, observed, weight, scale_m,
    sigma, low, high, predicted, smooth_weight, target, target_weight, root, local, iterations, damping, residual_m,
):  # fmt: skip
    """Improve one pose in place by `iterations` damped Gauss-Newton steps.

    observed (M, 3), NaN where unseen; weight (M,) = 1/sigma^2; scale_m: Geman-McClure scale, metres (<= 0: none);
    sigma, low, high (B, 3) radians; predicted (B, 3, 3) local rotations with smooth_weight (B,);
    target (B, 3, 3) world rotations with target_weight (B,), 0 where there is none; root (3,), local (B, 3, 3) change.
    residual_m (M,): distance to the observation at the final pose, NaN where unseen.
    """
    bones = parents.shape[0]
    markers = marker_bone.shape[0]
    n = bones + 1
    depth = chain.shape[1]
    world = np.empty((bones, 3, 3))
    joint = np.empty((bones, 3))
    x = np.empty((markers, 3))
    s0 = np.empty(bones)
    s1 = np.empty((bones, 3))
    s2 = np.empty((bones, 3, 3))
    g_force = np.empty((bones, 3))
    g_moment = np.empty((bones, 3))
    turn_w = np.empty(bones)
    h = np.empty((n, depth, 3, 3))
    g = np.empty((n, 3))
    inverse = np.empty((n, 3, 3))
    step = np.empty((n, 3))
    v = np.empty(3)
    a33 = np.empty((3, 3))
    b33 = np.empty((3, 3))
    half = np.empty((3, 3))
    for iteration in range(iterations + 1):
        pose_joints(parents, offsets, root, local, world, joint)
        place_markers(marker_bone, marker_offset, world, joint, x)
        if iteration == iterations:
            break
        s0[:] = 0.0
        s1[:] = 0.0
        s2[:] = 0.0
        g_force[:] = 0.0
        g_moment[:] = 0.0
        turn_w[:] = 0.0
        g[:] = 0.0
        h[:] = 0.0
        for m in range(markers):  # moments of the markers of each bone, places relative to the root joint
            if np.isnan(observed[m, 0]) or weight[m] <= 0.0:
                continue
            b = marker_bone[m]
            r0, r1, r2 = observed[m, 0] - x[m, 0], observed[m, 1] - x[m, 1], observed[m, 2] - x[m, 2]
            w = weight[m]
            if scale_m > 0.0:
                q = 1.0 + (r0 * r0 + r1 * r1 + r2 * r2) / (scale_m * scale_m)
                w /= q * q
            x0, x1, x2 = x[m, 0] - root[0], x[m, 1] - root[1], x[m, 2] - root[2]
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
            g_force[b, 0] += w * r0
            g_force[b, 1] += w * r1
            g_force[b, 2] += w * r2
            g_moment[b, 0] += w * (x1 * r2 - x2 * r1)
            g_moment[b, 1] += w * (x2 * r0 - x0 * r2)
            g_moment[b, 2] += w * (x0 * r1 - x1 * r0)
        for b in range(bones):
            s2[b, 1, 0] = s2[b, 0, 1]
            s2[b, 2, 0] = s2[b, 0, 2]
            s2[b, 2, 1] = s2[b, 1, 2]
            if target_weight[b] > 0.0:  # orientation: every ancestor turns this bone as well
                for i in range(3):
                    for j in range(3):
                        a33[i, j] = (
                            target[b, i, 0] * world[b, j, 0]
                            + target[b, i, 1] * world[b, j, 1]
                            + target[b, i, 2] * world[b, j, 2]
                        )
                log_rotation(a33, v)
                turn_w[b] = target_weight[b]
                for i in range(3):
                    g[b + 1, i] += target_weight[b] * v[i]
        for b in range(bones - 1, 0, -1):  # subtree sums
            p = parents[b]
            s0[p] += s0[b]
            turn_w[p] += turn_w[b]
            for i in range(3):
                s1[p, i] += s1[b, i]
                g_force[p, i] += g_force[b, i]
                g_moment[p, i] += g_moment[b, i]
                g[p + 1, i] += g[b + 1, i]
                for j in range(3):
                    s2[p, i, j] += s2[b, i, j]
        for i in range(3):
            h[0, 0, i, i] = s0[0] + 1e-6
            g[0, i] = g_force[0, i]
        for b in range(bones):
            k = b + 1
            pk0, pk1, pk2 = joint[b, 0] - root[0], joint[b, 1] - root[1], joint[b, 2] - root[2]
            g[k, 0] += g_moment[b, 0] - (pk1 * g_force[b, 2] - pk2 * g_force[b, 1])
            g[k, 1] += g_moment[b, 1] - (pk2 * g_force[b, 0] - pk0 * g_force[b, 2])
            g[k, 2] += g_moment[b, 2] - (pk0 * g_force[b, 1] - pk1 * g_force[b, 0])
            trace = s2[b, 0, 0] + s2[b, 1, 1] + s2[b, 2, 2]
            for d in range(depth):
                block = chain[k, d]
                if block == 0:  # rotation against translation: sum W [x - p]x
                    u0, u1, u2 = s1[b, 0] - s0[b] * pk0, s1[b, 1] - s0[b] * pk1, s1[b, 2] - s0[b] * pk2
                    h[k, d, 0, 1] = -u2
                    h[k, d, 0, 2] = u1
                    h[k, d, 1, 0] = u2
                    h[k, d, 1, 2] = -u0
                    h[k, d, 2, 0] = -u1
                    h[k, d, 2, 1] = u0
                    break
                a = block - 1
                pa0, pa1, pa2 = joint[a, 0] - root[0], joint[a, 1] - root[1], joint[a, 2] - root[2]
                dot = (
                    trace
                    - (pk0 + pa0) * s1[b, 0]
                    - (pk1 + pa1) * s1[b, 1]
                    - (pk2 + pa2) * s1[b, 2]
                    + (pk0 * pa0 + pk1 * pa1 + pk2 * pa2) * s0[b]
                )
                for i in range(3):
                    pai = pa0 if i == 0 else (pa1 if i == 1 else pa2)
                    for j in range(3):
                        pkj = pk0 if j == 0 else (pk1 if j == 1 else pk2)
                        h[k, d, i, j] = -(s2[b, i, j] - pai * s1[b, j] - s1[b, i] * pkj + pai * pkj * s0[b])
                    h[k, d, i, i] += dot + turn_w[b]
            # stiffness, soft limits and smoothness act on the local rotation: d(theta) = parent^T w
            log_rotation(local[b], v)
            for axis in range(3):
                w = 1.0 / (sigma[b, axis] * sigma[b, axis])
                e = -w * v[axis]
                if v[axis] < low[b, axis]:
                    e += LIMIT_WEIGHT * (low[b, axis] - v[axis])
                    w += LIMIT_WEIGHT
                elif v[axis] > high[b, axis]:
                    e += LIMIT_WEIGHT * (high[b, axis] - v[axis])
                    w += LIMIT_WEIGHT
                p = parents[b]
                for i in range(3):
                    ui = world[p, i, axis] if p >= 0 else (1.0 if i == axis else 0.0)
                    g[k, i] += ui * e
                    for j in range(3):
                        uj = world[p, j, axis] if p >= 0 else (1.0 if j == axis else 0.0)
                        h[k, 0, i, j] += w * ui * uj
            if smooth_weight[b] > 0.0:
                for i in range(3):
                    for j in range(3):
                        a33[i, j] = (
                            predicted[b, i, 0] * local[b, j, 0]
                            + predicted[b, i, 1] * local[b, j, 1]
                            + predicted[b, i, 2] * local[b, j, 2]
                        )
                log_rotation(a33, v)
                p = parents[b]
                for i in range(3):
                    if p >= 0:
                        e = world[p, i, 0] * v[0] + world[p, i, 1] * v[1] + world[p, i, 2] * v[2]
                    else:
                        e = v[i]
                    g[k, i] += smooth_weight[b] * e
                    h[k, 0, i, i] += smooth_weight[b]
            for i in range(3):
                h[k, 0, i, i] += damping
        # eliminate from the leaves; the chain of an ancestor is a suffix of the chain of k
        for k in range(n - 1, -1, -1):
            invert3(h[k, 0], inverse[k])
            for s in range(1, depth):
                i_block = chain[k, s]
                if i_block < 0:
                    break
                for i in range(3):  # half = H_ki^T inverse_k
                    for j in range(3):
                        half[i, j] = (
                            h[k, s, 0, i] * inverse[k, 0, j]
                            + h[k, s, 1, i] * inverse[k, 1, j]
                            + h[k, s, 2, i] * inverse[k, 2, j]
                        )
                for i in range(3):
                    g[i_block, i] -= half[i, 0] * g[k, 0] + half[i, 1] * g[k, 1] + half[i, 2] * g[k, 2]
                for t in range(s, depth):
                    if chain[k, t] < 0:
                        break
                    for i in range(3):
                        for j in range(3):
                            h[i_block, t - s, i, j] -= (
                                half[i, 0] * h[k, t, 0, j] + half[i, 1] * h[k, t, 1, j] + half[i, 2] * h[k, t, 2, j]
                            )
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
        for i in range(3):
            root[i] += step[0, i]
        for b in range(bones):  # local' = exp(parent^T w) local; no step beyond 0.6 rad
            p = parents[b]
            size = np.sqrt(step[b + 1, 0] ** 2 + step[b + 1, 1] ** 2 + step[b + 1, 2] ** 2)
            f = 1.0 if size < 0.6 else 0.6 / size
            for i in range(3):
                if p >= 0:
                    v[i] = f * (
                        world[p, 0, i] * step[b + 1, 0]
                        + world[p, 1, i] * step[b + 1, 1]
                        + world[p, 2, i] * step[b + 1, 2]
                    )
                else:
                    v[i] = f * step[b + 1, i]
            exp_rotation(v, a33)
            multiply(a33, local[b], b33)
            orthonormalise(b33)
            for i in range(3):
                for j in range(3):
                    local[b, i, j] = b33[i, j]
    for m in range(markers):
        if np.isnan(observed[m, 0]) or weight[m] <= 0.0:
            residual_m[m] = np.nan
        else:
            residual_m[m] = np.sqrt(
                (observed[m, 0] - x[m, 0]) ** 2 + (observed[m, 1] - x[m, 1]) ** 2 + (observed[m, 2] - x[m, 2]) ** 2
            )
