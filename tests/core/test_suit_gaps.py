"""Takes of suits whose sensors are not heard, hold on to what they last sent, or whose filters begin anew."""

import json
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.conventions import quaternion_conjugate, quaternion_from_rotvec, quaternion_multiply
from otrevo.core.formats.bvh import read_bvh
from otrevo.core.formats.suit_table import write_suit
from otrevo.core.sim.motions import perform
from otrevo.core.sim.suit import read_suit
from otrevo.core.words import in_words
from tests.core.test_suit_alone import AGE_S, Worn


class Unheard(Worn):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        files = "suit-performer", "--suit", "@warmup.csv", "--height-m", "1.74", "--out", "@p.json"
        status, said = cls().run_pass(*files)
        assert status == 0, said
        cls.take = perform("quay walk", cls.performer, 3, Fraction(120)).motion.window(0, 20 * 120)
        cls.clean, _ = cls().solved_as(lambda times, rotation, force: None)

    def solved_as(self, change, take=None):
        """(Motion, report) of a take after change(times from its beginning, rotation, force), in place, of what the suit sends."""
        times, rotation, force = read_suit(take or self.take, self.suit, AGE_S, AGE_S)
        change(times - times[0], rotation, force)
        write_suit(self.at / "take.csv", times, self.suit.names, rotation, force)
        files = "--suit", "@take.csv", "--performer", "@p.json", "--out", "@body.bvh", "--report", "@sr.json"
        status, said = self.run_pass("suit-solve", *files)
        self.assertEqual(status, 0, said)
        return read_bvh(self.at / "body.bvh"), json.loads((self.at / "sr.json").read_text())

    def turned_deg(self, body, bones):
        """How far bones are turned in the world from where they are in the take without a fault, degrees (T, bones)."""
        world = [motion_joints(m)[1][:, [m.skeleton.index(b) for b in bones]] for m in (self.clean, body)]
        turn = quaternion_multiply(quaternion_conjugate(world[0]), world[1])
        return np.degrees(2 * np.arccos(np.clip(np.abs(turn[..., 3]), 0, 1)))

    def test_what_is_sent_again_and_again_while_nothing_is_heard_counts_as_lost(self):
        arm = self.suit.names.index("rightLowerArm")

        def held(times, rotation, force):
            a, b = np.searchsorted(times, [6.0, 9.0])
            rotation[a:b, arm], force[a:b, arm] = rotation[a - 1, arm], force[a - 1, arm]

        body, report = self.solved_as(held)
        self.assertIn("counts as lost: right lower arm for 3.0 s", " ".join(report["notes"]))
        self.assertEqual(report["faults"], [])
        self.assertAlmostEqual(report["figures"]["lost_share"]["rightLowerArm"], 0.15, delta=0.03)
        off = self.turned_deg(body, ["rightLowerArm", "rightUpperArm", "rightHand"])
        self.assertLess(np.delete(off, np.s_[580:920], axis=0).mean(), 1.0)

    def test_limbs_that_are_not_heard_go_with_the_others(self):
        """A thigh between hips and a shin that are heard could be anywhere about the knee, and a foot about the ankle."""
        for bone, most_deg in (("rightUpperLeg", 15.0), ("leftFoot", 8.0)):
            with self.subTest(bone=bone):

                def lost(times, rotation, force, bone=bone):
                    a, b = np.searchsorted(times, [7.0, 11.0])
                    rotation[a:b, self.suit.names.index(bone)] = np.nan

                body, report = self.solved_as(lost)
                self.assertEqual(report["faults"], [])
                off = self.turned_deg(body, [bone])
                self.assertLess(off[720:1080].mean(), most_deg)
                self.assertLess(np.delete(off, np.s_[690:1110], axis=0).mean(), 1.0)

    def test_somebody_who_holds_still_is_heard(self):
        """Also by a device that rounds so that nothing changes for a second."""

        def rounded(times, rotation, force):
            a = np.searchsorted(times, 1.0)
            rotation[:a], force[:a] = rotation[a], force[a]

        _, report = self.solved_as(rounded)
        self.assertNotIn("counts as lost", " ".join(report["notes"]))

    def test_headings_of_filters_that_begin_anew_are_put_back(self):
        anew = {"rightLowerArm": 70.0, "chest": -25.0, "leftFoot": 140.0, "hips": 33.0}

        def begun_anew(times, rotation, force):
            first = np.searchsorted(times, 9.0)
            for name, degrees in anew.items():
                s = self.suit.names.index(name)
                turn = quaternion_from_rotvec(np.radians([0.0, 0.0, degrees]))  # this suit's world has Z up
                rotation[first:, s] = quaternion_multiply(turn, rotation[first:, s])

        body, report = self.solved_as(begun_anew)
        (note,) = (n for n in report["notes"] if "began anew" in n)
        for name, degrees in anew.items():
            self.assertIn(f"{in_words(name)} at 9.0 s by {abs(degrees):.0f}°", note)
        self.assertEqual(note.count("°"), len(anew))
        self.assertEqual(report["faults"], [])
        self.assertLess(self.turned_deg(body, list(anew)).mean(), 1.0)

    def test_filters_that_begin_anew_while_they_are_not_heard(self):
        """One of them, and all when the receiver is switched on again; those that were only lost stay as they are."""
        rng = np.random.default_rng(4)
        every = {n: rng.choice([-1, 1]) * rng.uniform(40, 150) for n in self.suit.names}
        for anew in ({}, {"rightLowerArm": 70.0, "hips": -110.0}, every):
            with self.subTest(anew=list(anew)):

                def away(times, rotation, force, anew=anew):
                    lost = [self.suit.names.index(n) for n in anew or every]
                    first, end = np.searchsorted(times, [8.0, 9.5])
                    rotation[first:end, lost], force[first:end, lost] = np.nan, np.nan
                    for name, degrees in anew.items():
                        s = self.suit.names.index(name)
                        turn = quaternion_from_rotvec(np.radians([0.0, 0.0, degrees]))
                        rotation[end:, s] = quaternion_multiply(turn, rotation[end:, s])

                body, report = self.solved_as(away)
                said = " ".join(n for n in report["notes"] if "while they were not heard" in n)
                self.assertEqual(said.count("°"), len(anew), said)
                self.assertEqual(report["faults"], [])
                heard = np.r_[0:460, 600 : len(body)]
                local = [m.rotation_local[heard, 1:22] for m in (self.clean, body)]
                turn = quaternion_multiply(quaternion_conjugate(local[0]), local[1])
                off = np.degrees(2 * np.arccos(np.clip(np.abs(turn[..., 3]), 0, 1)))
                self.assertLess(off.mean(), 2.0)
                self.assertLess(off.mean(axis=0).max(), 6.0)

    def test_single_samples_that_are_sent_twice_are_nothing_new(self):
        def twice(times, rotation, force):
            again = np.random.default_rng(2).random(rotation.shape[:2]) < 0.05
            again[0] = False
            for values in (rotation, force):
                values[again] = np.roll(values, 1, axis=0)[again]

        body, report = self.solved_as(twice)
        self.assertNotIn("began anew", " ".join(report["notes"]))
        self.assertEqual(report["faults"], [])
        self.assertLess(self.turned_deg(body, ["rightLowerArm", "leftFoot"]).mean(), 1.5)

    def test_a_body_of_which_nothing_is_heard_stays_as_it_is(self):
        """Who climbs does not fly on, and who lies on the floor lies there still, on the same floor."""
        for name, begin_s in (("night climb", 9.3), ("fall", 9.3)):
            with self.subTest(name=name):

                def silent(times, rotation, force, begin_s=begin_s):
                    gone = (times > begin_s) & (times < begin_s + 5)
                    rotation[gone], force[gone] = np.nan, np.nan

                take = perform(name, self.performer, 3, Fraction(120)).motion.window(0, 20 * 120)
                body, report = self.solved_as(silent, take)
                way = np.linalg.norm(np.diff(body.root_position_m[930:1430:10], axis=0), axis=1)
                self.assertLess(way.sum(), 1.0)
                self.assertLess(way.max(), 0.1)
                if name == "fall":
                    self.assertEqual({c["level_m"] for c in report["contacts"]}, {0.0})
                    self.assertLess(body.root_position_m[930:1430, 1].max(), 0.2)

    def test_nobody_is_heard_when_a_take_begins_or_ends(self):
        def silent(times, rotation, force):
            gone = (times > 0.5) & (times < 2.0) | (times > 17.0) & (times < times[-1] - 0.2)
            rotation[gone], force[gone] = np.nan, np.nan

        body, _ = self.solved_as(silent)
        self.assertLess(np.linalg.norm(np.ptp(body.root_position_m[1710:], axis=0)), 1.0)
        self.assertLess(
            np.delete(self.turned_deg(body, ["chest", "leftFoot"]), np.r_[40:230, 1690:1999], axis=0).mean(), 2.0
        )
