"""The suit's clock beside cameras, told by how both turn."""

import unittest

import numpy as np

from otrevo.core.conventions import (
    make_continuous,
    quaternion_from_rotvec,
    quaternion_multiply,
    slerp,
)
from otrevo.core.sim.motions import band_noise
from otrevo.core.solve.suit_clock import find_suit_clock


def spread_turns(rng, count, hz, sensors):
    """Rotations (T, S, 4) of bodies that turn to and fro in all directions."""
    vectors = band_noise(rng, count, 3 * sensors, hz, 0.1, 1.2).reshape(count, sensors, 3)
    return make_continuous(quaternion_from_rotvec(vectors))


class Clocks(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(3)
        self.bones = spread_turns(rng, 60 * 120, 120.0, 6)
        self.true = 0.4731, 1 + 83e-6
        at = self.true[0] + np.arange(int(55 * 100)) / 100.0 / self.true[1]  # camera times of the suit's samples
        source = np.arange(len(self.bones)) / 120.0
        bone = slerp(source, self.bones, at)
        self.suit = quaternion_multiply(
            quaternion_from_rotvec(rng.normal(0, 1.0, (6, 3))), quaternion_multiply(bone, quaternion_from_rotvec(rng.normal(0, 1.0, (6, 3))))
        )  # fmt: skip

    def error_ms(self, found, at_s):
        true = (at_s - self.true[0]) * self.true[1]
        return 1000 * (found.offset_s + found.rate * at_s - true)

    def test_offset_and_drift_from_motion_alone(self):
        found = find_suit_clock(self.suit, 100.0, self.bones, 120.0)
        self.assertLess(abs(self.error_ms(found, 30.0)), 0.05)
        self.assertLess(abs(found.drift_ppm - 83), 2)

    def test_losses_and_noise_do_not_shift_it_and_its_doubt_says_so(self):
        rng = np.random.default_rng(5)
        tremble = quaternion_from_rotvec(
            np.radians(2.0) * band_noise(rng, len(self.suit), 18, 100.0, 0.4, 5.0).reshape(-1, 6, 3)
        )
        suit = quaternion_multiply(self.suit, tremble)
        suit[rng.random(suit.shape[:2]) < 0.02] = np.nan
        bones = self.bones.copy()
        bones[2000:3500, :3] = np.nan
        found = find_suit_clock(suit, 100.0, bones, 120.0)
        self.assertLess(abs(self.error_ms(found, 30.0)), max(0.5, 4 * 1000 * found.sd_s))
        self.assertGreater(found.sd_s, find_suit_clock(self.suit, 100.0, self.bones, 120.0).sd_s)

    def test_limbs_that_hold_still_do_not_shift_it(self):
        """Whoever signals with the arms stands still: most sensors tell of nothing but their own noise, and steadily."""
        rng, suit = np.random.default_rng(11), self.suit
        self.bones[:, 3:], suit[:, 3:] = self.bones[:1, 3:], suit[:1, 3:]
        skin = np.radians(3.0) * band_noise(rng, len(suit), 18, 100.0, 0.4, 5.0).reshape(-1, 6, 3)
        skin[:, 3:] = 0.0
        noise = rng.normal(0, np.radians(0.15), skin.shape)
        suit = quaternion_multiply(suit, quaternion_from_rotvec(skin + noise))
        found = find_suit_clock(suit, 100.0, self.bones, 120.0)
        self.assertLess(abs(self.error_ms(found, 30.0)), 0.3)

    def test_steps_that_are_all_alike_match_only_where_the_rest_does(self):
        """Whoever marches turns the legs as fast a step later; that the arms moved meanwhile tells the steps apart."""
        rng, times = np.random.default_rng(7), np.arange(len(self.bones)) / 120.0
        march = np.sin(2 * np.pi * 0.9 * times) * np.clip((times - 3) / 3, 0, 1) * np.clip((57 - times) / 3, 0, 1)
        moved = 0.4 * band_noise(rng, len(times), 6, 120.0, 0.1, 1.0).reshape(-1, 2, 3)
        moved *= (np.clip(times - 20, 0, 1) * np.clip(30 - times, 0, 1))[:, None, None]
        bones = quaternion_from_rotvec(
            np.concatenate([march[:, None, None] * rng.normal(0, 0.5, (4, 3)), moved], axis=1)
        )
        at = self.true[0] + np.arange(int(55 * 100)) / 100.0 / self.true[1]
        tremble = np.radians(0.7) * band_noise(rng, len(at), 18, 100.0, 0.4, 5.0).reshape(-1, 6, 3)
        suit = quaternion_multiply(slerp(times, bones, at), quaternion_from_rotvec(tremble))
        found = find_suit_clock(suit, 100.0, bones, 120.0)
        self.assertLess(abs(self.error_ms(found, 30.0)), 2)

    def test_a_warm_ups_drift_helps_a_short_take_unless_it_says_otherwise(self):
        tremble = np.radians(2.0) * band_noise(np.random.default_rng(5), len(self.suit), 18, 100.0, 0.4, 5.0)
        suit = quaternion_multiply(self.suit, quaternion_from_rotvec(tremble.reshape(-1, 6, 3)))
        bare = find_suit_clock(suit[:500], 100.0, self.bones, 120.0)
        told = find_suit_clock(suit[:500], 100.0, self.bones, 120.0, drift_before=(85.0, 4.0))
        self.assertGreater(bare.drift_sd_ppm, 20)
        self.assertLess(abs(told.drift_ppm - 83), 6)
        self.assertLess(told.drift_sd_ppm, 5)
        self.assertLess(abs(self.error_ms(told, 2.5)), max(0.5, 4 * 1000 * told.sd_s))
        whole, other = (find_suit_clock(suit, 100.0, self.bones, 120.0, drift_before=d) for d in (None, (-180.0, 4.0)))
        self.assertEqual(whole, other, "another suit's")

    def test_a_recording_that_was_looped(self):
        """It matches once round later just as well; both recordings begin and end nearly together."""
        once = self.bones[: 12 * 120]
        bones = np.concatenate([once, once[::-1], once, once[::-1]])
        at = 0.3 + np.arange(47 * 100) / 100.0
        found = find_suit_clock(slerp(np.arange(len(bones)) / 120.0, bones, at), 100.0, bones, 120.0)
        self.assertLess(abs(found.offset_s + 0.3), 0.001)
        self.assertIsNone(find_suit_clock(slerp(np.arange(len(bones)) / 120.0, bones, at[:2000]), 100.0, bones, 120.0))

    def test_other_movement_matches_nowhere(self):
        other = spread_turns(np.random.default_rng(9), 5000, 100.0, 6)
        self.assertIsNone(find_suit_clock(other, 100.0, self.bones, 120.0))

    def test_a_body_that_holds_still_tells_nothing(self):
        self.assertIsNone(find_suit_clock(np.tile([0, 0, 0, 1.0], (3000, 6, 1)), 100.0, self.bones, 120.0))


if __name__ == "__main__":
    unittest.main()
