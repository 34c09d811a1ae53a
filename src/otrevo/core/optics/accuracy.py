"""What a calibrated volume can be trusted with, place by place: which cameras see it, and how well a point is found there.

A point's variance has two parts: the noise of the centroids, by the normal equations of its triangulation, and what is not
known of the cameras, their covariance carried through the same equations (R. Hartley and A. Zisserman, Multiple view
geometry, 2004, chapter 5, propagation through an implicit function). Metres, pixels, the world of the cameras.
"""

import numpy as np
from numba import njit

from otrevo.core.optics.bundle import SIZE
from otrevo.core.optics.camera import LENS, distort, lens_slope, packed, undistort
from otrevo.core.optics.triangulate import solve_three

FEWEST = 2


def seen_by(cameras, points, blinds=()):
    """Mask (C, K): which cameras have points (K, 3) in their picture, in front of them and in no Blind; bodies left out."""
    out = picture_positions(cameras, points)
    seen = np.isfinite(out[..., 0])
    for blind in blinds:
        seen[blind.camera] &= ~(np.linalg.norm(out[blind.camera] - blind.xy, axis=1) < blind.radius)
    return seen


def picture_positions(cameras, points):
    """Where points (K, 3) appear in each camera's picture, (C, K, 2), NaN where they do not."""
    size = np.array([(c.width, c.height) for c in cameras])
    widest = np.array([_widest(c) for c in cameras])
    return _inside(size, widest, packed(cameras), np.ascontiguousarray(points, dtype=float))


def _widest(camera):
    """Squared tangent of the angle from the axis to the picture's farthest corner: beyond it the lens polynomial may fold
    back into the picture what the camera does not see."""
    way, most = np.empty(2), 0.0
    for u in (-0.5, camera.width - 0.5):
        for v in (-0.5, camera.height - 0.5):
            if not undistort(camera.lens, u, v, way):
                return 2.25
            most = max(most, float(way @ way))
    return most


@njit(cache=True, error_model="numpy")
def _inside(size, widest, views, points):
    """Picture positions (C, K, 2), NaN outside the picture."""
    lens, rotation, position = views
    cameras, count = lens.shape[0], points.shape[0]
    out = np.full((cameras, count, 2), np.nan)
    uv, slope, p = np.empty(2), np.empty((2, 2)), np.empty(3)
    for c in range(cameras):
        for k in range(count):
            for i in range(3):
                p[i] = 0.0
                for j in range(3):
                    p[i] += rotation[c, i, j] * (points[k, j] - position[c, j])
            if p[2] < 0.05:
                continue
            a, b = p[0] / p[2], p[1] / p[2]
            if a * a + b * b > widest[c]:
                continue
            distort(lens[c], a, b, uv, slope)
            if -0.5 <= uv[0] <= size[c, 0] - 0.5 and -0.5 <= uv[1] <= size[c, 1] - 0.5:
                out[c, k] = uv
    return out


def expected_sd(cameras, points, noise_px, covariance=None, blinds=()):
    """Expect how far a rebuilt point may be off.

    Parameters
    ----------
    cameras : sequence of Camera
        The calibrated cameras.
    points : ndarray (K, 3)
        Positions in metres, world axes.
    noise_px : float
        Of a centroid, per coordinate.
    covariance : ndarray (15 C, 15 C), optional
        Of the cameras' numbers, in the same world, as core.optics.calibrate gives it. Without it the cameras count as
        known.
    blinds : sequence of Blind
        Parts of the pictures that see nothing.

    Returns
    -------
    ndarray (K,)
        Standard deviation in metres, three axes together; NaN where fewer than two cameras see the position.

    Notes
    -----
    First-order propagation of variance through the triangulation.
    """
    points = np.asarray(points, dtype=float)
    cov = np.zeros((SIZE * len(cameras), SIZE * len(cameras))) if covariance is None else np.asarray(covariance, float)
    return _expected(packed(cameras), points, seen_by(cameras, points, blinds), float(noise_px), cov)


@njit(cache=True, error_model="numpy")
def _expected(views, points, seen, noise_px, covariance):
    lens, rotation, position = views
    cameras, count = lens.shape[0], points.shape[0]
    out = np.full(count, np.nan)
    uv, slope, lens_part = np.empty(2), np.empty((2, 2)), np.empty((2, LENS))
    p, look, world, numbers = np.empty(3), np.empty((2, 3)), np.empty((2, 3)), np.empty((2, 6 + LENS))
    normal, mixed, column, unit = np.empty((3, 3)), np.empty((3, SIZE * cameras)), np.empty(3), np.empty(3)
    inverse = np.empty((3, 3))
    for k in range(count):
        normal[:], mixed[:] = 0.0, 0.0
        who = 0
        for c in range(cameras):
            if not seen[c, k]:
                continue
            who += 1
            for i in range(3):
                p[i] = 0.0
                for j in range(3):
                    p[i] += rotation[c, i, j] * (points[k, j] - position[c, j])
            a, b = p[0] / p[2], p[1] / p[2]
            distort(lens[c], a, b, uv, slope)
            lens_slope(lens[c], a, b, lens_part)
            for i in range(2):
                look[i, 0], look[i, 1] = slope[i, 0] / p[2], slope[i, 1] / p[2]
                look[i, 2] = -(slope[i, 0] * a + slope[i, 1] * b) / p[2]
                for j in range(3):
                    world[i, j] = (
                        look[i, 0] * rotation[c, 0, j] + look[i, 1] * rotation[c, 1, j] + look[i, 2] * rotation[c, 2, j]
                    )
                    numbers[i, 3 + j] = -world[i, j]
                numbers[i, 0] = look[i, 2] * p[1] - look[i, 1] * p[2]
                numbers[i, 1] = look[i, 0] * p[2] - look[i, 2] * p[0]
                numbers[i, 2] = look[i, 1] * p[0] - look[i, 0] * p[1]
                for j in range(LENS):
                    numbers[i, 6 + j] = lens_part[i, j]
            for i in range(3):
                for j in range(3):
                    normal[i, j] += world[0, i] * world[0, j] + world[1, i] * world[1, j]
                for j in range(SIZE):
                    mixed[i, SIZE * c + j] += world[0, i] * numbers[0, j] + world[1, i] * numbers[1, j]
        if who < FEWEST:
            continue
        good = True
        for i in range(3):
            unit[:] = 0.0
            unit[i] = 1.0
            good = good and solve_three(normal, unit, column)
            inverse[:, i] = column
        if not good:
            continue
        gain = inverse @ mixed
        variance = noise_px**2 * (inverse[0, 0] + inverse[1, 1] + inverse[2, 2])
        carried = gain @ covariance
        for i in range(3):
            for j in range(SIZE * cameras):
                variance += carried[i, j] * gain[i, j]
        out[k] = np.sqrt(max(variance, 0.0))
    return out


def moved_covariance(covariance, rotation):
    """The cameras' covariance (15 C, 15 C) after the world was turned by (3, 3): only places feel it."""
    out = np.array(covariance, dtype=float)
    for at in range(3, len(out), SIZE):
        out[at : at + 3] = rotation @ out[at : at + 3]
    for at in range(3, len(out), SIZE):
        out[:, at : at + 3] = out[:, at : at + 3] @ rotation.T
    return out
