"""Filters that shift nothing in time: what a Butterworth filter run forwards and then backwards passes, in one transform.

Forwards and backwards, a filter of gain H(f) passes |H(f)|² and turns no phase, so the spectrum of the samples times |H|² is the
filter. |H|² is that of the digital filter by the bilinear transform, with frequencies warped by tan(pi f / rate). The samples are
continued beyond both ends for as long as the slowest that passes takes to die away.

Source: Oppenheim and Schafer, Discrete-Time Signal Processing, chapters 7 and 8. SciPy's signal package does the same sample by sample,
but every process that asks for it loads for longer than half a minute of a suit takes to solve.
"""

import numpy as np


def low_pass(values, rate_hz, up_to_hz, order=2):
    """Values (T, ...) without what is faster than up_to_hz, where half the amplitude is left.

    They go on oddly beyond both ends: the first and last value stay, and so does a movement that goes on.
    """
    edge = np.tan(np.pi * up_to_hz / rate_hz)
    return _passed(values, lambda warped: (warped / edge) ** (2 * order), int(4 * rate_hz / up_to_hz), "odd")


def band_pass(values, rate_hz, band_hz, order=2):
    """Values (T, ...) of what is between the two edges of band_hz alone; half the amplitude is left at either.

    They go on evenly beyond both ends: oddly, the noise of the first and last sample would last as long as the slowest that passes.
    """
    slow, fast = np.tan(np.pi * np.asarray(band_hz) / rate_hz)

    def blocked(warped):
        with np.errstate(divide="ignore"):  # what does not change is blocked whole
            return ((warped**2 - slow * fast) / (warped * (fast - slow))) ** (2 * order)

    return _passed(values, blocked, int(2 * rate_hz / band_hz[0]), "even")


def _passed(values, blocked, beyond, continued):
    """Values (T, ...) times 1 / (1 + blocked(warped frequency)), continued by at least `beyond` samples at both ends."""
    values = np.asarray(values, dtype=float)
    count = len(values)
    length = _quick_length(count + 2 * beyond)
    ends = [(beyond, length - count - beyond), *[(0, 0)] * (values.ndim - 1)]
    spectrum = np.fft.rfft(np.pad(values, ends, mode="reflect", reflect_type=continued), axis=0)
    gain = 1.0 / (1.0 + blocked(np.tan(np.pi * np.arange(len(spectrum)) / length)))
    spectrum *= gain.reshape(-1, *[1] * (values.ndim - 1))
    return np.fft.irfft(spectrum, length, axis=0)[beyond : beyond + count]


def _quick_length(least):
    """A length of at least so many samples that has small factors, which transforms quickly: at most a seventh longer."""
    half = max(0, least.bit_length() - 4)
    return next(n << half for n in (8, 9, 10, 12, 15, 16) if n << half >= least)
