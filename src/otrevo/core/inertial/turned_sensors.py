"""Sensors that something turns in a take from a suit alone: magnets, which turn a filter's heading for some seconds, and slips on the limb.

For every sensor and moment, one least squares (core.inertial.evidence) tells by how much better the take is explained if that sensor is turned
then. The likeliest is put right, and the take is looked at again, until nothing is likely any more.

Source: A. S. Willsky, H. L. Jones, A generalized likelihood ratio approach to the detection and estimation of jumps in linear systems, IEEE
Transactions on Automatic Control 21, 1976.
"""

import itertools
from dataclasses import dataclass, replace

import numpy as np
import scipy

from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.inertial.evidence import evidence_of, pieces_of, summed
from otrevo.core.inertial.felt import felt, felt_again
from otrevo.core.inertial.felt_at_joints import MOMENTS, PIECE_S, SUDDEN_S, UP, spline
from otrevo.core.inertial.headings import find_headings
from otrevo.core.inertial.pose import sensed_bones
from otrevo.core.inertial.stills import hold_still
from otrevo.core.solve.suit_faults import SensorFault

WINDOW_S, HOP_S = 40.0, 25.0  # looked at at once, and from one such window to the next
SHORTEST_S, LONGEST_S = 1.5, 15.0  # of a magnet
EDGE_S = 0.5  # of the take, before and after a magnet at least
BESIDE_S = 2.0  # of movement, before and after a slip at least: poses are held otherwise than limbs move
RISES = 1, 4  # pieces within which a magnet comes and goes
MAGNET_RAD, SLIP_RAD = np.radians(20.0), np.radians(25.0)  # what is expected of both, one sigma
LEAST_MAGNET_RAD, LEAST_SLIP_RAD, FARTHEST_RAD = np.radians([6.0, 7.0, 60.0])
# of a turn's square over its variance, a slip's beyond so many times the median of all sensors; in 96 takes without a fault the most were 12.2 and 10.5
MAGNET_SURE, SLIP_SURE, OTHERS = 15.0, 11.0, 2.0
# of a sudden slip, with what it gains counted twice and others once; in 83 takes without a fault the most was 10.7
SUDDEN_SURE, LEAST_SUDDEN_RAD = 13.0, np.radians(8.0)  # a blow swings skin by up to 6 degrees for a moment
LEAST_GAIN = 1.5  # or one is as well taken for a slow one
LEFT_RAD = np.radians(2.0)  # what is left of one and does not matter
MOST_LOOKS = 10
SAME_S, SMALL = 1.0, 0.6  # what begins or ends so close to another one, and is so much smaller, is left of it
RIVAL_LOOKS = 3
RIVAL = 0.7  # what explains so much as well may be true instead
BACK = 0.5  # of how far a sensor was turned: so much of it is turned back later where it comes back
APART_S = 10.0  # between two that are put right at once


@dataclass(frozen=True)
class _Turn:
    """One sensor, by number, that is turned. sure: the turn's square over its variance; first, end: pieces from start_s on.

    angle_rad: of a magnet, with how many pieces it takes to rise; rotvec (3,): of a slip, about its bone's axes. others: the median,
    over all sensors, of how sure the likeliest slow slip of each is. gain: of a sudden slip, by how much surer it is than any slow one of its sensor.
    """

    sensor: int
    sure: float
    start_s: float
    first: float
    end: int
    angle_rad: float = 0.0
    rises: int = 1
    rotvec: np.ndarray | None = None
    others: float = 0.0
    gain: float = 0.0

    @property
    def size_rad(self):
        return abs(self.angle_rad) if self.rotvec is None else float(np.linalg.norm(self.rotvec))

    def and_then(self, more):
        """The turn and another one of the same moments as one."""
        if self.rotvec is None:
            return replace(self, angle_rad=self.angle_rad + more.angle_rad)
        both = quaternion_multiply(quaternion_from_rotvec(self.rotvec), quaternion_from_rotvec(more.rotvec))
        return replace(self, rotvec=rotvec_from_quaternion(both))

    @property
    def at_s(self):
        """When it begins, by the device's clock."""
        return self.start_s + self.first * PIECE_S

    @property
    def end_s(self):
        """When it ends; never for a slip."""
        return self.start_s + self.end * PIECE_S if self.rotvec is None else np.inf


def find_turned_sensors(recording, calibration, progress=lambda share: None):
    """([SensorFault] in frames of the recording, the SuitRecording as if nothing had been turned, its Headings).

    recording, calibration: of the same sensors, in the same order. progress: called with the share of the take that has been looked at first.
    """
    read, sensed, held = recording, felt(recording), hold_still(recording)
    busy = _busy_pieces(recording.times_s, held)
    headings = find_headings(recording, calibration, sensed)
    found, changed, told, likely = [], None, {}, {}
    for _ in range(MOST_LOOKS):
        left = {}
        for start in _look(told, recording, calibration, headings, sensed, held, changed):
            evidence = summed(told[start], len(recording.names))
            likely[start] = _likely(start, evidence, busy[start])
            progress(min(1.0, len(likely) * HOP_S * recording.rate_hz / len(recording)))
            left |= {k: _left(turn, evidence) for k, turn in enumerate(found) if turn.start_s == start}
        left = {k: more for k, more in left.items() if found[k].and_then(more).size_rad < FARTHEST_RAD}
        changing = [found[k] for k, more in left.items() if more.size_rad >= LEFT_RAD]
        new = [
            _of_rivals(turn, likely, found, told, recording, calibration, headings, sensed, held)
            for turn in _new_turns(likely, found)
            if not any(_begins_with(turn, other) for other in changing)  # these tell first how far they are turned
        ]
        if not new and all(turn.size_rad < LEFT_RAD for turn in left.values()):
            break
        found = [turn.and_then(left[k]) if k in left else turn for k, turn in enumerate(found)] + new
        changed = [*left.values(), *new]
        recording = _turned_back(recording, calibration, changed)
        sensed = felt_again(sensed, recording, {turn.sensor for turn in changed})
    lasting = [turn for turn in found if turn.rotvec is None or not _come_back(turn.sensor, found)]
    if not lasting:
        return [], read, headings
    if len(lasting) < len(found):
        found, recording = lasting, _turned_back(read, calibration, lasting)
        sensed = felt(recording)
    headings = find_headings(recording, calibration, sensed)
    return sorted((_fault(turn, recording) for turn in found), key=lambda f: f.start), recording, headings


def _come_back(sensor, found):
    """Whether a sensor's slips come back. Nobody's sensor does that: a limb is held otherwise for a while, and its skin gives."""
    slips = sorted((t for t in found if t.sensor == sensor and t.rotvec is not None), key=lambda t: t.at_s)
    so_far = itertools.accumulate(slips, _Turn.and_then)
    return any(
        -(then.rotvec @ turn.rotvec) > BACK * turn.size_rad**2 for turn, then in zip(so_far, slips[1:], strict=False)
    )


def _look(told, recording, calibration, headings, sensed, held, changed):
    """Look at the windows of a take and yield the start of each, s, of which something is told anew: of all windows, or
    where _Turns `changed` have been put right since the last look. told: {start: as evidence_of tells}, brought up to date.
    """
    world = sensed_bones(recording, calibration, headings)
    for start, end, frames in _windows(recording.times_s):
        if np.ptp(recording.times_s[frames]) <= 2 * SHORTEST_S:
            continue
        beside = None if changed is None else {t.sensor for t in changed if t.at_s < end and t.end_s > start}
        if changed is None or beside:
            more = evidence_of(recording, calibration, headings, sensed, world, held, frames, beside)
            told[start] = told.get(start, {}) | more
            yield start


def _windows(times):
    """[(start s, end s, frames as a slice)] of the windows of a take with times (T,); the last one goes on to its end."""
    starts = np.arange(times[0], max(times[-1] - WINDOW_S + HOP_S, times[0] + 1e-6), HOP_S)
    ends = np.r_[starts[:-1] + WINDOW_S, np.inf]
    frames = np.searchsorted(times, [starts, ends])
    return [(start, end, slice(*at)) for start, end, at in zip(starts, ends, frames.T, strict=True)]


def _busy_pieces(times, held):
    """{start of a window, s: whether the body moves in each of its pieces (K,)}; times (T,), held (T,): whether it holds still."""
    out = {}
    for start, _, frames in _windows(times):
        piece = pieces_of(times[frames])
        out[start] = np.bincount(piece, held[frames])[:-1] < np.bincount(piece)[:-1] / 2
    return out


def _likely(start_s, evidence, busy):
    """The likeliest _Turns of every sensor in a window, by their [Evidence]; busy (K,): whether the body moves in a piece."""
    magnets = [_magnet(s, own, start_s) for s, own in enumerate(evidence)]
    slips = [turn for s, own in enumerate(evidence) if (turn := _slip(s, own, start_s, busy)) is not None]
    others = float(np.median([turn.sure - turn.gain for turn in slips])) if slips else 0.0
    return [turn for turn in magnets if turn is not None] + [replace(turn, others=others) for turn in slips]


def _new_turns(likely, found):
    """The likeliest _Turns that are far from each other and not yet found, the likeliest first; likely: {start of a window: [_Turn]}."""
    turns, chance = [], np.log(max(1, len(likely)))  # the longer a take, the more often something looks like a fault
    for turn in sorted(itertools.chain.from_iterable(likely.values()), key=lambda t: -t.sure):
        if not _is_sure(turn, chance):
            continue
        if any(_is_left_of(turn, t) for t in (*found, *turns)) or any(abs(turn.at_s - t.at_s) < APART_S for t in turns):
            continue
        turns.append(turn)
    return turns


def _is_sure(turn, chance):
    """Whether a _Turn is likely enough, and neither too small nor too large; chance: how much likelier it must be in a long take.

    Where nobody's skin and postures are as expected, every sensor seems to slip a little; few really do.
    """
    if turn.rotvec is None:
        sure, least = turn.sure >= MAGNET_SURE + chance, LEAST_MAGNET_RAD
    else:
        slowly = turn.sure - turn.gain - OTHERS * turn.others >= SLIP_SURE + chance
        suddenly = turn.gain and turn.sure + turn.gain - turn.others >= SUDDEN_SURE + chance
        sure, least = slowly or suddenly, LEAST_SLIP_RAD if slowly else LEAST_SUDDEN_RAD
    return sure and least < turn.size_rad < FARTHEST_RAD


def _of_rivals(turn, likely, found, told, recording, calibration, headings, sensed, held):
    """A _Turn, or one of another sensor in the same moments that explains the take nearly as well but leaves less to explain.

    A hand that is turned looks much like a forearm that is turned the other way, until the elbow is looked at.
    """
    rivals = [
        t for t in likely[turn.start_s]
        if t.sure > RIVAL * turn.sure and _begins_with(t, turn) and _is_sure(t, 0.0) and not any(_is_left_of(t, f) for f in found)
    ]  # fmt: skip
    if len(rivals) < 2:
        return turn
    sensors, left = {t.sensor for t in rivals}, []
    frames = next(frames for start, _, frames in _windows(recording.times_s) if start == turn.start_s)
    busy = _busy_pieces(recording.times_s, held)[turn.start_s]

    for first in rivals:
        others = {what: part for what, part in told[turn.start_s].items() if first.sensor not in part}
        tried = first
        for _ in range(RIVAL_LOOKS):  # how far it is turned is told better where it is right already
            right = _turned_back(recording, calibration, [tried])
            felt_right, world = felt_again(sensed, right, {tried.sensor}), sensed_bones(right, calibration, headings)
            own = evidence_of(right, calibration, headings, felt_right, world, held, frames, {tried.sensor})
            evidence = summed(others | own, len(recording.names))
            tried = tried.and_then(_left(tried, evidence))
        again = _likely(turn.start_s, evidence, busy)
        more = [t.sure for t in again if _begins_with(t, turn) and t.sensor in sensors]
        left.append(max(more, default=0.0) - first.sure)
    return rivals[int(np.argmin(left))]


def _begins_with(turn, other):
    return abs(turn.at_s - other.at_s) < SAME_S


def _left(turn, evidence):
    """What is left of a _Turn that has been put right: one of the same moments; evidence: [Evidence] of its window.

    What is expected holds of both together: an axis about which nothing tells would be turned a little further at every look.
    """
    own = evidence[turn.sensor]
    if turn.rotvec is None:
        box = _box(replace(turn, angle_rad=1.0), len(own.heading))
        firm = box @ own.heading @ box + 1 / MAGNET_RAD**2
        return replace(turn, angle_rad=float((box @ own.heading_pull - turn.angle_rad / MAGNET_RAD**2) / firm))
    piece = round(turn.first)
    stiff = own.slip[piece] + np.eye(3) / SLIP_RAD**2
    pull = own.slip_pull[piece] - turn.rotvec / SLIP_RAD**2
    if turn.gain:
        moment = round(turn.first * MOMENTS)
        stiff, pull = stiff + own.sudden[moment], pull + own.sudden_pull[moment]
    return replace(turn, rotvec=np.linalg.solve(stiff, pull))


def _is_left_of(turn, found):
    """Whether a _Turn is what is left of one that has been put right already: of its sensor, a little of another one's, or sudden at the same moment."""
    edges = [(t.at_s, t.end_s) for t in (turn, found)]
    together = any(abs(a - b) < SAME_S for a in edges[0] for b in edges[1])
    return together and (turn.gain > 0.0 or turn.sensor == found.sensor or turn.size_rad < SMALL * found.size_rad)


def _magnet(sensor, told, start_s):
    """The likeliest _Turn of a filter's heading in a window, by its Evidence; None where it is too short."""
    count = len(told.heading)
    first, end = np.meshgrid(np.arange(count + 1), np.arange(count + 1), indexing="ij")
    edge = round(EDGE_S / PIECE_S)
    fits = (
        (end - first >= SHORTEST_S / PIECE_S)
        & (end - first <= LONGEST_S / PIECE_S)
        & (first >= edge)
        & (end <= count - edge)
    )
    if not fits.any():
        return None
    best = None
    for rises in RISES:
        pull = np.r_[0.0, _eased(told.heading_pull, rises).cumsum()]
        firm = np.zeros((count + 1, count + 1))
        firm[1:, 1:] = _eased(_eased(told.heading, rises).T, rises).cumsum(axis=0).cumsum(axis=1)
        own = np.diag(firm)
        firm = own[end] + own[first] - firm[first, end] - firm[end, first] + 1 / MAGNET_RAD**2
        pull = pull[end] - pull[first]
        sure = np.where(fits, pull**2 / np.where(fits, firm, 1.0), 0.0)
        at = np.unravel_index(sure.argmax(), sure.shape)
        if best is None or sure[at] > best.sure:
            best = _Turn(sensor, float(sure[at]), start_s, int(at[0]), int(at[1]), float(pull[at] / firm[at]), rises)
    return best


def _slip(sensor, told, start_s, busy):
    """The likeliest _Turn of a sensor on its limb in a window, by its Evidence; None where the body moves too little in it. busy as in _likely."""
    enough, before = round(BESIDE_S / PIECE_S), np.cumsum(busy) - busy
    pieces = np.flatnonzero((before >= enough) & (busy.sum() - before >= enough))
    if not len(pieces):
        return None
    stiff, pull = told.slip[pieces], told.slip_pull[pieces]
    slowly, rotvec = _sure_of(stiff, pull)
    moments = np.arange(pieces[0] * MOMENTS, pieces[-1] * MOMENTS + 1)
    near = np.round(moments / MOMENTS).astype(int) - pieces[0]
    suddenly, leapt = _sure_of(stiff[near] + told.sudden[moments], pull[near] + told.sudden_pull[moments])
    slow, sudden = int(slowly.argmax()), int(suddenly.argmax())
    gain = float(suddenly[sudden] - slowly[slow])
    if gain < LEAST_GAIN:
        return _Turn(sensor, float(slowly[slow]), start_s, int(pieces[slow]), len(told.slip), rotvec=rotvec[slow])
    first = float(moments[sudden] / MOMENTS)
    return _Turn(sensor, float(suddenly[sudden]), start_s, first, len(told.slip), rotvec=leapt[sudden], gain=gain)


def _sure_of(stiff, pull):
    """(how sure the likeliest slips are (N,), their rotation vectors (N, 3)) by stiff (N, 3, 3), pull (N, 3)."""
    stiff = stiff + np.eye(3) / SLIP_RAD**2
    rotvec = np.linalg.solve(stiff, pull[..., None])[..., 0]
    # what is sudden is told by what is near it alone: rarely, what may be off all along takes away more than all tell
    firm = np.all([np.linalg.det(stiff[:, :k, :k]) > 0 for k in (1, 2, 3)], axis=0)
    return np.where(firm, (rotvec * pull).sum(axis=1), 0.0), rotvec


def _box(turn, pieces):
    """Angles (K,) of a magnet over pieces."""
    box = np.zeros(pieces)
    box[turn.first : turn.end] = turn.angle_rad
    return _eased(box, turn.rises)


def _eased(values, pieces):
    """Values over pieces as they go with what rises within so many pieces."""
    return scipy.ndimage.uniform_filter1d(values, pieces, axis=0, mode="nearest") if pieces > 1 else values


def _turned_back(recording, calibration, turns):
    """The recording as it would be without some _Turns."""
    rotation, force = recording.rotation.copy(), recording.force_ms2.copy()
    for turn in turns:
        s = turn.sensor
        if turn.rotvec is None:
            box = _box(turn, turn.end + turn.rises)
            piece = (recording.times_s - turn.start_s) / PIECE_S - 0.5
            inside = slice(*np.searchsorted(piece, [turn.first - turn.rises - 2, len(box) + 1]))
            angle = sum(box[k] * spline(piece[inside] - k) for k in np.flatnonzero(box))
            back = quaternion_from_rotvec(-angle[:, None] * UP)
            rotation[inside, s] = quaternion_multiply(back, rotation[inside, s])
        else:
            since = recording.times_s - turn.at_s
            share = np.clip(since / SUDDEN_S + 0.5, 0.0, 1.0) if turn.gain else (since >= 0.0).astype(float)
            first = int(np.searchsorted(share, 1e-9))
            slip = quaternion_rotate(quaternion_conjugate(calibration.mount[s]), turn.rotvec)  # in the sensor's axes
            slip = quaternion_from_rotvec(share[first:, None] * slip)
            rotation[first:, s] = quaternion_multiply(rotation[first:, s], quaternion_conjugate(slip))
            force[first:, s] = quaternion_rotate(slip, force[first:, s])
    return replace(recording, rotation=rotation, force_ms2=force)


def _fault(turn, recording):
    kind = "magnet" if turn.rotvec is None else "slipped"
    first, end = (int(np.searchsorted(recording.times_s, t)) for t in (turn.at_s, turn.end_s))
    return SensorFault(recording.names[turn.sensor], kind, first, end, float(np.degrees(turn.size_rad)))
