"""Reading a wand of three markers that form a triangle: one picture cannot tell them apart, a moment of film can.

Any three points of a picture pass for the triangle, whichever is taken for which marker; under the wrong names the wand
only seems to jump nearer and farther as it turns. So every three centroids are followed through the frames around, and the order
stays under which their distance, by weak perspective, changed most smoothly, if no other comes near. Of the two tilts that
look alike in one picture that one stays with which the markers moved more smoothly. Metres, pixels; times in frames.
"""

from itertools import permutations

import numpy as np
from numba import njit

from otrevo.core.optics.wand_reading import STEPS, apart_px, put_marker, refine_position, weak_pose, weak_scale

AROUND, STEP = 90, 6  # frames looked at on either side, and how far apart they are compared
FEWEST_STEPS = 8
MOST_POINTS = 6  # pictures with more centroids are left alone
MISSED_FRAMES = 3
MELTED_PX = 3.0
MOST_GUESSED = 4  # centroids of a picture that are tried as the triangle in every way
MOST_TRIED = 48  # ways: 4 * 3 * 2 orders, two tilts
GATE_PX = 20.0  # how far from where it is expected a centroid is looked for
CLEARLY = 0.6  # the best order's roughness, of the next best's
NEAR_STEPS = np.int64(3)  # of a fit that begins nearby
ORDERS = np.array(list(permutations(range(3))))


@njit(cache=True, error_model="numpy")
def _follow_points(xy, groups, cameras, c, frame, last, track, there):
    """Follow the centroids of picture (frame, c) both ways: track (n, 2 S + 1, 2) at every STEP frames, there its mask."""
    steps = AROUND // STEP
    begin, end = groups[frame * cameras + c], groups[frame * cameras + c + 1]
    there[:] = False
    for p in range(end - begin):
        track[p, steps, 0], track[p, steps, 1], there[p, steps] = xy[begin + p, 0], xy[begin + p, 1], True
        for way in (1, -1):
            u, v, du, dv = xy[begin + p, 0], xy[begin + p, 1], 0.0, 0.0
            missed = 0
            for k in range(1, AROUND + 1):
                f = frame + way * k
                if f < 0 or f >= last:
                    break
                near, who, lead = GATE_PX, -1, missed + 1
                for n in range(groups[f * cameras + c], groups[f * cameras + c + 1]):
                    d = np.hypot(xy[n, 0] - u - lead * du, xy[n, 1] - v - lead * dv)
                    if d < near:
                        near, who = d, n
                if who < 0:
                    missed += 1
                    if missed > MISSED_FRAMES:
                        break
                    continue
                du, dv = (xy[who, 0] - u) / lead, (xy[who, 1] - v) / lead
                u, v, missed = xy[who, 0], xy[who, 1], 0
                if k % STEP == 0:
                    track[p, steps + way * (k // STEP), 0] = u
                    track[p, steps + way * (k // STEP), 1] = v
                    there[p, steps + way * (k // STEP)] = True


@njit(cache=True, error_model="numpy")
def triangle_sides(x):
    """Sides 01, 02, 12 of a triangle (3, 3), and 16 times the square of its area."""
    a, b, c = np.linalg.norm(x[1] - x[0]), np.linalg.norm(x[2] - x[0]), np.linalg.norm(x[2] - x[1])
    return np.array([a, b, c, (a + b + c) * (-a + b + c) * (a - b + c) * (a + b - c)])


@njit(cache=True, error_model="numpy")
def pose_triangle(p, lens, markers, mirrored, rotation, shift):
    """Pose (rotation (3, 3), shift (3,)) of a triangle (3, 3) seen at p (3, 2), of the two the one `mirrored` (+1, -1) says.
    Returns the RMS that is left in pixels: next to nothing, or 1e9 when it cannot be."""
    a, b, c = markers[0], markers[1], markers[2]
    r01, r02, r12, area = triangle_sides(markers)
    model, found, e1, e2 = np.empty((3, 3)), np.empty((3, 3)), np.empty(3), np.empty(3)
    model[0] = (b - a) / r01
    model[2] = np.cross(b - a, c - a)
    model[2] /= np.linalg.norm(model[2])
    model[1] = np.cross(model[2], model[0])
    scale = weak_pose(p[0], p[1], p[2], r01, r02, r12, area, mirrored, model, found, e1, e2, rotation)
    depth = lens[0] / scale
    shift[0] = depth * (p[0, 0] - lens[2]) / lens[0]
    shift[1] = depth * (p[0, 1] - lens[3]) / lens[1]
    shift[2] = depth
    shift -= rotation @ a
    return refine_position(markers, p, lens, rotation, shift, STEPS)


@njit(cache=True, error_model="numpy")
def _span(track, there, who):
    """First and last step, around the middle one, at which three centroids are followed and stay apart."""
    steps = AROUND // STEP
    ends = np.empty(2, dtype=np.int64)
    for w in range(2):
        ends[w] = steps
        for k in range(steps + 1):
            at = steps + (2 * w - 1) * k
            a, b, c = track[who[0], at], track[who[1], at], track[who[2], at]
            if not (there[who[0], at] and there[who[1], at] and there[who[2], at]):
                break
            if min(apart_px(a, b), apart_px(a, c), apart_px(b, c)) < MELTED_PX:
                break  # two became one: who is who beyond is not known
            ends[w] = at
    return ends[0], ends[1]


@njit(cache=True, error_model="numpy")
def _unsteadiness(track, who, first, last, sides):
    """How unsteadily the distance, as a logarithm, changes when the centroids are the triangle with those sides: the mean
    size of its second differences."""
    before, change, total = 0.0, 0.0, 0.0
    for at in range(first, last + 1):
        a, b, c = track[who[0], at], track[who[1], at], track[who[2], at]
        now = np.log(weak_scale(apart_px(a, b), apart_px(a, c), apart_px(b, c), sides[0], sides[1], sides[2], sides[3]))
        if at > first + 1:
            total += abs(now - before - change)
        change, before = now - before, now
    return total / (last - first - 1)


@njit(cache=True, error_model="numpy")
def _roughness(track, who, first, last, lens, markers, mirrored, scratch):
    """Mean size of the second differences of the markers' places along the film, in metres; 1e9 when it is too short."""
    seen, rotation, shift, positions = scratch
    middle = AROUND // STEP
    for m in range(3):
        seen[m, 0], seen[m, 1] = track[who[m], middle, 0], track[who[m], middle, 1]
    if pose_triangle(seen, lens, markers, mirrored, rotation, shift) > 1.0:
        return 1e9
    start_rotation, start_shift = rotation.copy(), shift.copy()
    ends = (first, last)
    low, high = middle, middle
    for w in range(2):
        rotation, shift = start_rotation.copy(), start_shift.copy()
        for at in range(middle, ends[w] + (2 * w - 1), 2 * w - 1):
            for m in range(3):
                seen[m, 0], seen[m, 1] = track[who[m], at, 0], track[who[m], at, 1]
            if refine_position(markers, seen, lens, rotation, shift, NEAR_STEPS) > 3.0:
                break
            for m in range(3):
                put_marker(rotation, shift, markers[m], positions[at, m])
            low, high = min(low, at), max(high, at)
    if high - low < 3:
        return 1e9
    total = 0.0
    for at in range(low + 1, high):
        for m in range(3):
            bend = positions[at - 1, m] - 2 * positions[at, m] + positions[at + 1, m]
            total += np.sqrt(bend[0] ** 2 + bend[1] ** 2 + bend[2] ** 2)
    return total / (3 * (high - low - 1))


@njit(cache=True, error_model="numpy")
def name_triangles(orders, markers, xy, groups, last, frames, lens, which, side):
    """Tell the three markers apart in pictures of some frames: which (F, C, 3) receives the centroids' numbers, -1 where it
    is not clear, side (F, C) which of the two tilts. Arguments as in wand_reading.read_all; last: frames of the recording."""
    cameras, steps = lens.shape[0], AROUND // STEP
    track, there = np.empty((MOST_POINTS, 2 * steps + 1, 2)), np.empty((MOST_POINTS, 2 * steps + 1), dtype=np.bool_)
    scratch = (np.empty((3, 2)), np.empty((3, 3)), np.empty(3), np.empty((2 * steps + 1, 3, 3)))
    sides = triangle_sides(markers)
    three, chosen, best_who = np.empty(3, dtype=np.int64), np.empty(3, dtype=np.int64), np.empty(3, dtype=np.int64)
    for f in range(frames.shape[0]):
        for c in range(cameras):
            begin = groups[frames[f] * cameras + c]
            n = groups[frames[f] * cameras + c + 1] - begin
            if n < 3 or n > MOST_POINTS:
                continue
            _follow_points(xy, groups, cameras, c, frames[f], last, track, there)
            best, second = 1e9, 1e9
            for i in range(n - 2):
                for j in range(i + 1, n - 1):
                    for k in range(j + 1, n):
                        three[0], three[1], three[2] = i, j, k
                        begins, ends = _span(track, there, three)
                        if ends - begins < FEWEST_STEPS:
                            continue
                        for o in range(6):
                            for m in range(3):
                                chosen[m] = three[orders[o, m]]
                            rough = _unsteadiness(track, chosen, begins, ends, sides)
                            if rough < best:
                                best, second = rough, best
                                for m in range(3):
                                    best_who[m] = chosen[m]
                            elif rough < second:
                                second = rough
            if best > CLEARLY * second:
                continue
            begins, ends = _span(track, there, best_who)
            rough = np.empty(2)
            for t in range(2):
                rough[t] = _roughness(track, best_who, begins, ends, lens[c], markers, 1.0 - 2.0 * t, scratch)
            if min(rough[0], rough[1]) < 1e8:
                side[f, c] = 1 if rough[0] < rough[1] else -1
                for m in range(3):
                    which[f, c, m] = begin + best_who[m]


@njit(cache=True, error_model="numpy")
def place_triangles(markers, xy, lens, wanted, which, side, positions):
    """Pose the triangles that name_triangles told: positions (F, C, 3, 3) before each camera, NaN where there is none."""
    seen, rotation, shift = np.empty((3, 2)), np.empty((3, 3)), np.empty(3)
    for f in range(which.shape[0]):
        for c in range(which.shape[1]):
            if not wanted[c] or which[f, c, 0] < 0:
                continue
            for m in range(3):
                seen[m, 0], seen[m, 1] = xy[which[f, c, m], 0], xy[which[f, c, m], 1]
            if pose_triangle(seen, lens[c], markers, side[f, c], rotation, shift) < 1.0:
                for m in range(3):
                    put_marker(rotation, shift, markers[m], positions[f, c, m])


@njit(cache=True, error_model="numpy")
def every_triangle(xy, lens, markers, out):
    """Every pose out (MOST_TRIED, 3, 3) of the triangle before one camera that sees xy (n, 2): markers' places. Returns how
    many; none where more than a few centroids are seen."""
    n, found = xy.shape[0], 0
    seen, rotation, shift = np.empty((3, 2)), np.empty((3, 3)), np.empty(3)
    if n > MOST_GUESSED:
        return 0
    for i in range(n):
        for j in range(n):
            for k in range(n):
                if i in (j, k) or j == k:
                    continue
                for a in range(2):
                    seen[0, a], seen[1, a], seen[2, a] = xy[i, a], xy[j, a], xy[k, a]
                if min(apart_px(seen[0], seen[1]), apart_px(seen[0], seen[2]), apart_px(seen[1], seen[2])) < MELTED_PX:
                    continue
                for mirrored in (1.0, -1.0):
                    if pose_triangle(seen, lens, markers, mirrored, rotation, shift) < 1.0:
                        for m in range(3):
                            put_marker(rotation, shift, markers[m], out[found, m])
                        found += 1
    return found
