"""Points in space from what two or more cameras see, weighted least squares in the pictures.

A point starts where the rays come nearest (linear) and is refined by Gauss-Newton on the reprojection residuals, so that
it is the most likely one for equal noise in all pictures (R. Hartley, P. Sturm, Triangulation, 1997). The inverse normal
matrix is its covariance for one pixel of noise.
"""

import numpy as np
from numba import njit

from otrevo.core.optics.camera import distort, undistort

STEPS = 3


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
def refine_point(camera, xy, count, lens, rotation, position, x, normal, steps):
    """Refine x (3,) seen at xy (K, 2) by camera (K,), the first `count` of them. normal (3, 3) receives J'J in px2/m2.

    Returns the squared residuals' sum, or -1 when the point is behind a camera or not determined.
    """
    uv, slope, p, g, d = np.empty(2), np.empty((2, 2)), np.empty(3), np.empty(3), np.empty(3)
    j = np.empty((2, 3))
    total = 0.0
    for step in range(steps + 1):
        normal[:], g[:], total = 0.0, 0.0, 0.0
        for k in range(count):
            c = camera[k]
            for i in range(3):
                p[i] = 0.0
                for q in range(3):
                    p[i] += rotation[c, i, q] * (x[q] - position[c, q])
            if p[2] < 0.05:
                return -1.0
            a, b = p[0] / p[2], p[1] / p[2]
            distort(lens[c], a, b, uv, slope)
            r0, r1 = xy[k, 0] - uv[0], xy[k, 1] - uv[1]
            total += r0 * r0 + r1 * r1
            for i in range(2):
                l0, l1 = slope[i, 0] / p[2], slope[i, 1] / p[2]
                l2 = -(l0 * a + l1 * b)
                for q in range(3):
                    j[i, q] = l0 * rotation[c, 0, q] + l1 * rotation[c, 1, q] + l2 * rotation[c, 2, q]
            for i in range(3):
                g[i] += j[0, i] * r0 + j[1, i] * r1
                for q in range(3):
                    normal[i, q] += j[0, i] * j[0, q] + j[1, i] * j[1, q]
        if step == steps:
            break
        if not solve_three(normal, g, d):
            return -1.0
        x += d
    return total


@njit(cache=True, error_model="numpy")
def triangulate_tracks(key, camera, xy, keys, lens, rotation, position):
    """Points (keys, 3), NaN where there are none, of sightings that belong together by their key (N,), sorted or not;
    and by how many cameras each was seen (keys,)."""
    out, seen = np.full((keys, 3), np.nan), np.zeros(keys, dtype=np.int64)
    order = np.argsort(key, kind="mergesort")
    directions, centres, way = np.empty((64, 3)), np.empty((64, 3)), np.empty(2)
    cameras, places = np.empty(64, dtype=np.int64), np.empty((64, 2))
    x, normal = np.empty(3), np.empty((3, 3))
    n = 0
    while n < len(order):
        k, count = key[order[n]], 0
        while n < len(order) and key[order[n]] == k:
            i = order[n]
            c = camera[i]
            if count < 64 and undistort(lens[c], xy[i, 0], xy[i, 1], way):
                size = np.sqrt(way[0] ** 2 + way[1] ** 2 + 1.0)
                for q in range(3):
                    directions[count, q] = (rotation[c, 0, q] * way[0] + rotation[c, 1, q] * way[1] + rotation[c, 2, q]) / size
                    centres[count, q] = position[c, q]
                cameras[count], places[count] = c, xy[i]
                count += 1
            n += 1
        if count >= 2 and nearest_to_rays(directions[:count], centres[:count], x):
            if refine_point(cameras, places, count, lens, rotation, position, x, normal, STEPS) >= 0:
                out[k] = x
                seen[k] = count
    return out, seen
