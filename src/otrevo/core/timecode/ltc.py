"""Linear timecode from audio: 80 bits a frame, biphase mark (SMPTE ST 12-1), any level and polarity.

The track is freed of offset and noise outside the code's band (zero phase), zero crossings are found with hysteresis
against the local level and placed between samples by interpolation. The distance between crossings is half a bit or a
whole one; a slowly adapting bit length follows the speed (+-8 %). A frame counts only when 80 unbroken bits end in the
sync word, its fields exist at the rate, and a neighbour one frame away agrees, so nothing is invented from noise.
"""

from dataclasses import dataclass

import numpy as np
import scipy
from numba import njit

from otrevo.core.errors import InputError
from otrevo.core.timecode.labels import TimecodeFormat

BITS = 80
SYNC = np.array([0, 0, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0, 1], dtype=np.int8)
SPEED_RANGE = 0.08


@dataclass(frozen=True)
class LtcReading:
    """sample (F,) where each frame's first bit begins, frame (F,) frame numbers, drop_flag (F,), jumps, speed_ppm."""

    sample: np.ndarray
    frame: np.ndarray
    drop_flag: np.ndarray
    jumps: list
    speed_ppm: float | None
    format: TimecodeFormat

    def to_document(self):
        label = self.format.label
        return {
            "otrevo": "timecode/1",
            "rate": f"{self.format.rate.numerator}/{self.format.rate.denominator}",
            "drop": self.format.drop,
            "frames": [
                {"sample": round(float(s), 2), "timecode": label(f)}
                for s, f in zip(self.sample, self.frame, strict=True)
            ],
            "jumps": self.jumps,
            "speed_ppm": self.speed_ppm,
        }


@njit(cache=True, error_model="numpy")
def _crossings(x, level):
    """Interpolated places where x crosses zero, with hysteresis of 0.35 of the local level."""
    out = np.empty(x.shape[0])
    count = 0
    state = 0
    last = 0.0
    for i in range(1, x.shape[0]):
        if (x[i - 1] < 0.0) != (x[i] < 0.0):
            last = i - 1 + x[i - 1] / (x[i - 1] - x[i])
        h = 0.35 * level[i]
        if state <= 0 and x[i] > h:
            if state < 0:
                out[count] = last
                count += 1
            state = 1
        elif state >= 0 and x[i] < -h:
            if state > 0:
                out[count] = last
                count += 1
            state = -1
    return out[:count]


@njit(cache=True, error_model="numpy")
def _bits(crossings, bit_length, low, high):
    """Bits from crossings: value (0/1, -1 for a break) and where each begins."""
    value = np.empty(crossings.shape[0], dtype=np.int8)
    begin = np.empty(crossings.shape[0])
    count = 0
    bit = bit_length
    k = 0
    n = crossings.shape[0]
    while k + 1 < n:
        d = crossings[k + 1] - crossings[k]
        if 0.75 * bit <= d < 1.5 * bit:
            value[count] = 0
            begin[count] = crossings[k]
            count += 1
            bit += 0.04 * (d - bit)
            k += 1
        elif 0.25 * bit < d < 0.75 * bit and k + 2 < n and 0.7 * bit < crossings[k + 2] - crossings[k] < 1.3 * bit:
            value[count] = 1
            begin[count] = crossings[k]
            count += 1
            bit += 0.04 * (crossings[k + 2] - crossings[k] - bit)
            k += 2
        else:  # out of step (a start inside a bit, a drop-out): shift by one crossing
            if count and value[count - 1] >= 0:
                value[count] = -1
                begin[count] = crossings[k]
                count += 1
            k += 1
        bit = min(max(bit, low), high)
    return value[:count], begin[:count]


def _fields(bits):
    """BCD fields of frames (F, 80): hours, minutes, seconds, frames, drop flag; hours -1 where a digit is none."""
    weights = 2 ** np.arange(4)

    def digit(at, width):
        return bits[:, at : at + width] @ weights[:width]

    ff, ss = digit(0, 4) + 10 * digit(8, 2), digit(16, 4) + 10 * digit(24, 3)
    mm, hh = digit(32, 4) + 10 * digit(40, 3), digit(48, 4) + 10 * digit(56, 2)
    bad = (digit(0, 4) > 9) | (digit(16, 4) > 9) | (digit(32, 4) > 9) | (digit(48, 4) > 9)
    return np.where(bad, -1, hh), mm, ss, ff, bits[:, 10]


def read_ltc(samples, sample_rate, timecode_format):
    """Decode linear timecode from an audio track.

    Parameters
    ----------
    samples : ndarray (S,)
        One channel.
    sample_rate : int
        Hz.
    timecode_format : TimecodeFormat
        Rate and drop-frame.

    Returns
    -------
    LtcReading
        Frames with the samples at which they begin.

    Raises
    ------
    InputError
        When there is no code, or its rate is another.

    Notes
    -----
    At rates above 30 the code counts pairs of frames, and the first frame of every pair is reported.

    References
    ----------
    SMPTE ST 12-1.
    """
    x = np.nan_to_num(np.asarray(samples, dtype=float), nan=0.0, posinf=0.0, neginf=0.0)  # what was lost is silent
    pair = 2 if timecode_format.nominal > 30 else 1
    frame_length = float(sample_rate / (timecode_format.rate / pair))
    bit_length = frame_length / BITS
    if bit_length < 6:
        raise InputError(f"{sample_rate:g} samples a second are too few to read LTC; expected at least 22050.")
    if len(x) < 2 * frame_length or np.ptp(x) == 0:
        raise InputError("The track holds no timecode: it is shorter than two frames, or silent.")
    band = [0.12 * sample_rate / bit_length, min(2.2 * sample_rate / bit_length, 0.45 * sample_rate)]

    x = scipy.signal.sosfiltfilt(scipy.signal.butter(2, band, btype="band", fs=sample_rate, output="sos"), x)
    level = np.sqrt(np.maximum(scipy.ndimage.uniform_filter1d(x * x, int(6 * bit_length) | 1), 0.0)) + 1e-12
    crossings = _crossings(x, level)
    value, begin = _bits(crossings, bit_length, bit_length * (1 - SPEED_RANGE), bit_length * (1 + SPEED_RANGE))
    if len(value) < BITS:
        raise InputError("The track holds no timecode that can be read at this rate.")
    windows = np.lib.stride_tricks.sliding_window_view(value, BITS)
    at = np.flatnonzero((windows[:, 64:] == SYNC).all(1) & (windows >= 0).all(1))
    hh, mm, ss, ff, drop = _fields(windows[at].astype(np.int64))
    base = TimecodeFormat(timecode_format.rate / pair, timecode_format.drop) if pair == 2 else timecode_format
    frames, places, flags = [], [], []
    for k in range(len(at)):  # one step per frame of code, some tens a second
        try:
            frames.append(base.frame_of_fields(int(hh[k]), int(mm[k]), int(ss[k]), int(ff[k])) if hh[k] >= 0 else -1)
        except InputError:
            frames.append(-1)
        places.append(begin[at[k]])
        flags.append(bool(drop[k]))
    frames, places, flags = np.array(frames, dtype=np.int64), np.array(places), np.array(flags, dtype=bool)
    keep = _agree_with_a_neighbour(frames, places, frame_length, base.frames_per_day)
    frames, places, flags = frames[keep], places[keep], flags[keep]
    if len(frames) == 0:
        raise InputError("The track holds no timecode that can be read at this rate.")
    jumps, speed = _jumps_and_speed(frames, places, frame_length, base)
    return LtcReading(places, frames * pair, flags, jumps, speed, timecode_format)


def _agree_with_a_neighbour(frames, places, frame_length, day):
    """A frame is believed when another, at most three frames away, shows the label its distance says."""
    ok = np.zeros(len(frames), dtype=bool)
    for lag in (1, 2, 3):
        if len(frames) <= lag:
            break
        elapsed = (places[lag:] - places[:-lag]) / frame_length
        count = np.round(elapsed)
        match = ((frames[lag:] - frames[:-lag]) % day == count) & (np.abs(elapsed - count) < 0.1 * np.maximum(count, 1))
        match &= (frames[lag:] >= 0) & (frames[:-lag] >= 0) & (count >= 1) & (count <= 3)
        ok[lag:] |= match
        ok[:-lag] |= match
    return ok


def _jumps_and_speed(frames, places, frame_length, base):
    steps = np.diff(frames)
    steps = (steps + base.frames_per_day // 2) % base.frames_per_day - base.frames_per_day // 2
    elapsed = np.diff(places) / frame_length
    jumped = np.abs(steps - elapsed) > 0.5 + SPEED_RANGE * np.abs(elapsed)
    jumps = [
        {"sample": round(float(places[i + 1]), 2), "from": base.label(frames[i]), "to": base.label(frames[i + 1])}
        for i in np.flatnonzero(jumped)
    ]
    run = np.concatenate([[0], np.cumsum(jumped)])
    counts = np.concatenate([[0], np.cumsum(np.where(jumped, 0, steps))]).astype(float)
    x, y = counts.copy(), places.astype(float).copy()
    total_xx = total_xy = 0.0
    for r in range(run[-1] + 1):  # one slope over all runs, each with its own start
        inside = run == r
        dx, dy = x[inside] - x[inside].mean(), y[inside] - y[inside].mean()
        total_xx += dx @ dx
        total_xy += dx @ dy
    if total_xx <= 0:
        return jumps, None
    return jumps, round(float((frame_length / (total_xy / total_xx) - 1) * 1e6), 2)
