"""Seats and skin that a take tells of, on arms and legs whose truth is known."""

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np
from scipy.ndimage import gaussian_filter1d

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.inertial.calibration import seats_sd, sure_apart
from otrevo.core.inertial.felt import felt
from otrevo.core.inertial.headings import find_headings
from otrevo.core.inertial.pose import sensed_bones
from otrevo.core.inertial.seats_in_take import seats_in_take
from otrevo.core.inertial.skin import SKIN, with_whole_turns
from otrevo.core.solve.suit import SUIT_BONES
from tests.core.test_suit_travel import RATE, UPRIGHT, perfect, true_recording

ARMS = [side + bone for side in ("left", "right") for bone in ("UpperArm", "LowerArm", "Hand")]


def working(skeleton, seconds=40.0, sideways_deg=0.0):
    """Elbows and knees bend, upper arms roll and everything else sways; sideways_deg: elbows do bend aside, for good."""
    t = np.arange(int(seconds * RATE)) / RATE
    rng = np.random.default_rng(5)
    turned = np.zeros((len(t), len(skeleton.names), 3))

    def wave(low, high, per_s):
        return (low + high) / 2 + (high - low) / 2 * np.sin(2 * np.pi * per_s * t + rng.uniform(0, 6))

    for name in SUIT_BONES:
        turned[:, skeleton.index(name)] = np.stack([wave(-4, 4, rng.uniform(0.15, 0.5)) for _ in range(3)], axis=1)
    for side, sign in (("left", 1), ("right", -1)):
        arm, elbow, knee = (skeleton.index(side + b) for b in ("UpperArm", "LowerArm", "LowerLeg"))
        turned[:, arm, 0] = wave(-45, 45, 0.31)
        turned[:, arm, 2] = sign * wave(-70, -30, 0.23)
        turned[:, elbow] = np.stack([0 * t, sign * wave(-100, -50, 0.41), 0 * t], axis=1)
        turned[:, skeleton.index(side + "Hand")] = np.stack([0 * t, wave(-15, 15, 0.3), wave(-15, 15, 0.5)], axis=1)
        turned[:, knee] = np.stack([wave(10, 70, 0.37), 0 * t, 0 * t], axis=1)
        turned[:, skeleton.index(side + "UpperLeg"), 0] -= turned[:, knee, 0] / 2
    local = quaternion_from_rotvec(np.radians(turned))
    for side in ("left", "right"):
        aside = quaternion_from_rotvec(np.radians([0.0, 0.0, sideways_deg]))
        elbow = skeleton.index(side + "LowerArm")
        local[:, elbow] = quaternion_multiply(local[:, elbow], aside)
    return Motion(skeleton, Fraction(100), np.tile(skeleton.rest_offset_m[0], (len(t), 1)), local)


def turns(motion, bone):
    """How far a bone is turned about its line (T,), as the movement was made."""
    q = motion.rotation_local[:, motion.skeleton.index(bone)]
    return 2 * np.arctan2(q[:, :3] @ SKIN[bone.removeprefix("left").removeprefix("right")], q[:, 3])


def apart_deg(a, b):
    return np.degrees(np.linalg.norm(rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(a), b)), axis=-1))


class SeatsInTake(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.motion = working(generic_skeleton())
        cls.recording = true_recording(cls.motion, SUIT_BONES)
        cls.calibration = perfect(SUIT_BONES, cls.motion.skeleton)
        cls.calibration = replace(cls.calibration, **dict(zip(("seat_sd_deg", "joint_sd_deg"), sure_apart(SUIT_BONES, np.full(len(SUIT_BONES), 6.0)), strict=True)))  # fmt: skip
        cls.true = motion_joints(cls.motion)[1][:, [cls.motion.skeleton.index(n) for n in SUIT_BONES]]

    def told(self, recording, calibration):
        headings = find_headings(recording, calibration, felt(recording))
        world = sensed_bones(recording, calibration, headings)
        return seats_in_take(recording.times_s, world, calibration, headings)

    def bones(self, recording, calibration, headings, skin):
        return with_whole_turns(SUIT_BONES, sensed_bones(recording, calibration, headings), skin)

    def off_deg(self, world, bones):
        at = [SUIT_BONES.index(n) for n in bones]
        return apart_deg(world[:, at], self.true[:, at]).mean(axis=0)

    def test_what_is_right_stays_right(self):
        told, headings, skin = self.told(self.recording, self.calibration)
        self.assertLess(max(map(abs, skin.values())), 0.03)
        self.assertLess(self.off_deg(self.bones(self.recording, told, headings, skin), SUIT_BONES).max(), 1.0)

    def test_a_seat_about_the_upper_arm_is_told_by_how_the_elbow_bends(self):
        s = SUIT_BONES.index("leftUpperArm")
        mount = self.calibration.mount.copy()
        mount[s] = quaternion_from_rotvec(np.radians([10.0, 0.0, 0.0]))
        wrong = replace(self.calibration, mount=mount)
        told, headings, skin = self.told(self.recording, wrong)
        self.assertLess(apart_deg(told.mount[s], UPRIGHT), 5.0)
        self.assertLess(told.seat_sd_deg[s, 0], 0.8 * wrong.seat_sd_deg[s, 0])
        right = self.off_deg(self.bones(self.recording, told, headings, skin), ARMS)
        self.assertLess(right.max(), 5.0)

    def test_skin_that_turns_in_part_is_told_and_put_right(self):
        rotation = self.recording.rotation.copy()
        for bone, share in (("leftUpperArm", 0.3), ("rightUpperArm", 0.15)):
            missed = -share * turns(self.motion, bone)[:, None] * SKIN["UpperArm"]
            s = SUIT_BONES.index(bone)
            rotation[:, s] = quaternion_multiply(rotation[:, s], quaternion_from_rotvec(missed))
        recording = replace(self.recording, rotation=rotation)
        told, headings, skin = self.told(recording, self.calibration)
        self.assertAlmostEqual(skin["leftUpperArm"], 0.3, delta=0.06)
        self.assertAlmostEqual(skin["rightUpperArm"], 0.15, delta=0.06)
        arms = ("leftUpperArm", "rightUpperArm")
        before = self.off_deg(sensed_bones(recording, self.calibration, headings), arms)
        after = self.off_deg(self.bones(recording, told, headings, skin), arms)
        self.assertTrue((after < 0.4 * before).all(), (before, after))

    def test_no_skin_turns_further_than_its_limb(self):
        rotation, s = self.recording.rotation.copy(), SUIT_BONES.index("leftUpperArm")
        further = 0.1 * turns(self.motion, "leftUpperArm")[:, None] * SKIN["UpperArm"]
        rotation[:, s] = quaternion_multiply(rotation[:, s], quaternion_from_rotvec(further))
        _, _, skin = self.told(replace(self.recording, rotation=rotation), self.calibration)
        self.assertEqual(round(skin["leftUpperArm"], 4), 0.0)
        self.assertGreaterEqual(min(skin.values()), 0.0)

    def test_skin_that_sways_under_legs_says_nothing_of_how_knees_were_bent_in_the_warm_up(self):
        rng = np.random.default_rng(8)
        rotation = self.recording.rotation.copy()
        legs = [SUIT_BONES.index(side + b) for side in ("left", "right") for b in ("UpperLeg", "LowerLeg")]
        sway = gaussian_filter1d(rng.standard_normal((len(rotation), len(legs), 3)), 0.08 * RATE, axis=0)
        sway *= np.radians(3.0) / sway.std()
        rotation[:, legs] = quaternion_multiply(rotation[:, legs], quaternion_from_rotvec(sway))
        told, _, _ = self.told(replace(self.recording, rotation=rotation), self.calibration)
        moved = np.degrees(rotvec_from_quaternion(told.mount))[legs]
        self.assertLess(np.abs(moved[:, 0]).max(), 1.0, moved)

    def test_while_a_shoulders_sensor_is_lost_the_arm_is_told_all_the_same(self):
        rotation = self.recording.rotation.copy()
        rotation[1000:1500, SUIT_BONES.index("leftShoulder")] = np.nan
        told, headings, skin = self.told(replace(self.recording, rotation=rotation), self.calibration)
        self.assertLess(abs(skin["leftUpperArm"]), 0.05)
        world = self.bones(replace(self.recording, rotation=rotation), told, headings, skin)
        self.assertLess(self.off_deg(world, ["leftUpperArm", "leftLowerArm"]).max(), 2.0)

    def test_arms_that_are_made_so_are_hardly_bent_straight(self):
        self.motion = working(generic_skeleton(), sideways_deg=4.0)
        recording = true_recording(self.motion, SUIT_BONES)
        self.true = motion_joints(self.motion)[1][:, [self.motion.skeleton.index(n) for n in SUIT_BONES]]
        told, headings, skin = self.told(recording, self.calibration)
        self.assertLess(self.off_deg(self.bones(recording, told, headings, skin), ARMS).max(), 5.0)

    def test_a_take_that_tells_nothing_changes_nothing(self):
        still = replace(self.motion, root_position_m=self.motion.root_position_m[:300], rotation_local=np.tile(UPRIGHT, (300, len(self.motion.skeleton.names), 1)))  # fmt: skip
        recording = true_recording(still, SUIT_BONES)
        rotation = recording.rotation.copy()
        rotation[50:, [SUIT_BONES.index(n) for n in ("leftLowerArm", "rightHand")]] = np.nan
        told, _, skin = self.told(replace(recording, rotation=rotation), self.calibration)
        self.assertLess(apart_deg(told.mount, self.calibration.mount).max(), 0.3)
        self.assertNotIn("leftUpperArm", skin)
        upper = self.recording.only(("hips", "chest", "head"))
        told, _, skin = self.told(upper, self.calibration.only(upper.names))
        self.assertEqual((skin, told.mount.tolist()), ({}, self.calibration.mount[:3].tolist()))


class SeatsKnown(unittest.TestCase):
    def test_what_hangs_on_its_neighbour_is_known_better_against_it(self):
        names = ("hips", "chest")
        covariance = np.radians(np.array([[4.0, 3.0], [3.0, 4.0]])[..., None] * np.ones(3) * 1.0)
        seat, joint = seats_sd(names, covariance)
        self.assertTrue(np.allclose(seat, np.degrees(np.sqrt(np.radians(4.0)))))
        self.assertTrue(np.allclose(joint[1], np.degrees(np.sqrt(np.radians(2.0)))))
