"""Following a wand through a recording with cameras that are roughly known: every frame's pose and its sightings.

Where the wand is expected, its markers are projected into every picture and the nearest centroids taken; the pose is
fitted to them with gates that tighten. Expected is where the last frame's motion leads; where that fails, any single
picture's reading is tried, and what most sightings agree with stays.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

from otrevo.core.optics.camera import distort
from otrevo.core.optics.triangle_reading import MOST_TRIED, every_triangle
from otrevo.core.optics.wand_reading import MOST_POINTS, read_line, read_shape, rotate_by, turn_in_place

GATES_PX = np.array([60.0, 40.0, 20.0, 12.0, 6.0, 6.0])
FEWEST_SIGHTINGS = 4


@njit(cache=True, error_model="numpy")
def _settle(xy, begin, views, markers, gates, wand_rotation, wand_position, which):
    """Fit the wand's pose (rotation (3, 3), position (3,)) to the nearest centroids of one frame's pictures.

    begin (C + 1,): where each picture's centroids begin; which (C, M) receives their numbers, -1 for none. Returns the
    number of sightings within the last gate, 0 when fewer than two cameras see it, and their RMS in pixels.
    """
    lens, rotation, position = views
    cameras, count = lens.shape[0], markers.shape[0]
    uv, slope, look = np.empty(2), np.empty((2, 2)), np.empty((2, 3))
    j, h, g, small = np.empty((2, 6)), np.empty((6, 6)), np.empty(6), np.empty((3, 3))
    arm, p = np.empty((count, 3)), np.empty(3)
    sightings, total = 0, 0.0
    for step in range(len(gates) + 1):
        gate = gates[min(step, len(gates) - 1)]
        h[:], g[:], which[:] = 0.0, 0.0, -1
        sightings, total, seeing = 0, 0.0, 0
        for m in range(count):
            for i in range(3):
                arm[m, i] = (
                    wand_rotation[i, 0] * markers[m, 0]
                    + wand_rotation[i, 1] * markers[m, 1]
                    + wand_rotation[i, 2] * markers[m, 2]
                )
        for c in range(cameras):
            if begin[c + 1] == begin[c]:
                continue
            here = 0
            for m in range(count):
                for i in range(3):
                    p[i] = 0.0
                    for k in range(3):
                        p[i] += rotation[c, i, k] * (arm[m, k] + wand_position[k] - position[c, k])
                if p[2] < 0.05:
                    continue
                a, b = p[0] / p[2], p[1] / p[2]
                if a * a + b * b > 4.0:
                    continue
                distort(lens[c], a, b, uv, slope)
                near, who = gate, -1
                for n in range(begin[c], begin[c + 1]):
                    d = np.sqrt((xy[n, 0] - uv[0]) ** 2 + (xy[n, 1] - uv[1]) ** 2)
                    if d < near:
                        near, who = d, n
                if who < 0:
                    continue
                for k in range(m):  # two markers never share one centroid: the wand would shrink to a point
                    if which[c, k] == who:
                        who = -1
                        break
                if who < 0:
                    continue
                which[c, m] = who
                here += 1
                r0, r1 = xy[who, 0] - uv[0], xy[who, 1] - uv[1]
                total += near * near
                w = 1.0 / (1.0 + (near / (0.3 * gate)) ** 2) ** 2
                for i in range(2):
                    look[i, 0], look[i, 1] = slope[i, 0] / p[2], slope[i, 1] / p[2]
                    look[i, 2] = -(slope[i, 0] * a + slope[i, 1] * b) / p[2]
                    for k in range(3):
                        j[i, 3 + k] = (
                            look[i, 0] * rotation[c, 0, k]
                            + look[i, 1] * rotation[c, 1, k]
                            + look[i, 2] * rotation[c, 2, k]
                        )
                    j[i, 0] = j[i, 5] * arm[m, 1] - j[i, 4] * arm[m, 2]
                    j[i, 1] = j[i, 3] * arm[m, 2] - j[i, 5] * arm[m, 0]
                    j[i, 2] = j[i, 4] * arm[m, 0] - j[i, 3] * arm[m, 1]
                for i in range(6):
                    g[i] += w * (j[0, i] * r0 + j[1, i] * r1)
                    for k in range(6):
                        h[i, k] += w * (j[0, i] * j[0, k] + j[1, i] * j[1, k])
            sightings += here
            seeing += here > 0
        if seeing < 2 or sightings < FEWEST_SIGHTINGS:
            return 0, 1e9
        if step == len(gates):
            break
        for i in range(6):
            h[i, i] += 1e-6 * h[i, i] + 1e-2
        d = np.linalg.solve(h, g)
        rotate_by(d[:3], small)
        turn_in_place(small, wand_rotation)
        wand_position += d[3:]
    return sightings, np.sqrt(total / (2 * sightings))


class Followed(NamedTuple):
    """The wand in every frame: rotation (F, 3, 3), position (F, 3), which (F, C, M) centroids, -1 for none; score (F,):
    number of sightings that agree, 0 where the wand was not found.
    """

    rotation: np.ndarray
    position: np.ndarray
    which: np.ndarray
    score: np.ndarray


def nothing_followed(frames, cameras, markers):
    """A Followed to be filled."""
    which = np.full((frames, cameras, markers), -1)
    return Followed(np.zeros((frames, 3, 3)), np.zeros((frames, 3)), which, np.zeros(frames, dtype=np.int64))


@njit(cache=True, error_model="numpy")
def _keep(out, f, rotation, position, which, score):
    """Enter the wand's pose in frame f, and the sightings it explains."""
    for i in range(3):
        out.position[f, i] = position[i]
        for j in range(3):
            out.rotation[f, i, j] = rotation[i, j]
    for c in range(which.shape[0]):
        for m in range(which.shape[1]):
            out.which[f, c, m] = which[c, m]
    out.score[f] = score


@njit(cache=True, error_model="numpy")
def _expect(out, f, before, rotation, position):
    """The wand's pose in frame f as it went on since frame `before`, into rotation (3, 3) and position (3,)."""
    then, goes_on = out.rotation[before], before > 0 and out.score[before - 1] > 0
    for i in range(3):
        position[i] = out.position[before, i]
        if goes_on:
            position[i] += (f - before) * (out.position[before, i] - out.position[before - 1, i])
        for j in range(3):
            rotation[i, j] = then[i, j]
    if not goes_on:
        return
    last = out.rotation[before - 1]
    for i in range(3):
        for j in range(3):
            rotation[i, j] = 0.0
            for k in range(3):
                turn = last[0, k] * then[0, j] + last[1, k] * then[1, j] + last[2, k] * then[2, j]
                rotation[i, j] += then[i, k] * turn
    _square_up(rotation)


@njit(cache=True, error_model="numpy")
def _guess(shape, here, lens, one, tried):
    """Ways in which a wand may lie in one picture's centroids `here`, into tried (K, M, 3) before the camera; how many."""
    if shape.straight:
        return 1 if read_line(here, lens, shape.order, shape.shares, shape.size_m, one, tried[0]) else 0
    if shape.order.shape[0] == 3:
        return every_triangle(here, lens, shape.markers_m, tried)
    return 1 if read_shape(here, lens, shape.order, shape.markers_m, shape.size_m, one, tried[0]) else 0


@njit(cache=True, error_model="numpy")
def follow(shape, pictures, views, gates, out):
    """Follow a wand through all frames. shape: WandShape; pictures: Pictures; views: Views; gates (K,) pixels; out: Followed."""
    cameras, count = views.lens.shape[0], shape.order.shape[0]
    xy, groups = pictures.xy, pictures.groups
    one, tried = np.empty(count, dtype=np.int64), np.empty((MOST_TRIED, count, 3))
    now_rotation, now_position = np.empty((3, 3)), np.empty(3)
    trial = np.empty((cameras, count), dtype=np.int64)
    before = np.int64(-10)
    b = np.empty((count, 3))
    for f in range(out.score.shape[0]):
        begin = groups[f * cameras : f * cameras + cameras + 1]
        visible = 0
        for c in range(cameras):
            visible += min(begin[c + 1] - begin[c], count)
        best = 0
        if f - before <= 5 and before >= 0:
            _expect(out, f, before, now_rotation, now_position)
            best, rms = _settle(xy, begin, views, shape.markers_m, gates, now_rotation, now_position, trial)
            _keep(out, f, now_rotation, now_position, trial, best)
        if best < 0.5 * visible or best == 0:  # lost, or much is seen that is not explained: look afresh
            for c in range(cameras):
                n = begin[c + 1] - begin[c]
                if n < count or n > MOST_POINTS:
                    continue
                guesses = _guess(shape, xy[begin[c] : begin[c + 1]], views.lens[c], one, tried)
                for g in range(guesses):
                    for m in range(count):
                        for i in range(3):
                            b[m, i] = views.position[c, i]
                            for k in range(3):
                                b[m, i] += views.rotation[c, k, i] * tried[g, m, k]
                    _rigid(shape.markers_m, b, now_rotation, now_position)
                    found, rms = _settle(xy, begin, views, shape.markers_m, gates, now_rotation, now_position, trial)
                    if found > best:
                        best = found
                        _keep(out, f, now_rotation, now_position, trial, best)
                if best >= 0.7 * visible:
                    break
        if best > 0:
            before = f
        else:
            out.score[f] = 0
            out.which[f] = -1


@njit(cache=True, error_model="numpy")
def _square_up(wand_rotation):
    """Make a matrix that is nearly a rotation one again: small errors would grow from frame to frame."""
    for i in range(2):
        for k in range(i):
            wand_rotation[i] -= np.dot(wand_rotation[i], wand_rotation[k]) * wand_rotation[k]
        wand_rotation[i] /= np.sqrt(np.dot(wand_rotation[i], wand_rotation[i]))
    for i in range(3):
        wand_rotation[2, i] = (
            wand_rotation[0, (i + 1) % 3] * wand_rotation[1, (i + 2) % 3]
            - wand_rotation[0, (i + 2) % 3] * wand_rotation[1, (i + 1) % 3]
        )


@njit(cache=True, error_model="numpy")
def _rigid(a, b, wand_rotation, wand_position):
    """The move (rotation (3, 3), position (3,)) that takes points a (K, 3) nearest to b; for points of one line, one of many."""
    count = a.shape[0]
    middle_a, middle_b = np.zeros(3), np.zeros(3)
    for k in range(count):
        middle_a += a[k] / count
        middle_b += b[k] / count
    product = np.zeros((3, 3))
    for k in range(count):
        for i in range(3):
            for j in range(3):
                product[i, j] += (a[k, i] - middle_a[i]) * (b[k, j] - middle_b[j])
    u, _, vt = np.linalg.svd(product)
    v = np.ascontiguousarray(vt.T)
    turned = v @ np.ascontiguousarray(u.T)
    if np.linalg.det(turned) < 0:
        v[:, 2] *= -1
        turned = v @ np.ascontiguousarray(u.T)
    for i in range(3):
        wand_position[i] = middle_b[i]
        for j in range(3):
            wand_rotation[i, j] = turned[i, j]
            wand_position[i] -= turned[i, j] * middle_a[j]
