"""Is the calibration still true? Every take measures it again, and a camera that was knocked is found.

Points that the other cameras rebuilt are projected into a camera's picture. All offsets from there to centroids nearby are
gathered over a short while; a camera that stands where it should has its peak at zero, one that was turned by a little has
it elsewhere, and as many centroids there as before (core.optics.place_again places it anew). One that was turned about the
way it looks keeps its peak and is told by how the offsets go round. Pixels, metres, seconds.
"""

from dataclasses import dataclass
from itertools import combinations
from typing import NamedTuple

import numpy as np
import scipy
from numba import njit

from otrevo.core.conventions import rigid_move
from otrevo.core.errors import InputError
from otrevo.core.optics.camera import packed, pictures_of, project_one

REACH_PX = 30
WINDOW_S, EVERY_S = 1.0, 0.05
PEAK_PX = 2.0  # around the peak, what counts as it
MOVED_PX, LEAST_SUPPORT = 0.5, 0.4
FEWEST = 60  # offsets
FEWEST_SAME, SAME_POSITION_M = 4, 0.003


@dataclass(frozen=True)
class Trust:
    """start_s (W,) of every window; shift_px (W, C, 2) of each camera's centroids against the points, round_px (W, C): how far
    a turn of its picture moves them on top of that (RMS), spread_px (W, C) about both; NaN where it saw too few; support
    (W, C): the share of projected points with a centroid there."""

    start_s: np.ndarray
    shift_px: np.ndarray
    round_px: np.ndarray
    spread_px: np.ndarray
    support: np.ndarray

    @property
    def off_px(self):
        """(W, C): how far each camera's picture is off, all together."""
        return np.hypot(np.linalg.norm(self.shift_px, axis=2), self.round_px)

    def knocked(self, moved_px=MOVED_PX):
        """Cameras that stand elsewhere: [(camera number, since when in s, shift in px)], for the rest of the recording."""
        out = []
        for c in range(self.shift_px.shape[1]):
            size = self.off_px[:, c]
            known = np.flatnonzero(np.isfinite(size))
            if not len(known):
                continue
            off = size[known] > moved_px
            since = len(off) - (np.argmin(off[::-1]) if not off.all() else len(off))
            if len(off) - since >= min(2, len(off)):  # to the end, and not once only
                out.append((c, float(self.start_s[known[since]]), float(np.median(size[known[since:]]))))
        return out


class Offsets(NamedTuple):
    """Offsets of the cameras in one window: shift (C, 2), round_px (C,), spread (C,), support (C,)."""

    shift: np.ndarray
    round_px: np.ndarray
    spread: np.ndarray
    support: np.ndarray


@njit(cache=True, error_model="numpy")
def _offsets(points, window, pictures, views, histogram, out):
    """Offsets of one window of frames (first, last, every): out receives them; histogram: scratch (2 REACH + 1,) * 2."""
    first, last, every = window
    xy, groups = pictures.xy, pictures.groups
    lens, rotation, position = views
    shift, round_px, spread, support = out
    cameras, count = lens.shape[0], points.shape[1]
    uv, slope = np.empty(2), np.empty((2, 2))
    for c in range(cameras):
        histogram[:] = 0
        asked = 0
        sx, sy, twist, mx, my = 0.0, 0.0, 0.0, 0.0, 0.0  # what is expected: this shift, turned by this about the middle
        for sweep in range(3):
            if sweep == 1:
                best = 0
                for i in range(1, 2 * REACH_PX):
                    for j in range(1, 2 * REACH_PX):
                        total = histogram[i - 1 : i + 2, j - 1 : j + 2].sum()
                        if total > best:
                            best, sx, sy = total, float(i - REACH_PX), float(j - REACH_PX)
                if best < FEWEST:
                    break
            near = 0
            sum_dx, sum_dy, sum_dd, sum_u, sum_v, sum_uu, sum_ud = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
            for f in range(first, last, every):
                begin, end = groups[f * cameras + c], groups[f * cameras + c + 1]
                for k in range(count):
                    if np.isnan(points[f, k, 0]) or not project_one(
                        lens[c], rotation[c], position[c], points[f, k], uv, slope
                    ):
                        continue
                    asked += 1 if sweep == 0 else 0
                    ex, ey = sx - twist * (uv[1] - my), sy + twist * (uv[0] - mx)
                    for n in range(begin, end):
                        dx, dy = xy[n, 0] - uv[0], xy[n, 1] - uv[1]
                        if abs(dx) >= REACH_PX or abs(dy) >= REACH_PX:
                            continue
                        if sweep == 0:
                            histogram[int(np.floor(dx + 0.5)) + REACH_PX, int(np.floor(dy + 0.5)) + REACH_PX] += 1
                        elif abs(dx - ex) < PEAK_PX and abs(dy - ey) < PEAK_PX:
                            near += 1
                            sum_dx, sum_dy, sum_dd = sum_dx + dx, sum_dy + dy, sum_dd + dx * dx + dy * dy
                            sum_u, sum_v, sum_uu = sum_u + uv[0], sum_v + uv[1], sum_uu + uv[0] * uv[0] + uv[1] * uv[1]
                            sum_ud += uv[0] * dy - uv[1] * dx
            if sweep == 0:
                continue
            if near < FEWEST:
                break
            sx, sy, mx, my = sum_dx / near, sum_dy / near, sum_u / near, sum_v / near
            wide = max(sum_uu / near - mx * mx - my * my, 1.0)
            twist = (sum_ud / near - (mx * sy - my * sx)) / wide
            if sweep == 2:
                shift[c, 0], shift[c, 1] = sx, sy
                round_px[c] = abs(twist) * np.sqrt(wide)
                spread[c] = np.sqrt(max(sum_dd / near - sx * sx - sy * sy - twist * twist * wide, 0.0) / 2)
                support[c] = near / max(asked, 1)


def measure_trust(points_m, centroids, cameras, rate):
    """Measure whether the cameras still stand where their calibration says.

    Parameters
    ----------
    points_m : ndarray (T, N, 3)
        Rebuilt points in metres, NaN where absent.
    centroids : Centroids
        What the points were rebuilt from, over `cameras` in their order.
    cameras : sequence of Camera
        The calibrated cameras.
    rate : Fraction
        Frames a second.

    Returns
    -------
    Trust
        Offsets of every camera's centroids from the projected points, window by window, pixels.
    """
    hz = float(rate)
    window, every = max(1, round(WINDOW_S * hz)), max(1, round(EVERY_S * hz))
    starts = np.arange(0, max(len(points_m) - window // 2, 1), window)
    count, views = len(cameras), packed(cameras)
    pictures = pictures_of(centroids, count)
    frames = min(len(points_m), centroids.frames)
    shift = np.full((len(starts), count, 2), np.nan)
    round_px, spread, support = (np.full((len(starts), count), np.nan) for _ in range(3))
    histogram = np.zeros((2 * REACH_PX + 1, 2 * REACH_PX + 1), dtype=np.int64)
    for w, start in enumerate(starts):
        out = Offsets(shift[w], round_px[w], spread[w], support[w])
        _offsets(points_m, (int(start), int(min(start + window, frames)), every), pictures, views, histogram, out)
    # a handful of chance meetings is no peak: the camera sees nothing of the points
    if np.isfinite(support).any():
        shift[~(support >= LEAST_SUPPORT * np.nanmedian(support))] = np.nan
    return Trust(starts / hz, shift, round_px, spread, support)


def camera_move(before, after):
    """How far one camera moved in one world: {moved_mm, turned_deg, focal_px}."""
    rotation = scipy.spatial.transform.Rotation.from_matrix(after.rotation @ before.rotation.T)
    return {
        "moved_mm": float(1000 * np.linalg.norm(after.position_m - before.position_m)),
        "turned_deg": float(np.degrees(rotation.magnitude())), "focal_px": float((after.lens[:2] - before.lens[:2]).mean()),
    }  # fmt: skip


def compare(before, after):
    """What moved between two calibrations: the cameras both have, [{id, moved_mm, turned_deg, focal_px}], and how the world
    as a whole moved, {turned_deg, moved_mm}.

    Two versions may have other origins, so the world's move is taken out first, found by the cameras that agree on one.
    """
    later = {c.name: c for c in after}
    pairs = [(one, later[one.name]) for one in before if one.name in later]
    if len(pairs) < 3:
        raise InputError(
            "The two calibrations share fewer than three cameras, so that nothing can be said of what moved."
        )
    a, b = (np.array([pair[i].position_m for pair in pairs]) for i in (0, 1))
    rotation, shift = _world_move(a, b)
    rows = [{"id": one.name} | camera_move(one.moved(rotation, shift), two) for one, two in pairs]
    world = {
        "turned_deg": float(np.degrees(scipy.spatial.transform.Rotation.from_matrix(rotation).magnitude())),
        "moved_mm": float(1000 * np.linalg.norm(shift)),
    }
    return rows, world


def same_room(cameras, earlier):
    """Turn (3, 3) and shift (3,) that take the world of new `cameras` into that of `earlier` ones, by the cameras that have
    not moved since; None when most of them have."""
    known = {c.name: c for c in earlier}
    pairs = [(c.position_m, known[c.name].position_m) for c in cameras if c.name in known]
    if len(pairs) < FEWEST_SAME:
        return None
    a, b = (np.array(positions) for positions in zip(*pairs, strict=True))
    rotation, shift = _world_move(a, b)
    off = np.linalg.norm(a @ rotation.T + shift - b, axis=1)
    return (rotation, shift) if np.median(off) < SAME_POSITION_M else None


def _world_move(a, b):
    """Turn and shift that take most of the places a (N, 3) to b (N, 3): the best of those that three of them give."""
    best, found = np.inf, None
    for three in combinations(range(len(a)), 3) if len(a) <= 14 else _some_threes(len(a)):
        rotation, shift = rigid_move(a[list(three)], b[list(three)])
        off = np.linalg.norm(a @ rotation.T + shift - b, axis=1)
        if np.median(off) < best:
            best, found = np.median(off), off
    agree = found <= max(3 * best, 1e-6)
    return rigid_move(a[agree], b[agree]) if agree.sum() >= 3 else rigid_move(a, b)


def _some_threes(count):
    rng = np.random.default_rng(1)
    return [rng.choice(count, 3, replace=False) for _ in range(400)]
