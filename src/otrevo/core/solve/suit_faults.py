"""Sensors that magnets turned or that slipped, by how they go with bones that markers show.

A magnet turns a filter's heading away and lets it come back within seconds; between such moments it drifts slowly and steadily. A sensor
that slips is off about its bone from then on.
"""

from dataclasses import dataclass

import numpy as np
import scipy

from otrevo.core.conventions import find_runs

MAGNET_RAD, SLIP_RAD = np.radians(7.0), np.radians(10.0)
SMOOTH_S, SHORTEST_S = 0.4, 0.6
STEADY_S = 15.0  # over which a heading is what it usually is
BESIDE_S = 4.0  # before and after a slip
NOISE, SLIP_NOISE = 4.0, 2.5  # times what a sensor usually strays


@dataclass(frozen=True)
class SensorFault:
    """sensor; kind: "magnet" or "slipped"; start and end: frames; degrees: how far it was turned."""

    sensor: str
    kind: str
    start: int
    end: int
    degrees: float


def find_faults(name, at, heading_rad, off_rad, count, rate_hz, every=1):
    """The SensorFaults of one sensor.

    Parameters
    ----------
    at : ndarray (K,)
        Frames in which markers show the bone, or one in `every` of them.
    heading_rad : ndarray (K,)
        Of its filter against the stage, continuous.
    off_rad : ndarray (K, 3)
        What the sensor is off besides a heading that drifts steadily, in the bone's axes, rotation vectors.
    count : int
        Frames of the take.
    rate_hz : float
        Frames a second.

    Returns
    -------
    list of SensorFault
    """
    if len(at) < 2 * BESIDE_S * rate_hz / every:
        return []
    step = max(1, round(rate_hz / 10))  # ten looks a second are enough
    frames = np.arange(0, count, step)
    hz = rate_hz / step

    def looked(values):
        window = max(1, int(SMOOTH_S * rate_hz / every))
        smooth = scipy.ndimage.uniform_filter1d(values, window, axis=0, mode="nearest")
        return np.interp(frames, at, smooth)

    slips = _slips(name, np.stack([looked(off_rad[:, k]) for k in range(3)], axis=1), step, hz)
    return slips or _magnets(name, looked(heading_rad), step, hz)  # what has slipped seems to turn its heading as well


def _magnets(name, heading, step, hz):
    usual = scipy.ndimage.median_filter(heading, size=int(STEADY_S * hz) | 1, mode="nearest")
    away = heading - usual
    noise = 1.4826 * np.median(np.abs(away)) + 1e-6
    out = []
    for start, end in find_runs(np.abs(away) > max(MAGNET_RAD, NOISE * noise)):
        if SHORTEST_S * hz <= end - start and start > 0 and end < len(away):
            out.append(
                SensorFault(
                    name, "magnet", int(start * step), int(end * step), float(np.degrees(np.abs(away[start:end]).max()))
                )
            )
    return out


def _slips(name, off, step, hz):
    beside = int(BESIDE_S * hz)
    if len(off) < 2 * beside + 2:
        return []
    windows = np.lib.stride_tricks.sliding_window_view(off, beside, axis=0)

    def most_apart(looks):
        """Of `looks`, the first of a window, the one at which what follows it and the window are furthest apart."""
        before, after = (np.median(windows[looks + d], axis=-1) for d in (0, beside))
        return int(looks[np.argmax(np.linalg.norm(after - before, axis=1))])

    looks = np.arange(len(windows) - beside)
    roughly = most_apart(looks[::4])
    best = most_apart(looks[max(0, roughly - 3) : roughly + 4])
    before, after = np.median(off[: best + beside], axis=0), np.median(off[best + beside :], axis=0)
    lasting = np.linalg.norm(after - before)
    strays = np.median(
        np.concatenate(
            [
                np.linalg.norm(off[: best + beside] - before, axis=1),
                np.linalg.norm(off[best + beside :] - after, axis=1),
            ]
        )
    )
    if lasting < max(SLIP_RAD, SLIP_NOISE * strays):
        return []
    return [SensorFault(name, "slipped", int((best + beside) * step), int(len(off) * step), float(np.degrees(lasting)))]
