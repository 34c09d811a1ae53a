"""A suit calibrated by a warm-up that shows little: limb after limb, each about one axis, the pelvis at rest and the wrists stiff."""

import unittest
from dataclasses import replace
from fractions import Fraction
from unittest.mock import patch

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import generic_skeleton, rest_joints
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.inertial.calibrate import calibrate_wearer
from otrevo.core.inertial.exchanged import put_right
from otrevo.core.inertial.felt import felt
from otrevo.core.inertial.first_seats import FirstSeats
from otrevo.core.inertial.joints import FAR_RAD, find_links
from otrevo.core.inertial.poses import plain
from otrevo.core.inertial.stills import find_stills
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim import suit as simulated_suit
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.suit import make_suit, record_suit

RATE = 120
HANG_S, T_POSE_S, LIFTS_S, SQUATS_S = 4.0, 8.5, 20.0, 30.0  # from when on
MARCH_S = 35.0, 47.0


class Score:
    """Rotations of a performer's joints over some seconds, written one limb after the other; whoever starts is in a T-pose."""

    def __init__(self, performer, seconds):
        self.skeleton, self.times = performer.skeleton, np.arange(seconds * RATE) / RATE
        self.turned = np.tile(performer.sloppiness_rad, (len(self.times), 1, 1))

    def eased(self, start, end):
        ease = np.clip(np.minimum(self.times - start, end - self.times) / 0.8, 0, 1)
        return ease**2 * (3 - 2 * ease)

    def add(self, bone, axis, degrees, start, end, hz=0.0):
        wave = (1 - np.cos(2 * np.pi * hz * (self.times - start))) / 2 if hz else 1.0
        self.turned[:, self.skeleton.index(bone), axis] += np.radians(degrees) * self.eased(start, end) * wave

    def motion(self, aside_m=0.0, facing_deg=0.0):
        """The Motion, with the lower foot on the floor, pushed aside (T,) and turned (T,) as a whole."""
        local = quaternion_from_rotvec(self.turned)
        for bone in ("leftLowerArm", "rightLowerArm"):  # a forearm rolls about its line, wherever the elbow has it
            b = self.skeleton.index(bone)
            bent, rolled = (quaternion_from_rotvec(self.turned[:, b] * axes) for axes in ([0, 1, 1], [1, 0, 0]))
            local[:, b] = quaternion_multiply(bent, rolled)
        facing = np.radians(facing_deg) * np.ones(len(local))
        local[:, 0] = quaternion_multiply(quaternion_from_rotvec(np.outer(facing, [0, 1.0, 0])), local[:, 0])
        root = np.zeros((len(local), 3))
        ankles = motion_joints(Motion(self.skeleton, Fraction(RATE), root, local))[0]
        ankles = ankles[:, [self.skeleton.index("leftFoot"), self.skeleton.index("rightFoot")], 1]
        root = np.zeros((len(local), 3))
        root[:, 0], root[:, 1] = aside_m, rest_joints(self.skeleton)["leftFoot"][1] - ankles.min(axis=1)
        return Motion(self.skeleton, Fraction(RATE), root, local)


def plain_warm_up(performer, palms_forward=()):
    """Arms down, T-pose, elbows bent, each leg lifted while all else is still, knee bends, arms down; palms_forward: [(from s, to s)]."""
    score = Score(performer, 36)
    for side in ("left", "right"):
        for start, end in palms_forward:
            score.add(side + "LowerArm", 0, -65, start, end)
    for side, sign, lifts in (("left", 1.0, LIFTS_S), ("right", -1.0, LIFTS_S + 5)):
        score.add(side + "UpperArm", 2, -78 * sign, -5, HANG_S)
        score.add(side + "UpperArm", 2, -78 * sign, T_POSE_S, 50)
        score.add(side + "LowerArm", 1, -110 * sign, T_POSE_S + 2, LIFTS_S, 0.5)
        score.add(side + "UpperLeg", 0, -50, lifts, lifts + 5, 0.6)
        score.add(side + "LowerLeg", 0, 70, lifts, lifts + 5, 0.45)
        score.add(side + "UpperLeg", 0, -35, SQUATS_S, 34, 0.5)
        score.add(side + "LowerLeg", 0, 70, SQUATS_S, 34, 0.5)
        score.add(side + "Foot", 0, -35, SQUATS_S, 34, 0.5)
    return score.motion()


def march_on_the_spot(performer, sway_m=0.02, turn_deg=0.0, t_pose_last=False):
    """Arms down, elbows bent, each leg lifted, marching on the spot while turning, arms down; the T-pose before all that, or in the end."""
    score = Score(performer, 52)
    begin, end = MARCH_S
    phase = 2 * np.pi * 0.9 * (score.times - begin)
    for side, sign, lifts in (("left", 1.0, 20.0), ("right", -1.0, 25.0)):
        for start, stop in [(-5, end)] if t_pose_last else [(-5, 4), (8.5, 60)]:
            score.add(side + "UpperArm", 2, -78 * sign, start, stop)
        score.add(side + "LowerArm", 1, -110 * sign, 10, 20, 0.5)
        score.add(side + "UpperLeg", 0, -50, lifts, lifts + 5, 0.4)
        score.add(side + "LowerLeg", 0, 70, lifts, lifts + 5, 0.4)
        lifted = np.maximum(sign * np.sin(phase), 0) ** 1.5 * score.eased(begin, end)
        score.turned[:, score.skeleton.index(side + "UpperLeg"), 0] -= np.radians(40) * lifted
        score.turned[:, score.skeleton.index(side + "LowerLeg"), 0] += np.radians(65) * lifted
    turned = turn_deg * np.clip((score.times - begin - 1) / (end - begin - 2), 0, 1)
    return score.motion(sway_m * np.sin(phase) * score.eased(begin, end), turned)


def off_deg(found, suit, bone):
    """How far a sensor is found from where it really sits, degrees about its bone's axes."""
    mount = found.mount[found.names.index(bone)], suit.mount[suit.names.index(bone)]
    return np.degrees(rotvec_from_quaternion(quaternion_multiply(mount[0], quaternion_conjugate(mount[1]))))


class OnTheSpot(unittest.TestCase):
    def test_a_sensor_that_fits_no_pose_sits_as_it_says(self):
        """Ten sensors, those of one arm the other way round: whatever each still says of a forearm, no other agrees."""
        performer = make_performer(7, shipped_chart(), sloppiness_deg=2.5)
        motion = march_on_the_spot(performer)
        recording = record_suit(motion, make_suit(motion.skeleton, 7))
        few = [n for n in recording.names if not n.endswith(("Shoulder", "Hand", "Foot", "head"))]
        arm = {"leftUpperArm": "leftLowerArm", "leftLowerArm": "leftUpperArm"}
        worn = replace(recording.only(few), names=tuple(arm.get(n, n) for n in few))
        found = calibrate_wearer(worn, {"height_m": performer.height_m})[1]
        self.assertTrue(np.isfinite(found.mount).all())
        self.assertGreater(found.residual_deg.max(), 15.0)

    def check_nobody_changed_places(self, seed, **how):
        performer = make_performer(seed, shipped_chart(), sloppiness_deg=2.5)
        motion = march_on_the_spot(performer, **how)
        suit = make_suit(motion.skeleton, seed)
        _, found, _ = calibrate_wearer(record_suit(motion, suit), {"height_m": performer.height_m})
        self.assertEqual(found.exchanged, (), seed)
        off = {b: np.linalg.norm(off_deg(found, suit, b)) for b in found.names if "Leg" in b or "Arm" in b}
        self.assertLess(np.mean(list(off.values())), 8.0, off)
        self.assertLess(max(off.values()), 25.0, off)
        return found

    def test_whoever_turns_between_two_poses_is_as_well_calibrated(self):
        for seed, turn_deg, t_pose_last in ((1, 180.0, False), (10, -150.0, True)):
            with self.subTest(seed=seed, turn_deg=turn_deg, t_pose_last=t_pose_last):
                found = self.check_nobody_changed_places(seed, turn_deg=turn_deg, t_pose_last=t_pose_last)
                self.assertLess(np.sqrt(np.mean(found.residual_deg**2)), 15.0, "a turn is no residual of a pose")

    def test_skin_that_tells_a_thighs_heading_the_wrong_way_round_moves_no_leg_to_the_other_side(self):
        """Of a pelvis that hardly moves little is felt, and of thighs whose skin swings far most of it is wrong."""
        with patch.multiple(simulated_suit, SWING_RAD_PER_MS2=np.radians(0.25), SWING_HZ=6.0):
            self.check_nobody_changed_places(12, sway_m=0.01)

    def test_a_heading_that_is_the_wrong_way_round_is_said_not_to_be_known(self):
        with patch.multiple(simulated_suit, SWING_RAD_PER_MS2=np.radians(0.25), SWING_HZ=6.0):
            performer = make_performer(12, shipped_chart(), sloppiness_deg=2.5)
            motion = march_on_the_spot(performer, sway_m=0.01)
            suit = make_suit(motion.skeleton, 12)
            links = find_links(felt(record_suit(motion, suit)))
        true = dict(zip(suit.names, suit.heading_rad + suit.drift_rad_s * links[0].zero_s, strict=True))
        off = [np.angle(np.exp(1j * (k.heading_rad - true[k.above] + true[k.below]))) for k in links]
        wrong = [k for k, o in zip(links, off, strict=True) if abs(o) > FAR_RAD]
        self.assertEqual([k.below for k in wrong], ["leftUpperLeg"])
        self.assertGreater(wrong[0].heading_sd, FAR_RAD)
        for link in links:
            if plain(link.below) in ("LowerLeg", "Foot", "LowerArm"):
                self.assertLess(link.heading_sd, FAR_RAD, link.below)


class PlainWarmUp(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.worn = []
        for seed in (1, 3, 12):
            performer = make_performer(seed, shipped_chart(), sloppiness_deg=2.5)
            motion = plain_warm_up(performer)
            suit = make_suit(motion.skeleton, seed)
            cls.worn.append((performer, suit, record_suit(motion, suit)))
        cls.calibrated = [calibrate_wearer(recording, {"height_m": who.height_m}) for who, _, recording in cls.worn]

    def test_nobody_is_said_to_have_changed_places_and_legs_sit_as_the_poses_say(self):
        for (_, suit, _), (_, found, _) in zip(self.worn, self.calibrated, strict=True):
            self.assertEqual(found.exchanged, ())
            off = {b: np.linalg.norm(off_deg(found, suit, b)) for b in found.names if "Leg" in b}
            self.assertLess(np.mean(list(off.values())), 6.0, off)

    def test_legs_of_somebody_who_holds_poses_badly_are_not_said_to_have_changed_places(self):
        for seed in (9, 12):
            performer = make_performer(seed, shipped_chart(), sloppiness_deg=5.0)
            motion = plain_warm_up(performer)
            recording = record_suit(motion, make_suit(motion.skeleton, seed))
            skeleton = generic_skeleton(performer.height_m)
            fit = FirstSeats(recording, find_stills(recording), find_links(felt(recording)), skeleton)
            self.assertEqual(fit.exchanged_sides(), [])

    def test_who_has_changed_places_is_found_where_both_sides_move_alike(self):
        performer = make_performer(5, shipped_chart(), sloppiness_deg=2.5)
        motion = plain_warm_up(performer)
        recording = record_suit(motion, make_suit(motion.skeleton, 5))
        for pair in (
            ("leftLowerArm", "rightLowerArm"),
            ("leftLowerArm", "leftUpperArm"),
            ("leftUpperLeg", "rightUpperLeg"),
        ):
            found = calibrate_wearer(put_right(recording, [pair]), {"height_m": performer.height_m})[1]
            self.assertEqual(found.exchanged, (pair,))

    def test_legs_are_as_long_as_the_height_says_where_there_are_no_strides(self):
        """Whoever bends the knees or marches on the spot moves legs by little more than they are off."""
        (performer, _, _), (skeleton, _, notes) = self.worn[0], self.calibrated[0]
        self.assertFalse([n for n in notes if "steps" in n], notes)
        self.assertIn("height of the hip joints", " ".join(notes))
        both = skeleton, generic_skeleton(performer.height_m)
        long, usual = (sum(s.rest_offset_m[s.index(f"left{b}")] for b in ("LowerLeg", "Foot")) for s in both)
        np.testing.assert_allclose(long, usual, atol=0.002)

    def test_upper_arms_are_as_long_as_it_is_between_their_joints(self):
        off = []
        for (performer, _, _), (skeleton, _, _) in zip(self.worn, self.calibrated, strict=True):
            three = skeleton, generic_skeleton(performer.height_m), performer.skeleton
            found, usual, true = (np.linalg.norm(s.rest_offset_m[s.index("leftLowerArm")]) for s in three)
            off.append([abs(found - true), abs(usual - true)])
        self.assertLess(*np.mean(off, axis=0) * [2.0, 1.0])

    def test_palms_that_face_forward_in_a_pose_are_found_and_forearms_sit_as_the_other_pose_says(self):
        in_t_pose, while_hanging = [(HANG_S, T_POSE_S + 0.8)], [(-5, HANG_S), (T_POSE_S, 50)]
        for which, where, forward in ((0, "in the T-pose", in_t_pose), (1, "while the arms hung", while_hanging)):
            with self.subTest(where=where):
                performer, suit, _ = self.worn[which]
                recording = record_suit(plain_warm_up(performer, forward), suit)
                _, found, notes = calibrate_wearer(recording, {"height_m": performer.height_m})
                said = [n for n in [*notes, *found.notes] if "palms faced forward" in n]
                self.assertEqual(len(said), 1)
                self.assertIn(where, said[0])
                for bone in ("leftLowerArm", "rightLowerArm", "leftHand", "rightHand"):
                    self.assertLess(np.linalg.norm(off_deg(found, suit, bone)), 22.0, bone)

    def test_palms_that_face_down_in_the_t_pose_are_not_said_to_face_forward(self):
        for _, found, _ in self.calibrated:
            self.assertFalse([n for n in found.notes if "palms" in n], found.notes)

    def test_a_leg_that_is_lifted_while_all_else_is_still_is_in_no_pose(self):
        performer, _, recording = self.worn[0]
        stills = find_stills(recording)
        during = [n for n, (a, b) in enumerate(stills / recording.rate_hz) if a > LIFTS_S - 1 and b < SQUATS_S + 1]
        self.assertTrue(during, "the body is still while one leg swings")
        first = FirstSeats(recording, stills, find_links(felt(recording)), generic_skeleton(performer.height_m))
        knows = np.isfinite(first.held[..., 0])
        for n in during:
            self.assertFalse(knows[n, recording.names.index("leftLowerLeg")])
            self.assertTrue(knows[n, recording.names.index("chest")])
        self.assertTrue(knows.any(axis=0).all())

    def test_a_wrist_that_is_never_bent_is_no_further_away_than_wrists_are(self):
        for _, _, recording in self.worn:
            for link in find_links(felt(recording)):
                if link.below.endswith("Hand"):
                    self.assertLess(np.linalg.norm(link.above_m - link.below_m), 0.5, link.below)

    def test_where_the_hips_lie_counts_for_as_much_as_the_pelvis_moves(self):
        performer, suit, recording = self.worn[0]
        moved = perform("suit warm-up", performer, 1, Fraction(RATE)).motion
        sds = []
        for one in (recording, record_suit(moved, suit)):
            link = next(k for k in find_links(felt(one)) if k.below == "leftUpperLeg")
            sds.append(np.sqrt(np.linalg.eigvalsh(link.above_cov)[-1]))
        self.assertGreater(sds[0], 0.1)
        self.assertLess(sds[1], sds[0])
        self.assertLess(np.linalg.norm(link.above_m), 0.5)


if __name__ == "__main__":
    unittest.main()
