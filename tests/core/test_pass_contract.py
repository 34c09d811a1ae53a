"""What every pass promises: the same answer twice, its input left alone, NaN survived, bad input refused in a sentence."""

import unittest
from fractions import Fraction

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES, calibrate_face, face_values
from otrevo.core.hands.gloves import calibrate_gloves, finger_angles
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.markers.label import label_take
from otrevo.core.markers.mends import apply_mends
from otrevo.core.motion_rate import at_rate
from otrevo.core.props.follow import find_prop, solve_prop
from otrevo.core.props.prop import lantern
from otrevo.core.sim.audio import ltc_track
from otrevo.core.solve.body import solve_take
from otrevo.core.solve.suit import calibrate_suit
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.core.timecode.lineup import fit_clock
from otrevo.core.timecode.ltc import read_ltc
from otrevo.core.warm_up.calibrate import calibrate_performer
from tests.core.stage import RATE, rolled, true_calibration, true_model, truly_labelled

FMT = TimecodeFormat(Fraction(25))


def _take():
    performer, _, optical = rolled("rope haul", 41)
    return performer, optical.points_m[:600].copy(), truly_labelled(optical, 57)[:600]


def _stamps():
    rng = np.random.default_rng(6)
    count = np.arange(0, 3000, 25.0)
    return np.stack([count, 100.0 + count / 100 * 1.00002 + rng.normal(0, 1e-4, len(count))], axis=1)


def _suit():
    rng = np.random.default_rng(2)
    q = rng.normal(size=(400, 17, 4))
    return q / np.linalg.norm(q, axis=-1, keepdims=True)


def passes():
    """name: (function of one array, the array)."""
    performer, points, labelled = _take()
    known, model = true_calibration(performer), true_model(performer)
    gloves = np.random.default_rng(3).uniform(200, 800, (900, 2, 5, 3))
    face = np.random.default_rng(4).uniform(0, 1, (300, len(FACE_SHAPES)))
    mends = [{"kind": "cut and fill", "method": "curve", "marker": "crown", "start": 100, "end": 110}]
    return {
        "label": (lambda x: label_take(x, RATE, model).labels, points),
        "solve": (lambda x: solve_take(x, RATE, known).motion.rotation_local, labelled),
        "mend": (lambda x: apply_mends(x, known.marker_names, mends), labelled),
        "find prop": (lambda x: find_prop(x, RATE, lantern()).labels, points),
        "solve prop": (lambda x: solve_prop(x, RATE, lantern()).motion.rotation_local,
                       np.tile(lantern().offset_m, (200, 1, 1))),
        "timecode": (lambda x: read_ltc(x, 48000, FMT).sample, ltc_track(FMT, 1000, 3)[0]),
        "line up": (lambda x: np.array(fit_clock(x[:, 0], x[:, 1], 100.0, 100.0).times(10, 100.0)), _stamps()),
        "gloves": (lambda x: finger_angles(x, calibrate_gloves(x, 90.0)), gloves),
        "face": (lambda x: face_values(x, calibrate_face(x)), face),
        "suit": (lambda x: np.array([c["residual_deg"] for c in calibrate_suit(x, _suit()).values()]), _suit()),
    }  # fmt: skip


class EveryPass(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.passes = passes()

    def test_twice_the_same(self):
        for name, (run, data) in self.passes.items():
            with self.subTest(name):
                np.testing.assert_array_equal(run(data), run(data))

    def test_the_input_is_left_alone(self):
        for name, (run, data) in self.passes.items():
            with self.subTest(name):
                before = data.copy()
                run(data)
                np.testing.assert_array_equal(data, before)

    def test_samples_that_are_missing_do_no_harm(self):
        """A hundredth of all samples gone: an answer of the same kind, and no NaN where a body is promised."""
        rng = np.random.default_rng(5)
        for name in ("label", "solve", "find prop", "solve prop", "suit"):
            run, data = self.passes[name]
            holed = data.copy()
            holed[rng.random(holed.shape[:-1]) < 0.01] = np.nan
            with self.subTest(name):
                answer = np.asarray(run(holed))
                self.assertEqual(answer.shape, np.asarray(run(data)).shape)
                self.assertTrue(np.isfinite(answer).all())

    def test_nothing_but_nan_is_refused_in_one_sentence(self):
        for name in ("label", "solve", "solve prop", "suit"):
            run, data = self.passes[name]
            with self.subTest(name), self.assertRaises(InputError) as caught:
                run(np.full_like(data, np.nan))
            self.assertNotIn("\n", str(caught.exception))
            self.assertGreater(len(str(caught.exception)), 25)

    def test_empty_input_is_refused_in_one_sentence(self):
        for name in ("label", "solve", "find prop", "timecode"):
            run, data = self.passes[name]
            with self.subTest(name), self.assertRaises(InputError) as caught:
                run(data[:0])
            self.assertNotIn("\n", str(caught.exception))


class LongPasses(unittest.TestCase):
    def test_tell_how_far_they_are(self):
        performer, _, warm_up = rolled("warm-up", 40, missing=0.05, sloppiness=6.0)
        told = []
        calibrate_performer(warm_up.points_m[:900], RATE, shipped_chart(), performer.height_m, told.append)
        _, _, labelled = _take()
        again = []
        solve_take(labelled, RATE, true_calibration(rolled("rope haul", 41)[0]), progress=again.append)
        for shares in (told, again):
            self.assertGreaterEqual(len(shares), 1)
            self.assertEqual(shares, sorted(shares))
            self.assertAlmostEqual(shares[-1], 1.0)


class DeliveryRates(unittest.TestCase):
    def test_all_of_them_keep_length_and_unit_turns(self):
        from otrevo.core.conventions import RATES

        _, performance, _ = rolled("rope haul", 41)
        motion = performance.motion
        seconds = (len(motion) - 1) / float(motion.rate)
        for rate in RATES:
            with self.subTest(str(rate)):
                out = at_rate(motion, rate)
                self.assertEqual(out.rate, rate)
                self.assertLess(abs((len(out) - 1) / float(rate) - seconds), 1 / float(rate))
                np.testing.assert_allclose(np.linalg.norm(out.rotation_local, axis=-1), 1.0, atol=1e-9)
                self.assertLess(np.linalg.norm(out.root_position_m[0] - motion.root_position_m[0]), 0.005)
