"""What the two sensors beside a joint feel differently at it, and how turns of either one would show in that.

Turns are splines over pieces of a take. A sensor that is knocked slips within a moment, and its joint seems to leap aside; there a step takes the
place of the splines.
"""

from functools import lru_cache

import numpy as np
from numba import njit

from otrevo.core.conventions import matrix_from_quaternion, quaternion_conjugate, quaternion_rotate
from otrevo.core.correlation import correlated
from otrevo.core.inertial.felt import BAND_HZ, banded, banded_bend
from otrevo.core.inertial.joints import heading_matrix

PIECE_S = 0.25
REACH = 5  # pieces on either side of one whose turn is still felt
MOMENTS = 6  # in every piece, at which a sensor may slip suddenly
SUDDEN_S, SUDDEN_TELLS_S = 0.15, 1.2  # how long that takes, and how far from it it is felt
WANDER_S = 5.0  # the parts of a take in which skin has moved the places of joints otherwise
SHARE = 0.15  # of what is felt that is noise of the skin
BLOW = 4.0  # from so many times the noise on a sample counts little
STANDS_RAD_S, STANDS_MS2 = 0.35, 1.0
UP = np.array([0.0, 1.0, 0.0])


def spline(pieces):
    """Cubic B-spline about a piece, by how many pieces away from its middle it is."""
    away = np.abs(pieces)
    return np.where(away < 1, (4 - 6 * away**2 + 3 * away**3) / 6, np.where(away < 2, (2 - away) ** 3 / 6, 0.0))


class FeltAtJoints:
    """A part of a take as its accelerometers felt it; moments: how many there are at which a sensor may slip suddenly.

    skin: {sensor: how far its limb is turned about its line in every frame (F,), rad, and that line about the bone's axes (3,)}.
    """

    def __init__(self, recording, calibration, headings, sensed, times, pieces, skin):
        inside = (sensed.times_s >= times[0]) & (sensed.times_s < times[0] + pieces * PIECE_S)
        at = np.searchsorted(recording.times_s, sensed.times_s[inside] - 1e-6)
        self.times, self.frame_times, angle = sensed.times_s[inside], times, headings.at(sensed.times_s[inside])
        self.turn, self.mount = heading_matrix(-angle), calibration.mount
        self.force, self.bend = sensed.force[inside], sensed.bend[inside]
        reading = recording.rotation[at]
        self.known = sensed.known[inside] & np.isfinite(reading[..., 0])
        self.rotation = matrix_from_quaternion(np.nan_to_num(reading, nan=0.5))
        self.each_s = float(sensed.times_s[1] - sensed.times_s[0])
        since = self.times - times[0]
        self.trend, self.part = 2 * since / (pieces * PIECE_S) - 1, (since / WANDER_S).astype(np.int64)
        self.first = np.floor(since / PIECE_S - 0.5).astype(np.int64) - REACH + 1
        knots = (self.first[:, None] + np.arange(2 * REACH) + 0.5) * PIECE_S
        self.shape = _shapes(recording.rate_hz, since[:, None] - knots)
        self.skin = {
            s: (_shape_of(turned, recording.rate_hz, times, self.times), line) for s, (turned, line) in skin.items()
        }
        self.moments = pieces * MOMENTS
        nearest = np.round((np.arange(self.moments) * PIECE_S / MOMENTS - since[0]) / self.each_s)
        self.nearest = np.clip(nearest, 0, len(since) - 1).astype(int)
        self.steps = _step_shapes(recording.rate_hz, self.each_s)

    def beside(self, pair, places, noise):
        """(first piece (T,), shape of its turn and the next ones' (T, M, 3), weight of a sample where little of it is explained (T,) and where all is (T,),
        apart (T, 3) m/s², how that goes with what may be off all along (T, 3, 10), [(with a heading (T, 3, 3), with a slip (T, 3, 3, 3))] of both
        sides, by shapes).
        """
        turn = [self.turn[:, s] for s in pair]
        bend = [turn[k] @ self.bend[:, s] for k, s in enumerate(pair)]
        felt = [(turn[k] @ self.force[:, s, :, None])[..., 0] + bend[k] @ places[k] for k, s in enumerate(pair)]
        apart = felt[0] - felt[1]
        variance = noise**2 + SHARE**2 * ((felt[0] ** 2).sum(axis=1) + (felt[1] ** 2).sum(axis=1)) / 2
        weight = np.where(self.known[:, pair].all(axis=1), 1 / variance, 0.0)
        weight *= 2 * BAND_HZ[1] * self.each_s  # neighbours in time err alike
        blow = 1 + (apart**2).sum(axis=1) / variance / BLOW**2
        whole, weight = weight / blow, weight / blow**2
        swept = np.cross(UP, (felt[0] + felt[1]) / 2)
        turned, skin = [], []
        for k, (s, sign) in enumerate(zip(pair, (1.0, -1.0), strict=True)):
            rotation = turn[k] @ self.rotation[:, s]
            aside = np.cross(UP, rotation @ places[k])
            heading = np.stack([swept, aside, np.gradient(aside, self.each_s, axis=0)], axis=2)
            to_sensor = quaternion_rotate(quaternion_conjugate(self.mount[s]), np.eye(3))
            arm = np.cross(to_sensor, places[k]).T  # from a slip about the bone's axes to where the joint seems to go
            aside = rotation @ arm
            slip = np.stack([bend[k] @ arm, aside, np.gradient(aside, self.each_s, axis=0)], axis=3)
            turned.append((sign * heading, sign * slip))
            shape, line = self.skin.get(s, (np.zeros((len(swept), 3)), np.zeros(3)))
            skin.append(((sign * slip).transpose(0, 1, 3, 2) @ line @ shape[:, :, None])[..., 0])
        all_along = swept, swept * self.trend[:, None], *skin
        always = np.concatenate([np.stack(all_along, axis=2), bend[0], -bend[1]], axis=2)
        return self.first, self.shape, weight, whole, apart, always, self.part, turned

    def sudden(self, weight, apart, slip):
        """(J, 3, 3), (J, 3): what comes to a slip's evidence where it is sudden and not made of splines, at every moment; weight (T,), apart, slip
        as by `beside`.
        """
        certain = np.sqrt(weight)
        slip = (slip * certain[:, None, None, None]).reshape(-1, 3, 9)
        firm = (slip.swapaxes(1, 2) @ slip).reshape(-1, 3, 3, 3, 3)
        pull = (slip.swapaxes(1, 2) @ (certain[:, None] * apart)[..., None]).reshape(-1, 3, 3)
        sudden, slow = self.steps
        v, w = np.tril_indices(3)  # the matrices are symmetric, and so are the products of shapes
        c, d = np.triu_indices(3)
        firm = firm.transpose(0, 1, 3, 2, 4)[:, v, w]
        firm = firm[..., c, d] + np.where(c < d, firm[..., d, c], 0.0)
        firm = correlated(firm, sudden[:, c] * sudden[:, d] - slow[:, c] * slow[:, d])
        first = self.nearest - len(sudden) // 2
        out = np.empty((len(first), 3, 3))
        out[:, v, w] = out[:, w, v] = firm[first]
        return out, correlated(pull, sudden - slow)[first]

    def stands(self, sensor, speed):
        """Whether a sensor hardly turns and feels gravity alone, (T,) of the part's frames; speed (T,): how fast it turns, rad/s."""
        felt = np.interp(self.frame_times, self.times, np.linalg.norm(self.force[:, sensor], axis=1))
        return (speed < STANDS_RAD_S) & (felt < STANDS_MS2)


def _shapes(rate_hz, away_s):
    """(..., 3): the spline about a piece's middle, its second derivative and twice its first, both as a Felt knows them, away_s (...) from it."""
    times = np.arange(-int(4 * rate_hz), int(4 * rate_hz) + 1) / rate_hz
    return _shape_of(spline(times / PIECE_S), rate_hz, times, away_s)


def _shape_of(turned, rate_hz, times, at_s):
    """(..., 3): how far something is turned at times (F,), its second derivative and twice its first, both as a Felt knows them, at_s (...)."""
    way = turned, banded_bend(turned, rate_hz), 2 * banded(np.gradient(turned, 1 / rate_hz), rate_hz)
    return np.stack([np.interp(at_s, times, column) for column in way], axis=-1)


@lru_cache(maxsize=8)
def _step_shapes(rate_hz, each_s):
    """(2, W, 3), as _shapes, every each_s about a moment: a sudden turn that lasts, and one that is made of splines."""
    times = np.arange(-int(4 * rate_hz), int(4 * rate_hz) + 1) / rate_hz
    sudden = np.clip(times / SUDDEN_S + 0.5, 0.0, 1.0)
    slow = sum(spline(times / PIECE_S - k - 0.5) for k in range(int(8 / PIECE_S)))
    half = round(SUDDEN_TELLS_S / each_s)
    away = np.arange(-half, half + 1) * each_s
    out = np.empty((2, len(away), 3))
    for shapes, turned in zip(out, (sudden, slow), strict=True):
        shapes[:] = _shape_of(turned, rate_hz, times, away)
    return out


@njit(cache=True, error_model="numpy")
def felt_products(first, shape, weight, apart, always, part, turned, pieces, rest):
    """(band (K, M, C, C), pull (K, C), by (K, C, N)): products of turns in a piece with turns in it and the next ones, with what is apart and
    with what may be off all along; turned (T, 3, C, 3): by shapes.
    """
    reach, kinds, count = shape.shape[1], turned.shape[2], always.shape[2]
    band, pull, by = (
        np.zeros((pieces, reach, kinds, kinds)),
        np.zeros((pieces, kinds)),
        np.zeros((pieces, kinds, rest)),
    )
    begin = 0
    while begin < len(first):
        end = begin  # samples in a row with the same pieces, and in the same part, have their products in common
        while end < len(first) and first[end] == first[begin] and part[end] == part[begin]:
            end += 1
        turns, beside = np.zeros((3 * (end - begin), reach * kinds)), np.zeros((3 * (end - begin), 1 + count))
        for t in range(begin, end):
            if weight[t] == 0.0:
                continue
            certain = np.sqrt(weight[t])
            for i in range(3):
                row = 3 * (t - begin) + i
                for m in range(reach):
                    for c in range(kinds):
                        turns[row, m * kinds + c] = certain * (
                            shape[t, m, 0] * turned[t, i, c, 0]
                            + shape[t, m, 1] * turned[t, i, c, 1]
                            + shape[t, m, 2] * turned[t, i, c, 2]
                        )
                beside[row, 0] = certain * apart[t, i]
                for n in range(count):
                    beside[row, 1 + n] = certain * always[t, i, n]
        with_turns, with_all = turns.T @ turns, turns.T @ beside
        for m in range(max(0, -first[begin]), min(reach, pieces - first[begin])):
            k = first[begin] + m
            for c in range(kinds):
                own = m * kinds + c
                pull[k, c] += with_all[own, 0]
                for n in range(count):
                    by[k, c, n] += with_all[own, 1 + n]
                for n in range(6):  # the places, in this part of the take
                    by[k, c, count + 6 * part[begin] + n] += with_all[own, 1 + count - 6 + n]
                for d in range(min(reach - m, pieces - k)):
                    for e in range(kinds):
                        band[k, d, c, e] += with_turns[own, (m + d) * kinds + e]
        begin = end
    return band, pull, by
