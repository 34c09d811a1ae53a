"""Magnets that turn a filter's heading away for some seconds, found and put right by what its neighbours feel at their joints.

Both sensors beside a joint feel the same acceleration there. Over a second or two, what is left between the two, about the vertical, is
how far one of their headings is off what it is over the whole take. Which of the two it is, its other neighbours tell. A limb that hardly
moves tells nothing, and a spine between two sensors bends and tells little.
"""

import numpy as np

from otrevo.core.conventions import find_runs
from otrevo.core.inertial.headings import Headings
from otrevo.core.inertial.joints import BAND_HZ, LOOSE
from otrevo.core.solve.suit_faults import SensorFault

WINDOW_S, SHORTEST_S = 1.5, 1.2  # a single moment fills a window and no more
LEAST_RAD, FARTHEST_RAD = np.radians(7.0), np.radians(40.0)
SURE = 2.7  # sigma
ALIKE = 0.6  # how much of what both sides of a joint feel is the same, at least, for it to tell
TELLS_RAD, MODEL_RAD = np.radians(14.0), np.radians(3.0)
FEWEST = 3.5  # independent moments in a window: a single blow tells of the skin, not of the heading
NOISE_MS2 = 0.15
BLOW_MS2 = 5.0  # what is felt harder counts less, and a blow such as a clap hardly at all
FADES_S = 0.4


def find_magnets(recording, calibration, headings, sensed):
    """([SensorFault] in frames of the recording, the Headings with them put right).

    recording, calibration, headings: of the same sensors; sensed: the recording's Felt.
    """
    times = sensed.times_s
    if len(times) < 3:
        return [], headings
    hz = (len(times) - 1) / (times[-1] - times[0])
    away, sure = _by_sensor(recording.names, _by_link(sensed, calibration, headings.at(times), hz), len(times))
    sure[:, (times < times[0] + WINDOW_S) | (times > times[-1] - WINDOW_S)] = 0.0
    worst = sure.argmax(axis=0)
    angle, faults = headings.at(times), []
    for s, name in enumerate(recording.names):
        for start, end in find_runs((worst == s) & (sure[s] > SURE) & (np.abs(away[s]) > LEAST_RAD)):
            size = float(np.median(away[s, start:end]))
            if end - start < SHORTEST_S * hz or abs(size) > FARTHEST_RAD:
                continue
            first, last = (int(np.searchsorted(recording.times_s, t)) for t in (times[start], times[end - 1]))
            faults.append(SensorFault(name, "magnet", first, last, float(np.degrees(abs(size)))))
            beside = np.maximum(np.maximum(times[start] - times, times - times[end - 1]), 0.0)
            angle[:, s] += size * np.clip(1 - beside / FADES_S, 0.0, 1.0)
    if not faults:
        return [], headings
    sd = np.stack([np.interp(times, headings.times_s, column) for column in headings.sd_rad.T], axis=1)
    return sorted(faults, key=lambda f: f.start), Headings(times, angle, sd)


def _by_link(sensed, calibration, angle, hz):
    """[(numbers of the sensors above and below, how far the heading above is off against the one below (K,), its sigma (K,))], radians."""
    number = {n: i for i, n in enumerate(sensed.names)}
    samples = len(sensed.times_s)
    half = max(1, int(WINDOW_S * hz / 2))
    start, end = (np.clip(np.arange(samples) + d, 0, samples) for d in (-half, half + 1))
    out = []
    for above, below, joint, places in calibration.places_of(sensed.names):
        pair = number[above], number[below]
        known = sensed.known[:, pair].all(axis=1)
        felt = [sensed.at(s, place) for s, place in zip(pair, places, strict=True)]
        # as complex numbers a heading is a factor
        one, two = (
            np.where(known, f[:, 2] + 1j * f[:, 0], 0.0) * np.exp(-1j * angle[:, s])
            for s, f in zip(pair, felt, strict=True)
        )
        power = (np.abs(one) ** 2 + np.abs(two) ** 2) / 2
        weight = np.where(known, 1 / (1 + power / BLOW_MS2**2) ** 2, 0.0)
        sums = np.zeros((samples + 1, 4), dtype=complex)
        told = np.stack([weight * one * two.conj(), weight * power, weight, (weight * power) ** 2], axis=1)
        np.cumsum(told, axis=0, out=sums[1:])
        both, power, count, squares = (sums[end] - sums[start]).T
        power, count = power.real, np.maximum(count.real, 1e-3)
        moments = power**2 / np.maximum(squares.real, 1e-12) * min(1.0, 2 * BAND_HZ[1] / hz)
        left = np.maximum(power - np.abs(both), 0.0) / count
        noise = np.sqrt(np.maximum(left, 2 * (NOISE_MS2 * LOOSE.get(joint, 1.0) ** 2) ** 2))
        sd = noise / np.sqrt(np.maximum(power, 1e-9)) * np.sqrt(max(1.0, hz / (BAND_HZ[1] + 2.0)))
        tells = (np.abs(both) > ALIKE * power) & (sd < TELLS_RAD) & (moments > FEWEST)
        away = np.angle(both)
        usual = np.median(away[tells]) if tells.sum() > WINDOW_S * hz else 0.0
        off = np.angle(np.exp(1j * (away - usual)))
        out.append((*pair, off, np.where(tells, np.hypot(sd, MODEL_RAD), np.inf)))
    return out


def _by_sensor(names, links, samples):
    """How far every sensor's heading would be off if it alone were, radians, and how sure that is, sigma; both (S, K)."""
    pull, firm = np.zeros((len(names), samples)), np.zeros((len(names), samples))
    for a, b, off, sd in links:
        for s, sign in ((a, 1.0), (b, -1.0)):
            pull[s] += sign * off / sd**2
            firm[s] += 1 / sd**2
    return pull / np.maximum(firm, 1e-9), np.abs(pull) / np.sqrt(np.maximum(firm, 1e-9))
