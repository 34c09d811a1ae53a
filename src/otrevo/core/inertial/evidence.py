"""What a take tells of sensors that something turns: their filter's heading, or they themselves on their limb.

Three things tell. Both sensors beside a joint feel the same acceleration there (core.inertial.joints); whichever is turned feels it elsewhere,
and feels the joint move aside while it turns. Joints hardly turn about some axes (core.inertial.joint_freedom). And feet that stand are
flat. All are linear in small turns, so one least squares for every pair of neighbours tells how much better any turn of either would explain the take than none does.
What may be off all along is taken out first: how both are mounted, where their joint is, and how their headings differ and drift.

Turns are splines over pieces of the take. Of a heading's every turn is told; of a sensor's that slips, one that stays from some piece on.
"""

from dataclasses import dataclass, replace

import numpy as np
from numba import njit

from otrevo.core.conventions import matrix_from_quaternion, quaternion_conjugate, quaternion_rotate
from otrevo.core.inertial.felt import BAND_HZ, banded, banded_bend
from otrevo.core.inertial.joint_freedom import READ_RAD, angles_of
from otrevo.core.inertial.joints import LINKS, LOOSE, heading_matrix, links_of
from otrevo.core.inertial.stills import turn_speed

PIECE_S = 0.25
MOUNT_RAD, ANGLE_RAD, HEADING_RAD, DRIFT_RAD = np.radians([6.0, 10.0, 4.0, 1.0])  # what may be off all along, one sigma
PLACE_M = 0.03  # so may the places of joints
TRUNK = 2.5  # times as far where the hips or the chest are on one side
WANDER_M, WANDER_S = 0.015, 5.0  # how far skin moves these places, from one part of a take to the next
NOISE_MS2 = 0.2  # of a joint that is not LOOSE
FARTHER = 2.0  # times as much where the sensor of a bone in between is missing
SHARE = 0.15  # of what is felt that is noise of the skin
BLOW = 4.0  # from so many times the noise on a sample counts little
REACH = 5  # pieces on either side of one whose turn is still felt
FLAT_RAD, FLAT_S = np.radians(4.0), 1.5  # how far feet that stand stray from flat, and for how long
FEWEST_STANDS = 3
FLOOR_RAD, FLOOR_S = np.radians(4.0), 60.0  # and the floor under them from level
STANDS_RAD_S, STANDS_MS2, LEVEL = 0.35, 1.0, np.cos(np.radians(45.0))
UP = np.array([0.0, 1.0, 0.0])

# what may be off besides: both mounts, three angles, the heading and its drift, the joint's place in both; then that place in every part
_MOUNTS, _ANGLES, _HEADING = slice(0, 6), slice(6, 9), slice(9, 11)
_PRIORS = np.repeat([MOUNT_RAD, ANGLE_RAD, HEADING_RAD, DRIFT_RAD, PLACE_M], [6, 3, 1, 1, 6])


@dataclass
class Evidence:
    """Of turns of one sensor over K pieces, in 1/sigma².

    heading (K, K), heading_pull (K,): of its filter's heading by a turn in every piece. slip (K, 3, 3), slip_pull (K, 3): of the sensor, about its bone's
    axes, from a piece on.
    """

    heading: np.ndarray
    heading_pull: np.ndarray
    slip: np.ndarray
    slip_pull: np.ndarray

    @classmethod
    def nothing(cls, pieces):
        return cls(np.zeros((pieces, pieces)), np.zeros(pieces), np.zeros((pieces, 3, 3)), np.zeros((pieces, 3)))

    def add(self, other):
        """Add another one's to it."""
        self.heading += other.heading
        self.heading_pull += other.heading_pull
        self.slip += other.slip
        self.slip_pull += other.slip_pull


def spline(pieces):
    """Cubic B-spline about a piece, by how many pieces away from its middle it is."""
    away = np.abs(pieces)
    return np.where(away < 1, (4 - 6 * away**2 + 3 * away**3) / 6, np.where(away < 2, (2 - away) ** 3 / 6, 0.0))


def evidence_of(recording, calibration, headings, sensed, world, frames, beside=None):
    """What a part of a take tells of its sensors, {what tells it, two neighbours or a foot that stands: {sensor: Evidence}}.

    Parameters
    ----------
    recording, calibration, headings
        Of the same sensors, in the same order.
    sensed : Felt
        The recording's.
    world : ndarray (T, S, 4)
        The bones' rotations by the recording.
    frames : slice
        The part.
    beside : set of int, optional
        Only what tells of any of these sensors: all that changes when they alone are put right.
    """
    times = recording.times_s[frames]
    piece_of = ((times - times[0]) / PIECE_S).astype(int)
    pieces = int(piece_of[-1])
    piece_of = np.where(piece_of < pieces, piece_of, -1)
    inside = piece_of >= 0
    times, piece_of, world = times[inside], piece_of[inside], world[frames][inside]
    felt = _Felt(recording, calibration, headings, sensed, times, pieces)
    number = {n: s for s, n in enumerate(recording.names)}
    places = {joint: place for *_, joint, place in calibration.places_of(recording.names)}
    told = {}
    collar_bones = {"leftShoulder", "rightShoulder"} & set(recording.names)
    for above, below, joint in links_of(recording.names):
        pair = number[above], number[below]
        if beside is not None and beside.isdisjoint(pair):
            continue
        link = _Link(pieces, TRUNK if above in ("hips", "chest") else 1.0)
        neighbours = (above, below, joint) in LINKS  # or a sensor in between is missing, and more than one joint turns
        if neighbours or above == "chest":
            priors = MOUNT_RAD, ANGLE_RAD, HEADING_RAD
            rotations, alone = (world[:, s] for s in pair), joint == "spine" and not collar_bones
            angles = angles_of(joint, *rotations, piece_of, PIECE_S, priors, not neighbours, alone)
            for k, angle in angles.items():
                link.add_angle(k, angle)
        if joint in places:
            noise = NOISE_MS2 * LOOSE.get(joint, 1.0) * (1.0 if neighbours else FARTHER)
            link.add_felt(*felt.beside(pair, places[joint], noise))
        told[above, below] = dict(zip(pair, link.left(), strict=True))
    feet = [n for n in recording.names if n.endswith("Foot") and (beside is None or number[n] in beside)]
    part = recording.only(feet)
    part = replace(part, rotation=part.rotation[frames][inside])
    for name, speed in zip(feet, turn_speed(part).T, strict=True):
        s, evidence = number[name], Evidence.nothing(pieces)
        _add_standing(evidence, world[:, s], felt.stands(s, speed), piece_of)
        told[name] = {s: evidence}
    return told


def summed(told, sensors):
    """[Evidence] of so many sensors, by all that evidence_of tells."""
    pieces = max((len(evidence.heading) for part in told.values() for evidence in part.values()), default=0)
    out = [Evidence.nothing(pieces) for _ in range(sensors)]
    for part in told.values():
        for s, evidence in part.items():
            out[s].add(evidence)
    return out


class _Link:
    """The least squares of two neighbours, of the one above and the one below."""

    def __init__(self, pieces, loose):
        """loose: how much worse than usual the joint's places are known."""
        priors = np.r_[_PRIORS, np.full(6 * (1 + int(pieces * PIECE_S / WANDER_S)), WANDER_M)]
        priors[_HEADING.stop :] *= loose
        count = len(priors)
        self.normal, self.aim = np.diag(1 / priors**2), np.zeros(count)
        self.sides = [Evidence.nothing(pieces) for _ in range(2)]
        self.heading_by, self.slip_by = np.zeros((2, pieces, count)), np.zeros((2, pieces, 3, count))
        self.trend = np.linspace(-1.0, 1.0, pieces)

    def add_angle(self, which, angle):
        """An Angle of their joint, which: of its three."""
        always = np.zeros((len(angle.piece), len(self.aim)))
        always[:, _MOUNTS] = angle.by_mount.swapaxes(0, 1).reshape(-1, 6)
        always[:, _ANGLES.start + which] = 1.0
        always[:, _HEADING] = angle.by_heading[:, None] * np.stack(
            [np.ones(len(always)), self.trend[angle.piece]], axis=1
        )
        firm_always, firm_value = angle.certainty @ always, angle.certainty @ angle.value
        self.normal += always.T @ firm_always
        self.aim += always.T @ firm_value
        square = np.ix_(angle.piece, angle.piece)
        for k, (side, sign) in enumerate(zip(self.sides, (1.0, -1.0), strict=True)):
            turn = sign * angle.by_heading
            side.heading[square] += turn[:, None] * angle.certainty * turn
            side.heading_pull[angle.piece] += turn * firm_value
            self.heading_by[k, angle.piece] += turn[:, None] * firm_always
            turn = angle.by_mount[k]
            _add_lasting(side.slip, angle.piece, _growing_by(turn, angle.certainty))
            _add_lasting(side.slip_pull, angle.piece, turn * firm_value[:, None])
            _add_lasting(self.slip_by[k], angle.piece, turn[:, :, None] * firm_always[:, None])

    def add_felt(self, first, shape, weight, apart, always, part, turned):
        """What both sides feel differently at their joint, as _Felt.beside tells."""
        pieces, rest = len(self.trend), len(self.aim) - _HEADING.start
        for k, (side, (heading, slip)) in enumerate(zip(self.sides, turned, strict=True)):
            band, pull, by = _felt_products(
                first, shape, weight, apart, always, part, heading[:, :, None], pieces, rest
            )
            for d in range(band.shape[1]):
                at = np.arange(pieces - d)
                side.heading[at, at + d] += band[at, d, 0, 0]
                if d:
                    side.heading[at + d, at] += band[at, d, 0, 0]
            side.heading_pull += pull[:, 0]
            self.heading_by[k, :, _HEADING.start :] += by[:, 0]
            band, pull, by = _felt_products(first, shape, weight, apart, always, part, slip, pieces, rest)
            later = band[:, 1:].sum(axis=1)
            piece = np.arange(pieces)
            _add_lasting(side.slip, piece, band[:, 0] + later + later.swapaxes(1, 2))
            _add_lasting(side.slip_pull, piece, pull)
            _add_lasting(self.slip_by[k][..., _HEADING.start :], piece, by)
        every = np.zeros((len(always), 3, rest))
        every[:, :, : always.shape[2]] = always
        own = always.shape[2] + 6 * part[:, None] + np.arange(6)
        np.put_along_axis(every, np.repeat(own[:, None], 3, axis=1), always[:, :, 2:], axis=2)
        firm = (np.sqrt(weight)[:, None, None] * every).reshape(-1, rest)
        self.normal[_HEADING.start :, _HEADING.start :] += firm.T @ firm
        self.aim[_HEADING.start :] += firm.T @ (np.sqrt(weight)[:, None] * apart).ravel()

    def left(self):
        """[Evidence] of the two sensors, once what may be off all along has explained what it can."""
        inverse = np.linalg.inv(self.normal)
        off = inverse @ self.aim
        for k, side in enumerate(self.sides):
            by = self.heading_by[k]
            side.heading -= by @ inverse @ by.T
            side.heading_pull -= by @ off
            by = self.slip_by[k]
            side.slip -= by @ inverse @ by.swapaxes(1, 2)
            side.slip_pull -= by @ off
        return self.sides


def _growing_by(turn, certainty):
    """(P, 3, 3): by how much a turn that lasts from a piece on is better known than one from the next piece on; turn (P, 3)."""
    later = np.triu(certainty, 1) @ turn
    across = turn[:, :, None] * later[:, None]
    return np.diag(certainty)[:, None, None] * turn[:, :, None] * turn[:, None] + across + across.swapaxes(1, 2)


def _add_lasting(whole, piece, each):
    """Add to every piece what it and all later ones tell; each: of pieces `piece`."""
    single = np.zeros_like(whole)
    single[piece] = each
    whole += single[::-1].cumsum(axis=0)[::-1]


class _Felt:
    """A part of a take as its accelerometers felt it."""

    def __init__(self, recording, calibration, headings, sensed, times, pieces):
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

    def beside(self, pair, places, noise):
        """(first piece (T,), shape of its turn and the next ones' (T, M, 3), weight (T,), apart (T, 3) m/s², how that goes with what may be off all along
        (T, 3, 8), [(with a heading (T, 3, 3), with a slip (T, 3, 3, 3))] of both sides, by shapes).
        """
        turn = [self.turn[:, s] for s in pair]
        bend = [turn[k] @ self.bend[:, s] for k, s in enumerate(pair)]
        felt = [(turn[k] @ self.force[:, s, :, None])[..., 0] + bend[k] @ places[k] for k, s in enumerate(pair)]
        apart = felt[0] - felt[1]
        variance = noise**2 + SHARE**2 * ((felt[0] ** 2).sum(axis=1) + (felt[1] ** 2).sum(axis=1)) / 2
        weight = np.where(self.known[:, pair].all(axis=1), 1 / variance, 0.0)
        weight *= 2 * BAND_HZ[1] * self.each_s  # neighbours in time err alike
        weight /= (1 + (apart**2).sum(axis=1) / variance / BLOW**2) ** 2
        swept = np.cross(UP, (felt[0] + felt[1]) / 2)
        always = np.concatenate(
            [swept[:, :, None], (swept * self.trend[:, None])[:, :, None], bend[0], -bend[1]], axis=2
        )
        turned = []
        for k, (s, sign) in enumerate(zip(pair, (1.0, -1.0), strict=True)):
            rotation = turn[k] @ self.rotation[:, s]
            aside = np.cross(UP, rotation @ places[k])
            heading = np.stack([swept, aside, np.gradient(aside, self.each_s, axis=0)], axis=2)
            to_sensor = quaternion_rotate(quaternion_conjugate(self.mount[s]), np.eye(3))
            arm = np.cross(to_sensor, places[k]).T  # from a slip about the bone's axes to where the joint seems to go
            aside = rotation @ arm
            slip = np.stack([bend[k] @ arm, aside, np.gradient(aside, self.each_s, axis=0)], axis=3)
            turned.append((sign * heading, sign * slip))
        return self.first, self.shape, weight, apart, always, self.part, turned

    def stands(self, sensor, speed):
        """Whether a sensor hardly turns and feels gravity alone, (T,) of the part's frames; speed (T,): how fast it turns, rad/s."""
        felt = np.interp(self.frame_times, self.times, np.linalg.norm(self.force[:, sensor], axis=1))
        return (speed < STANDS_RAD_S) & (felt < STANDS_MS2)


def _shapes(rate_hz, away_s):
    """(..., 3): the spline about a piece's middle, its second derivative and twice its first, both as a Felt knows them, away_s (...) from it."""
    times = np.arange(-int(4 * rate_hz), int(4 * rate_hz) + 1) / rate_hz
    whole = spline(times / PIECE_S)
    way = np.stack([whole, banded_bend(whole, rate_hz), 2 * banded(np.gradient(whole, 1 / rate_hz), rate_hz)], axis=1)
    return np.stack([np.interp(away_s, times, column) for column in way.T], axis=-1)


@njit(cache=True, error_model="numpy")
def _felt_products(first, shape, weight, apart, always, part, turned, pieces, rest):
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
                for n in range(2, count):
                    by[k, c, count - 2 + 6 * part[begin] + n] += with_all[own, 1 + n]
                for d in range(min(reach - m, pieces - k)):
                    for e in range(kinds):
                        band[k, d, c, e] += with_turns[own, (m + d) * kinds + e]
        begin = end
    return band, pull, by


def _add_standing(evidence, world, stands, piece_of):
    """Add to a foot's Evidence that it is flat whenever it stands; world (T, 4), stands (T,)."""
    up = matrix_from_quaternion(np.nan_to_num(world, nan=0.5))[:, 1]  # in the bone's axes
    flat = np.flatnonzero(stands & np.isfinite(world[:, 0]) & (up[:, 1] > LEVEL))
    piece, first, count = np.unique(piece_of[flat], return_index=True, return_counts=True)
    if not len(piece):
        return
    up = np.add.reduceat(up[flat], first, axis=0) / count[:, None]
    often = count > 0.6 * len(piece_of) / (piece_of[-1] + 1)
    piece, up = piece[often], up[often]
    if len(piece) < 4:
        return
    apart_s = np.abs(piece[:, None] - piece[None]) * PIECE_S
    stray = max(FLAT_RAD, changes_between(piece, up))  # of feet that dangle, or stand on their toes
    covariance = stray**2 * np.exp(-apart_s / FLAT_S) + FLOOR_RAD**2 * np.exp(-apart_s / FLOOR_S)
    certainty = np.linalg.inv(covariance + READ_RAD**2 * np.eye(len(piece)))
    firm = certainty.sum(axis=1)
    certainty = certainty - np.outer(firm, firm) / (firm.sum() + 1 / ANGLE_RAD**2)  # what it is off all along
    for axis in (0, 2):
        turn = np.cross(up[:, None], np.eye(3))[:, :, axis]
        _add_lasting(evidence.slip, piece, _growing_by(turn, certainty))
        _add_lasting(evidence.slip_pull, piece, turn * (certainty @ up[:, axis])[:, None])


def changes_between(piece, up):
    """How far what is up for a foot strays from one stand to the next, one sigma, rad; piece (P,), up (P, 3). Of a few stands nothing is known."""
    first = np.flatnonzero(np.r_[True, np.diff(piece) > 1])
    if len(first) < FEWEST_STANDS:
        return 0.0
    each = np.add.reduceat(up[:, [0, 2]], first, axis=0) / np.diff(np.r_[first, len(piece)])[:, None]
    apart = np.abs(np.diff(each, axis=0)) / np.sqrt(2)
    return float(np.maximum(1.48 * np.median(apart, axis=0), np.percentile(apart, 80, axis=0) / 1.28).max())
