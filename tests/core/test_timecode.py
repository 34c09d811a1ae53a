import unittest
from fractions import Fraction

import numpy as np

from otrevo.core.conventions import RATES
from otrevo.core.errors import InputError
from otrevo.core.sim.audio import ltc_track
from otrevo.core.timecode.clap import clap_in_accelerations, clap_in_points, clap_in_sound
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.core.timecode.lineup import drop_frame_problem, fit_clock, resample_linear
from otrevo.core.timecode.ltc import read_ltc
from tests.core.stage import rolled

DF = TimecodeFormat(Fraction(30000, 1001), True)


def count_labels(fmt, frames):
    """Labels counted one by one, the slow way the standard describes."""
    hh = mm = ss = ff = 0
    for _ in range(frames):
        yield f"{hh:02d}:{mm:02d}:{ss:02d}{';' if fmt.drop else ':'}{ff:02d}"
        ff += 1
        if ff == fmt.nominal:
            ff, ss = 0, ss + 1
            if ss == 60:
                ss, mm = 0, mm + 1
                if mm == 60:
                    mm, hh = 0, hh + 1
                if fmt.drop and mm % 10:
                    ff = fmt.nominal // 15


class Labels(unittest.TestCase):
    def test_every_label_of_ten_minutes_and_those_about_each_minute_of_an_hour_against_counting(self):
        for fmt in (DF, TimecodeFormat(Fraction(60000, 1001), True), TimecodeFormat(Fraction(24000, 1001))):
            for frame, label in enumerate(count_labels(fmt, 3700 * fmt.nominal)):
                if frame > 601 * fmt.nominal and label[6:8] not in ("00", "59"):
                    continue  # ten minutes are like the next ten but for where labels are left out
                if fmt.label(frame) != label or fmt.frame(label) != frame:
                    self.fail(f"{fmt}: frame {frame} is {fmt.label(frame)}, counted {label}")

    def test_day_wraps(self):
        for rate in RATES:
            fmt = TimecodeFormat(rate)
            self.assertEqual(fmt.label(fmt.frames_per_day), "00:00:00:00")
            self.assertEqual(fmt.label(-1)[:8], "23:59:59")
        self.assertEqual(DF.frames_per_day, 2589408)

    def test_drop_frame_day_is_86_milliseconds_short(self):
        self.assertAlmostEqual(float(DF.seconds(DF.frames_per_day)), 86399.9136, places=4)

    def test_labels_that_do_not_exist_are_refused(self):
        for label in ("00:01:00;00", "00:01:00;01", "24:00:00;00", "00:00:00;30", "nonsense"):
            with self.assertRaises(InputError):
                DF.frame(label)
        self.assertEqual(DF.frame("00:10:00;00"), 17982)

    def test_rates_and_drop_frame_that_are_no_standard_are_refused(self):
        for rate, drop in ((Fraction(29), False), (Fraction(25), True), (Fraction(30), True)):
            with self.assertRaises(InputError):
                TimecodeFormat(rate, drop)


class LinearTimecode(unittest.TestCase):
    def check(self, fmt, first, **how):
        samples, starts, frames = ltc_track(fmt, fmt.frame(first), 8, **how)
        reading = read_ltc(samples, 48000, fmt)
        true = {int(f) % fmt.frames_per_day: s for f, s in zip(frames, starts, strict=True)}
        found = [(int(f), s) for f, s in zip(reading.frame, reading.sample, strict=True)]
        named = [f for f, _ in found if f in true]
        self.assertGreaterEqual(len(set(named)) / len(true), 0.99)
        # a code word that is cut off by the end of the track is a frame too; everything else must be true
        extra = [f for f, _ in found if f not in true]
        self.assertLessEqual(len(extra), 1)
        self.assertLess(np.mean([abs(s - true[f]) for f, s in found if f in true]), 3)
        return reading

    def test_all_rates_levels_polarities_and_speeds(self):
        for fmt in (
            DF,
            TimecodeFormat(Fraction(25)),
            TimecodeFormat(Fraction(24000, 1001)),
            TimecodeFormat(Fraction(30)),
        ):
            first = "10:09:57;00" if fmt.drop else "10:09:57:00"
            for speed, level, noise, bit in ((1.0, 0.4, 0.002, 0), (1.05, -0.02, 0.001, 37), (0.95, 0.9, 0.06, 11)):
                with self.subTest(rate=fmt.rate, speed=speed):
                    reading = self.check(fmt, first, speed=speed, level=level, noise=noise, start_bit=bit)
                    self.assertLess(abs(reading.speed_ppm - (speed - 1) * 1e6), 20)

    def test_midnight_is_no_jump(self):
        self.assertEqual(self.check(DF, "23:59:56;00").jumps, [])

    def test_a_jump_is_found_where_it_is(self):
        a, _, _ = ltc_track(DF, 1000, 3)
        b, _, _ = ltc_track(DF, 9000, 3)
        reading = read_ltc(np.concatenate([a, b]), 48000, DF)
        self.assertEqual(len(reading.jumps), 1)
        self.assertLess(abs(reading.jumps[0]["sample"] - len(a)), 3300)

    def test_nothing_is_invented_from_noise_silence_or_music(self):
        rng = np.random.default_rng(3)
        t = np.arange(96000) / 48000
        for track in (
            rng.normal(size=96000),
            np.zeros(96000),
            np.sin(2 * np.pi * 2400 * t) + np.sin(2 * np.pi * 1200 * t),
        ):
            with self.assertRaises(InputError):
                read_ltc(track, 48000, DF)

    def test_a_drop_out_loses_its_frames_and_no_more(self):
        samples, starts, frames = ltc_track(DF, 5000, 6)
        samples[100000:106000] = 0
        reading = read_ltc(samples, 48000, DF)
        self.assertGreater(len(reading.frame), len(frames) - 8)
        self.assertTrue(set(reading.frame.tolist()) <= set(frames.tolist()) | {int(frames[-1]) + 1})

    def test_what_the_recorder_lost_is_silent(self):
        samples, _, frames = ltc_track(DF, 5000, 6)
        samples = samples.astype(float)
        samples[:20000] = samples[100000:140000] = np.nan
        reading = read_ltc(samples, 48000, DF)
        self.assertEqual(reading.jumps, [])
        self.assertGreater(len(reading.frame), 0.7 * len(frames))

    def test_document_names_what_it_is(self):
        samples, _, _ = ltc_track(DF, 0, 2)
        document = read_ltc(samples, 48000, DF).to_document()
        self.assertEqual((document["otrevo"], document["rate"], document["drop"]), ("timecode/1", "30000/1001", True))


class Clocks(unittest.TestCase):
    def stamps(self, offset, ppm, rate=100.0, seconds=60, jitter=1e-4, wrong=0.1, seed=0):
        rng = np.random.default_rng(seed)
        number = np.arange(0, seconds * rate, 25)
        stamp = 40000 + offset + number / rate * (1 + ppm * 1e-6) + rng.normal(0, jitter, len(number))
        bad = rng.random(len(number)) < wrong
        stamp[bad] += rng.choice([-1, 1, 0.04], bad.sum())
        return number, stamp

    def test_offset_within_a_millisecond_and_drift_within_5_ppm(self):
        for seed, (offset, ppm) in enumerate(((0.3, 80), (-0.2, -80), (0.0, 5), (2.4, -33))):
            fit = fit_clock(*self.stamps(offset, ppm, seed=seed), 100.0, 40000)
            self.assertLess(abs(fit.offset_s - offset), 0.001)
            self.assertLess(abs(fit.drift_ppm - ppm), 5)
            self.assertIsNone(fit.problem)
            self.assertGreater(fit.rejected, 3)

    def test_midnight_in_the_middle(self):
        number = np.arange(0, 6000, 25.0)
        stamp = (86390 + number / 100.0) % 86400
        fit = fit_clock(number, stamp, 100.0, 86390)
        self.assertLess(abs(fit.offset_s), 1e-6)
        self.assertEqual(fit.jumps, ())

    def test_a_wrong_rate_is_a_problem_and_no_silent_drift(self):
        number = np.arange(0, 3000, 25.0)
        fit = fit_clock(number, 40000 + number / 59.94, 60.0, 40000)
        self.assertIn("another rate", fit.problem)
        self.assertIn("59.94", fit.problem)

    def test_a_jump_is_reported_and_the_longest_run_kept(self):
        number, stamp = self.stamps(0.1, 10, wrong=0)
        stamp[180:] += 3.0
        fit = fit_clock(number, stamp, 100.0, 40000)
        self.assertEqual(len(fit.jumps), 1)
        self.assertLess(abs(fit.offset_s - 0.1), 0.001)

    def test_too_few_stamps_are_refused(self):
        with self.assertRaisesRegex(InputError, "at least two"):
            fit_clock([3], [40000.0], 100.0, 40000)
        with self.assertRaises(InputError):
            fit_clock([3, 3], [np.nan, 40000.0], 100.0, 40000)

    def test_drop_frame_mistakes_are_said(self):
        self.assertIn("non-drop", drop_frame_problem(True, False, 0.0, 0.0, 0))
        self.assertIn("3.60 s away", drop_frame_problem(True, None, 3.6, 0.0, 1.0))
        self.assertIsNone(drop_frame_problem(True, True, 0.01, 0.0, 10.0))

    def test_resampling_keeps_missing_missing(self):
        times = np.arange(5.0)
        out = resample_linear(times, np.stack([times, 2 * times], 1), np.array([-1.0, 0.5, 9.0]))
        np.testing.assert_allclose(out[1], [0.5, 1.0])
        self.assertTrue(np.isnan(out[[0, 2]]).all())


class Clap(unittest.TestCase):
    def test_found_in_sound_and_acceleration_and_not_invented(self):
        rng = np.random.default_rng(2)
        times = np.arange(48000 * 4) / 48000
        sound = rng.normal(0, 0.003, len(times))
        sound[100000:100400] += rng.normal(0, 0.5, 400)
        self.assertAlmostEqual(clap_in_sound(sound, times), 100000 / 48000, delta=0.002)
        self.assertIsNone(clap_in_sound(rng.normal(0, 0.003, len(times)), times))
        sound[:9000] = np.nan
        self.assertAlmostEqual(clap_in_sound(sound, times), 100000 / 48000, delta=0.002)
        push = np.zeros((400, 17, 3))
        push[..., 1] = 9.81
        push[250:252, [6, 13], 0] = 70
        self.assertAlmostEqual(clap_in_accelerations(push, np.arange(400) / 100), 2.5, delta=0.011)
        push[250:252, 6] = [0, 9.81, 0]  # only one hand: a knock, no clap
        self.assertIsNone(clap_in_accelerations(push, np.arange(400) / 100))

    def test_found_in_nameless_points_of_every_motion(self):
        for motion, seed in (("semaphore", 4), ("rope haul", 6), ("lantern", 6), ("radio watch", 4)):
            _, performance, optical = rolled(motion, seed)
            times = 3.0 + np.arange(len(optical.points_m)) / 120
            self.assertAlmostEqual(clap_in_points(optical.points_m, times), 3.0 + performance.clap_s, delta=0.025)
            after = np.arange(len(times)) > round((performance.clap_s + 0.7) * 120)
            self.assertIsNone(clap_in_points(optical.points_m[after], times[after]), f"{motion} without its clap")

    def test_hands_that_pass_hit_a_thigh_or_trade_columns_do_not_clap(self):
        times = np.arange(480) / 120
        still = np.zeros((480, 6, 3))
        still[:, :3, 0] = [0.5, 0.52, 0.54]
        still[:, 3:, 0] = [-0.5, -0.52, -0.54]
        still[..., 1] = 0.01 * np.arange(6)
        reach = np.clip(0.47 - 2.5 * np.maximum(times - 1.0, 0), -0.47, None)  # m from the middle, for hands that pass

        def hands(left, right):
            out = still.copy()
            out[:, :3, 0] += (left - 0.5)[:, None]
            out[:, 3:, 0] -= (right - 0.5)[:, None]
            return out

        met = np.maximum(reach, 0.04)
        self.assertAlmostEqual(clap_in_points(hands(met, met), times), 1.0 + 0.43 / 2.5, delta=0.02)
        self.assertIsNone(clap_in_points(hands(reach, reach), times), "they go past each other")
        self.assertIsNone(clap_in_points(hands(met, np.full(480, 0.04)), times), "one side stands still")
        traded = still.copy()
        traded[200:, [0, 3]] = traded[200:, [3, 0]]
        self.assertIsNone(clap_in_points(traded, times))
        self.assertIsNone(clap_in_points(np.full((480, 3, 3), np.nan), times))
        self.assertIsNone(clap_in_points(still[:10], times[:10]))
