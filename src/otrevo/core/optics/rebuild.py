"""Rebuilding points of a recording or a live stream: the loop over frames (core.optics.rebuild_frames) with what is carried
from one to the next, pieces on all cores joined again, and tracks laid out in columns. Metres, pixels, seconds.
"""

import os
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from threading import Event

import numpy as np
import scipy

from otrevo.core.optics.blinds import cut_off
from otrevo.core.optics.camera import Pictures, packed
from otrevo.core.optics.rebuild_frames import MOST_POINTS, Limits, Points, Tracks, rebuild_frames

WINDOW = 600  # frames worked through without a word
PIECE, OVERLAP = 2400, 96  # frames on a core of their own, and how far two reach into each other
SAME_M = 0.0005
SAY_EVERY_S = 0.1


@dataclass(frozen=True)
class RebuildSettings:
    """min_cameras: that must see a new point; residual_limit_px: how far a sighting may lie from the point's projection;
    keep_cameras: that must go on seeing a known one; shortest: frames a track must last; noise_px: of the centroids."""

    min_cameras: int = 3
    residual_limit_px: float = 0.7
    keep_cameras: int = 2
    shortest: int = 4
    noise_px: float = 0.1


@dataclass(frozen=True)
class Rebuilt:
    """points_m (T, N, 3), NaN where absent; sd_m (T, N) standard deviation of each point; cameras (T, N) that saw it;
    residual_px (T, C): RMS of every camera's sightings, NaN where it had none; figures."""

    points_m: np.ndarray
    sd_m: np.ndarray
    cameras: np.ndarray
    residual_px: np.ndarray
    figures: dict = field(default_factory=dict)


def no_tracks():
    """The Tracks before anything was seen."""
    whole = [np.zeros(MOST_POINTS, dtype=np.int64) for _ in range(3)]
    return Tracks(
        np.zeros(2, dtype=np.int64), np.zeros((MOST_POINTS, 3)), np.zeros((MOST_POINTS, 3)), *whole, np.zeros(2)
    )


def rebuild_window(centroids, groups, first, last, cameras, tracks, settings):
    """Rebuild frames [first, last) and carry `tracks` on: Points, as wide as its fullest frame, sd in metres."""
    frames, views = last - first, packed(cameras)
    out = Points(
        np.empty((frames, MOST_POINTS, 3)), np.full((frames, MOST_POINTS), -1), np.empty((frames, MOST_POINTS)),
        np.zeros((frames, MOST_POINTS), dtype=np.int64), np.zeros(frames, dtype=np.int64),
        np.zeros((frames, len(cameras), 2)),
    )  # fmt: skip
    apart = np.linalg.norm(views.position[:, None] - views.position[None], axis=2).max()
    gate = max(4.0, 6 * settings.residual_limit_px)
    limits = Limits(
        int(settings.min_cameras), int(settings.keep_cameras), float(settings.residual_limit_px), gate, 6 * gate,
        float(1.2 * max(apart, 2.0)),
    )  # fmt: skip
    pictures = Pictures(centroids.xy, centroids.radius, groups)
    rebuild_frames(pictures, int(first), int(last), views, limits, tracks, out)
    most = int(out.count.max()) if frames else 0
    return Points(
        out.x[:, :most], out.number[:, :most], settings.noise_px * out.sd[:, :most], out.cameras[:, :most], out.count,
        out.residual,
    )  # fmt: skip


def _piece(centroids, groups, first, last, cameras, settings, step):
    """Rows (frame, number, x, sd, cameras) of frames [first, last) on their own, and the residuals (F, C, 2)."""
    tracks, rows, residuals = no_tracks(), [], []
    for begin in range(first, max(last, first + 1), WINDOW):
        end = min(begin + WINDOW, last)
        p = rebuild_window(centroids, groups, begin, end, cameras, tracks, settings)
        f, k = np.nonzero(np.arange(p.x.shape[1]) < p.count[:, None])
        rows.append((f + begin, p.number[f, k], p.x[f, k], p.sd[f, k], p.cameras[f, k]))
        residuals.append(p.residual)
        step(end - begin)
    return [np.concatenate(v) for v in zip(*rows, strict=True)], np.concatenate(residuals)


def _same_tracks(early, late, first, last):
    """Numbers in `late` that are the same track as a number in `early`, by the places both have in frames [first, last)."""
    votes = {}
    for f in range(first, last):
        mine, other = (slice(*np.searchsorted(rows[0], [f, f + 1])) for rows in (early, late))
        if mine.start < mine.stop and other.start < other.stop:
            off, who = scipy.spatial.cKDTree(early[2][mine]).query(late[2][other])
            near = off < SAME_M
            for a, b in zip(late[1][other][near], early[1][mine][who[near]], strict=True):
                votes.setdefault(int(a), {}).setdefault(int(b), 0)
                votes[int(a)][int(b)] += 1
    return {a: max(partners, key=partners.get) for a, partners in votes.items()}


def _joined(pieces, starts):
    """Rows of all pieces, each sorted by frame, with one number for each track; the seam is the middle of an overlap."""
    parts, before = [], pieces[0]
    fresh = int(before[1].max(initial=-1)) + 1
    for start, piece in zip(starts[1:], pieces[1:], strict=True):
        same = _same_tracks(before, piece, start + OVERLAP // 4, start + OVERLAP)
        numbers, inverse = np.unique(piece[1], return_inverse=True)
        named = np.array([same.get(int(n), fresh + i) for i, n in enumerate(numbers)], dtype=np.int64)
        fresh += len(numbers)
        seam = start + OVERLAP // 2
        parts.append([v[before[0] < seam] for v in before])
        before = [v[piece[0] >= seam] for v in (piece[0], named[inverse], *piece[2:])]
    return [np.concatenate(v) for v in zip(*parts, before, strict=True)]


class Stopped(Exception):
    """Somebody else's piece was stopped, so this one is not wanted any more."""


def rebuild(centroids, cameras, rate, settings=None, progress=None):
    """Rebuild the points of a recording.

    Parameters
    ----------
    centroids : Centroids
        Over `cameras`, in their order.
    cameras : sequence of Camera
        The calibrated cameras.
    rate : Fraction
        Frames a second.
    settings : RebuildSettings, optional
        The usual ones where not given.
    progress : callable, optional
        Called with the share that is done, 0 to 1. It may raise to stop the work.

    Returns
    -------
    Rebuilt
        Points in metres in the cameras' world, with standard deviations and figures.

    Notes
    -----
    Pieces of the recording are rebuilt on all cores at once, overlapping, and joined where they agree. How it is cut
    does not depend on how many cores there are.
    """
    settings, delivered = settings or RebuildSettings(), len(centroids)
    centroids = centroids.only(~cut_off(centroids, cameras))
    frames, groups = centroids.frames, centroids.groups(len(cameras))
    starts = list(range(0, max(frames - PIECE // 2, 1), PIECE))
    ends = [*(s + OVERLAP for s in starts[1:]), frames]
    total, done = max(sum(e - s for s, e in zip(starts, ends, strict=True)), 1), [0]
    over = Event()

    def step(more):
        if over.is_set():
            raise Stopped
        done[0] += more

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        waiting = [
            pool.submit(_piece, centroids, groups, s, e, cameras, settings, step)
            for s, e in zip(starts, ends, strict=True)
        ]
        try:
            left = waiting
            while left:  # whoever listens is told in the thread that asked
                if progress:
                    progress(min(done[0] / total, 1.0))
                left = wait(waiting, SAY_EVERY_S).not_done
        except BaseException:
            over.set()
            pool.shutdown(cancel_futures=True)
            raise
    found = [w.result() for w in waiting]
    if progress:
        progress(1.0)
    frame, number, x, sd, seen = _joined([rows for rows, _ in found], starts)
    residual = np.concatenate([r[: (starts + [frames])[i + 1] - starts[i]] for i, (_, r) in enumerate(found)])
    column, kept = _columns(frame, number, settings.shortest)
    width = int(column.max()) + 1 if kept.any() else 0
    points, deviation = np.full((frames, width, 3), np.nan), np.full((frames, width), np.nan)
    by = np.zeros((frames, width), dtype=np.int16)
    points[frame[kept], column[kept]] = x[kept]
    deviation[frame[kept], column[kept]] = sd[kept]
    by[frame[kept], column[kept]] = seen[kept]
    with np.errstate(invalid="ignore", divide="ignore"):
        each = np.sqrt(residual[..., 0] / (2 * residual[..., 1]))
        per_camera = np.sqrt(residual[..., 0].sum(0) / (2 * residual[..., 1].sum(0)))
    figures = {
        "frames": frames, "seconds": frames / float(rate), "points_mean": float(kept.sum() / max(frames, 1)),
        "tracks": int(len(np.unique(number[kept]))), "short_tracks_dropped": int(len(np.unique(number[~kept]))),
        "cameras_per_point": float(seen[kept].mean()) if kept.any() else 0.0,
        "sd_mm": float(1000 * np.sqrt(np.mean(sd[kept] ** 2))) if kept.any() else None,
        "used_share": float(residual[..., 1].sum() / max(delivered, 1)),
        "camera_residual_px": [None if not np.isfinite(v) else float(v) for v in per_camera],
    }  # fmt: skip
    return Rebuilt(points, deviation, by, each, figures)


def over_cameras(centroids, names, cameras):
    """Centroids numbered over solved cameras; those of cameras that were not solved are left out.

    names: of the cameras that `centroids` are numbered over now.
    """
    number = np.array([next((i for i, c in enumerate(cameras) if c.name == n), -1) for n in names])
    mine = centroids.only(number[centroids.camera] >= 0)
    order = np.lexsort((mine.xy[:, 0], number[mine.camera], mine.frame))
    return type(mine)(mine.frame[order], number[mine.camera][order], mine.xy[order], mine.radius[order])


def rebuilt_by(some, centroids, cameras, rate, progress=None):
    """Points (T, N, 3) of a recording as only the cameras numbered `some` give them."""
    number = np.full(len(cameras), -1)
    number[some] = np.arange(len(some))
    mine = centroids.only(number[centroids.camera] >= 0)
    mine = type(mine)(mine.frame, number[mine.camera], mine.xy, mine.radius)
    points = rebuild(mine, [cameras[i] for i in some], rate, progress=progress).points_m
    missing = centroids.frames - len(points)
    return np.concatenate([points, np.full((missing, *points.shape[1:]), np.nan)]) if missing > 0 else points


def _columns(frame, number, shortest):
    """A column for every row, tracks that are over making room for others, and which rows are kept: tracks long enough."""
    numbers, inverse, length = np.unique(number, return_inverse=True, return_counts=True)
    start, end = np.full(len(numbers), np.iinfo(np.int64).max), np.full(len(numbers), -1)
    np.minimum.at(start, inverse, frame)
    np.maximum.at(end, inverse, frame)
    column, free_from = np.full(len(numbers), -1), []
    for k in np.argsort(start, kind="stable"):
        if length[k] < shortest:
            continue
        fits = [c for c, until in enumerate(free_from) if until < start[k] - 2]
        column[k] = fits[0] if fits else len(free_from)
        if fits:
            free_from[fits[0]] = end[k]
        else:
            free_from.append(end[k])
    return column[inverse], column[inverse] >= 0


def rebuild_still(centroids, cameras, settings=None):
    """Places (K, 3) of what lies still: points that are there in half of the frames, averaged."""
    settings = settings or RebuildSettings()
    groups, frames = centroids.groups(len(cameras)), min(centroids.frames, WINDOW)
    found = rebuild_window(centroids, groups, 0, frames, cameras, no_tracks(), settings)
    f, k = np.nonzero(np.arange(found.x.shape[1]) < found.count[:, None])
    positions = []
    for n in np.unique(found.number[f, k]):
        mine = found.number[f, k] == n
        if mine.sum() >= 0.5 * frames:
            positions.append(np.median(found.x[f, k][mine], axis=0))
    return np.array(positions).reshape(-1, 3)
