"""What a frame's least squares say of its joints: their covariances, and where they go when a marker is off. Compiled.

H = J^T W J + P of one frame, over the root's translation and every bone's small rotation, as core.solve.uncertainty has it.
"""

from typing import NamedTuple

import numpy as np

from otrevo.core.body.compiled_rotations import forearm_angles, multiply
from otrevo.core.body.compiled_vectors import jit


class Frames(NamedTuple):
    """Poses of frames: rotation (F, B, 3, 3) of bones in the world, joint (F, B, 3), marker (F, M, 3) on the body."""

    rotation: np.ndarray
    joint: np.ndarray
    marker: np.ndarray


@jit
def _pair(u, w, out, row, column, h):
    """h += w J^T K at a block, with J = [u]x of one bone and K = [out]x of another: w ((u . v) I - v u^T)."""
    dot = w * (u[0] * out[0] + u[1] * out[1] + u[2] * out[2])
    for i in range(3):
        h[row + i, column + i] += dot
        for j in range(3):
            h[row + i, column + j] -= w * out[i] * u[j]


@jit
def _add_marker(chain, joint, x, w, arm, h):
    """Information of one marker at x (3,) with weight w; chain: the blocks that carry it; arm (depth, 3) is scratch."""
    depth = 0
    while depth < chain.shape[0] and chain[depth] > 0:
        for i in range(3):
            arm[depth, i] = joint[chain[depth] - 1, i] - x[i]
        depth += 1
    for i in range(3):
        h[i, i] += w
    for s in range(depth):
        at, u = 3 * chain[s], arm[s]
        h[at, 1] += w * u[2]  # [u]x^T against the translation
        h[at, 2] -= w * u[1]
        h[at + 1, 0] -= w * u[2]
        h[at + 1, 2] += w * u[0]
        h[at + 2, 0] += w * u[1]
        h[at + 2, 1] -= w * u[0]
        for t in range(depth):
            _pair(u, w, arm[t], at, 3 * chain[t], h)


@jit
def _forearm_axes(above, world, out):
    """The axes in the world about which a forearm rolls, bends and is bent sideways, into the columns of out (3, 3), by world rotations."""
    local, angles, axes = np.empty((3, 3)), np.empty(3), np.empty((3, 3))
    for i in range(3):
        for j in range(3):
            local[i, j] = above[0, i] * world[0, j] + above[1, i] * world[1, j] + above[2, i] * world[2, j]
    forearm_angles(local, angles, axes)
    multiply(above, axes, out)


@jit
def _fill_information(body, pose, weight, target_weight, bridge, h):
    """H of one frame, into h (n, n), of which the lower triangle counts; bridge (1 + B,): of the root's place and the bones' rotations."""
    h[:] = 0.0
    arm, hinge = np.empty((body.chain.shape[1], 3)), np.empty((3, 3))
    for i in range(3):
        h[i, i] = 1e-6 + bridge[0]
    for m in range(body.marker_bone.shape[0]):
        if weight[m] > 0.0:
            _add_marker(body.chain[body.marker_bone[m] + 1], pose.joint, pose.marker[m], weight[m], arm, h)
    for b in range(body.parents.shape[0]):
        p, at = body.parents[b], 3 + 3 * b
        axes = pose.rotation[p]
        if body.rolls[b]:
            _forearm_axes(axes, pose.rotation[b], hinge)
            axes = hinge
        for i in range(3):
            h[at + i, at + i] += bridge[1 + b]
            for j in range(3):
                if p < 0:
                    h[at + i, at + j] += 1.0 / body.sigma[b, i] ** 2 if i == j else 0.0
                else:
                    for axis in range(3):
                        stiff = 1.0 / body.sigma[b, axis] ** 2
                        h[at + i, at + j] += axes[i, axis] * stiff * axes[j, axis]
        if target_weight[b] > 0.0:  # a sensor feels every rotation above its bone
            chain = body.chain[b + 1]
            for one in chain:
                for other in chain:
                    if one > 0 and other > 0:
                        for i in range(3):
                            h[3 * one + i, 3 * other + i] += target_weight[b]


@jit
def _factorise(h):
    """Lower M with h = M^T M, in the lower triangle of h (n, n), in place.

    Eliminating from the end takes the leaves of the skeleton first: what has nothing to do with each other stays zero, and is skipped.
    """
    for j in range(h.shape[0] - 1, -1, -1):
        h[j, j] = np.sqrt(max(h[j, j], 1e-12))
        for i in range(j):
            h[j, i] /= h[j, j]
        for i in range(j):
            if h[j, i] != 0.0:
                for k in range(i + 1):
                    h[i, k] -= h[j, i] * h[j, k]


@jit
def _undo_transposed(m, values):
    """Solve M^T x = values (n,), in place."""
    for j in range(m.shape[0] - 1, -1, -1):
        if values[j] != 0.0:
            values[j] /= m[j, j]
            for i in range(j):
                values[i] -= m[j, i] * values[j]


@jit
def _joint_rows(body, joint, b, rows):
    """D of a joint, into rows (3, n): the root's translation and the rotations of all bones above it."""
    rows[:] = 0.0
    for i in range(3):
        rows[i, i] = 1.0
    a = body.parents[b]
    while a >= 0:  # w x (x - p) = [p - x]x w
        at = 3 + 3 * a
        u0, u1, u2 = joint[a, 0] - joint[b, 0], joint[a, 1] - joint[b, 1], joint[a, 2] - joint[b, 2]
        rows[0, at + 1], rows[0, at + 2] = -u2, u1
        rows[1, at], rows[1, at + 2] = u2, -u0
        rows[2, at], rows[2, at + 1] = -u1, u0
        a = body.parents[a]


@jit
def joint_variances(body, poses, weight, target_weight, bridge, out):
    """Of the joints' covariances C = (M^-T D^T)^T (M^-T D^T), with H = M^T M: trace(C) and trace(C^2), into out (F, B, 2)."""
    n = 3 + 3 * body.parents.shape[0]
    h, rows = np.empty((n, n)), np.empty((3, n))
    for f in range(out.shape[0]):
        pose = Frames(poses.rotation[f], poses.joint[f], poses.marker[f])
        _fill_information(body, pose, weight[f], target_weight[f], bridge[f], h)
        _factorise(h)
        for b in range(out.shape[1]):
            _joint_rows(body, pose.joint, b, rows)
            out[f, b, 0], out[f, b, 1] = 0.0, 0.0
            for axis in range(3):
                _undo_transposed(h, rows[axis])
                for other in range(axis + 1):
                    shared = 0.0
                    for i in range(n):
                        shared += rows[axis, i] * rows[other, i]
                    out[f, b, 1] += shared * shared if other == axis else 2 * shared * shared
                    if other == axis:
                        out[f, b, 0] += shared


@jit
def moved_joints(body, pose, weight, target_weight, marker, offset_m, out):
    """How far each joint moves, into out (B,), when one marker is off by offset_m (3,)."""
    n = 3 + 3 * body.parents.shape[0]
    h, rows, change = np.empty((n, n)), np.empty((3, n)), np.zeros(n)
    _fill_information(body, pose, weight, target_weight, np.zeros(1 + body.parents.shape[0]), h)
    _factorise(h)
    x, b = pose.marker[marker], body.marker_bone[marker]
    for i in range(3):
        change[i] = weight[marker] * offset_m[i]
    while b >= 0:  # J^T W offset
        u0, u1, u2 = pose.joint[b, 0] - x[0], pose.joint[b, 1] - x[1], pose.joint[b, 2] - x[2]
        at = 3 + 3 * b
        change[at] = weight[marker] * (u2 * offset_m[1] - u1 * offset_m[2])
        change[at + 1] = weight[marker] * (u0 * offset_m[2] - u2 * offset_m[0])
        change[at + 2] = weight[marker] * (u1 * offset_m[0] - u0 * offset_m[1])
        b = body.parents[b]
    _undo_transposed(h, change)
    for i in range(n):
        for k in range(i):
            change[i] -= h[i, k] * change[k]
        change[i] /= h[i, i]
    for b in range(out.shape[0]):
        _joint_rows(body, pose.joint, b, rows)
        out[b] = np.sqrt(((rows @ change) ** 2).sum())
