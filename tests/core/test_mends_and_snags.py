import unittest
from fractions import Fraction

import numpy as np

from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES, calibrate_face, face_values
from otrevo.core.hands.gloves import FIST_RAD, calibrate_gloves, finger_angles, finger_rotations
from otrevo.core.markers.mends import apply_mends
from otrevo.core.passes import line_up
from otrevo.core.passes.contract import SampleClock, TakeMaterial, TakeStream
from otrevo.core.snags import dropout_snags, gap_snags, ranked, residual_snags, spike_snags
from otrevo.core.timecode.labels import TimecodeFormat

NAMES = ("a", "b")


def path(frames=200):
    t = np.arange(frames) / 120
    return np.stack([np.stack([np.sin(2 * t), np.cos(2 * t), t], 1), np.stack([t, 0 * t, 1 + 0 * t], 1)], axis=1)


class Mends(unittest.TestCase):
    def test_curve_fills_a_short_gap_within_a_millimetre(self):
        true = path()
        gap = true.copy()
        gap[100:112, 0] = np.nan
        out = apply_mends(gap, NAMES, [{"kind": "fill", "method": "curve", "marker": "a", "start": 100, "end": 112}])
        self.assertLess(np.abs(out - true).max(), 0.001)
        self.assertTrue(np.isnan(gap[100:112, 0]).all(), "the input must stay as it was")

    def test_body_fill_eases_the_slip_from_end_to_end(self):
        true = path()
        body = true + [0.01, 0, 0]
        body[100:] += [0.01, 0, 0]
        gap = true.copy()
        gap[50:150, 0] = np.nan
        mend = {"kind": "fill", "method": "body", "marker": "a", "start": 50, "end": 150}
        out = apply_mends(gap, NAMES, [mend], body)
        self.assertLess(np.abs(out[49:52, 0] - true[49:52, 0]).max(), 0.002)
        self.assertLess(np.abs(out[148:151, 0] - true[148:151, 0]).max(), 0.002)
        self.assertTrue(np.isnan(apply_mends(gap, NAMES, [mend])[100, 0]).all(), "without a body it stays a gap")

    def test_order_counts_and_cuts_can_be_filled(self):
        true = path()
        bad = true.copy()
        bad[80, 1] += 0.3
        cut = {"kind": "cut", "marker": "b", "start": 80, "end": 81}
        fill = {"kind": "fill", "method": "curve", "marker": "b", "start": 80, "end": 81}
        self.assertLess(np.abs(apply_mends(bad, NAMES, [cut, fill])[80, 1] - true[80, 1]).max(), 1e-6)
        self.assertTrue(np.isnan(apply_mends(bad, NAMES, [fill, cut])[80, 1]).all())

    def test_fills_never_touch_measured_samples_and_open_ends_stay_gaps(self):
        gap = path()
        gap[:20, 0] = np.nan
        out = apply_mends(gap, NAMES, [{"kind": "fill", "method": "curve", "marker": "a", "start": 0, "end": 30}])
        np.testing.assert_array_equal(out, gap)

    def test_mends_that_cannot_be_are_refused(self):
        good = {"kind": "fill", "method": "curve", "marker": "a", "start": 1, "end": 2}
        for change in (
            {"kind": "paint"},
            {"marker": "c"},
            {"start": 5},
            {"end": 999},
            {"start": "1"},
            {"method": "magic"},
        ):
            with self.assertRaises(InputError):
                apply_mends(path(), NAMES, [good | change])


class Snags(unittest.TestCase):
    def test_gaps_spikes_and_residuals_are_found_where_they_are(self):
        markers = path()
        markers[40:100, 0] = np.nan
        markers[150, 1, 1] += 0.05
        gap = gap_snags(markers, NAMES, 120.0)
        self.assertEqual(
            [(s.subject, s.proposal["start"], s.proposal["end"], s.proposal["method"]) for s in gap],
            [("a", 40, 100, "body")],
        )
        self.assertAlmostEqual(gap[0].severity, 2.0)
        spikes = spike_snags(markers, NAMES, 120.0)
        self.assertTrue(all(s.subject == "b" and abs(s.start_s - 150 / 120) < 0.03 for s in spikes))
        self.assertEqual(spike_snags(path(), NAMES, 120.0), [])
        residual = np.zeros((200, 2))
        residual[10:30, 1] = 0.06
        found = residual_snags(residual, NAMES, 120.0)
        self.assertEqual(len(found), 1)
        self.assertAlmostEqual(found[0].severity, 2.4)

    def test_drop_outs_and_ranking(self):
        present = np.ones(500, dtype=bool)
        present[100:150] = False
        present[300:304] = False
        snags = dropout_snags("suit", present, 100.0)
        self.assertEqual(len(snags), 1)
        self.assertIn("0.50 s", snags[0].text)
        worst = ranked([*snags, *gap_snags(np.full((240, 1, 3), np.nan), ("a",), 120.0)])
        self.assertEqual(worst[0].stream, "suit")


class NotRecorded(unittest.TestCase):
    """What the recorder says is missing of what the cameras saw, as the line-up tells it."""

    def lined_up(self, missing, gaps, suit_gaps=()):
        points = np.random.default_rng(1).normal(size=(1200, 5, 3))
        for first, end in gaps:
            points[first:end] = np.nan
        clock, rate = SampleClock(0.0, 120.0), Fraction(120)
        seen = TakeStream("cameras", "centroids", rate, lambda: np.zeros((0, 5)), clock, details={"missing": missing})
        rebuilt = TakeStream("optical", "points", rate, lambda: points, clock)
        turns = np.ones((1000, 17, 4))
        for first, end in suit_gaps:
            turns[first:end] = np.nan
        suit = TakeStream("suit", "rotations", Fraction(100), lambda: turns, SampleClock(0.0, 100.0), owner="Ines")
        material = TakeMaterial(
            10.0, timecode_format=TimecodeFormat(rate / 4), streams=(seen, suit), made={"rebuild": (rebuilt,)}
        )
        return line_up.run(material, {}, lambda share: None).snags

    def test_is_told_to_the_millisecond_and_not_a_second_time_for_the_points(self):
        snags = self.lined_up([[2.0, 2.317], [5.0, 5.01]], [(240, 278), (900, 960)])
        told = [s for s in snags if s.kind == "not recorded"]
        self.assertEqual([s.text for s in told], ["cameras: nothing was recorded for 317 ms"])
        self.assertEqual((told[0].start_s, told[0].end_s), (2.0, 2.317))
        self.assertGreater(told[0].severity, 1.0)
        drops = [s.start_s for s in snags if s.kind == "drop-out"]
        self.assertEqual(drops, [7.5], "that one is not told otherwise")

    def test_what_no_device_delivered_then_is_not_told_for_each_of_them(self):
        snags = self.lined_up([[2.0, 2.317]], [], [(195, 240), (500, 560)])
        self.assertEqual([s.start_s for s in snags if s.kind == "drop-out"], [5.0])
        longer = self.lined_up([[2.0, 2.317]], [], [(205, 400)])
        self.assertEqual([s.start_s for s in longer if s.kind == "drop-out"], [2.05], "it was away for longer")

    def test_nothing_missing_is_nothing_told(self):
        self.assertEqual([s for s in self.lined_up([], []) if s.kind in ("not recorded", "drop-out")], [])


class Gloves(unittest.TestCase):
    def raw(self, rng):
        angle = np.zeros((900, 2, 5, 3))
        closed = np.clip(np.minimum(np.arange(900) - 400, 560 - np.arange(900)) / 40, 0, 1)
        angle += closed[:, None, None, None] * FIST_RAD[None, None]
        self.gain, self.offset = rng.uniform(150, 400, (2, 5, 3)), rng.uniform(50, 300, (2, 5, 3))
        return angle, self.offset + self.gain * angle + rng.normal(0, 1.0, angle.shape)

    def test_gain_and_offset_from_flat_hand_and_fist(self):
        angle, raw = self.raw(np.random.default_rng(1))
        calibration = calibrate_gloves(raw, 90.0)
        found = finger_angles(raw, calibration)
        self.assertLess(np.degrees(np.abs(found - angle)[..., :2].max()), 3)
        self.assertAlmostEqual(calibration["fist_at_s"], 480 / 90, delta=0.5)
        bones = finger_rotations(found, generic_skeleton())
        self.assertEqual(len(bones), 28)
        self.assertLess(bones["leftIndexProximal"][480][2], -0.4)
        self.assertGreater(bones["rightIndexProximal"][480][2], 0.4)

    def test_a_dead_sensor_and_no_data_are_said(self):
        _, raw = self.raw(np.random.default_rng(1))
        raw[:, 1, 3, 0] = 100.0
        with self.assertRaisesRegex(InputError, "right ring"):
            calibrate_gloves(raw, 90.0)
        with self.assertRaises(InputError):
            calibrate_gloves(np.full((500, 2, 5, 3), np.nan), 90.0)


class Face(unittest.TestCase):
    def test_neutral_and_range(self):
        rng = np.random.default_rng(2)
        true = np.clip(rng.normal(-0.5, 0.6, (3000, 52)), 0, 1)
        true[:, 7] = 0
        raw = 0.08 + 0.7 * true + rng.normal(0, 0.003, true.shape)
        raw[100:120] = np.nan
        calibration = calibrate_face(raw)
        self.assertEqual(calibration["weak"], [FACE_SHAPES[7]])
        values = face_values(raw, calibration)
        self.assertLess(np.nanmean(np.abs(values - true)), 0.05)
        self.assertTrue(np.isnan(values[110]).all())
        with self.assertRaises(InputError):
            calibrate_face(raw[:20])

    def test_shapes_are_52_and_unique(self):
        self.assertEqual(len(set(FACE_SHAPES)), 52)
        self.assertIn("jawLeft", FACE_SHAPES)
