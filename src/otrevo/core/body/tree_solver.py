"""Damped Gauss-Newton on a skeleton, solved from bone to bone along the tree that the skeleton is. Compiled.

Unknowns of one frame: the root's translation (3) and, for every bone b, a small rotation w_b about world axes through
its joint p_b that turns the whole subtree. A marker x on bone b moves by dx = dt + sum over a in chain(b) of
w_a x (x - p_a).

Residuals, all weighted to be dimensionless:
  markers      sqrt(W) (observed - x), metres, W = 1 / sigma^2, re-weighted by Geman-McClure: (1 + r^2/c^2)^-2, which
               takes wrong labels and ghosts out instead of bending the body towards them;
  orientation  rotation vector from the bone's world rotation to a target (a suit sensor), radians;
  stiffness    the local rotation vector over `sigma` (prior towards rest), and the part beyond the soft limits;
  smoothness   local rotation vector from the predicted pose.

Only what a bone and all below it resist together matters to the bone above, once the joint between them has given way: that is
an inertia of six directions, which every bone hands to its parent, from the leaves to the root. The steps then follow from the
root to the leaves. So a frame costs O(bones + markers) and not O(bones^3) (articulated bodies: R. Featherstone, Rigid Body
Dynamics Algorithms, 2008, ch. 7). Here weights take the place of masses, and how a subtree moves is told by its turn w and by how
far the point at the root joint goes with it, u: a marker at x from there moves by u + w x x.

All arrays float64, metres, radians; rotation matrices map local to parent (`local`) or to world (`world`).
"""

from typing import NamedTuple

import numpy as np

from otrevo.core.body.compiled_rotations import (
    exp_rotation,
    forearm_angles,
    invert3,
    log_rotation,
    multiply,
    orthonormalise,
    rotation_to,
)
from otrevo.core.body.compiled_vectors import (
    cross,
    dot,
    jit,
    less_product,
    matrix,
    minus,
    plus,
    row,
    rows_crossed,
    set_matrix,
    set_row,
    times,
    total,
    transposed,
)

LIMIT_WEIGHT = 100.0  # per radian^2 beyond a soft limit
LARGEST_STEP = 0.6  # radians a joint may turn at once


class BodyArrays(NamedTuple):
    """A body of B bones (root first) and M markers riding on them, for compiled loops.

    parents (B,); rest_offset_m (B, 3) from parent to joint in T-pose; marker_bone (M,) and
    marker_offset_m (M, 3) in T-pose axes; sigma, low, high (B, 3): stiffness and soft limits, radians, of the rotation vector, and where
    `rolls` (B,) says that the bone is a forearm, of its forearm_angles.
    """

    parents: np.ndarray
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
    rotations (B, 3, 3) as sensors say, with world_weight (B,), 1/rad^2. Weight 0 is for none. pull (B, 6), or (0, 6) for none: a
    force, 1/m, and a moment about its joint that pull at a bone, in its own axes.
    """

    local: np.ndarray
    weight: np.ndarray
    world: np.ndarray
    world_weight: np.ndarray
    pull: np.ndarray


class Step(NamedTuple):
    """What one step of a pose is computed in. Rows are bones; the last one of B + 1 is for what the root's translation moves.

    world (B, 3, 3), joint (B, 3), marker (M, 3): of the pose. s0 (B,), s1 (B, 3), s2 (B, 3, 3): sums of W, W x and the upper half of
    W x x^T over a bone's own markers, x from the root joint. turning, mixed, moving (B + 1, 3, 3): the inertia of what the children hand over, of
    turns against turns, turns against moves and moves against moves, upper halves of the first and the last; moment, force (B + 1, 3):
    what pulls at it. own (B, 3, 3), pull (B, 3): of what acts on a joint alone. top, bottom (B, 3, 3): by how much a joint's turn takes part in
    turns and moves; inverse (B + 1, 3, 3); left (B, 3): what pulls at a joint; turn, shift (B, 3): how subtrees move; step (B + 1, 3): the
    root's translation and the bones' rotations. v (3,) and a (3, 3) are scratch: these loops run a hundred thousand times a take.
    """

    world: np.ndarray
    joint: np.ndarray
    marker: np.ndarray
    s0: np.ndarray
    s1: np.ndarray
    s2: np.ndarray
    turning: np.ndarray
    mixed: np.ndarray
    moving: np.ndarray
    moment: np.ndarray
    force: np.ndarray
    own: np.ndarray
    pull: np.ndarray
    top: np.ndarray
    bottom: np.ndarray
    inverse: np.ndarray
    left: np.ndarray
    turn: np.ndarray
    shift: np.ndarray
    step: np.ndarray
    v: np.ndarray
    a: np.ndarray


@jit
def pose_joints(body, root, local, world, joint):
    """World rotations and joints of one pose, into world (B, 3, 3) and joint (B, 3)."""
    for b in range(body.parents.shape[0]):
        p = body.parents[b]
        if p < 0:
            set_row(joint, b, (root[0], root[1], root[2]))
            set_matrix(world[b], matrix(local[b]))
        else:
            set_row(joint, b, plus(row(joint, p), times(matrix(world[p]), row(body.rest_offset_m, b))))
            multiply(world[p], local[b], world[b])


@jit
def place_markers(body, world, joint, out):
    """World positions of the markers, into out (M, 3)."""
    for m in range(body.marker_bone.shape[0]):
        b = body.marker_bone[m]
        set_row(out, m, plus(row(joint, b), times(matrix(world[b]), row(body.marker_offset_m, m))))


@jit
def new_step(body):
    """A Step for a body, not cleared yet."""
    bones, markers = body.parents.shape[0], body.marker_bone.shape[0]
    return Step(
        np.empty((bones, 3, 3)), np.empty((bones, 3)), np.empty((markers, 3)), np.empty(bones), np.empty((bones, 3)),
        np.empty((bones, 3, 3)), np.empty((bones + 1, 3, 3)), np.empty((bones + 1, 3, 3)), np.empty((bones + 1, 3, 3)),
        np.empty((bones + 1, 3)), np.empty((bones + 1, 3)), np.empty((bones, 3, 3)), np.empty((bones, 3)), np.empty((bones, 3, 3)),
        np.empty((bones, 3, 3)), np.empty((bones + 1, 3, 3)), np.empty((bones, 3)), np.empty((bones, 3)), np.empty((bones, 3)),
        np.empty((bones + 1, 3)), np.empty(3), np.empty((3, 3)),
    )  # fmt: skip


@jit
def clear(n):
    """Take out of a Step what was summed up in it. Nothing holds the root's translation but for a trace."""
    n.s0[:] = 0.0
    n.s1[:] = 0.0
    n.s2[:] = 0.0
    n.turning[:] = 0.0
    n.mixed[:] = 0.0
    n.moving[:] = 0.0
    n.moment[:] = 0.0
    n.force[:] = 0.0
    for i in range(3):
        n.moving[n.s0.shape[0], i, i] = 1e-6


@jit
def add_markers(body, observed, root, n):
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
def _add_sensors(body, expected, n):
    """What sensors say of the bones' world rotations; every bone above turns these as well."""
    for b in range(body.parents.shape[0]):
        w = expected.world_weight[b]
        if w > 0.0:
            rotation_to(expected.world[b], n.world[b], n.a, n.v)
            for i in range(3):
                n.moment[b, i] += w * n.v[i]
                n.turning[b, i, i] += w


@jit
def _add_expected(body, expected, local, damping, n):
    """Stiffness, soft limits and the predicted pose; they act on the local rotation: d(theta) = parent^T w."""
    world, own, pull, v, a = n.world, n.own, n.pull, n.v, n.a
    sigma, low, high, wanted = body.sigma, body.low, body.high, expected.local
    for b in range(body.parents.shape[0]):
        p, wish = body.parents[b], expected.weight[b]
        axes = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))
        if p >= 0:
            axes = matrix(world[p])
        towards = (0.0, 0.0, 0.0)
        if wish > 0.0:
            for i in range(3):
                for j in range(3):
                    a[i, j] = (
                        wanted[b, i, 0] * local[b, j, 0]
                        + wanted[b, i, 1] * local[b, j, 1]
                        + wanted[b, i, 2] * local[b, j, 2]
                    )
            log_rotation(a, v)
            towards = times(axes, (wish * v[0], wish * v[1], wish * v[2]))
        if body.rolls[b]:
            forearm_angles(local[b], v, a)
            multiply(world[p], a, n.inverse[b])  # nothing is in there yet
            axes = matrix(n.inverse[b])
        else:
            log_rotation(local[b], v)
        w0, e0 = _resisted(v[0], sigma[b, 0], low[b, 0], high[b, 0])
        w1, e1 = _resisted(v[1], sigma[b, 1], low[b, 1], high[b, 1])
        w2, e2 = _resisted(v[2], sigma[b, 2], low[b, 2], high[b, 2])
        set_row(pull, b, plus(towards, times(axes, (e0, e1, e2))))
        for i in range(3):
            weighted = (w0 * axes[i][0], w1 * axes[i][1], w2 * axes[i][2])
            set_row(own[b], i, times(axes, weighted))
            own[b, i, i] += damping + wish


@jit
def _add_pulls(body, expected, root, n):
    """What pulls at bones besides."""
    for b in range(expected.pull.shape[0]):
        rows, pull = matrix(n.world[b]), expected.pull[b]
        force = times(rows, (pull[0], pull[1], pull[2]))
        moment = plus(times(rows, (pull[3], pull[4], pull[5])), cross(from_root(n.joint, b, root), force))
        set_row(n.force, b, plus(row(n.force, b), force))
        set_row(n.moment, b, plus(row(n.moment, b), moment))


@jit
def _resisted(angle, sigma, low, high):
    """(weight, pull) on one angle of a joint, by its stiffness and beyond its soft limits."""
    weight = 1.0 / (sigma * sigma)
    pull = -weight * angle
    beyond = min(angle - low, 0.0) + max(angle - high, 0.0)
    if beyond != 0.0:
        weight += LIMIT_WEIGHT
        pull -= LIMIT_WEIGHT * beyond
    return weight, pull


@jit
def from_root(joint, b, root):
    """The joint of a bone, from the root joint."""
    return joint[b, 0] - root[0], joint[b, 1] - root[1], joint[b, 2] - root[2]


@jit
def _symmetric(m):
    """The whole of a symmetric matrix of which the upper half is known."""
    return (m[0, 0], m[0, 1], m[0, 2]), (m[0, 1], m[1, 1], m[1, 2]), (m[0, 2], m[1, 2], m[2, 2])


@jit
def _add_upper(m, rows):
    m[0, 0] += rows[0][0]
    m[0, 1] += rows[0][1]
    m[0, 2] += rows[0][2]
    m[1, 1] += rows[1][1]
    m[1, 2] += rows[1][2]
    m[2, 2] += rows[2][2]


@jit
def hand_over(body, root, n):
    """From the leaves to the root: every joint gives way, and what its subtree still resists is handed to the bone above."""
    parents, bones = body.parents, body.parents.shape[0]
    for b in range(bones - 1, -1, -1):
        p, s = from_root(n.joint, b, root), row(n.s1, b)
        q = n.s2[b]
        turning = total(
            _symmetric(n.turning[b]),
            (
                (q[1, 1] + q[2, 2], -q[0, 1], -q[0, 2]),
                (-q[0, 1], q[0, 0] + q[2, 2], -q[1, 2]),
                (-q[0, 2], -q[1, 2], q[0, 0] + q[1, 1]),
            ),
        )
        mixed = total(matrix(n.mixed[b]), ((0.0, -s[2], s[1]), (s[2], 0.0, -s[0]), (-s[1], s[0], 0.0)))
        w = n.s0[b]
        moving = total(_symmetric(n.moving[b]), ((w, 0.0, 0.0), (0.0, w, 0.0), (0.0, 0.0, w)))
        moment, force = row(n.moment, b), row(n.force, b)
        # the joint turns its subtree by q, and the point at the root by p x q
        top = total(turning, rows_crossed(mixed, p))
        bottom = total(transposed(mixed), rows_crossed(moving, p))
        given = transposed(rows_crossed(transposed(bottom), p))  # -p x each of its columns
        set_matrix(n.a, total(total(top, given), matrix(n.own[b])))
        invert3(n.a, n.inverse[b])
        inverse = matrix(n.inverse[b])
        left = plus(minus(moment, cross(p, force)), row(n.pull, b))
        set_row(n.left, b, left)
        set_matrix(n.top[b], top)
        set_matrix(n.bottom[b], bottom)
        above = parents[b] if parents[b] >= 0 else bones
        bottom_given = times(inverse, bottom[0]), times(inverse, bottom[1]), times(inverse, bottom[2])
        set_row(n.force, above, plus(row(n.force, above), minus(force, times(bottom_given, left))))
        _add_upper(n.moving[above], less_product(moving, bottom_given, bottom))
        if above < bones:
            top_given = times(inverse, top[0]), times(inverse, top[1]), times(inverse, top[2])
            set_row(n.moment, above, plus(row(n.moment, above), minus(moment, times(top_given, left))))
            _add_upper(n.turning[above], less_product(turning, top_given, top))
            set_matrix(n.mixed[above], total(matrix(n.mixed[above]), less_product(mixed, top_given, bottom)))
    set_matrix(n.a, _symmetric(n.moving[bones]))
    invert3(n.a, n.inverse[bones])


@jit
def follow(body, root, n):
    """From the root to the leaves: the root's translation, and how far each joint turns once the bone above has moved."""
    parents, bones = body.parents, body.parents.shape[0]
    moved = times(matrix(n.inverse[bones]), row(n.force, bones))
    set_row(n.step, 0, moved)
    for b in range(bones):
        turn, shift = (0.0, 0.0, 0.0), moved
        if parents[b] >= 0:
            turn, shift = row(n.turn, parents[b]), row(n.shift, parents[b])
        given = plus(times(transposed(matrix(n.top[b])), turn), times(transposed(matrix(n.bottom[b])), shift))
        step = times(matrix(n.inverse[b]), minus(row(n.left, b), given))
        set_row(n.step, b + 1, step)
        set_row(n.turn, b, plus(turn, step))
        set_row(n.shift, b, plus(shift, cross(from_root(n.joint, b, root), step)))


@jit
def _move(body, n, root, local):
    """Take the step: local' = exp(parent^T w) local, no bone by more than LARGEST_STEP."""
    for i in range(3):
        root[i] += n.step[0, i]
    for b in range(body.parents.shape[0]):
        p, turn = body.parents[b], row(n.step, b + 1)
        size2 = dot(turn, turn)
        if size2 > LARGEST_STEP * LARGEST_STEP:
            f = LARGEST_STEP / np.sqrt(size2)
            turn = (f * turn[0], f * turn[1], f * turn[2])
        if p >= 0:
            turn = times(transposed(matrix(n.world[p])), turn)
        n.v[0], n.v[1], n.v[2] = turn
        exp_rotation(n.v, n.a)
        multiply(n.a, local[b], local[b])
        orthonormalise(local[b])


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
    n = new_step(body)
    for iteration in range(iterations + 1):
        pose_joints(body, root, local, n.world, n.joint)
        place_markers(body, n.world, n.joint, n.marker)
        if iteration == iterations:
            break
        clear(n)
        add_markers(body, observed, root, n)
        _add_sensors(body, expected, n)
        _add_pulls(body, expected, root, n)
        _add_expected(body, expected, local, damping, n)
        hand_over(body, root, n)
        follow(body, root, n)
        _move(body, n, root, local)
    distances(observed, n.marker, residual_m)
