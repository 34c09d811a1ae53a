"""A knocked camera placed anew from what takes show, without a sweep.

1. Points that the other cameras rebuilt are paired with the camera's centroids, and its rotation and position are fitted to them.
2. Every point is then looked for in all cameras, and all cameras are adjusted together: unknowns are their 15 numbers each
(as in core.optics.bundle) and the points, residuals the sightings in pixels; what the calibration knew, its covariance, holds
them, but for the rotation and position of the camera that was knocked. The points are brought to their optimum and eliminated
(Schur complement). 3. Only the knocked camera takes its numbers from that; the others have not moved and stay as they are.

The takes say more of the camera than its pairs alone: other cameras' errors, and its own lens's, no longer add to its
place in full (B. Triggs and others, Bundle adjustment: a modern synthesis, 2000). Pixels, metres, radians, seconds.
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy
from numba import njit

from otrevo.core.errors import InputError
from otrevo.core.optics.bundle import SIZE
from otrevo.core.optics.camera import (
    Views,
    distort,
    lens_slope,
    packed,
    pictures_of,
    project_all,
    project_one,
)
from otrevo.core.optics.triangulate import refine_point, solve_three

NEAR_PX = 6.0  # a centroid this near to where the shifted picture has a point is its pair
SIGHT_PX = 2.0  # and once the camera is about right
MELTING_RADII = 3.0  # of a blob: another point as near as that may be in it
FEWEST_PAIRS, MOST_PAIRS, MOST_POINTS = 200, 400_000, 150_000
REJECT = 4.0  # times the spread of the sightings, per coordinate
ADJUSTMENTS, SETTLED = 4, 0.05  # of a standard deviation
STEPS = np.int64(2)  # of a fit; NumPy's integer, because a bare one has the fit compiled anew for each number
LEAST_NOISE_PX = 1e-3
NOISE_FLOOR = 1e-10  # of a covariance's largest share: beyond it, rounding


@dataclass(frozen=True)
class Recording:
    """What one take shows of the camera: points_m (T, N, 3) rebuilt without it, centroids over all cameras, the first frame
    after the knock, and by how much (2,) its centroids lie off by then, as core.optics.trust.measure_trust found."""

    points_m: np.ndarray
    centroids: object
    first: int
    shift_px: np.ndarray


@dataclass(frozen=True)
class PlacedAgain:
    """The camera as it stands now; residual_px of its pairs, per coordinate; covariance (15 C, 15 C) of all cameras with it,
    None where none was given; points: how many told it."""

    camera: object
    residual_px: float
    covariance: np.ndarray | None
    points: int


@njit(cache=True, error_model="numpy")
def _pairs(points, frames, pictures, views, c, shift, out_x, out_xy):
    """Points and the centroids nearest to their shifted projections in camera c of Views; how many. frames: (first, every)."""
    first, every = frames
    xy, groups, cameras = pictures.xy, pictures.groups, len(views.lens)
    lens, rotation, position = views.lens[c], views.rotation[c], views.position[c]
    uv, slope, count = np.empty(2), np.empty((2, 2)), 0
    for f in range(first, min(len(points), (len(groups) - 1) // cameras), every):
        for k in range(points.shape[1]):
            if np.isnan(points[f, k, 0]) or not project_one(lens, rotation, position, points[f, k], uv, slope):
                continue
            near, who = NEAR_PX, -1
            for n in range(groups[f * cameras + c], groups[f * cameras + c + 1]):
                d = np.hypot(xy[n, 0] - uv[0] - shift[0], xy[n, 1] - uv[1] - shift[1])
                if d < near:
                    near, who = d, n
            if who >= 0 and count < len(out_x):
                out_x[count], out_xy[count] = points[f, k], xy[who]
                count += 1
    return count


@njit(cache=True, error_model="numpy")
def _sightings(points, chosen, pictures, views, seen):
    """Where every camera sees points: seen (P, C, 2) receives places, NaN where none is near, or where two points are so
    near to each other that their blobs may have melted.

    points (T, N, 3); chosen (P, 2): frame and number of those wanted, sorted by frame.
    """
    xy, radius, groups = pictures
    lens, rotation, position = views
    cameras, count, slope, frame = len(lens), points.shape[1], np.empty((2, 2)), -1
    positions = np.empty((cameras, count, 2))
    seen[:] = np.nan
    for p in range(len(chosen)):
        f, k = chosen[p]
        if f != frame:
            frame = f
            for c in range(cameras):
                for j in range(count):
                    if np.isnan(points[f, j, 0]) or not project_one(
                        lens[c], rotation[c], position[c], points[f, j], positions[c, j], slope
                    ):
                        positions[c, j] = np.nan
        for c in range(cameras):
            if np.isnan(positions[c, k, 0]):
                continue
            who, near = -1, 0
            for n in range(groups[f * cameras + c], groups[f * cameras + c + 1]):
                if abs(xy[n, 0] - positions[c, k, 0]) < SIGHT_PX and abs(xy[n, 1] - positions[c, k, 1]) < SIGHT_PX:
                    who, near = n, near + 1
            if near != 1:
                continue
            clear, apart = True, (MELTING_RADII * radius[who]) ** 2
            for j in range(count):
                if j != k:
                    dx, dy = positions[c, j, 0] - positions[c, k, 0], positions[c, j, 1] - positions[c, k, 1]
                    if dx * dx + dy * dy < apart:
                        clear = False
                        break
            if clear:
                seen[p, c] = xy[who]


@njit(cache=True, error_model="numpy")
def _residuals(points, seen, views, off):
    """Points (P, 3) brought to their optimum for the cameras, in place; off (P, C) receives the length of every sighting's
    residual, NaN where there is none or the point is not determined."""
    cameras, normal = len(views.lens), np.empty((3, 3))
    camera, xy, length2 = np.empty(cameras, dtype=np.int64), np.empty((cameras, 2)), np.empty(cameras)
    off[:] = np.nan
    for p in range(len(points)):
        count = np.int64(0)
        for c in range(cameras):
            if not np.isnan(seen[p, c, 0]):
                camera[count], xy[count] = c, seen[p, c]
                count += 1
        if count < 3 or refine_point(camera, xy, count, views, points[p], normal, length2, STEPS) < 0:
            continue
        for k in range(count):
            off[p, camera[k]] = np.sqrt(length2[k])


@njit(cache=True, error_model="numpy")
def _reduced(points, seen, views, matrix, gradient):
    """Add to the cameras' normal equations, matrix (15 C, 15 C) and gradient (15 C,), what points (P, 3) at their optimum
    say of them at a weight of one; of the matrix only the blocks on and right of the diagonal. seen (P, C, 2), NaN where
    not seen."""
    lens, rotation, position = views
    cameras = len(lens)
    uv, slope, lens_part, p = np.empty(2), np.empty((2, 2)), np.empty((2, 9)), np.empty(3)
    jc, jp = np.empty((cameras, 2, SIZE)), np.empty((cameras, 2, 3))
    mixed, taken = np.empty((cameras, 3, SIZE)), np.empty((cameras, SIZE, 3))
    r, normal, pull = np.empty((cameras, 2)), np.empty((3, 3)), np.empty(3)
    who, back, inverse, unit = np.empty(cameras, dtype=np.int64), np.empty(3), np.empty((3, 3)), np.eye(3)
    for n in range(len(points)):
        count = 0
        normal[:], pull[:] = 0.0, 0.0
        for c in range(cameras):
            if np.isnan(seen[n, c, 0]):
                continue
            for i in range(3):
                p[i] = 0.0
                for j in range(3):
                    p[i] += rotation[c, i, j] * (points[n, j] - position[c, j])
            if p[2] < 0.05:
                continue
            a, b = p[0] / p[2], p[1] / p[2]
            distort(lens[c], a, b, uv, slope)
            lens_slope(lens[c], a, b, lens_part)
            k = count
            who[k] = c
            count += 1
            for i in range(2):
                r[k, i] = seen[n, c, i] - uv[i]
                l0, l1 = slope[i, 0] / p[2], slope[i, 1] / p[2]
                l2 = -(l0 * a + l1 * b)
                jc[k, i, 0] = l2 * p[1] - l1 * p[2]
                jc[k, i, 1] = l0 * p[2] - l2 * p[0]
                jc[k, i, 2] = l1 * p[0] - l0 * p[1]
                for j in range(3):
                    jp[k, i, j] = l0 * rotation[c, 0, j] + l1 * rotation[c, 1, j] + l2 * rotation[c, 2, j]
                    jc[k, i, 3 + j] = -jp[k, i, j]
                for j in range(9):
                    jc[k, i, 6 + j] = lens_part[i, j]
            for i in range(3):
                pull[i] += jp[k, 0, i] * r[k, 0] + jp[k, 1, i] * r[k, 1]
                for j in range(3):
                    normal[i, j] += jp[k, 0, i] * jp[k, 0, j] + jp[k, 1, i] * jp[k, 1, j]
        if count < 3 or not solve_three(normal, pull, back):
            continue
        for j in range(3):
            solve_three(normal, unit[j], inverse[j])
        for k in range(count):
            for j in range(3):
                for i in range(SIZE):
                    mixed[k, j, i] = jc[k, 0, i] * jp[k, 0, j] + jc[k, 1, i] * jp[k, 1, j]
            for i in range(SIZE):
                for j in range(3):
                    taken[k, i, j] = (
                        inverse[j, 0] * mixed[k, 0, i] + inverse[j, 1] * mixed[k, 1, i] + inverse[j, 2] * mixed[k, 2, i]
                    )
        for k in range(count):
            at = SIZE * who[k]
            for i in range(SIZE):
                g = jc[k, 0, i] * r[k, 0] + jc[k, 1, i] * r[k, 1]
                for j in range(3):
                    g -= mixed[k, j, i] * back[j]
                gradient[at + i] += g
                for j in range(SIZE):
                    matrix[at + i, at + j] += jc[k, 0, i] * jc[k, 0, j] + jc[k, 1, i] * jc[k, 1, j]
            for m in range(k, count):  # the rest mirrors it
                to, along = SIZE * who[m], mixed[m]
                for i in range(SIZE):
                    t0, t1, t2 = taken[k, i, 0], taken[k, i, 1], taken[k, i, 2]
                    row = matrix[at + i, to : to + SIZE]
                    for j in range(SIZE):
                        row[j] -= t0 * along[0, j] + t1 * along[1, j] + t2 * along[2, j]


def place_again(cameras, number, recordings, covariance=None, progress=None):
    """Place a camera anew that was knocked, from what it saw of takes since.

    Parameters
    ----------
    cameras : sequence of Camera
        As they were calibrated, all in one world.
    number : int
        Which of them was knocked.
    recordings : sequence of Recording
        Made since.
    covariance : ndarray (15 C, 15 C), optional
        Of the cameras' numbers before. Without it the others count as known, and only rotation and position of the one
        are fitted.
    progress : callable, optional
        Called with the share that is done, 0 to 1. It may raise to stop the work.

    Returns
    -------
    PlacedAgain
        The camera, its residual and the covariance after.

    Raises
    ------
    InputError
        With too few pairs of points and centroids.
    """
    points, seen = _all_pairs(cameras, number, recordings)
    if len(points) < FEWEST_PAIRS:
        raise InputError(
            f"Camera {cameras[number].name} saw only {len(points)} of the take's points; {FEWEST_PAIRS} are needed to "
            "place it anew."
        )
    camera, residual = _fitted(cameras[number], points, seen)
    if covariance is None:
        return PlacedAgain(camera, residual, None, len(points))
    now = [camera if i == number else c for i, c in enumerate(cameras)]
    return _adjusted(now, number, recordings, covariance, residual, progress or (lambda share: None))


def _all_pairs(cameras, number, recordings):
    """Points (P, 3) and the camera's centroids (P, 2) of all recordings."""
    views, found = packed(cameras), []
    for recording in recordings:
        room = MOST_PAIRS // len(recordings)
        points, seen = np.empty((room, 3)), np.empty((room, 2))
        first = min(recording.first, len(recording.points_m) - 1)
        there = np.isfinite(recording.points_m[first:, :, 0]).sum()
        every = max(1, -(-there // room))  # as many as there is room for, over the whole of the recording
        shift = np.asarray(recording.shift_px, dtype=float)
        pictures = pictures_of(recording.centroids, len(cameras))
        count = _pairs(
            np.ascontiguousarray(recording.points_m), (first, int(every)), pictures, views, number, shift, points, seen
        )
        found.append((points[:count], seen[:count]))
    return np.concatenate([f[0] for f in found]), np.concatenate([f[1] for f in found])


def _fitted(camera, points, seen):
    """The camera turned and shifted to see points (P, 3) at `seen` (P, 2), and its residual per coordinate."""

    def moved(step):
        rotation = scipy.spatial.transform.Rotation.from_rotvec(step[:3]).as_matrix() @ camera.rotation
        return replace(camera, rotation=rotation, position_m=camera.position_m + step[3:])

    def residual(step, keep):
        positions, _ = project_all(packed([moved(step)]), points[keep])
        return (positions[0] - seen[keep]).ravel()

    step, believed, everything = np.zeros(6), np.ones(len(points), dtype=bool), np.ones(len(points), dtype=bool)
    for _ in range(3):
        step = scipy.optimize.least_squares(residual, step, x_scale=1e-3, args=(believed,)).x
        off = np.linalg.norm(residual(step, everything).reshape(-1, 2), axis=1)
        believed = off < max(REJECT * np.median(off) / 1.1774, 0.05)
    return moved(step), float(np.sqrt(np.mean(residual(step, believed) ** 2)))


def _adjusted(cameras, number, recordings, covariance, residual_px, say):
    """The joint adjustment: a PlacedAgain whose camera stands about right in `cameras` already."""
    points, seen = _all_sightings(cameras, recordings)
    begun, known = packed(cameras), _information(covariance, number)
    now, off = Views(*(v.copy() for v in begun)), np.empty(seen.shape[:2])
    _residuals(points, seen, now, off)
    for adjustment in range(ADJUSTMENTS):
        say((adjustment + 1) / (ADJUSTMENTS + 1))
        sigma = max(np.nanmedian(off) / 1.1774, LEAST_NOISE_PX)
        seen[~(off < REJECT * sigma)] = np.nan
        _residuals(points, seen, now, off)
        believed = np.isfinite(off)
        # the points took three numbers each for themselves
        freedom = 2 * believed.sum() - 3 * (believed.any(axis=1)).sum()
        variance = max(np.nansum(off**2) / max(freedom, 1), LEAST_NOISE_PX**2)
        matrix, gradient = np.zeros_like(known), np.zeros(len(known))
        _reduced(points, seen, now, matrix, gradient)
        spread = np.linalg.inv(known + _mirrored(matrix) / variance)
        step = (spread @ (gradient / variance - known @ _since(begun, now))).reshape(-1, SIZE)
        turned = scipy.spatial.transform.Rotation.from_rotvec(step[:, :3]).as_matrix() @ now.rotation
        now = Views(now.lens + step[:, 6:], turned, now.position + step[:, 3:6])
        _residuals(points, seen, now, off)
        if np.abs(step[number] / np.sqrt(np.diag(spread)).reshape(-1, SIZE)[number]).max() < SETTLED:
            break
    mine, after = slice(SIZE * number, SIZE * (number + 1)), np.array(covariance, dtype=float)
    after[mine], after[:, mine] = spread[mine], spread[:, mine]
    camera = replace(
        cameras[number], lens=now.lens[number], rotation=now.rotation[number], position_m=now.position[number]
    )
    return PlacedAgain(camera, residual_px, after, int(np.isfinite(off[:, number]).sum()))


def _mirrored(matrix):
    """A symmetric matrix of which the blocks on and right of the diagonal are given."""
    out, block = matrix + matrix.T, np.arange(len(matrix)) // SIZE
    return np.where(block[:, None] == block[None], matrix, out)


def _all_sightings(cameras, recordings):
    """Points (P, 3) of all recordings, spread over them, and where every camera sees them (P, C, 2)."""
    found = []
    for recording in recordings:
        frames = min(len(recording.points_m), recording.centroids.frames)
        there = np.argwhere(np.isfinite(recording.points_m[:frames, :, 0]))
        there = there[there[:, 0] >= recording.first]
        room = min(MOST_POINTS // len(recordings), len(there))
        chosen = there[np.linspace(0, len(there) - 1, room).astype(int)]
        seen = np.empty((len(chosen), len(cameras), 2))
        pictures = pictures_of(recording.centroids, len(cameras))
        _sightings(np.ascontiguousarray(recording.points_m), chosen, pictures, packed(cameras), seen)
        found.append((recording.points_m[chosen[:, 0], chosen[:, 1]], seen))
    return np.concatenate([f[0] for f in found]).astype(float), np.concatenate([f[1] for f in found])


def _information(covariance, number):
    """Inverse (15 C, 15 C) of what was known before, nothing being known of the rotation and position of camera `number`."""
    kept = np.ones(len(covariance), dtype=bool)
    kept[SIZE * number : SIZE * number + 6] = False
    scale = np.sqrt(np.diag(covariance)[kept])
    shares, ways = np.linalg.eigh(np.asarray(covariance, dtype=float)[np.ix_(kept, kept)] / np.outer(scale, scale))
    ways = ways / scale[:, None]
    out = np.zeros(covariance.shape)
    out[np.ix_(kept, kept)] = (ways / np.maximum(shares, NOISE_FLOOR * shares[-1])) @ ways.T
    return out


def _since(begun, now):
    """By how much the cameras' numbers (15 C,) differ between two Views."""
    turned = scipy.spatial.transform.Rotation.from_matrix(now.rotation @ begun.rotation.transpose(0, 2, 1)).as_rotvec()
    return np.concatenate([turned, now.position - begun.position, now.lens - begun.lens], axis=1).ravel()
