"""Sensors that something turns in a take from a suit alone: magnets, which turn a filter's heading for some seconds, and slips on the limb.

For every sensor and moment, one least squares (core.inertial.evidence) tells by how much better the take is explained if that sensor is turned
then. The likeliest is put right, and the take is looked at again, until nothing is likely any more.
"""

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
from otrevo.core.inertial.evidence import PIECE_S, UP, evidence_of, spline
from otrevo.core.inertial.headings import find_headings
from otrevo.core.inertial.joints import felt
from otrevo.core.inertial.pose import sensed_bones
from otrevo.core.solve.suit_faults import SensorFault

WINDOW_S = 40.0  # looked at at once; half of it is looked at again with what follows
SHORTEST_S, LONGEST_S = 1.0, 15.0  # of a magnet
EDGE_S, BESIDE_S = 0.5, 5.0  # of the take, before and after a magnet and a slip at least
RISES = 1, 4  # pieces within which a magnet comes and goes
MAGNET_RAD, SLIP_RAD = np.radians(20.0), np.radians(25.0)  # what is expected of both, one sigma
LEAST_MAGNET_RAD, LEAST_SLIP_RAD, FARTHEST_RAD = np.radians([6.0, 10.0, 60.0])
MAGNET_SURE, SLIP_SURE = (
    13.0,
    17.0,
)  # of a turn's square over its variance; in 200 takes without one the most were 10.2 and 15.9
LEFT_RAD = np.radians(2.0)  # what is left of one and does not matter
MOST, MOST_LOOKS = 12, 8
SAME_S, SMALL = 1.0, 0.6  # what begins or ends so close to another one, and is so much smaller, is left of it
APART_S = 10.0  # between two that are put right at once


@dataclass(frozen=True)
class _Turn:
    """One sensor, by number, that is turned. sure: the turn's square over its variance; first, end: pieces from start_s on.

    angle_rad: of a magnet, with how many pieces it takes to rise; rotvec (3,): of a slip, about its bone's axes.
    """

    sensor: int
    sure: float
    start_s: float
    first: int
    end: int
    angle_rad: float = 0.0
    rises: int = 1
    rotvec: np.ndarray | None = None

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


def find_turned_sensors(recording, calibration):
    """([SensorFault] in frames of the recording, the SuitRecording as if nothing had been turned, its Headings).

    recording, calibration: of the same sensors, in the same order.
    """
    found, looks = [], 0
    while True:
        headings = find_headings(recording, calibration, sensed := felt(recording))
        told = _told(recording, calibration, headings, sensed)
        left = [_left(turn, told) for turn in found] if looks < MOST_LOOKS else []
        new = _new_turns(told, found) if looks < MOST_LOOKS else []
        if not new and all(turn.size_rad < LEFT_RAD for turn in left):
            faults = [_fault(turn, recording) for turn in found]
            return sorted(faults, key=lambda f: f.start), recording, headings
        for turn in (*left, *new):
            recording = _turned_back(recording, calibration, turn)
        found = [turn.and_then(more) for turn, more in zip(found, left, strict=True)] + new
        looks += 1


def _told(recording, calibration, headings, sensed):
    """{start of a window, s: [Evidence] of every sensor in it}."""
    world = sensed_bones(recording, calibration, headings)
    times = recording.times_s
    starts = np.arange(times[0], max(times[-1] - WINDOW_S / 2, times[0] + 1e-6), WINDOW_S / 2)
    out = {}
    for start in starts:
        end = np.inf if start == starts[-1] else start + WINDOW_S
        frames = slice(*np.searchsorted(times, [start, end]))
        if times[frames][-1] - times[frames][0] > 2 * SHORTEST_S:
            out[start] = evidence_of(recording, calibration, headings, sensed, world, frames)
    return out


def _new_turns(told, found):
    """The likeliest _Turns of a take that are far from each other, the likeliest first."""
    likely = [
        turn
        for start, sensors in told.items()
        for s, evidence in enumerate(sensors)
        for turn in (_magnet(s, evidence, start), _slip(s, evidence, start))
        if turn is not None
    ]
    turns = []
    for turn in sorted(likely, key=lambda t: -t.sure):
        sure, least = (MAGNET_SURE, LEAST_MAGNET_RAD) if turn.rotvec is None else (SLIP_SURE, LEAST_SLIP_RAD)
        if turn.sure < sure or not least < turn.size_rad < FARTHEST_RAD:
            continue
        if any(_is_left_of(turn, t) for t in (*found, *turns)) or any(abs(turn.at_s - t.at_s) < APART_S for t in turns):
            continue
        if len(found) + len(turns) < MOST:
            turns.append(turn)
    return turns


def _left(turn, told):
    """What is left of a _Turn that has been put right: one of the same moments."""
    evidence = told[turn.start_s][turn.sensor]
    if turn.rotvec is None:
        box = _box(turn, len(evidence.heading))
        firm = box @ evidence.heading @ box / turn.angle_rad**2 + 1 / MAGNET_RAD**2
        return replace(turn, angle_rad=float(box @ evidence.heading_pull / turn.angle_rad / firm))
    stiff = evidence.slip[turn.first] + np.eye(3) / SLIP_RAD**2
    return replace(turn, rotvec=np.linalg.solve(stiff, evidence.slip_pull[turn.first]))


def _is_left_of(turn, found):
    """Whether a _Turn is what is left of one that has been put right already: of its sensor, or a little of another one's."""
    edges = [(t.at_s, t.end_s) for t in (turn, found)]
    together = any(abs(a - b) < SAME_S for a in edges[0] for b in edges[1])
    return together and (turn.sensor == found.sensor or turn.size_rad < SMALL * found.size_rad)


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


def _slip(sensor, told, start_s):
    """The likeliest _Turn of a sensor on its limb in a window, by its Evidence; None where it is too short."""
    edge = round(BESIDE_S / PIECE_S)
    moments = np.arange(edge, len(told.slip) - edge)
    if not len(moments):
        return None
    pull = told.slip_pull[moments]
    rotvec = np.linalg.solve(told.slip[moments] + np.eye(3) / SLIP_RAD**2, pull[..., None])[..., 0]
    sure = (rotvec * pull).sum(axis=1)
    best = int(sure.argmax())
    return _Turn(sensor, float(sure[best]), start_s, int(moments[best]), len(told.slip), rotvec=rotvec[best])


def _box(turn, pieces):
    """Angles (K,) of a magnet over pieces."""
    box = np.zeros(pieces)
    box[turn.first : turn.end] = turn.angle_rad
    return _eased(box, turn.rises)


def _eased(values, pieces):
    """Values over pieces as they go with what rises within so many pieces."""
    return scipy.ndimage.uniform_filter1d(values, pieces, axis=0, mode="nearest") if pieces > 1 else values


def _turned_back(recording, calibration, turn):
    """The recording as it would be without a _Turn."""
    rotation, force, s = recording.rotation.copy(), recording.force_ms2.copy(), turn.sensor
    if turn.rotvec is None:
        box = _box(turn, turn.end + turn.rises)
        piece = (recording.times_s - turn.start_s) / PIECE_S - 0.5
        angle = sum(box[k] * spline(piece - k) for k in np.flatnonzero(box))
        rotation[:, s] = quaternion_multiply(quaternion_from_rotvec(-angle[:, None] * UP), rotation[:, s])
    else:
        first = int(np.searchsorted(recording.times_s, turn.at_s))
        slip = quaternion_rotate(quaternion_conjugate(calibration.mount[s]), turn.rotvec)  # in the sensor's axes
        rotation[first:, s] = quaternion_multiply(rotation[first:, s], quaternion_from_rotvec(-slip))
        force[first:, s] = quaternion_rotate(quaternion_from_rotvec(slip), force[first:, s])
    return replace(recording, rotation=rotation, force_ms2=force)


def _fault(turn, recording):
    kind = "magnet" if turn.rotvec is None else "slipped"
    first, end = (int(np.searchsorted(recording.times_s, t)) for t in (turn.at_s, turn.end_s))
    return SensorFault(recording.names[turn.sensor], kind, first, end, float(np.degrees(turn.size_rad)))
