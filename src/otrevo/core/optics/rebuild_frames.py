"""Rebuilding points: which centroids of different cameras are one marker, and where it is; frame after frame.

A frame begins with what was there before: every track's next place is expected where its motion leads, projected into all
pictures, and takes the centroids that are nearest to it and to no other. Its place is fitted to them; a sighting that
lies further off than the residual limit (a melted blob, a neighbour's marker) is left out. Centroids that nobody took
are then matched across cameras: every two whose rays meet propose a point, and proposals that most cameras see come
first. The state is carried on in plain arrays, so the same loop serves a recording window by window and a live stream
frame by frame. Metres, pixels, seconds.
"""

import numpy as np
from numba import njit

from otrevo.core.optics.camera import project_one, undistort
from otrevo.core.optics.triangulate import nearest_to_rays, refine_point, solve_three

MOST_POINTS = 1024  # in one frame
MOST_PROPOSALS = 60_000
MOST_CAMERAS = 64
MELTED_SIZE = 1.2  # how large a blob may be, of the usual
SIZES_ALIKE, SIZES_KNOWN, SIZES_LEARNT, FEWEST_COMPARED = 0.05, 2000, 20_000, 4
MISSED_FRAMES = 6  # a track that was not seen for longer is over


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
def _single(camera, xy, who, count, radius, lens, rotation, position, x, sizes, scratch):
    """Sort out melted blobs, which are larger than the others say a marker at x is: those that are not come first in camera,
    xy, who. Returns how many there are. sizes (2,): how far blobs' sizes lie from the usual, as a sum of shares, and how many
    were compared; where radii say nothing (all alike, or coarse) nothing is sorted out."""
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
def _fit_point(camera, xy, who, count, lens, rotation, position, x, normal, off, limit, fewest, steps):
    """Refine x (3,) from its sightings, dropping the worst while it lies beyond the limit. Sightings kept come first in
    camera, xy, who, off. Returns how many there are, 0 when they are not enough."""
    while count >= fewest:
        if refine_point(camera, xy, count, lens, rotation, position, x, normal, off, steps) < 0:
            return 0
        worst = 0
        for k in range(1, count):
            if off[k] > off[worst]:
                worst = k
        if off[worst] <= limit * limit:
            return count
        count -= 1
        camera[worst], xy[worst], who[worst] = camera[count], xy[count], who[count]
    return 0


@njit(cache=True, error_model="numpy", nogil=True)
def rebuild_frames(
    xy, radius, groups, first, last, lens, rotation, position, reach, min_cameras, keep_cameras, limit, new_gate, gate,
    count, place, step, age, missed, number, sizes, out_x, out_number, out_sd, out_cameras, out_count, out_residual,
):  # fmt: skip
    """Rebuild frames [first, last). xy (N, 2), sorted by x within each picture, radius (N,), groups as Centroids.groups; lens,
    rotation, position: cameras; reach: how far from a camera points are looked for; the state (count, place, step, age, missed, number,
    sizes) is carried on.

    Results by frame from `first`: out_x (F, K, 3), out_number (F, K), out_sd (F, K) for one pixel of noise, out_cameras
    (F, K), out_count (F,), out_residual (F, C, 2): sum of squares and number of each camera's sightings.
    """
    cameras = lens.shape[0]
    uv, slope, way = np.empty(2), np.empty((2, 2)), np.empty(2)
    seen_by, seen_at, seen_who = (
        np.empty(MOST_CAMERAS, dtype=np.int64),
        np.empty((MOST_CAMERAS, 2)),
        np.empty(MOST_CAMERAS, dtype=np.int64),
    )
    melted = np.empty(MOST_CAMERAS, dtype=np.int64)
    x, normal, unit, column = np.empty(3), np.empty((3, 3)), np.empty(3), np.empty(3)
    off, scratch = np.empty(MOST_CAMERAS), np.empty((2, MOST_CAMERAS))
    nearest = np.empty((MOST_POINTS, cameras), dtype=np.int64)
    expected = np.empty((MOST_POINTS, 3))
    pair_ways, pair_centres = np.empty((2, 3)), np.empty((2, 3))
    proposal, support = np.empty((MOST_PROPOSALS, 3)), np.empty(MOST_PROPOSALS, dtype=np.int64)
    for f in range(first, last):
        begin = groups[f * cameras : f * cameras + cameras + 1]
        base, total_seen = begin[0], begin[cameras] - begin[0]
        taken = np.full(total_seen, -1, dtype=np.int64)
        claim = np.full(total_seen, 1e9)
        # what was there before takes the centroids that are nearest to it
        for k in range(count[0]):
            lead = missed[k] + 1
            for i in range(3):
                expected[k, i] = place[k, i] + lead * step[k, i]
            around = gate * (1 + 0.5 * missed[k]) if age[k] > 1 else new_gate
            for c in range(cameras):
                nearest[k, c] = -1
                if not project_one(lens[c], rotation[c], position[c], expected[k], uv, slope):
                    continue
                near = around
                for n in range(_from(xy, begin[c], begin[c + 1], uv[0] - near), begin[c + 1]):
                    du = xy[n, 0] - uv[0]
                    if du > near:
                        break
                    d = np.sqrt(du**2 + (xy[n, 1] - uv[1]) ** 2)
                    if d < near:
                        near, nearest[k, c] = d, n
                n = nearest[k, c]
                if n >= 0 and near < claim[n - base]:
                    claim[n - base], taken[n - base] = near, k
        kept, found = 0, 0
        for k in range(count[0]):
            sightings = 0
            for c in range(cameras):
                n = nearest[k, c]
                if n >= 0 and taken[n - base] == k:
                    seen_by[sightings], seen_who[sightings] = c, n
                    seen_at[sightings] = xy[n]
                    sightings += 1
            x[:] = expected[k]
            single = _single(
                seen_by, seen_at, seen_who, sightings, radius, lens, rotation, position, x, sizes, scratch
            )  # fmt: skip
            for s in range(single, sightings):
                melted[s - single] = seen_who[s]
            melts = sightings - single
            good = _fit_point(
                seen_by, seen_at, seen_who, single, lens, rotation, position, x, normal, off, limit, keep_cameras, 1
            )  # fmt: skip
            for c in range(cameras):  # what did not fit is free for others
                n = nearest[k, c]
                if n >= 0 and taken[n - base] == k:
                    taken[n - base] = -1
            if good == 0 and missed[k] >= MISSED_FRAMES:
                continue
            if good:
                for s in range(good):
                    taken[seen_who[s] - base] = k
                for s in range(melts):  # two in one: nobody's, and no new point's either
                    taken[melted[s] - base] = MOST_POINTS
                lead = missed[k] + 1
                for i in range(3):
                    moved = (x[i] - place[k, i]) / lead
                    step[kept, i] = moved if age[k] < 2 else 0.25 * step[k, i] + 0.75 * moved
                    place[kept, i] = x[i]
                age[kept], missed[kept], number[kept] = age[k] + 1, 0, number[k]
                _write(
                    f - first, found, x, number[k], normal, good, seen_by, off, out_x, out_number, out_sd, out_cameras,
                    out_residual, unit, column,
                )  # fmt: skip
                found += 1
            else:
                for i in range(3):
                    step[kept, i], place[kept, i] = step[k, i], place[k, i]
                age[kept], missed[kept], number[kept] = age[k], missed[k] + 1, number[k]
            kept += 1
        count[0] = kept
        # centroids that nobody took: two rays that meet propose a point
        ways = np.empty((total_seen, 3))
        for c in range(cameras):
            for n in range(begin[c], begin[c + 1]):
                if taken[n - base] >= 0:
                    continue
                if not undistort(lens[c], xy[n, 0], xy[n, 1], way):
                    taken[n - base] = MOST_POINTS
                    continue
                size = np.sqrt(way[0] ** 2 + way[1] ** 2 + 1.0)
                for i in range(3):
                    ways[n - base, i] = (
                        rotation[c, 0, i] * way[0] + rotation[c, 1, i] * way[1] + rotation[c, 2, i]
                    ) / size
        proposals = 0
        for c in range(cameras - 1):
            for n in range(begin[c], begin[c + 1]):
                if taken[n - base] >= 0:
                    continue
                for d in range(c + 1, cameras):
                    bx, by, bz = (
                        position[d, 0] - position[c, 0],
                        position[d, 1] - position[c, 1],
                        position[d, 2] - position[c, 2],
                    )
                    u = ways[n - base]
                    # the plane of this ray and the other camera: rays that meet ours lie in it
                    ex, ey, ez = by * u[2] - bz * u[1], bz * u[0] - bx * u[2], bx * u[1] - by * u[0]
                    size = np.sqrt(ex * ex + ey * ey + ez * ez)
                    if size < 1e-6:
                        continue
                    tolerance = 2.5 * limit / lens[d, 0] + 2.5 * limit / lens[c, 0]
                    for m in range(begin[d], begin[d + 1]):
                        if taken[m - base] >= 0:
                            continue
                        v = ways[m - base]
                        if abs(ex * v[0] + ey * v[1] + ez * v[2]) > tolerance * size:
                            continue
                        pair_ways[0], pair_ways[1] = u, v
                        pair_centres[0], pair_centres[1] = position[c], position[d]
                        if not nearest_to_rays(pair_ways, pair_centres, x):
                            continue
                        ahead = (
                            (x[0] - position[c, 0]) * u[0]
                            + (x[1] - position[c, 1]) * u[1]
                            + (x[2] - position[c, 2]) * u[2]
                        )
                        behind = (
                            (x[0] - position[d, 0]) * v[0]
                            + (x[1] - position[d, 1]) * v[1]
                            + (x[2] - position[d, 2]) * v[2]
                        )
                        if ahead < 0.2 or behind < 0.2 or ahead > reach or behind > reach:
                            continue
                        who = 0
                        for e in range(cameras):
                            if not project_one(lens[e], rotation[e], position[e], x, uv, slope):
                                continue
                            for w in range(_from(xy, begin[e], begin[e + 1], uv[0] - 3 * limit), begin[e + 1]):
                                if xy[w, 0] - uv[0] > 3 * limit:
                                    break
                                if taken[w - base] < 0 and abs(xy[w, 1] - uv[1]) < 3 * limit:
                                    who += 1
                                    break
                        if who >= min_cameras and proposals < MOST_PROPOSALS:
                            proposal[proposals], support[proposals] = x, who
                            proposals += 1
        if proposals:
            order = np.argsort(-support[:proposals], kind="mergesort")
            for p in order:
                if kept >= MOST_POINTS:
                    break
                x[:] = proposal[p]
                sightings = 0
                for c in range(cameras):
                    if not project_one(lens[c], rotation[c], position[c], x, uv, slope):
                        continue
                    near, who = 4 * limit, -1
                    for n in range(_from(xy, begin[c], begin[c + 1], uv[0] - near), begin[c + 1]):
                        if xy[n, 0] - uv[0] > near:
                            break
                        if taken[n - base] < 0:
                            d = np.sqrt((xy[n, 0] - uv[0]) ** 2 + (xy[n, 1] - uv[1]) ** 2)
                            if d < near:
                                near, who = d, n
                    if who >= 0:
                        seen_by[sightings], seen_who[sightings] = c, who
                        seen_at[sightings] = xy[who]
                        sightings += 1
                if sightings < min_cameras:
                    continue
                single = _single(
                    seen_by, seen_at, seen_who, sightings, radius, lens, rotation, position, x, sizes, scratch
                )  # fmt: skip
                if single < min_cameras:
                    continue
                good = _fit_point(
                    seen_by, seen_at, seen_who, single, lens, rotation, position, x, normal, off, limit, min_cameras, 3
                )  # fmt: skip
                if good == 0:
                    continue
                for s in range(good):
                    taken[seen_who[s] - base] = kept
                place[kept], step[kept] = x, 0.0
                age[kept], missed[kept], number[kept] = 1, 0, count[1]
                count[1] += 1
                _write(
                    f - first, found, x, number[kept], normal, good, seen_by, off, out_x, out_number, out_sd, out_cameras,
                    out_residual, unit, column,
                )  # fmt: skip
                found += 1
                kept += 1
        count[0] = kept
        out_count[f - first] = found


@njit(cache=True, error_model="numpy")
def _write(
    f, k, x, number, normal, good, seen_by, off, out_x, out_number, out_sd, out_cameras, out_residual, unit, column
):
    out_x[f, k], out_number[f, k], out_cameras[f, k] = x, number, good
    variance = 0.0
    for i in range(3):
        unit[:] = 0.0
        unit[i] = 1.0
        if solve_three(normal, unit, column):
            variance += column[i]
    out_sd[f, k] = np.sqrt(variance)
    for s in range(good):
        out_residual[f, seen_by[s], 0] += off[s]
        out_residual[f, seen_by[s], 1] += 1
