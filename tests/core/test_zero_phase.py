"""Filters that shift nothing in time: against SciPy's, run forwards and backwards, and at the ends."""

import unittest

import numpy as np
import scipy.signal

from otrevo.core.zero_phase import band_pass, low_pass

RATE_HZ = 100.0


def walk(samples, *shape):
    return np.cumsum(np.random.default_rng(3).normal(size=(samples, *shape)), axis=0)


class LowPass(unittest.TestCase):
    def test_away_from_the_ends_it_is_the_filter_run_both_ways(self):
        for samples, order in ((1500, 2), (1511, 4)):  # a length of small factors, and a prime
            values = walk(samples, 5, 3)
            sections = scipy.signal.butter(order, 6.0, fs=RATE_HZ, output="sos")
            expected = scipy.signal.sosfiltfilt(sections, values, axis=0)
            got = low_pass(values, RATE_HZ, 6.0, order)
            self.assertLess(np.abs(got - expected)[100:-100].max(), 1e-6)

    def test_what_goes_on_evenly_is_left_as_it_is(self):
        line = np.arange(300.0)[:, None] * [1.0, -2.0]
        self.assertLess(np.abs(low_pass(line, RATE_HZ, 6.0) - line).max(), 1e-4)

    def test_the_ends_stay_where_they_are(self):
        values = walk(400, 3)
        got = low_pass(values, RATE_HZ, 6.0)
        self.assertLess(np.abs(got - values)[[0, -1]].max(), 1e-6)
        self.assertGreater(np.abs(got - values)[1:-1].max(), 0.5)

    def test_half_the_amplitude_is_left_at_the_edge(self):
        t = np.arange(2000) / RATE_HZ
        got = low_pass(np.sin(2 * np.pi * 6.0 * t), RATE_HZ, 6.0)
        self.assertAlmostEqual(np.abs(got[500:1500]).max(), 0.5, delta=0.005)

    def test_a_sample_or_two_come_back(self):
        for samples in (1, 2, 3):
            self.assertLess(np.abs(low_pass(np.arange(float(samples)), RATE_HZ, 6.0) - np.arange(samples)).max(), 1e-4)


class BandPass(unittest.TestCase):
    def test_it_is_the_filter_run_both_ways_from_the_first_to_the_last_sample(self):
        for samples in (1500, 1511):
            values = walk(samples, 5, 3)
            sections = scipy.signal.butter(2, (0.5, 6.0), btype="band", fs=RATE_HZ, output="sos")
            expected = scipy.signal.sosfiltfilt(sections, values, axis=0, padtype="even", padlen=1400)
            got = band_pass(values, RATE_HZ, (0.5, 6.0))
            self.assertLess(np.abs(got - expected).max(), 5e-3 * values.std())

    def test_what_does_not_change_is_blocked(self):
        self.assertLess(np.abs(band_pass(np.full((500, 2), 9.81), RATE_HZ, (0.5, 6.0))).max(), 1e-9)

    def test_nothing_is_shifted(self):
        t = np.arange(3000) / RATE_HZ
        values = np.sin(2 * np.pi * 2.0 * t)
        got = band_pass(values, RATE_HZ, (0.5, 6.0))[1000:2000]
        self.assertLess(np.abs(got - values[1000:2000] * got.max()).max(), 2e-3)
