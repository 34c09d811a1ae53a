"""What a take tells of sensors that something turns: their filter's heading, or they themselves on their limb.

Three things tell. Both sensors beside a joint feel the same acceleration there (core.inertial.joints); whichever is turned feels it elsewhere,
and feels the joint move aside while it turns. Joints hardly turn about some axes (core.inertial.joint_freedom). And feet that stand are
flat. All are linear in small turns, so one least squares for every pair of neighbours tells how much better any turn of either would explain the take than none does.
What may be off all along is taken out first: how both are mounted, where their joint is, how their headings differ and drift, and how
much less than the limb its skin turns about the limb's line.

Turns are splines over pieces of the take. Of a heading's every turn is told; of a sensor's that slips, one that stays from some piece on, or that
comes suddenly, at one of several moments in every piece.
"""

from dataclasses import dataclass, fields, replace

import numpy as np
import scipy

from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.inertial.felt_at_joints import PIECE_S, WANDER_S, FeltAtJoints, felt_products
from otrevo.core.inertial.joint_freedom import READ_RAD, angles_of
from otrevo.core.inertial.joints import LINKS, LOOSE, links_of
from otrevo.core.inertial.poses import plain, sensor_above
from otrevo.core.inertial.skin import MISSED, SKIN, turned_about_line
from otrevo.core.inertial.stills import turn_speed

MOUNT_RAD, ANGLE_RAD, HEADING_RAD, DRIFT_RAD = np.radians([6.0, 10.0, 4.0, 1.0])  # what may be off all along, one sigma
PLACE_M = 0.03  # so may the places of joints
TRUNK = 2.5  # times as far where the hips or the chest are on one side
WANDER_M = 0.015  # how far skin moves these places, from one part of a take to the next
NOISE_MS2 = 0.2  # of a joint that is not LOOSE
FARTHER = 2.0  # times as much where the sensor of a bone in between is missing
FLAT_RAD, FLAT_S = np.radians(4.0), 1.5  # how far feet that stand stray from flat, and for how long
FEWEST_STANDS = 3
POSED_RAD = np.radians(6.0)  # how far otherwise they stand in a pose that is held
POSED_S = 1.0  # and so long before and after it
FLOOR_RAD, FLOOR_S = np.radians(4.0), 60.0  # and the floor under them from level
LEVEL = np.cos(np.radians(45.0))

# what may be off besides: both mounts, three angles, the heading and its drift, what skin misses on both sides, the joint's place in both; then
# that place in every part
_MOUNTS, _ANGLES, _HEADING, _SKIN = slice(0, 6), slice(6, 9), slice(9, 11), slice(11, 13)
_PRIORS = np.repeat([MOUNT_RAD, ANGLE_RAD, HEADING_RAD, DRIFT_RAD, MISSED, PLACE_M], [6, 3, 1, 1, 2, 6])


@dataclass
class Evidence:
    """Of turns of one sensor over K pieces, in 1/sigma².

    heading (K, K), heading_pull (K,): of its filter's heading by a turn in every piece. slip (K, 3, 3), slip_pull (K, 3): of the sensor, about its bone's
    axes, from a piece on. sudden (J, 3, 3), sudden_pull (J, 3): what comes to the slip where it is sudden, at one of J moments.
    """

    heading: np.ndarray
    heading_pull: np.ndarray
    slip: np.ndarray
    slip_pull: np.ndarray
    sudden: np.ndarray
    sudden_pull: np.ndarray

    @classmethod
    def nothing(cls, pieces, moments):
        shapes = (pieces, pieces), (pieces,), (pieces, 3, 3), (pieces, 3), (moments, 3, 3), (moments, 3)
        return cls(*(np.zeros(shape) for shape in shapes))

    def add(self, other):
        """Add another one's to it."""
        for f in fields(self):
            mine = getattr(self, f.name)
            mine += getattr(other, f.name)


def evidence_of(recording, calibration, headings, sensed, world, held, frames, beside=None):
    """What a part of a take tells of its sensors, {what tells it, two neighbours or a foot that stands: {sensor: Evidence}}.

    Parameters
    ----------
    recording, calibration, headings
        Of the same sensors, in the same order.
    sensed : Felt
        The recording's.
    world : ndarray (T, S, 4)
        The bones' rotations by the recording.
    held : ndarray (T,) of bool
        Whether the body holds still.
    frames : slice
        The part.
    beside : set of int, optional
        Only what tells of any of these sensors: all that changes when they alone are put right.
    """
    times = recording.times_s[frames]
    piece_of = pieces_of(times)
    pieces = int(piece_of[-1])
    inside = piece_of < pieces
    times, piece_of, world = times[inside], piece_of[inside], world[frames][inside]
    number = {n: s for s, n in enumerate(recording.names)}
    skin = {
        s: (turned_about_line(n, world[:, number[above]], world[:, s]), SKIN[plain(n)])
        for n, s in number.items() if plain(n) in SKIN and (above := sensor_above(n, recording.names))
    }  # fmt: skip
    frames_in = np.bincount(piece_of, minlength=pieces)
    in_pieces = {s: (np.bincount(piece_of, turned, pieces) / frames_in, line) for s, (turned, line) in skin.items()}
    felt = FeltAtJoints(recording, calibration, headings, sensed, times, pieces, skin)
    places = {joint: place for *_, joint, place in calibration.places_of(recording.names)}
    told = {}
    collar_bones = {"leftShoulder", "rightShoulder"} & set(recording.names)
    for above, below, joint in links_of(recording.names):
        pair = number[above], number[below]
        if beside is not None and beside.isdisjoint(pair):
            continue
        link = _Link(pieces, felt, TRUNK if above in ("hips", "chest") else 1.0, [in_pieces.get(s) for s in pair])
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
    near = scipy.ndimage.binary_dilation(held[frames][inside], iterations=round(POSED_S * recording.rate_hz))
    pose, _ = scipy.ndimage.label(near)
    for name, speed in zip(feet, turn_speed(part).T, strict=True):
        s, evidence = number[name], Evidence.nothing(pieces, felt.moments)
        _add_standing(evidence, world[:, s], felt.stands(s, speed), piece_of, pose)
        told[name] = {s: evidence}
    return told


def pieces_of(times):
    """The piece of a part of a take that each of its times (F,) is in, as integers; the last one, which is not a whole one, is left out elsewhere."""
    return ((times - times[0]) / PIECE_S).astype(int)


def summed(told, sensors):
    """[Evidence] of so many sensors, by all that evidence_of tells."""
    each = [evidence for part in told.values() for evidence in part.values()]
    size = (len(each[0].heading), len(each[0].sudden)) if each else (0, 0)
    out = [Evidence.nothing(*size) for _ in range(sensors)]
    for part in told.values():
        for s, evidence in part.items():
            out[s].add(evidence)
    return out


class _Link:
    """The least squares of two neighbours, of the one above and the one below."""

    def __init__(self, pieces, felt, loose, skin):
        """loose: how much worse than usual the joint's places are known; skin: of both sides, how far the limb is turned about its line in every piece (K,), rad, and that line (3,); None where skin comes along."""
        self.felt, self.left_of, self.skin = felt, None, skin
        priors = np.r_[_PRIORS, np.full(6 * (1 + int(pieces * PIECE_S / WANDER_S)), WANDER_M)]
        priors[_SKIN.stop :] *= loose
        count = len(priors)
        self.normal, self.aim = np.diag(1 / priors**2), np.zeros(count)
        self.sides = [Evidence.nothing(pieces, felt.moments) for _ in range(2)]
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
        for k, skin in enumerate(self.skin):
            if skin is not None:
                turned, line = skin
                always[:, _SKIN.start + k] = (angle.by_mount[k] @ line) * turned[angle.piece]
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

    def add_felt(self, first, shape, weight, whole, apart, always, part, turned):
        """What both sides feel differently at their joint, as FeltAtJoints.beside tells."""
        pieces, rest = len(self.trend), len(self.aim) - _HEADING.start
        for k, (side, (heading, slip)) in enumerate(zip(self.sides, turned, strict=True)):
            band, pull, by = felt_products(first, shape, weight, apart, always, part, heading[:, :, None], pieces, rest)
            for d in range(band.shape[1]):
                at = np.arange(pieces - d)
                side.heading[at, at + d] += band[at, d, 0, 0]
                if d:
                    side.heading[at + d, at] += band[at, d, 0, 0]
            side.heading_pull += pull[:, 0]
            self.heading_by[k, :, _HEADING.start :] += by[:, 0]
            band, pull, by = felt_products(first, shape, weight, apart, always, part, slip, pieces, rest)
            later = band[:, 1:].sum(axis=1)
            piece = np.arange(pieces)
            _add_lasting(side.slip, piece, band[:, 0] + later + later.swapaxes(1, 2))
            _add_lasting(side.slip_pull, piece, pull)
            _add_lasting(self.slip_by[k][..., _HEADING.start :], piece, by)
        every = np.zeros((len(always), 3, rest))
        every[:, :, : always.shape[2]] = always
        own = always.shape[2] + 6 * part[:, None] + np.arange(6)
        np.put_along_axis(every, np.repeat(own[:, None], 3, axis=1), always[:, :, -6:], axis=2)
        firm = (np.sqrt(weight)[:, None, None] * every).reshape(-1, rest)
        self.normal[_HEADING.start :, _HEADING.start :] += firm.T @ firm
        self.aim[_HEADING.start :] += firm.T @ (np.sqrt(weight)[:, None] * apart).ravel()
        self.left_of = every, whole, apart, [slip for _, slip in turned]

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
        if self.left_of is not None:
            every, whole, apart, slips = self.left_of
            apart = apart - every @ off[_HEADING.start :]
            for side, slip in zip(self.sides, slips, strict=True):
                side.sudden, side.sudden_pull = self.felt.sudden(whole, apart, slip)
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


def _add_standing(evidence, world, stands, piece_of, pose):
    """Add to a foot's Evidence that it is flat whenever it stands; world (T, 4), stands (T,), pose (T,): which one is held then, 0 for none."""
    up = matrix_from_quaternion(np.nan_to_num(world, nan=0.5))[:, 1]  # in the bone's axes
    flat = np.flatnonzero(stands & np.isfinite(world[:, 0]) & (up[:, 1] > LEVEL))
    piece, first, count = np.unique(piece_of[flat], return_index=True, return_counts=True)
    if not len(piece):
        return
    up = np.add.reduceat(up[flat], first, axis=0) / count[:, None]
    often = count > 0.6 * len(piece_of) / (piece_of[-1] + 1)
    piece, up, pose = piece[often], up[often], pose[flat[first[often]]]
    if len(piece) < 4:
        return
    apart_s = np.abs(piece[:, None] - piece[None]) * PIECE_S
    stray = max(FLAT_RAD, changes_between(piece, up))  # of feet that dangle, or stand on their toes
    covariance = stray**2 * np.exp(-apart_s / FLAT_S) + FLOOR_RAD**2 * np.exp(-apart_s / FLOOR_S)
    covariance += POSED_RAD**2 * ((pose[:, None] == pose) & (pose > 0))
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
