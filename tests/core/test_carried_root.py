"""Where a body goes while all of it is out of sight."""

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.conventions import (
    quaternion_from_rotvec,
    quaternion_rotate,
)
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.performers import make_performer
from otrevo.core.solve.carried_root import FeltAt, carry_root, with_fitted_lever

CHART, RATE = shipped_chart(), Fraction(120)


class Carried(unittest.TestCase):
    def setUp(self):
        """A body that walks a curve of its own while its sensor sits a hand's breadth off, at 120 Hz."""
        times = np.arange(1200) / 120
        self.person = make_performer(5, CHART)
        path = np.stack([0.8 * np.sin(0.9 * times), 0.9 + 0.03 * np.sin(9 * times), 0.5 * times], axis=1)
        turn = quaternion_from_rotvec(
            np.stack([0.15 * np.sin(4 * times), 0.6 * np.sin(0.7 * times) + 0.2 * np.sin(3 * times), 0 * times], axis=1)
        )
        local = np.tile([0.0, 0.0, 0.0, 1.0], (1200, len(self.person.skeleton.names), 1))
        local[:, 0] = turn
        self.motion = Motion(self.person.skeleton, RATE, path, local)
        self.lever = np.array([0.02, 0.05, -0.11])
        place = path + quaternion_rotate(turn, self.lever)
        self.felt = FeltAt("hips", self.lever, np.gradient(np.gradient(place, times, axis=0), times, axis=0))

    def carried(self, felt, start, end):
        seen = np.ones((1200, 5), dtype=bool)
        seen[start:end] = False
        lost = self.motion.root_position_m.copy()
        lost[start:end] = lost[start - 1]
        broken = Motion(self.motion.skeleton, RATE, lost, self.motion.rotation_local)
        found, carried = carry_root(broken, seen, felt)
        return 1000 * np.linalg.norm(found.root_position_m - self.motion.root_position_m, axis=1), carried.sum()

    def test_a_body_goes_on_by_what_its_pelvis_feels(self):
        off, frames = self.carried(self.felt, 300, 780)
        self.assertEqual(frames, 480)
        self.assertLess(off.max(), 3)

    def test_a_bias_and_a_slow_drift_of_the_sensor_do_not_matter(self):
        wrong = np.array([0.15, -0.1, 0.2]) + np.linspace(0, 0.1, 1200)[:, None]
        off, _ = self.carried(FeltAt("hips", self.lever, self.felt.acceleration_ms2 + wrong), 300, 780)
        self.assertLess(off.max(), 25)

    def test_what_has_no_two_ends_or_is_not_felt_stays_as_it_was(self):
        unfelt = self.felt.acceleration_ms2.copy()
        unfelt[400] = np.nan
        for felt, start, end in ((FeltAt("hips", self.lever, unfelt), 300, 780), (None, 700, 1200)):
            self.assertEqual(self.carried(felt, start, end)[1], 0)

    def test_where_a_sensor_sits_is_told_by_how_the_pelvis_turns(self):
        """13 cm off, as the spine's joint has it; skin trembles, and the sensor has noise and a bias."""
        rng = np.random.default_rng(4)
        noise = np.array([0.1, 0.0, -0.1]) + 0.3 * rng.normal(size=(1200, 3))
        thought = replace(
            self.felt, lever_m=np.array([-0.03, 0.1, 0.0]), acceleration_ms2=self.felt.acceleration_ms2 + noise
        )
        trembling = replace(
            self.motion, root_position_m=self.motion.root_position_m + 0.0005 * rng.normal(size=(1200, 3))
        )
        held = np.ones(1200, dtype=bool)
        held[500:700] = False
        fitted = with_fitted_lever(thought, trembling, held)
        np.testing.assert_allclose(fitted.lever_m, self.lever, atol=0.03)
        off, before = (self.carried(felt, 500, 700)[0][500:700] for felt in (fitted, thought))
        self.assertLess(off.mean(), 0.5 * before.mean())
        # half a bridge's variance in its middle, after q / 3 (T / 4)^3 about each axis
        usual = 1000 * np.sqrt(3 * fitted.density / 3 * (200 / 120 / 4) ** 3)
        self.assertTrue(usual / 4 < off.max() < 3 * usual, (off.max(), usual))

    def test_what_hardly_shows_leaves_the_lever_as_it_was(self):
        held = np.zeros(1200, dtype=bool)
        held[100:180] = True
        self.assertIs(with_fitted_lever(self.felt, self.motion, held), self.felt)

    def test_where_a_recording_begins_or_ends_out_of_sight_it_is_carried_for_some_seconds(self):
        wrong = replace(self.felt, acceleration_ms2=self.felt.acceleration_ms2 + [0.1, 0.0, -0.15])
        for start, end in ((0, 300), (900, 1200)):
            seen = np.ones((1200, 5), dtype=bool)
            seen[start:end] = False
            lost = self.motion.root_position_m.copy()
            lost[start:end] = lost[300 if start == 0 else 899]
            found, carried = carry_root(
                Motion(self.motion.skeleton, RATE, lost, self.motion.rotation_local), seen, wrong
            )
            self.assertEqual(carried.sum(), 300)
            off = 1000 * np.linalg.norm(found.root_position_m - self.motion.root_position_m, axis=1)
            self.assertLess(off[start:end].max(), 250)
            self.assertEqual(off[seen.any(axis=1)].max(), 0)

    def test_without_a_sensor_it_leaves_and_arrives_as_fast_as_it_went(self):
        off, carried = self.carried(None, 500, 560)
        self.assertEqual(carried, 0)
        self.assertLess(off.max(), 60)
        path = self.motion.root_position_m
        eased = np.linspace(0, 1, 62)[1:-1, None] ** 2 * (3 - 2 * np.linspace(0, 1, 62)[1:-1, None])
        stop = path[499] + eased * (path[560] - path[499])
        self.assertLess(off[500:560].mean(), 0.6 * 1000 * np.linalg.norm(stop - path[500:560], axis=1).mean())


if __name__ == "__main__":
    unittest.main()
