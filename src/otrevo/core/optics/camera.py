"""One camera: lens, place, and the pictures it makes of points.

x_image = f * distort(X_cam / Z_cam) + c with X_cam = R (X_world - C), f apart for columns and rows, Brown-Conrady
distortion k1 k2 p1 p2 k3 in OpenCV's order and sense (D. C. Brown, Close-range camera calibration, 1971). Pixels, origin
top left, centres of pixels at integers; metres; R takes the world to the camera, which looks along its own +Z.
"""

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numba import njit

from otrevo.core.conventions import matrix_from_quaternion, quaternion_from_matrix
from otrevo.core.errors import InputError

LENS = 9  # fx fy cx cy k1 k2 p1 p2 k3


@dataclass(frozen=True)
class Camera:
    """lens (9,): fx fy cx cy in pixels, k1 k2 p1 p2 k3; position_m (3,) in the world; rotation (3, 3) world to camera."""

    name: str
    width: int
    height: int
    lens: np.ndarray
    position_m: np.ndarray
    rotation: np.ndarray

    def moved(self, rotation, shift_m):
        """The same camera after the world was turned by (3, 3) and then shifted by (3,): x' = rotation x + shift."""
        return replace(self, position_m=rotation @ self.position_m + shift_m, rotation=self.rotation @ rotation.T)


class Views(NamedTuple):
    """Some cameras for compiled loops: lens (C, 9), rotation (C, 3, 3) world to camera, position (C, 3)."""

    lens: np.ndarray
    rotation: np.ndarray
    position: np.ndarray


class Pictures(NamedTuple):
    """What cameras saw, for compiled loops: xy (N, 2) and radius (N,), pixels; groups: as Centroids.groups."""

    xy: np.ndarray
    radius: np.ndarray
    groups: np.ndarray


def packed(cameras):
    """The Views of some cameras."""
    return Views(
        np.array([c.lens for c in cameras], dtype=float).reshape(-1, LENS),
        np.array([c.rotation for c in cameras], dtype=float).reshape(-1, 3, 3),
        np.array([c.position_m for c in cameras], dtype=float).reshape(-1, 3),
    )


def pictures_of(centroids, cameras):
    """The Pictures of Centroids numbered over so many cameras."""
    return Pictures(centroids.xy, centroids.radius, centroids.groups(cameras))


@njit(cache=True, error_model="numpy")
def distort(lens, a, b, out, slope):
    """Image position out (2,) of a direction (a, b) = (X/Z, Y/Z), and slope (2, 2): its derivative by a and b."""
    k1, k2, p1, p2, k3 = lens[4], lens[5], lens[6], lens[7], lens[8]
    r2 = a * a + b * b
    radial = 1.0 + r2 * (k1 + r2 * (k2 + r2 * k3))
    bend = k1 + r2 * (2.0 * k2 + 3.0 * r2 * k3)  # d radial / d r2
    out[0] = lens[0] * (a * radial + 2.0 * p1 * a * b + p2 * (r2 + 2.0 * a * a)) + lens[2]
    out[1] = lens[1] * (b * radial + p1 * (r2 + 2.0 * b * b) + 2.0 * p2 * a * b) + lens[3]
    slope[0, 0] = lens[0] * (radial + 2.0 * a * a * bend + 2.0 * p1 * b + 6.0 * p2 * a)
    slope[0, 1] = lens[0] * (2.0 * a * b * bend + 2.0 * p1 * a + 2.0 * p2 * b)
    slope[1, 0] = lens[1] * (2.0 * a * b * bend + 2.0 * p1 * a + 2.0 * p2 * b)
    slope[1, 1] = lens[1] * (radial + 2.0 * b * b * bend + 6.0 * p1 * b + 2.0 * p2 * a)


@njit(cache=True, error_model="numpy")
def lens_slope(lens, a, b, out):
    """Derivative out (2, 9) of the image position by the lens numbers, for a direction (a, b)."""
    k1, k2, p1, p2, k3 = lens[4], lens[5], lens[6], lens[7], lens[8]
    r2 = a * a + b * b
    radial = 1.0 + r2 * (k1 + r2 * (k2 + r2 * k3))
    out[:] = 0.0
    out[0, 0] = a * radial + 2.0 * p1 * a * b + p2 * (r2 + 2.0 * a * a)
    out[1, 1] = b * radial + p1 * (r2 + 2.0 * b * b) + 2.0 * p2 * a * b
    out[0, 2] = 1.0
    out[1, 3] = 1.0
    out[0, 4], out[1, 4] = lens[0] * a * r2, lens[1] * b * r2
    out[0, 5], out[1, 5] = lens[0] * a * r2 * r2, lens[1] * b * r2 * r2
    out[0, 6], out[1, 6] = lens[0] * 2.0 * a * b, lens[1] * (r2 + 2.0 * b * b)
    out[0, 7], out[1, 7] = lens[0] * (r2 + 2.0 * a * a), lens[1] * 2.0 * a * b
    out[0, 8], out[1, 8] = lens[0] * a * r2 * r2 * r2, lens[1] * b * r2 * r2 * r2


@njit(cache=True, error_model="numpy")
def undistort(lens, u, v, out):
    """Direction out (2,) = (X/Z, Y/Z) of a image position, by Newton's method; True when it converged."""
    position, slope = np.empty(2), np.empty((2, 2))
    a, b = (u - lens[2]) / lens[0], (v - lens[3]) / lens[1]
    size = 1.0
    for _ in range(12):
        distort(lens, a, b, position, slope)
        du, dv = u - position[0], v - position[1]
        size = abs(du) + abs(dv)
        if size < 1e-7:
            break
        det = slope[0, 0] * slope[1, 1] - slope[0, 1] * slope[1, 0]
        a += (slope[1, 1] * du - slope[0, 1] * dv) / det
        b += (slope[0, 0] * dv - slope[1, 0] * du) / det
    out[0], out[1] = a, b
    return size < 1e-3


@njit(cache=True, error_model="numpy")
def project_one(lens, rotation, position, x, uv, slope):
    """Image position of a point; False behind the camera or far outside its view."""
    px, py, pz = x[0] - position[0], x[1] - position[1], x[2] - position[2]
    a = rotation[0, 0] * px + rotation[0, 1] * py + rotation[0, 2] * pz
    b = rotation[1, 0] * px + rotation[1, 1] * py + rotation[1, 2] * pz
    z = rotation[2, 0] * px + rotation[2, 1] * py + rotation[2, 2] * pz
    if z < 0.05:
        return False
    a, b = a / z, b / z
    if a * a + b * b > 2.25:  # beyond any picture; the lens polynomial folds back out there
        return False
    distort(lens, a, b, uv, slope)
    return True


@njit(cache=True, error_model="numpy")
def project_all(views, points):
    """Picture positions (C, K, 2) and depths (C, K) of points (K, 3) in every camera of Views; NaN behind a camera."""
    lens, rotation, position = views
    cameras, count = lens.shape[0], points.shape[0]
    positions, depth = np.full((cameras, count, 2), np.nan), np.empty((cameras, count))
    slope, p = np.empty((2, 2)), np.empty(3)
    for c in range(cameras):
        for k in range(count):
            for i in range(3):
                p[i] = 0.0
                for j in range(3):
                    p[i] += rotation[c, i, j] * (points[k, j] - position[c, j])
            depth[c, k] = p[2]
            if p[2] > 0.01:
                distort(lens[c], p[0] / p[2], p[1] / p[2], positions[c, k], slope)
    return positions, depth


def camera_to_document(camera, rms_px=None, samples=None):
    """One row of `cameras` in a calibration/1 document."""
    return {
        "id": camera.name, "width": int(camera.width), "height": int(camera.height),
        "focal_px": camera.lens[:2].tolist(), "centre_px": camera.lens[2:4].tolist(),
        "distortion": camera.lens[4:].tolist(), "position_m": np.asarray(camera.position_m).tolist(),
        "rotation_xyzw": quaternion_from_matrix(camera.rotation).tolist(),
        "reprojection_rms_px": rms_px, "samples": samples,
    }  # fmt: skip


def camera_from_document(row, where):
    """A Camera from a row of a calibration/1 document. Raises InputError naming the place `where`."""

    def numbers(key, count):
        value = row.get(key)
        try:
            out = np.array(value, dtype=float)
        except (TypeError, ValueError):
            out = np.array(np.nan)
        if out.shape != (count,) or not np.isfinite(out).all():
            raise InputError(f"{where}: {key}: expected {count} numbers.")
        return out

    for key in ("width", "height"):
        if not isinstance(row.get(key), int) or not 16 <= row[key] <= 65536:
            raise InputError(f"{where}: {key}: expected whole pixels between 16 and 65536.")
    focal, quaternion = numbers("focal_px", 2), numbers("rotation_xyzw", 4)
    if (focal <= 0).any():
        raise InputError(f"{where}: focal_px: expected two positive numbers.")
    if abs(np.linalg.norm(quaternion) - 1) > 0.01:
        raise InputError(f"{where}: rotation_xyzw: its length is {np.linalg.norm(quaternion):.3f}, expected 1.")
    lens = np.concatenate([focal, numbers("centre_px", 2), numbers("distortion", 5)])
    rotation = matrix_from_quaternion(quaternion / np.linalg.norm(quaternion))
    return Camera(str(row.get("id")), row["width"], row["height"], lens, numbers("position_m", 3), rotation)
