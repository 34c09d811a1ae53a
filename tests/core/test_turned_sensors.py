"""Sensors of a suit alone that something turns in a take: magnets and slips, on every part of the body, and none where there is none."""

import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.conventions import (
    make_continuous,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
    slerp,
)
from otrevo.core.inertial.calibrate import calibrate_wearer
from otrevo.core.inertial.evidence import changes_between
from otrevo.core.inertial.pose import sensed_bones
from otrevo.core.inertial.turned_sensors import find_turned_sensors
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.suit import make_suit, record_suit
from tests.core.test_seats_in_take import working

SEED, AGE_S = 12, 100.0


def with_turns(motion, bone, rotvecs):
    """The Motion with a bone turned further by rotation vectors (T, 3) about its own axes."""
    local, b = motion.rotation_local.copy(), motion.skeleton.index(bone)
    local[:, b] = quaternion_multiply(local[:, b], quaternion_from_rotvec(rotvecs))
    return Motion(motion.skeleton, motion.rate, motion.root_position_m, make_continuous(local))


def to_and_fro(motion, times):
    """A Motion played forwards and backwards in turn."""
    each = [motion.rotation_local, motion.rotation_local[::-1]] * times
    root = [motion.root_position_m, motion.root_position_m[::-1]] * times
    return Motion(motion.skeleton, motion.rate, np.concatenate(root), make_continuous(np.concatenate(each)))


def after_a_pose(motion, then):
    """The first frame of a Motion held for 2.5 s, and a second later another one that begins where it does."""
    ends = np.stack([motion.rotation_local[0], then.rotation_local[0]])
    way = slerp(np.array([0.0, 1.0]), ends, np.arange(120) / 120)
    local = np.concatenate([np.repeat(ends[:1], 300, axis=0), way, then.rotation_local])
    root = np.concatenate([np.repeat(then.root_position_m[:1], 420, axis=0), then.root_position_m])
    return Motion(motion.skeleton, motion.rate, root, make_continuous(local))


class TurnedSensors(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.person = person = make_performer(SEED, shipped_chart(), sloppiness_deg=2.5)
        warm_up = perform("suit warm-up", person, SEED, Fraction(120)).motion
        cls.suit = make_suit(warm_up.skeleton, SEED)
        cls.calibration = calibrate_wearer(record_suit(warm_up, cls.suit), {"height_m": person.height_m})[1]
        cls.takes = {
            name: perform(name, person, SEED, Fraction(120)).motion.window(0, 2400)
            for name in ("quay walk", "rope haul", "semaphore", "fall", "night climb")
        }

    @classmethod
    def found(cls, motion, **faults):
        """(the faults that are found, how the bones turn by the recording as it was put right)."""
        recording = record_suit(motion, replace(cls.suit, **faults), AGE_S).only(cls.calibration.names)
        found, right, headings = find_turned_sensors(recording, cls.calibration)
        return found, sensed_bones(right, cls.calibration, headings)

    @classmethod
    @cache  # several tests ask for the same
    def without_fault(cls, take):
        """As `found`, of one of the takes."""
        return cls.found(cls.takes[take])

    def test_nothing_is_invented(self):
        """Also not where every joint goes through its range: nods, shrugs, wrists, lunges."""
        ranges = {n: perform(n, self.person, SEED, Fraction(120)).motion for n in ("warm-up", "suit warm-up")}
        for name, take in ranges.items():
            self.assertEqual(self.found(take)[0], [], name)
        for name in self.takes:
            self.assertEqual(self.without_fault(name)[0], [], name)

    def test_joints_may_stray_as_they_do(self):
        """Knees that twist by six degrees, forearms that roll by forty and a head that turns by thirty are no faults."""
        take = self.takes["quay walk"]
        swing = np.sin(2 * np.pi * 0.4 * np.arange(len(take)) / 120)[:, None]
        for bone, degrees in (
            ("leftLowerLeg", (0, 6, 0)),
            ("rightLowerLeg", (0, -6, 0)),
            ("leftLowerArm", (40, 0, 0)),
            ("head", (0, 30, 0)),
        ):
            take = with_turns(take, bone, swing * np.radians(degrees))
        self.assertEqual(self.found(take)[0], [])

    def test_a_dancer_who_kicks_high_is_no_fault(self):
        """Thighs that are lifted far turn aside as they please."""
        times = np.arange(len(self.takes["quay walk"])) / 120
        kicks = np.clip(times - 8, 0, 1) * (1 - np.cos(2 * np.pi * 0.3 * times)) / 2
        for left, right, spine in (
            ((-90, -60, 50), (-90, 60, -50), (30, 20, 0)),
            ((-80, 60, 0), (-80, 60, 0), (0, 0, 0)),
        ):
            take = self.takes["quay walk"]
            for bone, degrees in (("leftUpperLeg", left), ("rightUpperLeg", right), ("spine", spine)):
                take = with_turns(take, bone, kicks[:, None] * np.radians(degrees))
            self.assertEqual(self.found(take)[0], [])

    def test_a_chest_without_sensors_on_the_collar_bones(self):
        """Little but the loins tells how it is turned: a warm-up in which it twists is no fault, and a magnet is one all the same."""
        names = [n for n in self.calibration.names if not n.endswith(("Shoulder", "Hand", "Foot", "head"))]
        for take, magnets, expected in (
            (perform("suit warm-up", self.person, SEED, Fraction(120)).motion, (), []),
            (self.takes["night climb"], (("chest", AGE_S + 9.0, AGE_S + 13.0, 18.0),), [("chest", "magnet")]),
        ):
            recording = record_suit(take, replace(self.suit, magnets=magnets), AGE_S).only(names)
            found = find_turned_sensors(recording, self.calibration.only(names))[0]
            self.assertEqual([(f.sensor, f.kind) for f in found], expected)

    def test_what_turns_back_later_is_no_slip(self):
        """A limb is held otherwise for a while, and its skin gives; then the limb is held as before. Nobody's sensor slips back."""
        there, back = (("leftUpperLeg", AGE_S + s, np.radians([d, 0.0, d])) for s, d in ((6.0, 20.0), (12.0, -20.0)))
        self.assertEqual(self.found(self.takes["night climb"], slips=(there, back))[0], [])
        self.assertEqual([f.sensor for f in self.found(self.takes["night climb"], slips=(there,))[0]], ["leftUpperLeg"])

    def test_one_stand_of_three_that_is_unlike_the_others_proves_nothing(self):
        """Whoever stands on the balls of their feet twice and then flat has slipped no sensor."""
        inclined = np.radians([-22.0, -22.0, -22.0, -22.0, 13.0])
        up = np.stack([0 * inclined, np.cos(inclined), np.sin(inclined)], axis=1)
        self.assertGreater(changes_between(np.array([10, 11, 40, 41, 70]), up), np.radians(10.0))
        self.assertLess(changes_between(np.array([10, 11, 40, 41, 70]), up[[0, 0, 0, 0, 0]]), np.radians(0.1))

    def test_skin_that_turns_less_than_the_arms_in_it_is_no_slip(self):
        """Arms hang in a pose, and are then turned about their lines and bent for the rest of the take."""
        haul = self.takes["rope haul"]
        times = np.arange(len(haul))[:, None] / 120
        for hz, roll_deg, bend_deg in ((0.8, (80, 15), (90, 25)), (1.2, (80, 20), (80, 30))):
            then = haul
            for side, sign in (("left", 1), ("right", -1)):
                roll = roll_deg[0] + roll_deg[1] * np.sin(2 * np.pi * hz * times)
                lift = 20 * np.sin(2 * np.pi * 1.4 * hz * times + 1)
                bend = -sign * bend_deg[0] + bend_deg[1] * np.sin(2 * np.pi * 1.2 * hz * times + 0.5)
                then = with_turns(then, f"{side}UpperArm", np.radians(roll * [1, 0, 0] + lift * [0, 0, 1]))
                then = with_turns(then, f"{side}LowerArm", np.radians(bend * [0, 1, 0]))
            missed = {"leftUpperArm": 0.3, "rightUpperArm": 0.3}
            self.assertEqual(self.found(after_a_pose(haul, then), missed=missed)[0], [])

    def test_feet_that_stand_otherwise_than_in_a_pose_are_no_faults(self):
        take = to_and_fro(self.takes["semaphore"], 1)
        then = with_turns(take, "rightFoot", np.broadcast_to(np.radians([18.0, 0.0, 8.0]), (len(take), 3)))
        self.assertEqual(self.found(after_a_pose(take, then))[0], [])

    def test_feet_that_dangle_are_no_faults(self):
        """Nor do they stand wherever they come to rest for a moment: knees swing to and fro."""
        self.assertEqual(self.found(working(self.person.skeleton))[0], [])

    def test_a_magnet_is_found_on_any_part_of_the_body(self):
        for take, sensor, begin, end, degrees in (
            ("quay walk", "leftLowerLeg", 9.0, 12.0, 15.0),
            ("quay walk", "hips", 10.0, 14.0, -18.0),
            ("semaphore", "leftLowerArm", 8.0, 10.5, -16.0),
            ("night climb", "chest", 9.0, 13.0, 16.0),
            ("fall", "rightUpperLeg", 8.0, 12.0, -20.0),
        ):
            with self.subTest(take=take, sensor=sensor):
                motion = self.takes[take]
                faults, right = self.found(motion, magnets=((sensor, AGE_S + begin, AGE_S + end, degrees),))
                self.assertEqual([(f.sensor, f.kind) for f in faults], [(sensor, "magnet")])
                self.assertLess(abs(faults[0].start / 100 - begin), 0.8)
                self.assertLess(abs(faults[0].end / 100 - end), 0.8)
                self.assertAlmostEqual(faults[0].degrees, abs(degrees), delta=6.0)
                clean = self.without_fault(take)[1]
                s, inside = self.calibration.names.index(sensor), slice(int(100 * begin) + 70, int(100 * end) - 70)
                left = quaternion_multiply(quaternion_conjugate(clean[inside, s]), right[inside, s])
                left = np.degrees(np.nanmean(np.linalg.norm(rotvec_from_quaternion(left), axis=1)))
                self.assertLess(left, 0.5 * abs(degrees), "it is put right")

    def test_a_slip_is_found_on_any_part_of_the_body(self):
        for take, sensor, at, rotvec_deg in (
            ("quay walk", "chest", 10.0, (0, 20, 10)),
            ("rope haul", "leftUpperArm", 7.0, (10, 20, 15)),
            ("semaphore", "rightFoot", 9.0, (15, 5, 15)),
            ("night climb", "leftUpperLeg", 11.0, (20, 0, 20)),
            ("night climb", "head", 10.0, (18, 0, -15)),
        ):
            with self.subTest(take=take, sensor=sensor):
                faults, _ = self.found(self.takes[take], slips=((sensor, AGE_S + at, np.radians(rotvec_deg)),))
                self.assertEqual([(f.sensor, f.kind) for f in faults], [(sensor, "slipped")])
                self.assertLess(abs(faults[0].start / 100 - at), 0.5)
                self.assertGreater(faults[0].end, len(self.takes[take]) / 1.2 - 3, "to the end")
                self.assertAlmostEqual(faults[0].degrees, np.linalg.norm(rotvec_deg), delta=10.0)

    def test_when_a_sensor_was_knocked_is_told_closely(self):
        """A foot stands elsewhere with every step, but nothing in it moves as its sensor seems to at that moment."""
        slips = (("rightFoot", AGE_S + 9.3, np.radians([18.0, 0.0, 12.0])),)
        faults, _ = self.found(self.takes["quay walk"], slips=slips)
        self.assertEqual([(f.sensor, f.kind) for f in faults], [("rightFoot", "slipped")])
        self.assertLess(abs(faults[0].start / 100 - 9.3), 0.15)

    def test_a_slip_is_found_in_a_short_take_and_near_an_end(self):
        for take, first, frames, sensor, at, rotvec_deg in (
            ("quay walk", 600, 960, "rightLowerLeg", 3.5, (15, 0, 20)),
            ("semaphore", 720, 960, "rightFoot", 4.0, (15, 5, 15)),
            ("night climb", 0, 1680, "leftUpperLeg", 11.4, (20, 0, 20)),
        ):
            with self.subTest(take=take, sensor=sensor):
                motion = self.takes[take].window(first, first + frames)
                self.assertEqual(self.found(motion)[0], [])
                faults, _ = self.found(motion, slips=((sensor, AGE_S + at, np.radians(rotvec_deg)),))
                self.assertEqual([(f.sensor, f.kind) for f in faults], [(sensor, "slipped")])
                self.assertLess(abs(faults[0].start / 100 - at), 0.5)

    def test_a_long_take_is_looked_through_to_its_end(self):
        """Two magnets on one sensor and a slip of another, far apart in a take of 80 s."""
        take = to_and_fro(self.takes["quay walk"], 2)
        magnets = (
            ("rightLowerArm", AGE_S + 21.0, AGE_S + 24.0, 20.0),
            ("rightLowerArm", AGE_S + 70.0, AGE_S + 73.0, -20.0),
        )
        slips = (("leftLowerLeg", AGE_S + 47.0, np.radians([15.0, 10.0, 20.0])),)
        faults, _ = self.found(take, magnets=magnets, slips=slips)
        found = [(f.sensor, f.kind, round(f.start / 100)) for f in faults]
        self.assertEqual(
            found, [("rightLowerArm", "magnet", 21), ("leftLowerLeg", "slipped", 47), ("rightLowerArm", "magnet", 70)]
        )

    def test_a_short_take_and_one_with_losses_are_looked_at_too(self):
        take = self.takes["quay walk"]
        for seconds in (1.2, 3.0, 9.0):
            self.assertEqual(self.found(take.window(0, int(120 * seconds)))[0], [])
        recording = record_suit(
            take, replace(self.suit, magnets=(("leftLowerLeg", AGE_S + 9, AGE_S + 12, 18.0),)), AGE_S
        )
        for a, b in ((300, 420), (1500, 1700)):  # the foot beside the shin was away for seconds
            recording.rotation[a:b, recording.names.index("leftFoot")] = np.nan
            recording.force_ms2[a:b, recording.names.index("leftFoot")] = np.nan
        faults, *_ = find_turned_sensors(recording, self.calibration.only(recording.names))
        self.assertEqual([(f.sensor, f.kind) for f in faults], [("leftLowerLeg", "magnet")])


if __name__ == "__main__":
    unittest.main()
