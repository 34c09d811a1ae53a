"""Rebuilding points: which centroids of different cameras are one marker, and where it is; frame after frame.

A frame begins with what was there before: every track's next place is expected where its motion leads, projected into all
pictures, and takes the centroids that are nearest to it and to no other. Its place is fitted to them; a sighting that
lies further off than the residual limit (a melted blob, a neighbour's marker) is left out. Centroids that nobody took
are then matched across cameras: every two whose rays meet propose a point, and proposals that most cameras see come
first. The state is carried on in plain arrays, so the same loop serves a recording window by window and a live stream
frame by frame. Metres, pixels, seconds.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

from otrevo.core.optics.camera import Pictures, project_one, undistort
from otrevo.core.optics.triangulate import nearest_to_rays, refine_point, solve_three

MOST_POINTS = 1024  # in one frame
MOST_PROPOSALS = 60_000
MOST_CAMERAS = 64
MELTED_SIZE = 1.2  # how large a blob may be, of the usual
SIZES_ALIKE, SIZES_KNOWN, SIZES_LEARNT, FEWEST_COMPARED = 0.05, 2000, 20_000, 4
MISSED_FRAMES = 6  # a track that was not seen for longer is over
LEAST_DEPTH_M = 0.2  # nearer to a camera there is no point
# steps of a fit, of a known point and of a new one; NumPy's integers, because a bare one has the fit compiled for each number
STEPS, NEW_STEPS = np.int64(1), np.int64(3)


class Limits(NamedTuple):
    """min_cameras: that must see a new point; keep_cameras: that must go on seeing a known one; residual_px: how far a
    sighting may lie from the point's projection; gate_px and new_gate_px: how far from where it is expected a known point
    is looked for, and one that is new; reach_m: how far from a camera points are.
    """

    min_cameras: int
    keep_cameras: int
    residual_px: float
    gate_px: float
    new_gate_px: float
    reach_m: float


class Tracks(NamedTuple):
    """Points carried from frame to frame. count (2,): how many, and the next number; and of each its position (3,), step a
    frame (3,), age and missed frames, number. sizes (2,): of blobs, compared between cameras: sum of differences, how many.
    """

    count: np.ndarray
    position: np.ndarray
    step: np.ndarray
    age: np.ndarray
    missed: np.ndarray
    number: np.ndarray
    sizes: np.ndarray


class Points(NamedTuple):
    """What is rebuilt, by frame: x (F, K, 3), number (F, K), sd (F, K) for one pixel of noise, cameras (F, K) that saw it,
    count (F,) of points, residual (F, C, 2): sum of squares and number of each camera's sightings.
    """

    x: np.ndarray
    number: np.ndarray
    sd: np.ndarray
    cameras: np.ndarray
    count: np.ndarray
    residual: np.ndarray


class Sightings(NamedTuple):
    """Sightings of one point: camera (K,), xy (K, 2), who (K,) the centroid, off (K,) squared residual; and scratch (2, K)."""

    camera: np.ndarray
    xy: np.ndarray
    who: np.ndarray
    off: np.ndarray
    scratch: np.ndarray


class _Frame(NamedTuple):
    """One frame: the pictures; begin (C + 1,): where each camera's centroids begin; taken (n,): by which track each is, -1
    for none, MOST_POINTS for nobody's; way (n, 3): the ray of each in the world.
    """

    pictures: Pictures
    begin: np.ndarray
    taken: np.ndarray
    way: np.ndarray


@njit(cache=True, error_model="numpy")
def _from(xy, begin, end, value):
    """The first of the centroids [begin, end), which are sorted by x, that lies at `value` or beyond."""
    while begin < end:
        middle = (begin + end) // 2
        if xy[middle, 0] < value:
            begin = middle + 1
        else:
            end = middle
    return begin


@njit(cache=True, error_model="numpy")
def _single(s, count, radius, views, x, sizes):
    """Sort out melted blobs, which are larger than the others say a marker at x is: those that are not come first in camera,
    xy, who of the Sightings s. Returns how many there are. sizes (2,): how far blobs' sizes lie from the usual, as a sum of shares, and how many
    were compared; where radii say nothing (all alike, or coarse) nothing is sorted out."""
    camera, xy, who, _, scratch = s
    lens, rotation, position = views
    learnt = sizes[1] >= SIZES_LEARNT
    if count < FEWEST_COMPARED or (learnt and sizes[0] > SIZES_ALIKE * sizes[1]):
        return count
    least, most = 1e9, 0.0
    for k in range(count):
        c = camera[k]
        r = rotation[c]
        z = r[2, 0] * (x[0] - position[c, 0]) + r[2, 1] * (x[1] - position[c, 1]) + r[2, 2] * (x[2] - position[c, 2])
        size = radius[who[k]] * z / lens[c, 0]
        scratch[0, k] = size
        least, most = min(least, size), max(most, size)
    if learnt and most < MELTED_SIZE * least:
        return count  # as nearly always
    for k in range(count):
        at = k
        while at > 0 and scratch[1, at - 1] > scratch[0, k]:
            scratch[1, at] = scratch[1, at - 1]
            at -= 1
        scratch[1, at] = scratch[0, k]
    usual = scratch[1, (count - 1) // 2]
    if not learnt:
        for k in range(count):
            sizes[0] += min(abs(scratch[0, k] / usual - 1), MELTED_SIZE - 1) if usual > 0 else 1.0
        sizes[1] += count
    if usual <= 0 or sizes[1] < SIZES_KNOWN or sizes[0] > SIZES_ALIKE * sizes[1]:
        return count
    k = 0
    while k < count:
        if scratch[0, k] < MELTED_SIZE * usual:
            k += 1
            continue
        count -= 1
        camera[k], camera[count] = camera[count], camera[k]
        who[k], who[count] = who[count], who[k]
        scratch[0, k], scratch[0, count] = scratch[0, count], scratch[0, k]
        for i in range(2):
            xy[k, i], xy[count, i] = xy[count, i], xy[k, i]
    return count


@njit(cache=True, error_model="numpy")
def _fit_point(s, count, views, x, normal, limit, fewest, steps):
    """Refine x (3,) from Sightings, dropping the worst while it lies beyond the limit. Those kept come first in s. Returns how
    many there are, 0 when they are not enough."""
    while count >= fewest:
        if refine_point(s.camera, s.xy, count, views, x, normal, s.off, steps) < 0:
            return 0
        worst = 0
        for k in range(1, count):
            if s.off[k] > s.off[worst]:
                worst = k
        if s.off[worst] <= limit * limit:
            return count
        count -= 1
        s.camera[worst], s.xy[worst], s.who[worst] = s.camera[count], s.xy[count], s.who[count]
    return 0


@njit(cache=True, error_model="numpy")
def _nearest(frame, c, uv, gate):
    """The centroid of camera c nearest to uv (2,) within a gate, and how far it is; -1 for none."""
    xy, near, who = frame.pictures.xy, gate, -1
    for n in range(_from(xy, frame.begin[c], frame.begin[c + 1], uv[0] - near), frame.begin[c + 1]):
        du = xy[n, 0] - uv[0]
        if du > near:
            break
        d = np.sqrt(du**2 + (xy[n, 1] - uv[1]) ** 2)
        if d < near:
            near, who = d, n
    return who, near


@njit(cache=True, error_model="numpy")
def _claim(frame, views, limits, tracks, expected, nearest):
    """Every known track takes the centroids that are nearest to where it is expected and to no other. expected (K, 3) and
    nearest (K, C) receive that."""
    uv, slope, base = np.empty(2), np.empty((2, 2)), frame.begin[0]
    claim = np.full(len(frame.taken), 1e9)
    for k in range(tracks.count[0]):
        lead = tracks.missed[k] + 1
        for i in range(3):
            expected[k, i] = tracks.position[k, i] + lead * tracks.step[k, i]
        around = limits.gate_px * (1 + 0.5 * tracks.missed[k]) if tracks.age[k] > 1 else limits.new_gate_px
        for c in range(len(views.lens)):
            nearest[k, c] = -1
            if not project_one(views.lens[c], views.rotation[c], views.position[c], expected[k], uv, slope):
                continue
            n, near = _nearest(frame, c, uv, around)
            nearest[k, c] = n
            if n >= 0 and near < claim[n - base]:
                claim[n - base], frame.taken[n - base] = near, k


@njit(cache=True, error_model="numpy")
def _go_on(frame, views, limits, tracks, expected, nearest, s, f, out):
    """Known tracks are fitted to what they took; those missed for too long are over. Returns how many go on and how many
    points frame f has."""
    base, cameras = frame.begin[0], len(views.lens)
    x, normal = np.empty(3), np.empty((3, 3))
    melted = np.empty(MOST_CAMERAS, dtype=np.int64)
    kept, found = np.int64(0), np.int64(0)
    for k in range(tracks.count[0]):
        sightings = np.int64(0)
        for c in range(cameras):
            n = nearest[k, c]
            if n >= 0 and frame.taken[n - base] == k:
                s.camera[sightings], s.who[sightings] = c, n
                s.xy[sightings] = frame.pictures.xy[n]
                sightings += 1
        x[:] = expected[k]
        single = _single(s, sightings, frame.pictures.radius, views, x, tracks.sizes)
        for i in range(single, sightings):
            melted[i - single] = s.who[i]
        good = _fit_point(s, single, views, x, normal, limits.residual_px, limits.keep_cameras, STEPS)
        for c in range(cameras):  # what did not fit is free for others
            n = nearest[k, c]
            if n >= 0 and frame.taken[n - base] == k:
                frame.taken[n - base] = -1
        if good == 0 and tracks.missed[k] >= MISSED_FRAMES:
            continue
        if good:
            for i in range(good):
                frame.taken[s.who[i] - base] = k
            for i in range(sightings - single):  # two in one: nobody's, and no new point's either
                frame.taken[melted[i] - base] = MOST_POINTS
            lead = tracks.missed[k] + 1
            for i in range(3):
                moved = (x[i] - tracks.position[k, i]) / lead
                tracks.step[kept, i] = moved if tracks.age[k] < 2 else 0.25 * tracks.step[k, i] + 0.75 * moved
                tracks.position[kept, i] = x[i]
            tracks.age[kept], tracks.missed[kept], tracks.number[kept] = tracks.age[k] + 1, 0, tracks.number[k]
            _write(f, found, x, tracks.number[kept], normal, good, s, out)
            found += 1
        else:
            for i in range(3):
                tracks.step[kept, i], tracks.position[kept, i] = tracks.step[k, i], tracks.position[k, i]
            tracks.age[kept], tracks.missed[kept] = tracks.age[k], tracks.missed[k] + 1
            tracks.number[kept] = tracks.number[k]
        kept += 1
    return kept, found


@njit(cache=True, error_model="numpy")
def _rays(frame, views):
    """The rays of centroids that nobody took; those that no lens can have seen are nobody's."""
    way, base, xy = np.empty(2), frame.begin[0], frame.pictures.xy
    for c in range(len(views.lens)):
        r = views.rotation[c]
        for n in range(frame.begin[c], frame.begin[c + 1]):
            if frame.taken[n - base] >= 0:
                continue
            if not undistort(views.lens[c], xy[n, 0], xy[n, 1], way):
                frame.taken[n - base] = MOST_POINTS
                continue
            size = np.sqrt(way[0] ** 2 + way[1] ** 2 + 1.0)
            for i in range(3):
                frame.way[n - base, i] = (r[0, i] * way[0] + r[1, i] * way[1] + r[2, i]) / size


@njit(cache=True, error_model="numpy")
def _support(frame, views, x, limit):
    """How many cameras have a free centroid where x (3,) appears."""
    uv, slope, who, base, xy = np.empty(2), np.empty((2, 2)), 0, frame.begin[0], frame.pictures.xy
    for e in range(len(views.lens)):
        if not project_one(views.lens[e], views.rotation[e], views.position[e], x, uv, slope):
            continue
        begin, end = frame.begin[e], frame.begin[e + 1]
        for w in range(_from(xy, begin, end, uv[0] - 3 * limit), end):
            if xy[w, 0] - uv[0] > 3 * limit:
                break
            if frame.taken[w - base] < 0 and abs(xy[w, 1] - uv[1]) < 3 * limit:
                who += 1
                break
    return who


@njit(cache=True, error_model="numpy")
def _within_reach(x, centre, way, reach):
    """Whether x (3,) lies before a camera, not too near and not too far along its ray."""
    ahead = (x[0] - centre[0]) * way[0] + (x[1] - centre[1]) * way[1] + (x[2] - centre[2]) * way[2]
    return LEAST_DEPTH_M <= ahead <= reach


@njit(cache=True, error_model="numpy")
def _propose(frame, views, limits, proposal, support):
    """Every two free rays of different cameras that meet propose a point, into proposal (P, 3) with its support (P,); how many."""
    lens, position, base, limit = views.lens, views.position, frame.begin[0], limits.residual_px
    ways, centres, x = np.empty((2, 3)), np.empty((2, 3)), np.empty(3)
    proposals = 0
    for c in range(len(lens) - 1):
        for n in range(frame.begin[c], frame.begin[c + 1]):
            if frame.taken[n - base] >= 0:
                continue
            u = frame.way[n - base]
            for d in range(c + 1, len(lens)):
                bx, by, bz = (
                    position[d, 0] - position[c, 0],
                    position[d, 1] - position[c, 1],
                    position[d, 2] - position[c, 2],
                )
                # the plane of this ray and the other camera: rays that meet ours lie in it
                ex, ey, ez = by * u[2] - bz * u[1], bz * u[0] - bx * u[2], bx * u[1] - by * u[0]
                size = np.sqrt(ex * ex + ey * ey + ez * ez)
                if size < 1e-6:
                    continue
                tolerance = 2.5 * limit / lens[d, 0] + 2.5 * limit / lens[c, 0]
                for m in range(frame.begin[d], frame.begin[d + 1]):
                    if frame.taken[m - base] >= 0:
                        continue
                    v = frame.way[m - base]
                    if abs(ex * v[0] + ey * v[1] + ez * v[2]) > tolerance * size:
                        continue
                    ways[0], ways[1] = u, v
                    centres[0], centres[1] = position[c], position[d]
                    if not nearest_to_rays(ways, centres, x):
                        continue
                    if not _within_reach(x, position[c], u, limits.reach_m):
                        continue
                    if not _within_reach(x, position[d], v, limits.reach_m):
                        continue
                    who = _support(frame, views, x, limit)
                    if who >= limits.min_cameras and proposals < MOST_PROPOSALS:
                        proposal[proposals], support[proposals] = x, who
                        proposals += 1
    return proposals


@njit(cache=True, error_model="numpy")
def _begin(frame, views, limits, tracks, proposal, order, kept, s, f, found, out):
    """New tracks from proposals in an order, as long as enough free sightings agree. Returns how many tracks and points."""
    uv, slope, base = np.empty(2), np.empty((2, 2)), frame.begin[0]
    x, normal = np.empty(3), np.empty((3, 3))
    for p in order:
        if kept >= MOST_POINTS:
            break
        x[:] = proposal[p]
        sightings = np.int64(0)
        for c in range(len(views.lens)):
            if not project_one(views.lens[c], views.rotation[c], views.position[c], x, uv, slope):
                continue
            who = _nearest_free(frame, c, uv, 4 * limits.residual_px)
            if who >= 0:
                s.camera[sightings], s.who[sightings] = c, who
                s.xy[sightings] = frame.pictures.xy[who]
                sightings += 1
        if sightings < limits.min_cameras:
            continue
        single = _single(s, sightings, frame.pictures.radius, views, x, tracks.sizes)
        if single < limits.min_cameras:
            continue
        good = _fit_point(s, single, views, x, normal, limits.residual_px, limits.min_cameras, NEW_STEPS)
        if good == 0:
            continue
        for i in range(good):
            frame.taken[s.who[i] - base] = kept
        tracks.position[kept], tracks.step[kept] = x, 0.0
        tracks.age[kept], tracks.missed[kept], tracks.number[kept] = 1, 0, tracks.count[1]
        tracks.count[1] += 1
        _write(f, found, x, tracks.number[kept], normal, good, s, out)
        found += 1
        kept += 1
    return kept, found


@njit(cache=True, error_model="numpy")
def _nearest_free(frame, c, uv, gate):
    """The centroid of camera c nearest to uv (2,) within a gate that nobody took; -1 for none."""
    xy, near, who, base = frame.pictures.xy, gate, -1, frame.begin[0]
    for n in range(_from(xy, frame.begin[c], frame.begin[c + 1], uv[0] - near), frame.begin[c + 1]):
        if xy[n, 0] - uv[0] > near:
            break
        if frame.taken[n - base] < 0:
            d = np.sqrt((xy[n, 0] - uv[0]) ** 2 + (xy[n, 1] - uv[1]) ** 2)
            if d < near:
                near, who = d, n
    return who


@njit(cache=True, error_model="numpy")
def _write(f, k, x, number, normal, good, s, out):
    """Enter point k of frame f."""
    unit, column = np.empty(3), np.empty(3)
    out.x[f, k], out.number[f, k], out.cameras[f, k] = x, number, good
    variance = 0.0
    for i in range(3):
        unit[:] = 0.0
        unit[i] = 1.0
        if solve_three(normal, unit, column):
            variance += column[i]
    out.sd[f, k] = np.sqrt(variance)
    for i in range(good):
        out.residual[f, s.camera[i], 0] += s.off[i]
        out.residual[f, s.camera[i], 1] += 1


@njit(cache=True, error_model="numpy", nogil=True)
def rebuild_frames(pictures, first, last, views, limits, tracks, out):
    """Rebuild frames [first, last).

    pictures: Pictures, sorted by x within each; views: Views of the cameras; limits: Limits; tracks: Tracks, carried on;
    out: Points receives the frames from `first` on.
    """
    cameras = views.lens.shape[0]
    s = Sightings(
        np.empty(MOST_CAMERAS, dtype=np.int64), np.empty((MOST_CAMERAS, 2)), np.empty(MOST_CAMERAS, dtype=np.int64),
        np.empty(MOST_CAMERAS), np.empty((2, MOST_CAMERAS)),
    )  # fmt: skip
    nearest, expected = np.empty((MOST_POINTS, cameras), dtype=np.int64), np.empty((MOST_POINTS, 3))
    proposal, support = np.empty((MOST_PROPOSALS, 3)), np.empty(MOST_PROPOSALS, dtype=np.int64)
    for f in range(first, last):
        begin = pictures.groups[f * cameras : f * cameras + cameras + 1]
        seen = begin[cameras] - begin[0]
        frame = _Frame(pictures, begin, np.full(seen, -1, dtype=np.int64), np.empty((seen, 3)))
        _claim(frame, views, limits, tracks, expected, nearest)
        kept, found = _go_on(frame, views, limits, tracks, expected, nearest, s, f - first, out)
        tracks.count[0] = kept
        _rays(frame, views)
        proposals = _propose(frame, views, limits, proposal, support)
        if proposals:
            order = np.argsort(-support[:proposals], kind="mergesort")
            kept, found = _begin(frame, views, limits, tracks, proposal, order, kept, s, f - first, found, out)
        tracks.count[0] = kept
        out.count[f - first] = found
