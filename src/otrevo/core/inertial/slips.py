"""Sensors that slip on their limb in a take from a suit alone, found by where they feel their joints.

A sensor that slips goes on telling the truth of itself, but the joints at both ends of its limb now lie elsewhere in its axes. Both sensors
beside a joint feel the same acceleration there, and that tells where it lies. For every moment that a sensor may have slipped at, one least
squares asks how far it is turned from then on. In it the joints' places may all along be off by some centimetres, which a poor
calibration makes look like a slip whenever the movement changes, and the headings by anything. Limbs that hardly move tell nothing, and a
joint of the trunk bends too much to tell.

A quick slip also shows at its moment (slip_moments), there on the trunk too. Both together count.

How sure a slip is comes from how differently parts of the take pull at it (H. White, Maximum likelihood estimation of misspecified models,
Econometrica 50, 1982).
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy

from otrevo.core.conventions import quaternion_from_rotvec, quaternion_multiply, quaternion_rotate
from otrevo.core.inertial.headings import find_headings
from otrevo.core.inertial.joints import BAND_HZ, LOOSE, NOISE_MS2, felt, heading_matrix
from otrevo.core.inertial.slip_moments import find_moments
from otrevo.core.solve.suit_faults import SensorFault

FIRM = ("LowerLeg", "Foot", "LowerArm", "Hand")  # knees, ankles, elbows, wrists
EACH_S, BESIDE_S = 0.5, 6.0  # between two moments that are tried, and of the take before and after them at least
PART_S = 2.0
HEADING_S = 2.0  # over which a heading between two filters stays the same
PLACE_M, SLIP_RAD = 0.03, np.radians(25.0)  # what is expected of both, one sigma
SHARE = 0.15  # of what is felt that is noise of the skin
BLOW = 3.0  # from so many times the noise on a sample counts little
SURE = 16.0  # of the slip's square over its variance; in 120 takes without one the most was 11.1, and 14.8 in one of ten minutes
MOST = 3
ONE_S = 1.0  # between two slips at least
JUMP_RAD = np.radians(20.0)  # so close to the vertical, a quick rotation is taken for one of the filter's heading


@dataclass(frozen=True)
class _Slip:
    """sure: its square over its variance; at_s: from the take's beginning; rotvec (3,): in the sensor's axes; jump: it may as well be the
    filter's heading that jumped.
    """

    sensor: str
    sure: float
    at_s: float
    rotvec: np.ndarray
    jump: bool = False


def find_slips(recording, calibration):
    """([SensorFault] in frames of the recording, the SuitRecording as if nothing had slipped, its Felt, its Headings).

    recording, calibration: of the same sensors.
    """
    found = []
    while True:
        sensed = felt(recording)
        headings = find_headings(recording, calibration, sensed)
        slips = list(_slips(recording, calibration, headings, sensed))
        jumps = [s for s in slips if s.jump and s.sure > SURE]
        slips = [s for s in slips if not (s.jump or _told_already(s, found) or _beside(s, jumps))]
        slip = max(slips, key=lambda s: s.sure, default=None)
        if slip is None or slip.sure < SURE or len(found) == MOST:
            return _faults(found, recording), recording, sensed, headings
        found.append(slip)
        first = _frame(slip, recording)
        recording = _turned_back(recording, recording.names.index(slip.sensor), first, slip.rotvec)


def _told_already(slip, found):
    """Whether it is what is left of one that has been taken back."""
    return any(abs(slip.at_s - f.at_s) < ONE_S for f in found)


def _beside(slip, jumps):
    """Whether it is what another sensor's jump looks like from beside it."""
    return any(j.sensor != slip.sensor and abs(slip.at_s - j.at_s) < ONE_S for j in jumps)


def _frame(slip, recording):
    return int(np.searchsorted(recording.times_s - recording.times_s[0], slip.at_s))


def _faults(slips, recording):
    faults = [
        SensorFault(
            s.sensor, "slipped", _frame(s, recording), len(recording), float(np.degrees(np.linalg.norm(s.rotvec)))
        )
        for s in slips
    ]
    return sorted(faults, key=lambda f: f.start)


def _slips(recording, calibration, headings, sensed):
    """Every _Slip worth a look: of each sensor the likeliest one by what it feels before and after, and the likeliest one by its moment."""
    pulls = _by_sensor(sensed, calibration, headings)
    for name, (normal, gradient) in pulls.items():
        piece = _likeliest(normal, gradient)
        if piece is not None:
            rotvec, covariance = _since(normal, gradient, piece)
            yield _Slip(name, rotvec @ np.linalg.solve(covariance, rotvec), piece * EACH_S, rotvec)
    for name, moments in find_moments(recording, calibration, headings, sensed).items():
        yield from _at_moments(name, moments, pulls.get(name), sensed.times_s - sensed.times_s[0])


def _at_moments(name, moments, pulls, times):
    """[_Slip] at the likeliest Moment of a sensor: as much less sure as the next moment looks like one, for movement does that too."""
    slips = []
    for moment in moments:
        at_s, rotvec, covariance = float(times[moment.sample]), np.zeros(3), SLIP_RAD**2 * np.eye(3)
        if pulls is not None:
            rotvec, covariance = _since(*pulls, int(np.clip(round(at_s / EACH_S), 1, len(pulls[0]) - 1)))
        sure = np.linalg.inv(covariance)
        pull = sure @ rotvec + moment.gradient
        rotvec = np.linalg.solve(sure + moment.information, pull)
        slips.append(_Slip(name, pull @ rotvec, at_s, rotvec))
    if not slips:
        return []
    best = max(range(len(slips)), key=lambda k: slips[k].sure)
    usual = max(
        (min(m.gain, s.sure) for k, (m, s) in enumerate(zip(moments, slips, strict=True)) if k != best), default=0.0
    )
    about_up = abs(slips[best].rotvec @ moments[best].up) > np.cos(JUMP_RAD) * np.linalg.norm(slips[best].rotvec)
    return [replace(slips[best], sure=slips[best].sure - usual, jump=about_up)]


def _turned_back(recording, sensor, first, slip):
    """The recording with a sensor as it sat before it slipped by a rotation vector, in its own axes, at frame `first`."""
    rotation, force = recording.rotation.copy(), recording.force_ms2.copy()
    rotation[first:, sensor] = quaternion_multiply(rotation[first:, sensor], quaternion_from_rotvec(-slip))
    force[first:, sensor] = quaternion_rotate(quaternion_from_rotvec(slip), force[first:, sensor])
    return replace(recording, rotation=rotation, force_ms2=force)


def _by_sensor(sensed, calibration, headings):
    """{sensor: (normal matrices (K, N, N), gradients (K, N))} over pieces of EACH_S, in 1/noise².

    The unknowns: by how much the places of the joints beside the sensor are off, six for each, and how far it is turned.
    """
    times = sensed.times_s - sensed.times_s[0]
    angle, number = headings.at(sensed.times_s), {n: i for i, n in enumerate(sensed.names)}
    links = {}
    for above, below, joint, places in calibration.places_of(sensed.names):
        if joint.endswith(FIRM):
            pair = number[above], number[below]
            link = _felt_beside(sensed, pair, places, angle[:, pair], NOISE_MS2 * LOOSE.get(joint, 1.0), times)
            for k, name in enumerate((above, below)):
                links.setdefault(name, []).append((k, places[k], *link))
    piece = np.flatnonzero(np.diff((times / EACH_S).astype(int), prepend=-1))
    out = {}
    for name, beside in links.items():
        size = 6 * len(beside) + 3
        normal, gradient = np.zeros((len(piece), size, size)), np.zeros((len(piece), size))
        for i, (k, place, weight, left, slope) in enumerate(beside):
            # turned by a slip, the joint lies at place + place x slip
            design = np.concatenate([slope, np.cross(slope[:, :, 3 * k : 3 * k + 3], place)], axis=2)
            weighted = weight[:, None, None] * design
            column = np.r_[6 * i : 6 * i + 6, size - 3 : size]
            products = weighted.swapaxes(1, 2) @ design
            normal[:, column[:, None], column] += np.add.reduceat(products, piece, axis=0)
            gradient[:, column] += np.add.reduceat((weighted * left[:, :, None]).sum(axis=1), piece, axis=0)
        out[name] = normal, gradient
    return out


def _felt_beside(sensed, pair, places, angle, noise, times):
    """(weights (T,), what is felt differently on both sides of a joint (T, 3), how places above and below change that (T, 3, 6)).

    Freed of what a heading between the two would explain.
    """
    turn = [heading_matrix(-angle[:, k]) for k in range(2)]
    slope = [turn[k] @ sensed.bend[:, s] for k, s in enumerate(pair)]
    here = [(turn[k] @ sensed.force[:, s, :, None])[..., 0] + slope[k] @ places[k] for k, s in enumerate(pair)]
    left = here[1] - here[0]
    hz = (len(times) - 1) / times[-1]
    variance = noise**2 + SHARE**2 * (here[0] ** 2 + here[1] ** 2).sum(axis=1) / 2
    known = sensed.known[:, pair].all(axis=1)
    weight = np.where(known, 1 / variance, 0.0) * 2 * BAND_HZ[1] / hz  # neighbours in time err alike
    weight /= (1 + (left**2).sum(axis=1) / variance / BLOW**2) ** 2
    heading = np.stack([here[1][:, 2], np.zeros(len(left)), -here[1][:, 0]], axis=1)
    window = max(1, int(HEADING_S * hz))

    def mean(values):
        return scipy.ndimage.uniform_filter1d(values, window, axis=0)

    firm = np.maximum(mean(weight * (heading**2).sum(axis=1)), 1e-9)

    def freed(columns):
        told = mean(weight[:, None] * (heading[:, :, None] * columns).sum(axis=1)) / firm[:, None]
        return columns - heading[:, :, None] * told[:, None]

    return weight, freed(left[:, :, None])[..., 0], freed(np.concatenate([slope[0], -slope[1]], axis=2))


def _likeliest(normal, gradient):
    """The piece from which on a sensor has most likely slipped, by what _by_sensor gives of it; None in a short take.

    It may have been turned all along: only what is felt before and after together tells of a slip.
    """
    margin = round(BESIDE_S / EACH_S)
    moments = np.arange(margin, len(normal) - margin + 1)
    if not len(moments):
        return None
    size = gradient.shape[1]
    slip, turned = np.arange(size, size + 3), np.arange(size - 3, size)
    after, after_gradient = (np.cumsum(x[::-1], axis=0)[::-1] for x in (normal, gradient))
    whole, aim = np.empty((len(moments), size + 3, size + 3)), np.empty((len(moments), size + 3))
    whole[:, :size, :size], aim[:, :size] = after[0], after_gradient[0]
    whole[:, :size, slip] = after[moments][:, :, turned]
    whole[:, slip, :size] = after[moments][:, turned]
    whole[:, slip[:, None], slip] = after[moments][:, turned[:, None], turned]
    aim[:, slip] = after_gradient[moments][:, turned]
    found = np.linalg.solve(whole + _prior(size), aim[..., None])[..., 0]
    return int(moments[np.argmax((aim * found).sum(axis=1))])


def _prior(size):
    return np.diag(np.repeat([1 / PLACE_M**2, 1 / SLIP_RAD**2], [size - 3, 6]))


def _since(normal, gradient, moment):
    """(rotation vector by which a sensor has slipped before the piece `moment`, its covariance), by what is felt before and after."""
    size = gradient.shape[1]
    slip, turned = np.arange(size, size + 3), np.arange(size - 3, size)
    whole, aim = _prior(size), np.concatenate([gradient.sum(axis=0), gradient[moment:, turned].sum(axis=0)])
    after = normal[moment:].sum(axis=0)
    whole[:size, :size] += normal.sum(axis=0)
    whole[:size, slip] += after[:, turned]
    whole[slip, :size] += after[turned]
    whole[slip[:, None], slip] += after[turned[:, None], turned]
    unknown = np.linalg.solve(whole, aim)
    usual = np.repeat(unknown[None, :size], len(normal), axis=0)
    usual[moment:, turned] += unknown[slip]
    pull = gradient - np.einsum("kab,kb->ka", normal, usual)
    pull = np.concatenate([pull, np.where((np.arange(len(pull)) >= moment)[:, None], pull[:, turned], 0.0)], axis=1)
    each = round(PART_S / EACH_S)
    parts = np.add.reduceat(pull, np.r_[np.arange(0, moment, each), np.arange(moment, len(pull), each)], axis=0)
    inverse = np.linalg.inv(whole)
    return unknown[slip], (inverse @ (parts.T @ parts) @ inverse + inverse)[-3:, -3:]
