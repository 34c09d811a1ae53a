"""What a frame's least squares say of its joints: their covariances, and where they go when a marker is off. Compiled.

H = J^T W J + P of one frame, over the root's translation and every bone's small rotation, as core.solve.uncertainty has it. It is not written
out: as in core.body.tree_solver, what a subtree resists is handed from the leaves to the root. How unsure it is where a bone is then
goes from the root to the leaves: what is unsure of the bone above, less what the joint gives way to, and what is unsure of the joint itself.
"""

from typing import NamedTuple

import numpy as np

from otrevo.core.body.compiled_rotations import forearm_angles, multiply
from otrevo.core.body.compiled_vectors import (
    cross,
    jit,
    matrix,
    minus,
    plus,
    product,
    row,
    rows_crossed,
    set_matrix,
    total,
    transposed,
)
from otrevo.core.body.tree_solver import Observed, add_markers, clear, follow, from_root, hand_over, new_step


class Frames(NamedTuple):
    """Poses of frames: rotation (F, B, 3, 3) of bones in the world, joint (F, B, 3), marker (F, M, 3) on the body."""

    rotation: np.ndarray
    joint: np.ndarray
    marker: np.ndarray


@jit
def _forearm_axes(above, world, out):
    """The axes in the world about which a forearm rolls, bends and is bent sideways, into the columns of out (3, 3), by world rotations."""
    local, angles, axes = np.empty((3, 3)), np.empty(3), np.empty((3, 3))
    set_matrix(local, product(transposed(matrix(above)), matrix(world)))
    forearm_angles(local, angles, axes)
    multiply(above, axes, out)


@jit
def _sum_up(body, pose, observed, target_weight, bridge, n):
    """All that holds a frame's unknowns, into a Step; bridge (1 + B,): of the root's place and the bones' rotations."""
    bones, hinge = body.parents.shape[0], np.empty((3, 3))
    clear(n)
    for m in range(pose.marker.shape[0]):
        n.marker[m] = pose.marker[m]
    for b in range(bones):
        n.joint[b] = pose.joint[b]
    add_markers(body, observed, pose.joint[0], n)
    n.pull[:] = 0.0
    n.own[:] = 0.0
    for b in range(bones):
        p = body.parents[b]
        axes = pose.rotation[p]
        if body.rolls[b]:
            _forearm_axes(axes, pose.rotation[b], hinge)
            axes = hinge
        for i in range(3):
            n.turning[b, i, i] += target_weight[b]  # a sensor feels every rotation above its bone
            n.own[b, i, i] += bridge[1 + b]
            for j in range(3):
                if p < 0:
                    n.own[b, i, j] += 1.0 / body.sigma[b, i] ** 2 if i == j else 0.0
                else:
                    for axis in range(3):
                        n.own[b, i, j] += axes[i, axis] * axes[j, axis] / body.sigma[b, axis] ** 2
    for i in range(3):
        n.moving[bones, i, i] += bridge[0]
    hand_over(body, pose.joint[0], n)


@jit
def joint_variances(body, poses, weight, target_weight, bridge, out):
    """Of the joints' covariances C = D H^-1 D^T: trace(C) and trace(C^2), into out (F, B, 2)."""
    n, bones = new_step(body), body.parents.shape[0]
    # covariances of how bones turn, of turns with shifts, and of shifts of the point at the root with them; the last row is the root's translation
    turns, both, shifts = np.zeros((bones + 1, 3, 3)), np.zeros((bones + 1, 3, 3)), np.zeros((bones + 1, 3, 3))
    for f in range(out.shape[0]):
        pose = Frames(poses.rotation[f], poses.joint[f], poses.marker[f])
        _sum_up(body, pose, Observed(pose.marker, weight[f], 0.0), target_weight[f], bridge[f], n)
        set_matrix(shifts[bones], matrix(n.inverse[bones]))
        for b in range(bones):
            above, p = body.parents[b] if body.parents[b] >= 0 else bones, from_root(n.joint, b, pose.joint[0])
            turn, mixed, shift = matrix(turns[above]), matrix(both[above]), matrix(shifts[above])
            covariance = _of_place(turn, transposed(mixed), shift, p)
            out[f, b, 0] = covariance[0][0] + covariance[1][1] + covariance[2][2]
            out[f, b, 1] = 0.0
            for i in range(3):
                for j in range(3):
                    out[f, b, 1] += covariance[i][j] * covariance[i][j]
            # the joint gives way by z = K T^T turn + K U^T shift, and is itself unsure by K
            inverse = matrix(n.inverse[b])
            by_turn = product(inverse, transposed(matrix(n.top[b])))
            by_shift = product(inverse, transposed(matrix(n.bottom[b])))
            turn_z = total(product(turn, transposed(by_turn)), product(mixed, transposed(by_shift)))
            shift_z = total(product(transposed(mixed), transposed(by_turn)), product(shift, transposed(by_shift)))
            own = total(inverse, total(product(by_turn, turn_z), product(by_shift, shift_z)))
            rest = _less(own, turn_z)
            set_matrix(turns[b], _less(total(turn, rest), transposed(turn_z)))
            set_matrix(both[b], _less(_less(mixed, transposed(shift_z)), rows_crossed(rest, p)))
            set_matrix(shifts[b], _of_place(own, shift_z, shift, p))


@jit
def _less(a, b):
    """a - b of matrices."""
    return minus(a[0], b[0]), minus(a[1], b[1]), minus(a[2], b[2])


@jit
def _of_place(turn, mixed, shift, p):
    """The covariance of shift + turn x p, by the covariances of turn, of shift with turn, and of shift."""
    either = rows_crossed(mixed, p)
    twice = transposed(rows_crossed(transposed(rows_crossed(turn, p)), p))
    return total(total(shift, twice), total(either, transposed(either)))


@jit
def moved_joints(body, pose, weight, target_weight, marker, offset_m, out):
    """How far each joint moves, into out (B,), when one marker is off by offset_m (3,)."""
    n, bones, observed_m = new_step(body), body.parents.shape[0], pose.marker.copy()
    for i in range(3):
        observed_m[marker, i] += offset_m[i]
    _sum_up(body, pose, Observed(observed_m, weight, 0.0), target_weight, np.zeros(1 + bones), n)
    follow(body, pose.joint[0], n)
    for b in range(bones):
        moved = row(n.step, 0)
        if body.parents[b] >= 0:
            p, above = from_root(n.joint, b, pose.joint[0]), body.parents[b]
            moved = plus(row(n.shift, above), cross(row(n.turn, above), p))
        out[b] = np.sqrt(moved[0] * moved[0] + moved[1] * moved[1] + moved[2] * moved[2])
