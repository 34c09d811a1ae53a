"""What the sensors of a suit feel: specific forces and how rotations bend, slowly enough for joints to be found by them."""

from dataclasses import dataclass, replace

import numpy as np
import scipy

from otrevo.core.conventions import find_runs, make_continuous, matrix_from_quaternion, slerp
from otrevo.core.zero_phase import band_pass

BAND_HZ = 0.5, 6.0  # tilts err below, skin swings above
PLACES_HZ = 4.0  # up to here skin swings little enough for joints to be placed closely
STEPS_HZ = 25.0
EDGE_S = 0.3  # beside a gap nothing is known of accelerations
SHAKES_S = 0.4


@dataclass(frozen=True)
class Felt:
    """Of every sensor at times_s (K,): force (K, S, 3) in its filter's world less what is constant, bend (K, S, 3, 3), the second
    derivative of its rotation, and known (K, S). Band-limited alike, m/s² and 1/s². tremble (S,): of one element of bend, from how much the readings
    tremble, 1/s²; shakes (K, S): second derivative of force by time, RMS of SHAKES_S about each moment, m/s⁴.
    """

    names: tuple[str, ...]
    times_s: np.ndarray
    force: np.ndarray
    bend: np.ndarray
    known: np.ndarray
    tremble: np.ndarray
    shakes: np.ndarray
    up_to_hz: float = BAND_HZ[1]

    @property
    def alike(self):
        """How many neighbours in time err alike."""
        return max(1.0, STEPS_HZ / (2 * self.up_to_hz))

    def at(self, sensor, place_m):
        """What is felt (K, 3) at a place (3,) in the axes of a sensor, the number of which is given; in its filter's world."""
        return self.force[:, sensor] + self.bend[:, sensor] @ place_m


def felt(recording, up_to_hz=BAND_HZ[1]):
    """The Felt of a SuitRecording, of what is slower than up_to_hz."""
    rate, count = recording.rate_hz, len(recording)
    known = np.isfinite(recording.rotation[..., 0])
    rotation, force = np.empty((count, len(recording.names), 3, 3)), np.empty((count, len(recording.names), 3))
    margin = int(EDGE_S * rate)
    times = np.arange(count) / rate
    for s in range(len(recording.names)):
        ok = known[:, s]
        q = slerp(times[ok], make_continuous(recording.rotation[ok, s]), np.clip(times, times[ok][0], times[ok][-1]))
        rotation[:, s] = matrix_from_quaternion(q)
        own = np.stack([np.interp(times, times[ok], recording.force_ms2[ok, s, k]) for k in range(3)], axis=1)
        force[:, s] = np.einsum("tij,tj->ti", rotation[:, s], own)
        for a, b in find_runs(~ok):
            if (b - a) / rate > 0.1:
                known[max(0, a - margin) : b + margin, s] = False
            else:
                known[a:b, s] = True
    known[: margin // 2], known[count - margin // 2 :] = False, False
    force = banded(force, rate, up_to_hz)
    tremble = np.diff(rotation, n=4, axis=0).reshape(count - 4, len(recording.names), 9)
    tremble = np.sqrt(
        np.median((tremble**2).mean(axis=2), axis=0) / 70.0
    )  # 70: what fourth differences make of white noise
    impulse = np.zeros(count)
    impulse[count // 2] = 1.0
    tremble = tremble * np.sqrt((banded_bend(impulse, rate, up_to_hz) ** 2).sum())
    shakes = np.gradient(np.gradient(force, 1 / rate, axis=0), 1 / rate, axis=0)
    shakes = scipy.ndimage.uniform_filter1d((shakes**2).sum(axis=2), max(1, int(SHAKES_S * rate)), axis=0)
    bend = banded_bend(rotation, rate, up_to_hz)
    step = max(1, int(rate / STEPS_HZ))
    shakes = np.sqrt(np.maximum(shakes, 0.0))[::step]
    return Felt(
        recording.names, recording.times_s[::step], force[::step], bend[::step], known[::step], tremble, shakes, up_to_hz
    )  # fmt: skip


def felt_again(sensed, recording, sensors):
    """The Felt of a recording in which only some sensors, by number, are otherwise than when it was `sensed`."""
    sensors = sorted(sensors)
    anew = felt(recording.only([recording.names[s] for s in sensors]))
    parts = {k: getattr(sensed, k).copy() for k in ("force", "bend", "known", "tremble", "shakes")}
    for k, part in parts.items():
        part[sensors if part.ndim == 1 else np.s_[:, sensors]] = getattr(anew, k)
    return replace(sensed, **parts)


def banded(values, rate_hz, up_to_hz=BAND_HZ[1]):
    """Values (T, ...) of BAND_HZ alone, or up to another edge."""
    band = BAND_HZ[0], min(up_to_hz, 0.4 * rate_hz)
    return band_pass(values, rate_hz, band)


def banded_bend(values, rate_hz, up_to_hz=BAND_HZ[1]):
    """Second derivative by time of values (T, ...), 1/s², as banded."""
    return banded(np.gradient(np.gradient(values, 1 / rate_hz, axis=0), 1 / rate_hz, axis=0), rate_hz, up_to_hz)
