"""A suit calibrated by a warm-up that shows little: limb after limb, each about one axis, the pelvis at rest and the wrists stiff."""

import unittest
from fractions import Fraction

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
from otrevo.core.inertial.first_seats import FirstSeats
from otrevo.core.inertial.joints import felt, find_links
from otrevo.core.inertial.stills import find_stills
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.suit import make_suit, record_suit

RATE = 120
HANG_S, T_POSE_S, LIFTS_S, SQUATS_S = 4.0, 8.5, 20.0, 30.0  # from when on


def plain_warm_up(performer):
    """Arms down, T-pose, elbows bent, each leg lifted while all else is still, knee bends, arms down."""
    skeleton, times = performer.skeleton, np.arange(36 * RATE) / RATE
    turned = np.tile(performer.sloppiness_rad, (len(times), 1, 1))

    def add(bone, axis, degrees, start, end, hz=0.0):
        ease = np.clip(np.minimum(times - start, end - times) / 0.8, 0, 1)
        ease = ease**2 * (3 - 2 * ease)
        wave = (1 - np.cos(2 * np.pi * hz * (times - start))) / 2 if hz else 1.0
        turned[:, skeleton.index(bone), axis] += np.radians(degrees) * ease * wave

    for side, sign, lifts in (("left", 1.0, LIFTS_S), ("right", -1.0, LIFTS_S + 5)):
        add(side + "UpperArm", 2, -78 * sign, -5, HANG_S)
        add(side + "UpperArm", 2, -78 * sign, T_POSE_S, 50)
        add(side + "LowerArm", 1, -110 * sign, T_POSE_S + 2, LIFTS_S, 0.5)
        add(side + "UpperLeg", 0, -50, lifts, lifts + 5, 0.6)
        add(side + "LowerLeg", 0, 70, lifts, lifts + 5, 0.45)
        add(side + "UpperLeg", 0, -35, SQUATS_S, 34, 0.5)
        add(side + "LowerLeg", 0, 70, SQUATS_S, 34, 0.5)
        add(side + "Foot", 0, -35, SQUATS_S, 34, 0.5)
    local = quaternion_from_rotvec(turned)
    motion = Motion(skeleton, Fraction(RATE), np.zeros((len(times), 3)), local)
    ankles = motion_joints(motion)[0][:, [skeleton.index("leftFoot"), skeleton.index("rightFoot")]]
    root = np.zeros((len(times), 3))
    root[:, 1] = rest_joints(skeleton)["leftFoot"][1] - ankles[..., 1].min(axis=1)
    return Motion(skeleton, Fraction(RATE), root, local)


def off_deg(found, suit, bone):
    """How far a sensor is found from where it really sits, degrees about its bone's axes."""
    mount = found.mount[found.names.index(bone)], suit.mount[suit.names.index(bone)]
    return np.degrees(rotvec_from_quaternion(quaternion_multiply(mount[0], quaternion_conjugate(mount[1]))))


class PlainWarmUp(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.worn = []
        for seed in (1, 3, 7, 12):
            performer = make_performer(seed, shipped_chart(), sloppiness_deg=2.5)
            motion = plain_warm_up(performer)
            suit = make_suit(motion.skeleton, seed)
            cls.worn.append((performer, suit, record_suit(motion, suit)))

    def test_nobody_is_said_to_have_changed_places_and_legs_sit_as_the_poses_say(self):
        for performer, suit, recording in self.worn:
            _, found, _ = calibrate_wearer(recording, {"height_m": performer.height_m})
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

    def test_legs_are_as_long_as_the_height_says_where_there_are_no_strides(self):
        """Whoever bends the knees or marches on the spot moves legs by little more than they are off."""
        performer, _, recording = self.worn[0]
        skeleton, _, notes = calibrate_wearer(recording, {"height_m": performer.height_m})
        self.assertFalse([n for n in notes if "steps" in n], notes)
        usual = generic_skeleton(performer.height_m)
        for bone in ("leftLowerLeg", "leftFoot"):
            b = usual.index(bone)
            np.testing.assert_allclose(skeleton.rest_offset_m[b], usual.rest_offset_m[b], atol=0.002)

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
