"""Bundle adjustment: all cameras and every frame's wand fitted to all sightings at once.

Unknowns: for each camera 15 numbers (rotation, position, fx fy cx cy k1 k2 p1 p2 k3), for each frame the wand's pose (6). The wand
is rigid and known, so it carries the scale. Levenberg-Marquardt; the poses are eliminated from the normal equations
(Schur complement), which leaves one dense system of 15 numbers a camera (B. Triggs and others, Bundle adjustment: a modern
synthesis, 2000). Weights come from outside, so that robustness is the caller's choice. Pixels, metres, radians.
"""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import scipy
from numba import njit

from otrevo.core.optics.camera import LENS, Views, distort, lens_slope

SIZE = 6 + LENS  # numbers of a camera: rotation, position, lens
PART = 512  # frames eliminated at once
# weak expectations of a lens, which matter only where next to nothing was seen: focal as a share, the rest as it is
LENS_SIGMA = np.array([0.3, 0.3, 60.0, 60.0, 0.4, 0.4, 0.01, 0.01, 0.4])


class Wand(NamedTuple):
    """A wand for compiled loops: markers (M, 3) and its poses, rotation (F, 3, 3) and position (F, 3)."""

    markers: np.ndarray
    rotation: np.ndarray
    position: np.ndarray


class Sighted(NamedTuple):
    """Sightings for compiled loops: frame, camera and marker (N,), residual (N, 2) or xy (N, 2), weight (N,)."""

    frame: np.ndarray
    camera: np.ndarray
    marker: np.ndarray
    xy: np.ndarray
    weight: np.ndarray


class Sums(NamedTuple):
    """Normal equations: cameras hcc (C, 15, 15), gc (C, 15); wand poses hpp (F, 6, 6), gp (F, 6); mixed hpc (K, 6, 15 C) of
    the K frames that are worked on. Of hcc and hpp, which are symmetric, the lower triangles.
    """

    hcc: np.ndarray
    gc: np.ndarray
    hpp: np.ndarray
    gp: np.ndarray
    hpc: np.ndarray


@dataclass
class Sightings:
    """What is fitted to: frame (N,) counted without gaps, camera (N,), marker (N,), xy (N, 2); sorted by frame."""

    frame: np.ndarray
    camera: np.ndarray
    marker: np.ndarray
    xy: np.ndarray

    def __post_init__(self):  # columns of a larger array would have every loop compiled for them as well
        self.frame, self.camera, self.marker = (np.ascontiguousarray(v) for v in (self.frame, self.camera, self.marker))

    def only(self, keep):
        """The sightings of a mask, frames counted anew, and which of the old frames these are."""
        frames, number = np.unique(self.frame[keep], return_inverse=True)
        return Sightings(number, self.camera[keep], self.marker[keep], self.xy[keep]), frames


@njit(cache=True, error_model="numpy")
def residuals(seen, views, wand):
    """Seen minus predicted (N, 2); NaN for points behind their camera. seen: Sighted; views: Views; wand: Wand."""
    frame, camera, marker, xy, _ = seen
    lens, rotation, position = views
    markers, wand_rotation, wand_position = wand
    out = np.full((len(frame), 2), np.nan)
    uv, slope, w, p = np.empty(2), np.empty((2, 2)), np.empty(3), np.empty(3)
    for n in range(len(frame)):
        f, c, m = frame[n], camera[n], marker[n]
        for i in range(3):
            w[i] = wand_position[f, i] - position[c, i]
            for j in range(3):
                w[i] += wand_rotation[f, i, j] * markers[m, j]
        for i in range(3):
            p[i] = rotation[c, i, 0] * w[0] + rotation[c, i, 1] * w[1] + rotation[c, i, 2] * w[2]
        if p[2] > 0.02:
            distort(lens[c], p[0] / p[2], p[1] / p[2], uv, slope)
            out[n, 0], out[n, 1] = xy[n, 0] - uv[0], xy[n, 1] - uv[1]
    return out


@njit(cache=True, error_model="numpy")
def _accumulate(first, begin, end, seen, views, wand, sums):
    """Add the sightings [begin, end), of frames from `first` on, to the normal equations. seen: Sighted with residuals."""
    frame, camera, marker, r, weight = seen
    lens, rotation, position = views
    markers, wand_rotation, wand_position = wand
    hcc, gc, hpp, gp, hpc = sums
    uv, slope, look, lens_part = np.empty(2), np.empty((2, 2)), np.empty((2, 3)), np.empty((2, 9))
    jc, jp = np.empty((2, 15)), np.empty((2, 6))
    arm, p = np.empty(3), np.empty(3)
    for n in range(begin, end):
        w = weight[n]
        if w <= 0.0:
            continue
        f, c, m = frame[n], camera[n], marker[n]
        for i in range(3):
            arm[i] = (
                wand_rotation[f, i, 0] * markers[m, 0]
                + wand_rotation[f, i, 1] * markers[m, 1]
                + wand_rotation[f, i, 2] * markers[m, 2]
            )
        for i in range(3):
            p[i] = 0.0
            for j in range(3):
                p[i] += rotation[c, i, j] * (arm[j] + wand_position[f, j] - position[c, j])
        a, b = p[0] / p[2], p[1] / p[2]
        distort(lens[c], a, b, uv, slope)
        lens_slope(lens[c], a, b, lens_part)
        for i in range(2):
            look[i, 0] = slope[i, 0] / p[2]
            look[i, 1] = slope[i, 1] / p[2]
            look[i, 2] = -(slope[i, 0] * a + slope[i, 1] * b) / p[2]
        for i in range(2):
            l0, l1, l2 = look[i, 0], look[i, 1], look[i, 2]
            jc[i, 0] = l2 * p[1] - l1 * p[2]
            jc[i, 1] = l0 * p[2] - l2 * p[0]
            jc[i, 2] = l1 * p[0] - l0 * p[1]
            for j in range(3):
                jp[i, 3 + j] = l0 * rotation[c, 0, j] + l1 * rotation[c, 1, j] + l2 * rotation[c, 2, j]
                jc[i, 3 + j] = -jp[i, 3 + j]
            jp[i, 0] = jp[i, 5] * arm[1] - jp[i, 4] * arm[2]
            jp[i, 1] = jp[i, 3] * arm[2] - jp[i, 5] * arm[0]
            jp[i, 2] = jp[i, 4] * arm[0] - jp[i, 3] * arm[1]
            for j in range(9):
                jc[i, 6 + j] = lens_part[i, j]
        k = f - first
        for i in range(15):
            w0, w1 = w * jc[0, i], w * jc[1, i]
            gc[c, i] += w0 * r[n, 0] + w1 * r[n, 1]
            for j in range(i + 1):
                hcc[c, i, j] += w0 * jc[0, j] + w1 * jc[1, j]
            for j in range(6):
                hpc[k, j, 15 * c + i] += w0 * jp[0, j] + w1 * jp[1, j]
        for i in range(6):
            w0, w1 = w * jp[0, i], w * jp[1, i]
            gp[f, i] += w0 * r[n, 0] + w1 * r[n, 1]
            for j in range(i + 1):
                hpp[f, i, j] += w0 * jp[0, j] + w1 * jp[1, j]


@njit(cache=True, error_model="numpy")
def _eliminate(hpp, gp, hpc, ridge):
    """Multiply hpc (F, 6, G) in place by the inverse of hpp's Cholesky factor, frame by frame, and gp (F, 6) likewise."""
    for f in range(hpp.shape[0]):
        l = hpp[f]
        for i in range(6):  # a straight wand's turn about itself is seen by nobody
            l[i, i] += ridge * l[i, i] + 1e-3
        for i in range(6):
            for j in range(i + 1):
                v = l[i, j]
                for k in range(j):
                    v -= l[i, k] * l[j, k]
                l[i, j] = np.sqrt(v) if i == j else v / l[j, j]
        for i in range(6):
            for k in range(i):
                hpc[f, i] -= l[i, k] * hpc[f, k]
                gp[f, i] -= l[i, k] * gp[f, k]
            hpc[f, i] /= l[i, i]
            gp[f, i] /= l[i, i]


@njit(cache=True, error_model="numpy")
def _back(hpp, gp, hpc, step, out):
    """Steps (F, 6) of the eliminated poses: what _eliminate left in hpp, gp and hpc, and the cameras' step (G,)."""
    for f in range(hpp.shape[0]):
        l = hpp[f]
        for i in range(6):
            v = gp[f, i]
            for g in range(len(step)):
                v -= hpc[f, i, g] * step[g]
            out[f, i] = v
        for i in range(5, -1, -1):
            for k in range(i + 1, 6):
                out[f, i] -= l[k, i] * out[f, k]
            out[f, i] /= l[i, i]


@dataclass
class Fit:
    """The state of an adjustment: lens (C, 9), rotation (C, 3, 3), position (C, 3); wand rotation (F, 3, 3), position (F, 3)."""

    lens: np.ndarray
    rotation: np.ndarray
    position: np.ndarray
    wand_rotation: np.ndarray
    wand_position: np.ndarray

    @property
    def views(self):
        return Views(self.lens, self.rotation, self.position)

    def wand(self, markers):
        rotation, position = (np.ascontiguousarray(v) for v in (self.wand_rotation, self.wand_position))
        return Wand(markers, rotation, position)

    def residuals(self, sightings, markers):
        s = sightings
        seen = Sighted(s.frame, s.camera, s.marker, s.xy, np.ones(len(s.frame)))
        return residuals(seen, self.views, self.wand(markers))


def normal_equations(fit, sightings, markers, weight, lens_mean, free, damping):
    """The cameras' reduced system: matrix (G, G), gradient (G,), and a function from their step to the poses' steps."""
    s = sightings
    cameras, frames = len(fit.lens), len(fit.wand_position)
    seen = Sighted(s.frame, s.camera, s.marker, np.nan_to_num(fit.residuals(s, markers)), weight)
    hcc, gc = np.zeros((cameras, SIZE, SIZE)), np.zeros((cameras, SIZE))
    hpp, gp = np.zeros((frames, 6, 6)), np.zeros((frames, 6))
    total = SIZE * cameras
    matrix, gradient = np.zeros((total, total)), np.zeros(total)
    kept = []
    for first in range(0, frames, PART):
        last = min(first + PART, frames)
        begin, end = np.searchsorted(s.frame, [first, last])
        hpc = np.zeros((last - first, 6, total))
        _accumulate(first, begin, end, seen, fit.views, fit.wand(markers), Sums(hcc, gc, hpp, gp, hpc))
        _eliminate(hpp[first:last], gp[first:last], hpc, damping)
        flat = hpc.reshape(-1, total)
        matrix -= flat.T @ flat
        gradient -= flat.T @ gp[first:last].ravel()
        kept.append((first, last, hpc) if frames * total * 48 < 400e6 else (first, last, None))
    sigma = LENS_SIGMA * np.concatenate([lens_mean[:, :2].mean(0), np.ones(7)])
    for c in range(cameras):
        at = slice(SIZE * c, SIZE * (c + 1))
        matrix[at, at] += hcc[c] + np.tril(hcc[c], -1).T
        gradient[at] += gc[c]
        lens_at = np.arange(SIZE * c + 6, SIZE * (c + 1))
        matrix[lens_at, lens_at] += 1 / sigma**2
        gradient[lens_at] += (lens_mean[c] - fit.lens[c]) / sigma**2
    fixed = np.flatnonzero(~np.tile(free, cameras))
    matrix[fixed], matrix[:, fixed], gradient[fixed] = 0.0, 0.0, 0.0
    matrix[fixed, fixed] = 1.0

    def pose_steps(step):
        out = np.empty((frames, 6))
        for first, last, hpc in kept:
            if hpc is None:  # too large to keep: made again
                begin, end = np.searchsorted(s.frame, [first, last])
                hpc, again = np.zeros((last - first, 6, total)), np.zeros((frames, 6, 6))
                sums = Sums(np.zeros_like(hcc), np.zeros_like(gc), again, np.zeros_like(gp), hpc)
                _accumulate(first, begin, end, seen, fit.views, fit.wand(markers), sums)
                _eliminate(again[first:last], np.zeros((last - first, 6)), hpc, damping)
            _back(hpp[first:last], gp[first:last], hpc, step, out[first:last])
        return out

    return matrix, gradient, pose_steps


def _stepped(fit, step, pose_step):
    step = step.reshape(-1, SIZE)
    return Fit(
        fit.lens + step[:, 6:],
        scipy.spatial.transform.Rotation.from_rotvec(step[:, :3]).as_matrix() @ fit.rotation,
        fit.position + step[:, 3:6],
        scipy.spatial.transform.Rotation.from_rotvec(pose_step[:, :3]).as_matrix() @ fit.wand_rotation,
        fit.wand_position + pose_step[:, 3:],
    )


def adjust(fit, sightings, markers, weigh, lens_mean, free=None, iterations=20, damping=1e-4, settled=1e-7):
    """Levenberg-Marquardt from `fit`.

    weigh(residuals (N, 2)) -> weights (N,), called before every step; lens_mean (C, 9): what lenses are expected to be;
    free (15,) mask of the camera numbers that may move; settled: share of the cost that a last step may gain. Returns the
    fit and the last weights.
    """
    free = np.ones(SIZE, dtype=bool) if free is None else free
    weight = weigh(fit.residuals(sightings, markers))

    def cost(f):
        r = f.residuals(sightings, markers)
        return float(np.sum(weight * np.where(np.isnan(r[:, 0]), 1e8, (r**2).sum(1))))

    for _ in range(iterations):
        now = cost(fit)
        for _ in range(8):
            matrix, gradient, pose_steps = normal_equations(fit, sightings, markers, weight, lens_mean, free, damping)
            diagonal = np.diag(matrix).copy()
            step = np.linalg.solve(matrix + np.diag(damping * diagonal + 1e-9), gradient)
            trial = _stepped(fit, step, pose_steps(step))
            then = cost(trial)
            if np.isfinite(then) and then <= now * (1 + 1e-12):
                break
            damping *= 10
        else:
            break
        fit, damping = trial, max(damping / 10, 1e-10)
        new = weigh(fit.residuals(sightings, markers))
        done = now - then < settled * now and np.abs(new - weight).max() < 1e-3 * weight.max()
        weight = new
        if done:
            break
    return fit, weight
