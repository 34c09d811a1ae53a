"""Correlation of samples in one transform."""

import numpy as np


def correlated(values, shapes):
    """From every sample on, values (T, K, C) times shapes (W, C), summed: (N, K), N > T + W; from those before the first one on at the end."""
    count = 1 << (len(values) + len(shapes)).bit_length()
    spectrum = np.fft.rfft(values, count, axis=0) * np.fft.rfft(shapes, count, axis=0).conj()[:, None]
    return np.fft.irfft(spectrum.sum(axis=2), count, axis=0)
