"""Line up: every device's clock against the take's timecode, offset and drift, by robust regression over stamps.

Model for one stream: take time of sample i = offset + (1 + drift) * i / nominal rate. The stamps are pairs of a sample
number and the timecode (seconds) the device showed for it; they jitter, and some are plain wrong. The line starts from
the median of slopes between far pairs (Theil 1950, Sen 1968) and is finished by iteratively re-weighted least squares
with Tukey's biweight, so a fifth of bad stamps does no harm. A slope that fits another standard rate better than the
declared one, and a declared drop-frame flag that contradicts the stamps, are snags and never silent shifts.
"""

from dataclasses import dataclass

import numpy as np
import scipy

from otrevo.core.conventions import RATES
from otrevo.core.errors import InputError

GOOD_DRIFT_PPM = 200.0
SECONDS_PER_DAY = 86400.0


@dataclass(frozen=True)
class ClockFit:
    """offset_s: take time of sample 0; drift_ppm; residual_s (RMS of believed stamps); confidence 0..1; rejected count;
    problem: one sentence or None; jumps: sample numbers where the stamps step.
    """

    offset_s: float
    drift_ppm: float
    residual_s: float
    confidence: float
    rejected: int
    problem: str | None = None
    jumps: tuple = ()

    def times(self, count, rate_hz):
        """Take times (count,) of the samples, seconds."""
        return self.offset_s + np.arange(count) / rate_hz * (1 + 1e-6 * self.drift_ppm)


def unwrap_midnight(stamp_s):
    """Seconds of day made continuous over 24 h."""
    steps = np.diff(stamp_s)
    turns = np.where(steps < -SECONDS_PER_DAY / 2, 1, np.where(steps > SECONDS_PER_DAY / 2, -1, 0))
    return stamp_s + SECONDS_PER_DAY * np.concatenate([[0], np.cumsum(turns)])


def fit_clock(sample_number, stamp_s, rate_hz, zero_s):
    """Fit one stream's clock to the timecode it showed.

    Parameters
    ----------
    sample_number : ndarray (K,)
        Samples at which it was read.
    stamp_s : ndarray (K,)
        Seconds of day that the device showed.
    rate_hz : float
        Nominal samples a second.
    zero_s : float
        The take's zero in seconds of day.

    Returns
    -------
    ClockFit
        Offset, drift and residual.

    Raises
    ------
    InputError
        With fewer than two usable stamps.
    """
    number = np.asarray(sample_number, dtype=float)
    stamp = np.asarray(stamp_s, dtype=float)
    good = np.isfinite(number) & np.isfinite(stamp)
    if good.sum() < 2 or np.ptp(number[good]) == 0:
        raise InputError(f"{int(good.sum())} timecode stamps; at least two at different samples are needed to line up.")
    number, stamp = number[good], unwrap_midnight(stamp[good])
    x = number / rate_hz
    y = stamp - zero_s
    y -= SECONDS_PER_DAY * np.round(np.median(y - x) / SECONDS_PER_DAY)
    x, y, jumps = _without_jumps(x, y, number)
    half = len(x) // 2
    if half >= 2:
        slopes = (y[half:] - y[: len(y) - half]) / (x[half:] - x[: len(x) - half])
        slope = float(np.median(slopes))
    else:
        slope = float((y[-1] - y[0]) / (x[-1] - x[0]))
    offset = float(np.median(y - slope * x))
    weight = np.ones(len(x))
    for _ in range(20):
        r = y - offset - slope * x
        spread = max(1.4826 * np.median(np.abs(r - np.median(r))), 2e-6)
        u = r / (4.685 * spread)
        weight = np.where(np.abs(u) < 1, (1 - u * u) ** 2, 0.0)
        mean_x, mean_y = np.average(x, weights=weight), np.average(y, weights=weight)
        new = np.sum(weight * (x - mean_x) * (y - mean_y)) / max(np.sum(weight * (x - mean_x) ** 2), 1e-12)
        done = abs(new - slope) < 1e-12
        slope, offset = float(new), float(mean_y - new * mean_x)
        if done:
            break
    r = y - offset - slope * x
    believed = weight > 0
    residual = float(np.sqrt(np.mean(r[believed] ** 2)))
    drift = (slope - 1) * 1e6
    error = residual / np.sqrt(max(believed.sum() - 2, 1))
    confidence = float(np.clip(believed.mean() / (1 + (error / 0.001) ** 2), 0, 1))
    return ClockFit(
        offset, float(drift), residual, confidence, int((~believed).sum()), _rate_problem(slope, rate_hz), tuple(jumps)
    )


def _without_jumps(x, y, number):
    """Take steps of the stamps (re-jam, wrong jump) out, so that the longest run's clock is the reference."""
    lag = scipy.ndimage.median_filter(y - x, 5, mode="nearest")  # single wrong stamps are no jump
    step = np.diff(lag)
    typical = 1.4826 * np.median(np.abs(step - np.median(step))) if len(step) else 0.0
    cut = np.flatnonzero(np.abs(step - np.median(step) if len(step) else step) > max(0.02, 12 * typical))
    edges = [0, *(cut + 1), len(x)]
    runs = [(a, b) for a, b in zip(edges[:-1], edges[1:], strict=True) if b - a >= 6]
    if len(runs) < 2:
        return x, y, []
    longest = max(runs, key=lambda r: r[1] - r[0])
    return x[slice(*longest)], y[slice(*longest)], [int(number[a]) for a, _ in runs[1:]]


def _rate_problem(slope, rate_hz):
    if abs(slope - 1) * 1e6 <= GOOD_DRIFT_PPM:
        return None
    real = rate_hz / slope
    ratios = sorted({float(r) for r in RATES} | {rate_hz * 1.001, rate_hz / 1.001, 90.0, 100.0, 120.0, 240.0})
    near = min(ratios, key=lambda r: abs(real / r - 1))
    if abs(real / near - 1) * 1e6 < GOOD_DRIFT_PPM:
        return f"declared {rate_hz:g} Hz, but the stamps say {near:.6g} Hz; the device is set to another rate"
    return f"runs {abs(slope - 1) * 1e6:.0f} ppm {'slow' if slope > 1 else 'fast'}; no standard rate explains that"


def drop_frame_problem(declared_drop, labels_skip, offset_s, reference_offset_s, hours):
    """A sentence when a stream's drop-frame flag disagrees with its labels or puts it off by the known 3.6 s/h."""
    if labels_skip is not None and labels_skip != declared_drop:
        said, seen = ("drop-frame", "non-drop") if declared_drop else ("non-drop", "drop-frame")
        return f"declared {said}, but its labels count {seen}"
    apart = abs(offset_s - reference_offset_s)
    if reference_offset_s is not None and hours and apart > 0.5 and abs(apart - 3.6 * hours) < 0.2:
        return f"{apart:.2f} s away from the others, which is what mixing drop-frame and non-drop makes at this hour"
    return None


def resample_linear(times, values, at):
    """Linear resampling of values (T, ...) to take times (N,); NaN where there is no data on both sides."""
    flat = values.reshape(len(values), -1)
    out = np.empty((len(at), flat.shape[1]))
    for c in range(flat.shape[1]):  # one call per channel
        out[:, c] = np.interp(at, times, flat[:, c], left=np.nan, right=np.nan)
    return out.reshape((len(at),) + values.shape[1:])
