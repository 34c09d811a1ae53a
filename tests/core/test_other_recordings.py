"""Recordings unlike the simulator's own: other charts, rates, speeds, columns, clutter and starts."""

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np

from otrevo.core.body.model import body_model
from otrevo.core.errors import InputError
from otrevo.core.markers.chart import Chart, chart_from_document, shipped_chart
from otrevo.core.markers.label import label_take
from otrevo.core.markers.start import find_start, still_cloud
from otrevo.core.sim.motions import marker_positions, perform
from otrevo.core.sim.optical import see
from otrevo.core.sim.performers import make_performer
from otrevo.core.solve.body import solve_take
from otrevo.core.warm_up.calibrate import calibrate_performer
from tests.core.stage import RATE, label_shares, rolled, true_calibration, true_model

SEED = 91
CHART = shipped_chart()


class OneTakeManyWays(unittest.TestCase):
    def setUp(self):
        self.performer, self.performance, self.optical = rolled("rope haul", SEED)
        self.model = true_model(self.performer)

    def check(self, points, truth, rate=RATE, right_at_least=0.995, wrong_at_most=0.001, model=None):
        labels = label_take(points, rate, model or self.model)
        right, wrong = label_shares(labels.labels, truth)
        self.assertGreaterEqual(right, right_at_least)
        self.assertLessEqual(wrong, wrong_at_most)
        return labels

    def test_at_sixty_hertz(self):
        self.check(self.optical.points_m[::2], self.optical.truth[::2], Fraction(60))

    def test_three_times_as_quick(self):
        self.check(self.optical.points_m[::3], self.optical.truth[::3])

    def test_columns_that_mean_nothing(self):
        points, truth = self.optical.points_m.copy(), self.optical.truth.copy()
        rng = np.random.default_rng(1)
        for t in range(len(points)):
            order = rng.permutation(points.shape[1])
            points[t], truth[t] = points[t, order], truth[t, order]
        self.check(points, truth, right_at_least=0.99, wrong_at_most=0.004)

    def test_among_lamps_that_never_move(self):
        rng = np.random.default_rng(2)
        lamps = np.repeat(rng.uniform([-1.5, 0, -1.5], [1.5, 2, 1.5], (1, 15, 3)), len(self.optical.points_m), 0)
        points = np.concatenate([self.optical.points_m, lamps], axis=1)
        truth = np.concatenate([self.optical.truth, np.full(lamps.shape[:2], -1)], axis=1)
        self.check(points, truth)

    def test_a_quarter_hidden_and_limbs_lost(self):
        optical = see(self.performance, self.performer, CHART, 5, hidden=0.25, limb_losses=6)
        self.check(optical.points_m, optical.truth)

    def test_soft_tissue_and_noise_beyond_the_usual(self):
        optical = see(self.performance, self.performer, CHART, 6, noise_m=0.001, soft_tissue_m=0.012)
        self.check(optical.points_m, optical.truth)

    def test_a_take_that_does_not_end_in_t_pose(self):
        cut = int(0.6 * len(self.optical.points_m))
        self.check(self.optical.points_m[:cut], self.optical.truth[:cut])

    def test_a_roll_before_the_performer_was_ready(self):
        """Two seconds of crouching about before the T-pose: found where it is, followed back from there."""
        frames = len(self.optical.points_m)
        busy = slice(700, 700 + 240)  # in mid-performance
        points = np.concatenate([self.optical.points_m[busy], self.optical.points_m])
        truth = np.concatenate([self.optical.truth[busy], self.optical.truth])
        start, at = find_start(self.model, points, RATE)
        self.assertGreaterEqual(at, 180)
        self.assertLess(start.cost, 0.3)
        labels = label_take(points, RATE, self.model)
        right, _ = label_shares(labels.labels[240:], truth[240:])
        self.assertGreater(right, 0.995)
        self.assertEqual(len(labels.labels), frames + 240)

    def test_whole_columns_of_nothing_and_doubled_points(self):
        points = self.optical.points_m
        nothing = np.full((len(points), 4, 3), np.nan)
        double = points[:, :3] + 0.0005
        both = np.concatenate([points, nothing, double], axis=1)
        labels = label_take(both, RATE, self.model).labels
        self.assertEqual((labels[:, points.shape[1] : points.shape[1] + 4] >= 0).sum(), 0)
        for row in labels[::40]:
            named = row[row >= 0]
            self.assertEqual(len(named), len(set(named.tolist())), "a doubled point must not double a name")

    def test_two_thirds_of_the_chart(self):
        keep = np.array([i for i in range(len(CHART.names)) if i % 3 != 1])
        position = np.full(len(CHART.names) + 20, -2)
        position[keep] = np.arange(len(keep))
        truth = np.where(self.optical.truth >= 0, position[np.maximum(self.optical.truth, 0)], self.optical.truth)
        points = np.where((truth == -2)[..., None], np.nan, self.optical.points_m)
        model = body_model(
            self.performer.skeleton, [CHART.names[i] for i in keep], [CHART.bones[i] for i in keep],
            self.performer.marker_offset_m[keep],
        )  # fmt: skip
        self.check(points, truth, model=model)


def another_chart():
    """Forty-four markers with other names in other places, fingertips among them, on bones the shipped chart leaves out."""
    rng = np.random.default_rng(12)
    keep = [i for i in range(len(CHART.names)) if i % 4]
    names = [f"p{i:02d}" for i in keep]
    bones = [CHART.bones[i] for i in keep]
    offsets = CHART.offset_m[keep] + rng.normal(0, 0.008, (len(keep), 3))
    for side, sign in (("left", 1.0), ("right", -1.0)):
        names.append(f"tip {side}")
        bones.append(f"{side}MiddleProximal")
        offsets = np.concatenate([offsets, [[sign * 0.03, 0.012, 0.0]]])
    return Chart("Harbour 44", tuple(names), tuple(bones), offsets)


class AnotherChart(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.chart = another_chart()
        cls.performer = make_performer(SEED, cls.chart, sloppiness_deg=5.0)
        performance = perform("warm-up", cls.performer, SEED, RATE, (1.1, 0.4), 2.0)
        cls.warm_up = see(performance, cls.performer, cls.chart, SEED, hidden=0.05)
        cls.calibration, cls.labels = calibrate_performer(cls.warm_up.points_m, RATE, cls.chart, cls.performer.height_m)

    def test_round_trips_as_a_document(self):
        again = chart_from_document(self.chart.to_document())
        self.assertEqual((again.names, again.bones), (self.chart.names, self.chart.bones))

    def test_is_named_without_clicking(self):
        right, wrong = label_shares(self.labels.labels, self.warm_up.truth)
        self.assertGreater(right, 0.99)
        self.assertLess(wrong, 0.01)

    def test_labels_and_solves_a_take(self):
        performance = perform("semaphore", self.performer, SEED + 1, RATE, (0.0, 0.0), -1.0)
        optical = see(performance, self.performer, self.chart, SEED + 1)
        labels = label_take(optical.points_m, RATE, self.calibration.model())
        right, wrong = label_shares(labels.labels, optical.truth)
        self.assertGreater(right, 0.995)
        self.assertLess(wrong, 0.002)
        solution = solve_take(labels.labelled_m, RATE, self.calibration)
        bone = [solution.motion.skeleton.index(b) for b in self.chart.bones]
        places = marker_positions(solution.motion, bone, self.calibration.marker_offset_m)
        residual = np.linalg.norm(places - labels.labelled_m, axis=2)
        self.assertLess(1000 * np.sqrt(np.nanmean(residual**2)), 8)


class StillMoments(unittest.TestCase):
    def test_what_stands_still_is_averaged_whatever_column_it_is_in(self):
        rng = np.random.default_rng(3)
        still = rng.uniform(-1, 1, (20, 3))
        points = np.tile(still, (60, 1, 1)) + rng.normal(0, 0.001, (60, 20, 3))
        for t in range(60):
            points[t] = points[t, rng.permutation(20)]
        cloud = still_cloud(points, RATE)
        self.assertEqual(cloud.shape, (20, 3))
        apart = np.linalg.norm(cloud[:, None] - still[None], axis=2).min(axis=1)
        self.assertLess(apart.max(), 0.001)

    def test_what_moves_or_flickers_is_left_out(self):
        points = np.zeros((60, 3, 3))
        points[:, 1] = np.stack([np.arange(60) * 0.05, np.full(60, 0.5), np.zeros(60)], axis=1)
        points[:, 2] = [1.0, 1.0, 0]
        points[5:, 2] = np.nan
        self.assertEqual(len(still_cloud(points, RATE)), 1)

    def test_nothing_at_all_is_an_empty_cloud_and_refused(self):
        self.assertEqual(still_cloud(np.full((60, 4, 3), np.nan), RATE).shape, (0, 3))
        model = true_model(rolled("rope haul", SEED)[0])
        with self.assertRaisesRegex(InputError, "steady points"):
            find_start(model, np.full((600, 4, 3), np.nan), RATE)


class HalfDressed(unittest.TestCase):
    def test_a_calibration_for_the_upper_body_labels_a_whole_stage(self):
        performer, _, optical = rolled("semaphore", SEED)
        whole = true_calibration(performer)
        upper = [i for i, b in enumerate(CHART.bones) if not any(w in b for w in ("Leg", "Foot", "Toes"))]
        part = replace(
            whole, marker_names=tuple(CHART.names[i] for i in upper), marker_bones=tuple(CHART.bones[i] for i in upper),
            marker_offset_m=whole.marker_offset_m[upper],
        )  # fmt: skip
        position = np.full(len(CHART.names), -1)
        position[upper] = np.arange(len(upper))
        truth = np.where(optical.truth >= 0, position[np.maximum(optical.truth, 0)], optical.truth)
        labels = label_take(optical.points_m, RATE, part.model())
        right, wrong = label_shares(labels.labels, truth)
        self.assertGreater(right, 0.99)
        self.assertLess(wrong, 0.01)
