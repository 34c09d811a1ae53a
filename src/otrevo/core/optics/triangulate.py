"""Points in space from what two or more cameras see, weighted least squares in the pictures.

A point starts where the rays come nearest (linear) and is refined by Gauss-Newton on the reprojection residuals, so that
it is the most likely one for equal noise in all pictures (R. Hartley, P. Sturm, Triangulation, 1997). The inverse normal
matrix is its covariance for one pixel of noise.
"""

import numpy as np
from numba import njit

from otrevo.core.optics.camera import distort, undistort

STEPS = np.int64(3)  # NumPy's integer: a bare one has what it is given to compiled anew for each number


@njit(cache=True, error_model="numpy")
def nearest_to_rays(directions, centres, out):
    """Point out (3,) nearest to rays through centres (K, 3) along unit directions (K, 3); False when they are parallel."""
    a = np.zeros((3, 3))
    b = np.zeros(3)
    for k in range(directions.shape[0]):
        for i in range(3):
            for j in range(3):
                p = (1.0 if i == j else 0.0) - directions[k, i] * directions[k, j]
                a[i, j] += p
                b[i] += p * centres[k, j]
    return solve_three(a, b, out)


@njit(cache=True, error_model="numpy")
def solve_three(a, b, out):
    """Solve a symmetric system of three by cofactors; False when it is singular."""
    c00 = a[1, 1] * a[2, 2] - a[1, 2] * a[2, 1]
    c01 = a[1, 2] * a[2, 0] - a[1, 0] * a[2, 2]
    c02 = a[1, 0] * a[2, 1] - a[1, 1] * a[2, 0]
    det = a[0, 0] * c00 + a[0, 1] * c01 + a[0, 2] * c02
    size = a[0, 0] + a[1, 1] + a[2, 2]
    if abs(det) < 1e-10 * size * size * size:
        return False
    c11 = a[0, 0] * a[2, 2] - a[0, 2] * a[2, 0]
    c12 = a[0, 1] * a[2, 0] - a[0, 0] * a[2, 1]
    c22 = a[0, 0] * a[1, 1] - a[0, 1] * a[1, 0]
    out[0] = (c00 * b[0] + c01 * b[1] + c02 * b[2]) / det
    out[1] = (c01 * b[0] + c11 * b[1] + c12 * b[2]) / det
    out[2] = (c02 * b[0] + c12 * b[1] + c22 * b[2]) / det
    return True


@njit(cache=True, error_model="numpy")
def refine_point(camera, xy, count, views, x, normal, off, steps):
    """Refine x (3,) seen at xy (K, 2) by camera (K,) of Views, the first `count` of them, by so many Gauss-Newton steps.

    normal (3, 3) receives J'J in px2/m2, off (K,) the squared residuals. Returns their sum, or -1 when the point is behind
    a camera or not determined.
    """
    lens, rotation, position = views
    uv, slope, g, d = np.empty(2), np.empty((2, 2)), np.empty(3), np.empty(3)
    total = 0.0
    for step in range(steps + 1):
        n00, n01, n02, n11, n12, n22, total = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        g[0], g[1], g[2] = 0.0, 0.0, 0.0
        for k in range(count):
            c = camera[k]
            r = rotation[c]
            w0, w1, w2 = x[0] - position[c, 0], x[1] - position[c, 1], x[2] - position[c, 2]
            z = r[2, 0] * w0 + r[2, 1] * w1 + r[2, 2] * w2
            if z < 0.05:
                return -1.0
            a = (r[0, 0] * w0 + r[0, 1] * w1 + r[0, 2] * w2) / z
            b = (r[1, 0] * w0 + r[1, 1] * w1 + r[1, 2] * w2) / z
            distort(lens[c], a, b, uv, slope)
            r0, r1 = xy[k, 0] - uv[0], xy[k, 1] - uv[1]
            off[k] = r0 * r0 + r1 * r1
            total += off[k]
            for i in range(2):
                l0, l1 = slope[i, 0] / z, slope[i, 1] / z
                l2 = -(l0 * a + l1 * b)
                j0 = l0 * r[0, 0] + l1 * r[1, 0] + l2 * r[2, 0]
                j1 = l0 * r[0, 1] + l1 * r[1, 1] + l2 * r[2, 1]
                j2 = l0 * r[0, 2] + l1 * r[1, 2] + l2 * r[2, 2]
                residual = r0 if i == 0 else r1
                g[0] += j0 * residual
                g[1] += j1 * residual
                g[2] += j2 * residual
                n00 += j0 * j0
                n01 += j0 * j1
                n02 += j0 * j2
                n11 += j1 * j1
                n12 += j1 * j2
                n22 += j2 * j2
        normal[0, 0], normal[0, 1], normal[0, 2] = n00, n01, n02
        normal[1, 0], normal[1, 1], normal[1, 2] = n01, n11, n12
        normal[2, 0], normal[2, 1], normal[2, 2] = n02, n12, n22
        if step == steps:
            break
        if not solve_three(normal, g, d):
            return -1.0
        x[0] += d[0]
        x[1] += d[1]
        x[2] += d[2]
    return total


def triangulate_tracks(key, camera, xy, keys, views):
    """Points (keys, 3), NaN where there are none, of sightings that belong together by their key (N,), sorted or not;
    and by how many cameras of Views each was seen (keys,)."""
    return _triangulate(key, np.argsort(key, kind="stable"), camera, xy, keys, views)


@njit(cache=True, error_model="numpy")
def _triangulate(key, order, camera, xy, keys, views):
    lens, rotation, position = views
    out, seen = np.full((keys, 3), np.nan), np.zeros(keys, dtype=np.int64)
    directions, centres, way = np.empty((64, 3)), np.empty((64, 3)), np.empty(2)
    cameras, positions = np.empty(64, dtype=np.int64), np.empty((64, 2))
    x, normal, off = np.empty(3), np.empty((3, 3)), np.empty(64)
    n = 0
    while n < len(order):
        k, count = key[order[n]], 0
        while n < len(order) and key[order[n]] == k:
            i = order[n]
            c = camera[i]
            if count < 64 and undistort(lens[c], xy[i, 0], xy[i, 1], way):
                size = np.sqrt(way[0] ** 2 + way[1] ** 2 + 1.0)
                for q in range(3):
                    directions[count, q] = (
                        rotation[c, 0, q] * way[0] + rotation[c, 1, q] * way[1] + rotation[c, 2, q]
                    ) / size
                    centres[count, q] = position[c, q]
                cameras[count], positions[count] = c, xy[i]
                count += 1
            n += 1
        if count < 2 or not nearest_to_rays(directions[:count], centres[:count], x):
            continue
        if refine_point(cameras, positions, count, views, x, normal, off, STEPS) >= 0:
            out[k] = x
            seen[k] = count
    return out, seen
