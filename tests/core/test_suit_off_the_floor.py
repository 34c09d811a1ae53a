"""A suit alone away from two feet on the floor: on a ladder, in a fall, on the ground, and a simulator that really does so."""

import unittest
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.conventions import find_runs
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.ladder_and_fall import RUNG_M
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from tests.core.test_suit_alone import Worn


class OffTheFloor(Worn):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        status, said = cls().run_pass(
            "suit-performer", "--suit", "@warmup.csv", "--height-m", "1.74", "--out", "@p.json"
        )
        assert status == 0, said

    def solved(self, name):
        """(true motion, its joints, its hips' height at every frame of the BVH, that of the BVH, contacts by name) of a take."""
        take = perform(name, self.performer, 3, Fraction(120)).motion
        body, report = self.solved_take(take)
        at = np.arange(len(body)) / float(body.rate)
        true = np.interp(at, np.arange(len(take)) / 120, take.root_position_m[:, 1])
        height = body.root_position_m[:, 1] + true[0] - body.root_position_m[0, 1]
        self.body = body
        return take, motion_joints(take)[0], true, height, report["contacts"]

    def moved(self, take, joint, contact):
        """How far the joint of a contact truly moves meanwhile, metres."""
        span = slice(int(contact["start_s"] * 120) + 4, int(contact["end_s"] * 120) - 4)
        return np.linalg.norm(np.ptp(joint[span, take.skeleton.index(contact["point"])], axis=0))

    def test_up_a_ladder_and_down_again(self):
        take, joint, true, height, contacts = self.solved("ladder")
        self.assertGreater(np.ptp(true), 1.0)
        self.assertLess(np.abs(height - true).max(), 0.06)
        heels = [c for c in contacts if c["point"].endswith("Foot")]
        rungs = {round(c["level_m"] / RUNG_M) for c in heels}
        self.assertEqual(rungs, {0, 1, 2, 3, 4})
        self.assertLess(max(abs(c["level_m"] - RUNG_M * round(c["level_m"] / RUNG_M)) for c in heels), 0.06)
        long = [c for c in heels if c["end_s"] - c["start_s"] > 0.3]
        self.assertLess(np.mean([self.moved(take, joint, c) > 0.05 for c in long]), 0.05, "feet that move do not stand")
        ends = take.root_position_m[[0, -1], 1]
        self.assertLess(abs(height[-1] - height[0] - (ends[1] - ends[0])), 0.03)

    def test_who_falls_sits_lies_and_stands_up_again_on_one_floor(self):
        take, joint, true, height, contacts = self.solved("fall")
        lies = true < 0.3
        self.assertGreater(lies.sum(), 500)
        self.assertLess(np.abs(height - true).max(), 0.06)
        self.assertLess(np.abs(height - true)[lies].mean(), 0.03)
        self.assertEqual({c["level_m"] for c in contacts}, {0.0})
        on_it = sum(c["end_s"] - c["start_s"] for c in contacts if c["point"] == "hips")
        self.assertGreater(on_it, 0.6 * lies.sum() / 100)
        feet_up = joint[:, [take.skeleton.index(s + "Foot") for s in ("left", "right")], 1].min(axis=1) > 0.15
        at = np.flatnonzero(feet_up & (take.root_position_m[:, 1] < 0.3)) / 120
        self.assertGreater(len(at), 40)
        carries = {
            point: np.mean([any(c["start_s"] <= t < c["end_s"] for c in contacts if c["point"] == point) for t in at])
            for point in {c["point"] for c in contacts}
        }
        self.assertGreater(carries.pop("hips"), 0.5, "with both feet off the ground the back carries")
        self.assertLess(max(carries.values()), 0.1, carries)

    def test_a_foot_stands_on_its_step_while_the_other_goes_below_it(self):
        take, joint, *_, contacts = self.solved("night climb")
        self.assertNotIn("hips", {c["point"] for c in contacts})
        body, slid = motion_joints(self.body)[0], []
        for bone in ("leftFoot", "rightFoot"):
            foot = joint[:, take.skeleton.index(bone)]
            still = np.linalg.norm(np.diff(foot, axis=0), axis=1) < 1e-5
            for a, b in find_runs(still):
                ours = body[int(a / 1.2) + 4 : int(b / 1.2) - 4, self.body.skeleton.index(bone)]
                if (b - a) / 120 > 0.3:
                    slid.append(np.linalg.norm(np.ptp(ours, axis=0)))
        self.assertGreater(len(slid), 10)
        self.assertLess(max(slid), 0.01)

    def test_who_sits_on_a_stool_does_not_sit_on_the_ground(self):
        contacts = self.solved("radio watch")[-1]
        self.assertGreater(len(contacts), 10)
        self.assertNotIn("hips", {c["point"] for c in contacts})


class Performed(unittest.TestCase):
    """What the simulator's performers do on a ladder and on the ground."""

    @classmethod
    def setUpClass(cls):
        cls.performer = make_performer(5, shipped_chart(), 1.82, sloppiness_deg=3.0)

    def test_hands_stay_on_their_rungs(self):
        motion = perform("ladder", self.performer, 5, Fraction(120)).motion
        joint, _ = motion_joints(motion)
        skeleton = motion.skeleton
        upwards = motion.root_position_m[:, 1] > 1.15
        for side in ("left", "right"):
            hand = joint[:, skeleton.index(side + "Hand")]
            still = upwards[:-12] & (np.linalg.norm(hand[12:] - hand[:-12], axis=1) < 0.002)
            self.assertGreater(still.sum(), 240, "hands hold on for seconds")
            rung = hand[:-12][still, 1] / RUNG_M
            self.assertLess(np.abs(rung - rung.round()).max(), 0.05)

    def test_who_lies_down_lies_on_the_ground_and_not_in_it(self):
        motion = perform("fall", self.performer, 5, Fraction(120)).motion
        joint, _ = motion_joints(motion)
        body = [
            b
            for b, n in enumerate(motion.skeleton.names)
            if not any(f in n for f in ("Thumb", "Index", "Middle", "Ring", "Little"))
        ]
        self.assertGreater(joint[:, body, 1].min(), 0.0)
        self.assertLess(joint[:, motion.skeleton.index("head"), 1].min(), 0.35)
        acceleration = np.diff(motion.root_position_m, n=2, axis=0) * 120**2
        self.assertLess(np.linalg.norm(acceleration, axis=1).max(), 60.0)


if __name__ == "__main__":
    unittest.main()
