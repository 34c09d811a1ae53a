"""Sensors in each other's place are found by the limbs that markers show."""

import unittest
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.conventions import make_continuous, slerp
from otrevo.core.inertial.exchanged import put_right
from otrevo.core.inertial.exchanged_beside_markers import find_exchanged_beside_markers
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.suit import make_suit, record_suit

PAIRS = (
    ("leftShoulder", "rightShoulder"), ("leftLowerArm", "leftHand"), ("rightUpperLeg", "rightLowerLeg"), ("hips", "chest"),
    ("head", "rightFoot"),
)  # fmt: skip


class ExchangedBesideMarkers(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        motion = perform("warm-up", make_performer(9, shipped_chart(), 1.74), 9, Fraction(120)).motion
        cls.recording = record_suit(motion, make_suit(motion.skeleton, 9))
        world = motion_joints(motion)[1]
        at = np.clip(cls.recording.times_s, 0, (len(motion) - 1) / 120)
        cls.bones = np.stack(
            [
                slerp(np.arange(len(motion)) / 120, make_continuous(world[:, motion.skeleton.index(n)]), at)
                for n in cls.recording.names
            ],
            axis=1,
        )

    def found(self, pairs, bones=None):
        worn = put_right(self.recording, pairs)  # an exchange undoes itself
        found = find_exchanged_beside_markers(worn, self.bones if bones is None else bones)
        return {frozenset(pair) for pair in found}

    def test_each_pair_alone_and_all_at_once(self):
        for pairs in ((), *((p,) for p in PAIRS), (PAIRS[0], PAIRS[1], PAIRS[4])):
            self.assertEqual(self.found(pairs), {frozenset(p) for p in pairs})

    def test_limbs_that_markers_hardly_show_say_nothing(self):
        bones = self.bones.copy()
        bones[500:, self.recording.names.index("leftHand")] = np.nan
        self.assertEqual(self.found((), bones), set())
        self.assertEqual(self.found((PAIRS[1],), bones), set())
        self.assertEqual(self.found((PAIRS[2],), bones), {frozenset(PAIRS[2])})

    def test_whoever_stands_still_is_not_taken_for_others(self):
        held = self.recording.rotation[:1].repeat(len(self.recording), axis=0)
        noise = np.random.default_rng(1).normal(size=held.shape) * 0.002
        still = type(self.recording)(
            self.recording.names, self.recording.rate_hz, 0.0, held + noise, self.recording.force_ms2
        )
        bones = self.bones[:1].repeat(len(self.bones), axis=0)
        self.assertEqual(find_exchanged_beside_markers(still, bones + noise[::-1]), [])


if __name__ == "__main__":
    unittest.main()
