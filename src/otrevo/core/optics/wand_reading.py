"""Reading a wand in one picture: which centroid is which marker, and where the wand is before that one camera.

Straight wands: three points of one line have one depth ratio that puts the inner marker where it is seen; with it the
wand's place follows in closed form. Other wands: every three centroids are taken for the three markers that span the
largest triangle, posed under weak perspective (T. D. Alter, 3-D pose from 3 points using weak perspective, 1994), the
other markers looked for, and what fits is refined under full perspective by Gauss-Newton. A reading that a second one
comes close to is not taken: frames are plenty, and a wrong start is dear.
"""

from itertools import combinations
from typing import NamedTuple

import numpy as np
from numba import njit

from otrevo.core.optics.wand import line_shares

DEPTH_RATIO = 0.5  # how much nearer one end of a line may be than the other, as a logarithm
MOST_TRIED = 12  # hypotheses that are refined
STEPS = np.int64(6)  # of a fit; NumPy's integer, because a bare one has the fit compiled anew for each number
MOST_POINTS = 14  # pictures with more centroids are left alone


class WandShape(NamedTuple):
    """What readers need of a wand; shares (M,) of the way along a straight one; markers_m (M, 3); size_m: its length.

    order (M,): of a straight wand first marker, last marker, then the others; others begin with their largest triangle.
    """

    straight: bool
    order: np.ndarray
    shares: np.ndarray
    markers_m: np.ndarray
    size_m: float


def wand_shape(wand):
    """The WandShape of a Wand."""
    x = np.ascontiguousarray(wand.markers_m)
    if wand.straight:
        (first, last), shares = line_shares(wand)
        rest = [m for m in range(len(x)) if m not in (first, last)]
        return WandShape(True, np.array([first, last, *rest]), shares, x, float(np.linalg.norm(x[last] - x[first])))
    best = max(
        combinations(range(len(x)), 3), key=lambda t: np.linalg.norm(np.cross(x[t[1]] - x[t[0]], x[t[2]] - x[t[0]]))
    )
    rest = [m for m in range(len(x)) if m not in best]
    return WandShape(False, np.array([*best, *rest]), np.zeros(len(x)), x, float(np.ptp(x, axis=0).max()))


@njit(cache=True, error_model="numpy")
def read_line(xy, lens, order, shares, length_m, which, position):
    """Read a straight wand among xy (n, 2): which (M,) centroids, position (M, 3) before the camera; False if unclear."""
    n, markers = xy.shape[0], order.shape[0]
    best, second = 1e9, 1e9
    chosen, best_ratio = np.empty(markers, dtype=np.int64), 1.0
    trial = np.empty(markers, dtype=np.int64)
    for i in range(n):
        for j in range(n):
            if i == j:
                continue
            dx, dy = xy[j, 0] - xy[i, 0], xy[j, 1] - xy[i, 1]
            size = np.sqrt(dx * dx + dy * dy)
            if size < 12.0:
                continue
            tolerance = 1.0 + 0.012 * size
            for k in range(n):
                if k in (i, j):
                    continue
                s = shares[order[2]]
                t = ((xy[k, 0] - xy[i, 0]) * dx + (xy[k, 1] - xy[i, 1]) * dy) / (size * size)
                if t <= 0.02 or t >= 0.98:
                    continue
                off = abs((xy[k, 0] - xy[i, 0]) * dy - (xy[k, 1] - xy[i, 1]) * dx) / size
                ratio = t * (1 - s) / (s * (1 - t))
                bend = abs(np.log(ratio))
                if off > tolerance or bend > DEPTH_RATIO:
                    continue
                trial[0], trial[1], trial[2] = i, j, k
                score = off / tolerance + 2.0 * bend
                for q in range(3, markers):
                    s = shares[order[q]]
                    t = s * ratio / (1 - s + s * ratio)
                    near, who = 1e9, -1
                    for p in range(n):
                        if p != i and p != j and p != k:
                            away = np.hypot(xy[p, 0] - xy[i, 0] - t * dx, xy[p, 1] - xy[i, 1] - t * dy)
                            if away < near:
                                near, who = away, p
                    trial[q] = who
                    score += near / tolerance if near < 2 * tolerance else 1e9
                if score < best:
                    second, best, best_ratio = best, score, ratio
                    for q in range(markers):
                        chosen[q] = trial[q]
                elif score < second:
                    second = score
    if best > 1e8 or second < best + 0.4:
        return False
    for q in range(markers):
        which[order[q]] = chosen[q]
    ax, ay = (xy[chosen[0], 0] - lens[2]) / lens[0], (xy[chosen[0], 1] - lens[3]) / lens[1]
    cx, cy = (xy[chosen[1], 0] - lens[2]) / lens[0], (xy[chosen[1], 1] - lens[3]) / lens[1]
    near = length_m / np.sqrt((best_ratio * cx - ax) ** 2 + (best_ratio * cy - ay) ** 2 + (best_ratio - 1) ** 2)
    for q in range(markers):
        s = shares[order[q]]
        position[order[q], 0] = near * ((1 - s) * ax + s * best_ratio * cx)
        position[order[q], 1] = near * ((1 - s) * ay + s * best_ratio * cy)
        position[order[q], 2] = near * ((1 - s) + s * best_ratio)
    return True


@njit(cache=True, error_model="numpy")
def rotate_by(v, out):
    """Rotation matrix of a rotation vector."""
    angle = np.sqrt(v[0] ** 2 + v[1] ** 2 + v[2] ** 2)
    a = 1.0 - angle**2 / 6 if angle < 1e-6 else np.sin(angle) / angle
    b = 0.5 if angle < 1e-6 else (1 - np.cos(angle)) / angle**2
    x, y, z = v[0], v[1], v[2]
    out[0, 0], out[0, 1], out[0, 2] = 1 - b * (y * y + z * z), b * x * y - a * z, b * x * z + a * y
    out[1, 0], out[1, 1], out[1, 2] = b * x * y + a * z, 1 - b * (x * x + z * z), b * y * z - a * x
    out[2, 0], out[2, 1], out[2, 2] = b * x * z - a * y, b * y * z + a * x, 1 - b * (x * x + y * y)


@njit(cache=True, error_model="numpy")
def turn_in_place(by, rotation):
    """Turn a rotation (3, 3) by another, in place."""
    for j in range(3):
        x, y, z = rotation[0, j], rotation[1, j], rotation[2, j]
        for i in range(3):
            rotation[i, j] = by[i, 0] * x + by[i, 1] * y + by[i, 2] * z


@njit(cache=True, error_model="numpy")
def put_marker(rotation, shift, marker, out):
    """A marker (3,) turned and shifted, into out (3,)."""
    for i in range(3):
        out[i] = rotation[i, 0] * marker[0] + rotation[i, 1] * marker[1] + rotation[i, 2] * marker[2] + shift[i]


@njit(cache=True, error_model="numpy")
def refine_position(markers, seen, lens, rotation, shift, iterations):
    """Pose (rotation (3, 3), shift (3,)) of markers (M, 3) before a pinhole camera, fitted to seen (M, 2); RMS in pixels."""
    count = markers.shape[0]
    j, h, g = np.empty((2, 6)), np.empty((6, 6)), np.empty(6)
    small, r, q = np.empty((3, 3)), np.empty(2), np.empty(3)
    rms = 1e9
    for step in range(iterations + 1):
        h[:], g[:], total = 0.0, 0.0, 0.0
        for m in range(count):
            put_marker(rotation, shift, markers[m], q)
            x, y, z = q[0], q[1], q[2]
            if z < 0.05:
                return 1e9
            r[0] = seen[m, 0] - lens[0] * x / z - lens[2]
            r[1] = seen[m, 1] - lens[1] * y / z - lens[3]
            total += r[0] ** 2 + r[1] ** 2
            for a in range(2):
                f, at = (lens[0], x) if a == 0 else (lens[1], y)
                d0, d1, d2 = (f / z, 0.0, -f * at / z**2) if a == 0 else (0.0, f / z, -f * at / z**2)
                j[a, 3], j[a, 4], j[a, 5] = d0, d1, d2
                rx, ry, rz = x - shift[0], y - shift[1], z - shift[2]
                j[a, 0], j[a, 1], j[a, 2] = d2 * ry - d1 * rz, d0 * rz - d2 * rx, d1 * rx - d0 * ry
            for a in range(6):
                g[a] += j[0, a] * r[0] + j[1, a] * r[1]
                for b in range(6):
                    h[a, b] += j[0, a] * j[0, b] + j[1, a] * j[1, b]
        rms = np.sqrt(total / (2 * count))
        if step == iterations:
            break
        for a in range(6):
            h[a, a] *= 1 + 1e-6
            h[a, a] += 1e-9
        d = np.linalg.solve(h, g)
        size = np.sqrt(d[0] ** 2 + d[1] ** 2 + d[2] ** 2)
        if size > 0.5:
            d *= 0.5 / size
        rotate_by(d[:3], small)
        turn_in_place(small, rotation)
        shift += d[3:]
    return rms


@njit(cache=True, error_model="numpy")
def apart_px(a, b):
    return np.sqrt((a[0] - b[0]) ** 2 + (a[1] - b[1]) ** 2)


@njit(cache=True, error_model="numpy")
def weak_scale(d01, d02, d12, r01, r02, r12, area):
    """Pixels a metre of a triangle with sides r that is seen with sides d, under weak perspective."""
    q = (
        d01**2 * (-(r01**2) + r02**2 + r12**2)
        + d02**2 * (r01**2 - r02**2 + r12**2)
        + d12**2 * (r01**2 + r02**2 - r12**2)
    )
    p = (d01 + d02 + d12) * (-d01 + d02 + d12) * (d01 - d02 + d12) * (d01 + d02 - d12)
    return np.sqrt((q + np.sqrt(max(q * q - area * p, 0.0))) / area)


@njit(cache=True, error_model="numpy")
def weak_pose(p0, p1, p2, r01, r02, r12, area, mirrored, model, found, e1, e2, rotation):
    """Turn (3, 3) of a triangle with sides r seen at p0 p1 p2 under weak perspective; returns pixels a metre.

    model: the triangle's own axes as rows; mirrored: +1 or -1, the two poses that look alike; found, e1, e2: scratch.
    """
    d01, d02, d12 = apart_px(p0, p1), apart_px(p0, p2), apart_px(p1, p2)
    scale = weak_scale(d01, d02, d12, r01, r02, r12, area)
    h1 = np.sqrt(max((scale * r01) ** 2 - d01**2, 0.0))
    h2 = np.sqrt(max((scale * r02) ** 2 - d02**2, 0.0))
    if d01**2 + d02**2 - d12**2 > scale**2 * (r01**2 + r02**2 - r12**2):
        h2 = -h2
    e1[0], e1[1], e1[2] = p1[0] - p0[0], p1[1] - p0[1], mirrored * h1
    e2[0], e2[1], e2[2] = p2[0] - p0[0], p2[1] - p0[1], mirrored * h2
    size = np.sqrt(e1[0] ** 2 + e1[1] ** 2 + e1[2] ** 2)
    for i in range(3):
        found[0, i] = e1[i] / size
        found[2, i] = e1[(i + 1) % 3] * e2[(i + 2) % 3] - e1[(i + 2) % 3] * e2[(i + 1) % 3]
    size = np.sqrt(found[2, 0] ** 2 + found[2, 1] ** 2 + found[2, 2] ** 2) + 1e-12
    for i in range(3):
        found[2, i] /= size
    for i in range(3):
        found[1, i] = found[2, (i + 1) % 3] * found[0, (i + 2) % 3] - found[2, (i + 2) % 3] * found[0, (i + 1) % 3]
    for i in range(3):
        for j in range(3):
            rotation[i, j] = found[0, i] * model[0, j] + found[1, i] * model[1, j] + found[2, i] * model[2, j]
    return scale


@njit(cache=True, error_model="numpy")
def read_shape(xy, lens, order, markers, size_m, which, position):
    """Read a wand that is no line among xy (n, 2): as read_line."""
    n, count = xy.shape[0], order.shape[0]
    a, b, c = markers[order[0]], markers[order[1]], markers[order[2]]
    r01, r02, r12 = np.linalg.norm(b - a), np.linalg.norm(c - a), np.linalg.norm(c - b)
    area = (r01 + r02 + r12) * (-r01 + r02 + r12) * (r01 - r02 + r12) * (r01 + r02 - r12)
    model = np.empty((3, 3))
    model[0] = (b - a) / r01
    model[2] = np.cross(b - a, c - a)
    model[2] /= np.linalg.norm(model[2])
    model[1] = np.cross(model[2], model[0])
    found = np.empty((3, 3))
    hypotheses = np.empty((MOST_TRIED, count), dtype=np.int64)
    score, side = np.full(MOST_TRIED, 1e9), np.empty(MOST_TRIED)
    trial, seen = np.empty(count, dtype=np.int64), np.empty((count, 2))
    e1, e2, rotation, start = np.empty(3), np.empty(3), np.empty((3, 3)), np.empty(3)
    for i in range(n):
        for j in range(n):
            for k in range(n):
                if i in (j, k) or j == k:
                    continue
                big = max(apart_px(xy[i], xy[j]), apart_px(xy[i], xy[k]), apart_px(xy[j], xy[k]))
                if big < 15.0:
                    continue
                for mirrored in (1.0, -1.0):
                    scale = weak_pose(
                        xy[i], xy[j], xy[k], r01, r02, r12, area, mirrored, model, found, e1, e2, rotation
                    )
                    trial[0], trial[1], trial[2] = i, j, k
                    off = 0.0
                    for m in range(3, count):
                        u, v = xy[i, 0], xy[i, 1]
                        for q in range(3):
                            u += scale * rotation[0, q] * (markers[order[m], q] - a[q])
                            v += scale * rotation[1, q] * (markers[order[m], q] - a[q])
                        near, who = 0.2 * big + 5.0, -1
                        for w in range(n):
                            taken = False
                            for z in range(m):
                                taken = taken or trial[z] == w
                            if not taken:
                                d = np.hypot(xy[w, 0] - u, xy[w, 1] - v)
                                if d < near:
                                    near, who = d, w
                        if who < 0:
                            off = 1e9
                            break
                        trial[m] = who
                        off += near / big
                    worst = score.argmax()
                    if off < score[worst]:
                        score[worst], side[worst] = off, mirrored
                        for m in range(count):
                            hypotheses[worst, m] = trial[m]
    best, second = 1e9, 1e9
    chosen, best_rotation, best_shift = np.full(count, -1), np.empty((3, 3)), np.empty(3)
    for h in np.argsort(score):
        if score[h] > 1e8:
            break
        i, j, k = hypotheses[h, 0], hypotheses[h, 1], hypotheses[h, 2]
        scale = weak_pose(xy[i], xy[j], xy[k], r01, r02, r12, area, side[h], model, found, e1, e2, rotation)
        for m in range(count):
            seen[order[m], 0], seen[order[m], 1] = xy[hypotheses[h, m], 0], xy[hypotheses[h, m], 1]
        depth = lens[0] / scale
        start[0], start[1], start[2] = (
            depth * (xy[i, 0] - lens[2]) / lens[0],
            depth * (xy[i, 1] - lens[3]) / lens[1],
            depth,
        )
        shift = start - rotation @ a
        rms = refine_position(markers, seen, lens, rotation, shift, STEPS)
        same = True
        for m in range(count):
            same = same and hypotheses[h, m] == chosen[m]
        if rms < best:
            if not same:
                second = best
            best = rms
            for m in range(count):
                chosen[m] = hypotheses[h, m]
            best_rotation, best_shift = rotation.copy(), shift
        elif not same and rms < second:
            second = rms
    if best > 3.0 + 0.02 * lens[0] * size_m / max(best_shift[2], 0.3) or second < 2.5 * best + 0.5:
        return False
    for m in range(count):
        which[order[m]] = chosen[m]
        put_marker(best_rotation, best_shift, markers[m], position[m])
    return True


@njit(cache=True, error_model="numpy")
def read_all(shape, xy, groups, frames, lens, wanted, positions, which):
    """Read the wand, a WandShape, in every picture of some frames.

    xy (N, 2) centroids, groups as Centroids.groups; frames (F,); lens (C, 9); wanted (C,): which
    cameras to read. positions (F, C, M, 3) receives the wand before
    each camera, NaN where it was not read; which (F, C, M) the numbers of its centroids.
    """
    cameras, count = lens.shape[0], shape.order.shape[0]
    one, at = np.empty(count, dtype=np.int64), np.empty((count, 3))
    for f in range(frames.shape[0]):
        for c in range(cameras):
            begin, end = groups[frames[f] * cameras + c], groups[frames[f] * cameras + c + 1]
            if not wanted[c] or end - begin < count or end - begin > MOST_POINTS:
                continue
            if shape.straight:
                clear = read_line(xy[begin:end], lens[c], shape.order, shape.shares, shape.size_m, one, at)
            else:
                clear = read_shape(xy[begin:end], lens[c], shape.order, shape.markers_m, shape.size_m, one, at)
            if clear:
                for m in range(count):
                    which[f, c, m] = one[m] + begin
                    for i in range(3):
                        positions[f, c, m, i] = at[m, i]
