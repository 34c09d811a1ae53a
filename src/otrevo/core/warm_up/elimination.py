"""Eliminating the poses of many frames from the normal equations of a body's geometry. Compiled.

Pose columns: a world-axis turn per bone, the last bone first, then the root's translation. A marker moves with the bones above
it alone, so a bone's turn only meets those of the bones above it, before and after those below it have gone: eliminated from
the tips of a tree, its normal matrix fills in nothing (D. J. Rose, A graph-theoretic study of the numerical solution of sparse
positive definite systems of linear equations, 1972).
"""

from functools import cache

import numpy as np
from numba import njit


@njit(cache=True, error_model="numpy")
def eliminate(parents, columns, column_count, hpp, hpg, gp):
    """Eliminate the poses of frames bone by bone, the last first: in place, hpp becomes its Cholesky factor L and hpg, gp become
    L^-1 hpg, L^-1 gp.

    A bone's turn only meets the geometry below it and on its own way up: columns (B + 1, G) begin with the numbers of
    these, column_count (B + 1,) of them, the root's translation last. hpp (F, P, P) lower triangle, hpg (F, P, G), gp (F, P).
    """
    bones = parents.shape[0]
    for f in range(hpp.shape[0]):
        h, g, v = hpp[f], hpg[f], gp[f]
        for block in range(bones + 1):
            own = 3 * block
            bone = bones - 1 - block  # -1 for the translation
            count = column_count[block]
            for i in range(3):  # the factor of its own 3 by 3, and of these three rows
                for j in range(i + 1):
                    total = h[own + i, own + j]
                    for k in range(j):
                        total -= h[own + i, own + k] * h[own + j, own + k]
                    h[own + i, own + j] = np.sqrt(total) if i == j else total / h[own + j, own + j]
                scale = 1.0 / h[own + i, own + i]
                for k in range(i):
                    share = h[own + i, own + k]
                    for c in range(count):
                        g[own + i, columns[block, c]] -= share * g[own + k, columns[block, c]]
                    v[own + i] -= share * v[own + k]
                for c in range(count):
                    g[own + i, columns[block, c]] *= scale
                v[own + i] *= scale
            if bone < 0:
                continue
            above = parents[bone]
            while True:  # the rows of every bone above, and of the translation
                at = 3 * (bones - 1 - above)
                for i in range(3):
                    for j in range(3):
                        total = h[at + i, own + j]
                        for k in range(j):
                            total -= h[at + i, own + k] * h[own + j, own + k]
                        h[at + i, own + j] = total / h[own + j, own + j]
                for i in range(3):
                    for k in range(3):
                        share = h[at + i, own + k]
                        for c in range(count):
                            g[at + i, columns[block, c]] -= share * g[own + k, columns[block, c]]
                        v[at + i] -= share * v[own + k]
                if above < 0:
                    break
                above = parents[above]
            first = parents[bone]
            while True:
                at = 3 * (bones - 1 - first)
                second = parents[bone]
                while True:
                    to = 3 * (bones - 1 - second)
                    for i in range(3):
                        for j in range(3):
                            for k in range(3):
                                h[at + i, to + j] -= h[at + i, own + k] * h[to + j, own + k]
                    if second == first:
                        break
                    second = parents[second]
                if first < 0:
                    break
                first = parents[first]


@njit(cache=True, error_model="numpy")
def take_off(columns, column_count, hpg, gp, hgg, gg):
    """Take what frames' poses explain off the normal equations of the geometry, hgg (G, G) and gg (G,): hpg and gp as eliminate leaves them."""
    frames = hpg.shape[0]
    for block in range(columns.shape[0]):
        count, own = column_count[block], 3 * block
        half, pull = np.empty((3 * frames, count)), np.empty(3 * frames)
        for f in range(frames):
            for i in range(3):
                pull[3 * f + i] = gp[f, own + i]
                for c in range(count):
                    half[3 * f + i, c] = hpg[f, own + i, columns[block, c]]
        explained, pulled = half.T @ half, pull @ half
        for c in range(count):
            gg[columns[block, c]] -= pulled[c]
            for d in range(count):
                hgg[columns[block, c], columns[block, d]] -= explained[c, d]


@cache
def columns_below(parents, marker_bone):
    """Which geometry columns the rows of each bone have, the last bone first and the root's translation at the end, for eliminate.

    Those of markers below it, of joints below it and of joints on its way up: columns (B + 1, G), column_count (B + 1,).
    parents, marker_bone: the bytes of a skeleton's and a BodyModel's.
    """
    parents, marker_bone = (np.frombuffer(given, dtype=np.int64) for given in (parents, marker_bone))
    bones = len(parents)
    up = np.zeros((bones, bones), dtype=bool)  # [b, a]: a is b or above it
    for b in range(bones):
        up[b, b] = True
        if parents[b] >= 0:
            up[b] |= up[parents[b]]
    columns = np.zeros((bones + 1, 3 * (bones - 1 + len(marker_bone))), dtype=np.int64)
    count = np.zeros(bones + 1, dtype=np.int64)
    for block in range(bones + 1):
        bone = max(bones - 1 - block, 0)
        joints = np.flatnonzero((up[:, bone] | up[bone])[1:])
        markers = np.flatnonzero(up[marker_bone, bone])
        mine = np.concatenate([joints, bones - 1 + markers])
        count[block] = 3 * len(mine)
        columns[block, : count[block]] = (3 * mine[:, None] + np.arange(3)).ravel()
    return columns, count


@njit(cache=True, error_model="numpy")
def rotation_variance(factors, world, parents, out):
    """Add the variance of every joint's turn about its parent's axes, rad2, of all frames to out (B, 3).

    factors (F, P, P): Cholesky factors L of the pose's normal matrices as eliminate leaves them; world (F, B, 3, 3). The columns
    of L^-1 have rows of the bone itself and of those above it, and of the translation, alone.
    """
    bones = parents.shape[0]
    column = np.zeros((3 * bones + 3, 3))
    for f in range(factors.shape[0]):
        h = factors[f]
        for b in range(bones):
            p, row = parents[b], b
            while True:  # L column = unit vectors, upwards
                at = 3 * (bones - 1 - row)
                for i in range(3):
                    for j in range(3):
                        total = 1.0 if row == b and i == j else 0.0
                        below = b
                        while below != row:
                            to = 3 * (bones - 1 - below)
                            for k in range(3):
                                total -= h[at + i, to + k] * column[to + k, j]
                            below = parents[below]
                        for k in range(i):
                            total -= h[at + i, at + k] * column[at + k, j]
                        column[at + i, j] = total / h[at + i, at + i]
                for i in range(3):
                    for j in range(3):
                        turned = column[at + i, j]
                        if p >= 0:
                            turned = 0.0
                            for k in range(3):
                                turned += column[at + i, k] * world[f, p, k, j]
                        out[b, j] += turned * turned
                if row < 0:
                    break
                row = parents[row]
