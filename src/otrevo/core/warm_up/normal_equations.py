"""What markers say of the poses of many frames and of a body's geometry: the normal equations of core.warm_up.geometry_fit. Compiled.

A marker at x moves with a turn of every bone above it, by [p - x]x with p the bone's joint, and with every joint offset above it, by the
rotation of the bone before that joint. All markers below two bones enter the product of these bones' columns by three sums alone, of
w, w x and w x x^T. So these are summed up from the tips, and each pair of bones is gone through once and not once for each marker.
"""

import numpy as np
from numba import njit


@njit(cache=True, error_model="numpy")
def normal_equations(parents, marker_bone, world, joint, x, r, weight, hpp, hpg, gp, hgg, gg):
    """Add every frame's markers to the normal equations.

    Pose columns: a world-axis turn per bone, the last bone first, then the root's translation; geometry columns: joint
    offsets of bones 1..B-1, then marker offsets. x, r (F, M, 3) predicted places and residuals, weight (F, M); the lower
    triangle of hpp (F, P, P), hpg (F, P, G), gp (F, P), hgg (G, G), gg (G) are added to.
    """
    bones = parents.shape[0]
    count, place, square = np.empty(bones), np.empty((bones, 3)), np.empty((bones, 3, 3))
    pull, turn = np.empty((bones, 3)), np.empty((bones, 3))
    middle, at = np.empty((bones, 3)), np.empty((x.shape[1], 3))
    for f in range(x.shape[0]):
        for i in range(3):  # about the root: far from the origin, differences of squares would lose digits
            for b in range(bones):
                middle[b, i] = joint[f, b, i] - joint[f, 0, i]
            for m in range(x.shape[1]):
                at[m, i] = x[f, m, i] - joint[f, 0, i]
        _sum_up(parents, marker_bone, at, r[f], weight[f], count, place, square, pull, turn)
        for b in range(bones):
            if count[b] > 0.0:
                _add_bone(parents, b, world[f], middle, count[b], place[b], square[b], pull[b], turn[b],
                          hpp[f], hpg[f], gp[f], hgg, gg)  # fmt: skip
        for i in range(3):
            hpp[f, 3 * bones + i, 3 * bones + i] += count[0]
            gp[f, 3 * bones + i] += pull[0, i]
        for m in range(x.shape[1]):
            if weight[f, m] > 0.0:
                _add_marker(parents, m, marker_bone[m], world[f], middle, at[m], r[f, m], weight[f, m], hpg[f], hgg, gg)


@njit(cache=True, error_model="numpy")
def _sum_up(parents, marker_bone, x, r, weight, count, place, square, pull, turn):
    """Of the markers (M, 3) below every bone: the sums of w (B,), w x (B, 3), w x x^T (B, 3, 3), w r (B, 3) and w x cross r (B, 3)."""
    for b in range(parents.shape[0]):
        count[b] = 0.0
        for i in range(3):
            place[b, i], pull[b, i], turn[b, i] = 0.0, 0.0, 0.0
            for j in range(3):
                square[b, i, j] = 0.0
    for m in range(x.shape[0]):
        b, w = marker_bone[m], weight[m]
        if w <= 0.0:
            continue
        count[b] += w
        for i in range(3):
            place[b, i] += w * x[m, i]
            pull[b, i] += w * r[m, i]
            for j in range(3):
                square[b, i, j] += w * x[m, i] * x[m, j]
            j, k = (i + 1) % 3, (i + 2) % 3
            turn[b, i] += w * (x[m, j] * r[m, k] - x[m, k] * r[m, j])
    for b in range(parents.shape[0] - 1, 0, -1):
        a = parents[b]
        count[a] += count[b]
        for i in range(3):
            place[a, i] += place[b, i]
            pull[a, i] += pull[b, i]
            turn[a, i] += turn[b, i]
            for j in range(3):
                square[a, i, j] += square[b, i, j]


@njit(cache=True, error_model="numpy")
def _add_turned(u0, u1, u2, rotation, to, row, column):
    """Add [u]x rotation to a block (3, 3)."""
    for k in range(3):
        to[row, column + k] += u1 * rotation[2, k] - u2 * rotation[1, k]
        to[row + 1, column + k] += u2 * rotation[0, k] - u0 * rotation[2, k]
        to[row + 2, column + k] += u0 * rotation[1, k] - u1 * rotation[0, k]


@njit(cache=True, error_model="numpy")
def _add_between(w, one, other, to, row, column):
    """Add w one^T other, of rotations, to a block (3, 3)."""
    for i in range(3):
        a, b, c = w * one[0, i], w * one[1, i], w * one[2, i]
        for j in range(3):
            to[row + i, column + j] += a * other[0, j] + b * other[1, j] + c * other[2, j]


@njit(cache=True, error_model="numpy")
def _add_bone(parents, b, world, joint, count, place, square, pull, turn, hpp, hpg, gp, hgg, gg):
    """Add what bone b's turn and its joint's offset have in common with those of the bones above it, by the sums over the markers below b."""
    bones, p, above = parents.shape[0], joint[b], parents[b]
    own, own_offset = 3 * (bones - 1 - b), 3 * (b - 1)
    trace = square[0, 0] + square[1, 1] + square[2, 2]
    lever = np.empty(3)
    for i in range(3):
        j, k = (i + 1) % 3, (i + 2) % 3
        lever[i] = place[i] - count * p[i]
        gp[own + i] += turn[i] - (p[j] * pull[k] - p[k] * pull[j])
    hpp[3 * bones, own + 1] += lever[2]  # -[lever]x
    hpp[3 * bones, own + 2] -= lever[1]
    hpp[3 * bones + 1, own] -= lever[2]
    hpp[3 * bones + 1, own + 2] += lever[0]
    hpp[3 * bones + 2, own] += lever[1]
    hpp[3 * bones + 2, own + 1] -= lever[0]
    if above >= 0:
        before = world[above]
        for i in range(3):
            for k in range(3):
                gg[own_offset + k] += before[i, k] * pull[i]
                hpg[3 * bones + i, own_offset + k] += count * before[i, k]
    a, moved = b, np.empty(3)
    while a >= 0:  # the turns of b and of every bone above it
        q, to = joint[a], 3 * (bones - 1 - a)
        inner = trace
        for i in range(3):
            inner += count * p[i] * q[i] - (p[i] + q[i]) * place[i]
            moved[i] = place[i] - count * q[i]
        for i in range(3):
            for j in range(3 if a != b else i + 1):
                hpp[to + i, own + j] -= square[i, j] - p[i] * place[j] - place[i] * q[j] + count * p[i] * q[j]
            hpp[to + i, own + i] += inner
        if above >= 0:  # a's turn against the offset of b's joint
            _add_turned(moved[0], moved[1], moved[2], world[above], hpg, to, own_offset)
            before = parents[a]
            if before >= 0:
                at = 3 * (a - 1)
                if a != b:  # b's turn against the offset of a's joint
                    _add_turned(lever[0], lever[1], lever[2], world[before], hpg, own, at)
                    _add_between(count, world[before], world[above], hgg, at, own_offset)
                _add_between(count, world[above], world[before], hgg, own_offset, at)
        a = parents[a]


@njit(cache=True, error_model="numpy")
def _add_marker(parents, m, b, world, joint, x, r, w, hpg, hgg, gg):
    """Add what the offset of marker m on bone b has in common with the turns and the joints above it."""
    bones = parents.shape[0]
    own, rotation, lever = 3 * (bones - 1) + 3 * m, world[b], np.empty(3)
    for k in range(3):
        gg[own + k] += w * (rotation[0, k] * r[0] + rotation[1, k] * r[1] + rotation[2, k] * r[2])
        hgg[own + k, own + k] += w
        for i in range(3):
            hpg[3 * bones + i, own + k] += w * rotation[i, k]
    a = b
    while a >= 0:
        for i in range(3):
            lever[i] = w * (x[i] - joint[a, i])
        to = 3 * (bones - 1 - a)
        _add_turned(lever[0], lever[1], lever[2], rotation, hpg, to, own)
        before = parents[a]
        if before >= 0:
            at = 3 * (a - 1)
            _add_between(w, world[before], rotation, hgg, at, own)
            _add_between(w, rotation, world[before], hgg, own, at)
        a = before
