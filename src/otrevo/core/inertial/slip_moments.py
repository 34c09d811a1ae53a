"""The moment at which a sensor slips.

A sensor that is knocked turns on its limb within a few tenths of a second. By what it says the joints beside it then jump aside, but the
sensors beyond these joints feel nothing of that. A blow looks alike at first, but the skin swings back after it: the joint only shakes.
"""

from dataclasses import dataclass

import numpy as np
import scipy

from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.inertial.joints import BAND_HZ, LOOSE, NOISE_MS2, banded_bend, heading_matrix

LASTS_S = 0.0, 0.15, 0.35  # how long a slip takes
SHAKES_S = 0.05  # how long a blow shakes the skin
BESIDE_S = 0.4  # of a take beside a moment that tell of it
EDGE_S = 0.8  # closer to the ends of a take none is looked for
APART_S, MOST = 0.4, 4  # between two moments of a sensor, and how many of them are kept
SHARE, FELT_S = 0.15, 0.3  # of what is felt over so long that is noise of the skin
USUAL_S, USUAL_PERCENT = 6.0, 60.0  # what a joint's sides usually feel differently, and over how long
SLIP_RAD, SHAKE_RAD = np.radians(25.0), np.radians(20.0)  # what is expected, one sigma


@dataclass(frozen=True)
class Moment:
    """sample: of the Felt; information (3, 3) and gradient (3,): what it tells of the rotation vector by which the sensor slipped, in its own axes;
    up (3,): in these axes.
    """

    sample: int
    information: np.ndarray
    gradient: np.ndarray
    up: np.ndarray

    @property
    def gain(self):
        """How much better a slip explains what is felt than none does, in sigma²."""
        return float(self.gradient @ np.linalg.solve(self.information + np.eye(3) / SLIP_RAD**2, self.gradient))


@dataclass(frozen=True)
class _Side:
    """A joint as one of the sensors beside it would have to explain it: weight (T,) in 1/noise², apart_ms2 (T, 3) in the sensor's axes,
    arm (3, 3): from a slip to where the joint seems to go.
    """

    weight: np.ndarray
    apart_ms2: np.ndarray
    arm: np.ndarray


def find_moments(recording, calibration, headings, sensed):
    """{sensor: [Moment]} at which it may have slipped, by what is felt then alone.

    recording, calibration, headings: of the same sensors; sensed: the recording's Felt.
    """
    if len(sensed.times_s) < 3:
        return {}
    hz = (len(sensed.times_s) - 1) / (sensed.times_s[-1] - sensed.times_s[0])
    shapes = [_shapes(recording.rate_hz, hz, lasts) for lasts in LASTS_S]
    reading = recording.rotation[:: round(recording.rate_hz / hz)]
    known = sensed.known & np.isfinite(reading[..., 0])
    rotation = matrix_from_quaternion(np.nan_to_num(reading, nan=0.5))
    sides = _sides(calibration, headings, sensed, known, rotation, hz)
    return {
        name: _moments(beside, shapes, rotation[:, sensed.names.index(name), 1], hz) for name, beside in sides.items()
    }


def _shapes(rate_hz, hz, lasts_s):
    """(3, W): how a joint that moves a metre aside is felt around that moment, and one that shakes one way or the other."""
    count = 2 * int(4 * rate_hz) + 1
    times = (np.arange(count) - count // 2) / rate_hz
    share = np.clip(times / max(lasts_s, 1e-9) + 0.5, 0.0, 1.0)
    shake = np.exp(-((times / SHAKES_S) ** 2) / 2)
    way = np.stack([share**2 * (3 - 2 * share), shake, np.gradient(shake, times) * SHAKES_S], axis=1)
    step = round(rate_hz / hz)
    reach = int(BESIDE_S * hz) * step
    return banded_bend(way, rate_hz)[count // 2 - reach : count // 2 + reach + 1 : step].T


def _sides(calibration, headings, sensed, known, rotation, hz):
    """{sensor: [_Side]} of every joint that it shares with another. known (T, S): readings; rotation (T, S, 3, 3): as matrices."""
    angle, number = headings.at(sensed.times_s), {n: i for i, n in enumerate(sensed.names)}
    rotation = heading_matrix(-angle) @ rotation
    out = {}
    for above, below, joint, places in calibration.places_of(sensed.names):
        pair = number[above], number[below]
        here = [
            (heading_matrix(-angle[:, s]) @ sensed.at(s, place)[..., None])[..., 0]
            for s, place in zip(pair, places, strict=True)
        ]
        apart = here[1] - here[0]
        both = np.minimum(*(scipy.ndimage.uniform_filter1d((h**2).sum(axis=1), int(FELT_S * hz) + 1) for h in here))
        usual = scipy.ndimage.percentile_filter((apart**2).sum(axis=1) / 3, USUAL_PERCENT, size=int(USUAL_S * hz))
        variance = (NOISE_MS2 * LOOSE.get(joint, 1.0)) ** 2 + SHARE**2 * both + usual
        # neighbours in time err alike
        weight = np.where(known[:, pair].all(axis=1), 2 * BAND_HZ[1] / hz / variance, 0.0)
        for s, place, sign, name in zip(pair, places, (1.0, -1.0), (above, below), strict=True):
            own = np.einsum("tji,tj->ti", rotation[:, s], apart)
            out.setdefault(name, []).append(_Side(weight, own, sign * np.cross(place, np.eye(3)).T))
    return out


def _moments(sides, shapes, up, hz):
    """The Moments of one sensor, the most telling ones first."""
    gain = np.max([_gains(sides, shape[0]) for shape in shapes], axis=0)
    edge = int(EDGE_S * hz)
    gain[:edge], gain[len(gain) - edge :] = 0.0, 0.0
    peaks, _ = scipy.signal.find_peaks(gain, distance=max(1, int(APART_S * hz)))
    peaks = peaks[np.argsort(-gain[peaks])][:MOST]
    return [max((_told(sides, shape, peak, up[peak], hz) for shape in shapes), key=lambda m: m.gain) for peak in peaks]


def _gains(sides, step):
    """(T,): how much better a slip of this shape explains what is felt around every sample, in sigma²."""
    information, gradient = np.eye(3) / SLIP_RAD**2, 0.0
    for side in sides:
        firm = scipy.ndimage.correlate1d(side.weight, step**2, mode="constant")
        pull = scipy.ndimage.correlate1d(side.weight[:, None] * side.apart_ms2, step, axis=0, mode="constant")
        information = information + firm[:, None, None] * (side.arm.T @ side.arm)
        gradient = gradient + pull @ side.arm
    return (gradient * np.linalg.solve(information, gradient[..., None])[..., 0]).sum(axis=1)


def _told(sides, shape, sample, up, hz):
    """The Moment at a sample: what is left to tell of a slip once a blow has explained what it can, and as much less sure as that fits worse.

    up (3,): in the sensor's axes.
    """
    reach, size = shape.shape[1] // 2, 3 * len(shape)
    normal, gradient, squares, counted = np.zeros((size, size)), np.zeros(size), 0.0, 0.0
    window = slice(max(0, sample - reach), sample + reach + 1)
    for side in sides:
        weight, apart = side.weight[window], side.apart_ms2[window]
        here = shape[:, reach - (sample - window.start) :][:, : len(weight)]
        normal += np.kron((here * weight) @ here.T, side.arm.T @ side.arm)
        gradient += (((here * weight) @ apart) @ side.arm).ravel()
        squares += (weight[:, None] * apart**2).sum()
        counted += 3 * (weight > 0).sum() * 2 * BAND_HZ[1] / hz
    normal[3:, 3:] += np.eye(size - 3) / SHAKE_RAD**2
    explained = gradient @ np.linalg.solve(
        normal + np.diag(np.r_[np.full(3, 1 / SLIP_RAD**2), np.zeros(size - 3)]), gradient
    )
    shaken = np.linalg.solve(normal[3:, 3:], np.c_[normal[3:, :3], gradient[3:]])
    information = normal[:3, :3] - normal[:3, 3:] @ shaken[:, :3]
    own = gradient[:3] - normal[:3, 3:] @ shaken[:, 3]
    worse = max(1.0, (squares - explained) / max(counted, 1.0))
    return Moment(int(sample), information / worse, own / worse, up)
