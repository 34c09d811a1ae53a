"""How sure a body from a suit alone is said to be."""

import unittest
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.skeleton import BODY_BONES, generic_skeleton
from otrevo.core.conventions import quaternion_from_rotvec
from otrevo.core.errors import InputError
from otrevo.core.inertial.calibration import SuitCalibration, sure_apart
from otrevo.core.inertial.documents import suit_from_document, suit_to_document
from otrevo.core.inertial.headings import Headings
from otrevo.core.inertial.poses import above_of
from otrevo.core.inertial.sure import HELD, joint_sd, place_sd, unknown_bones
from otrevo.core.solve.suit import SUIT_BONES

SKELETON, FRAMES = generic_skeleton(), 3
TIMES = np.arange(FRAMES) / 10


def calibration(seat_deg=None, joint_deg=None):
    """Seats that are known within a degree, but for seat_deg {bone: (3,)}; joint_deg {bone: (3,)}: those known by way of another."""
    nothing = np.zeros(len(SUIT_BONES))
    seat, _ = sure_apart(SUIT_BONES, nothing + 1.0)
    for bone, degrees in (seat_deg or {}).items():
        seat[SUIT_BONES.index(bone)] = degrees
    above = [SUIT_BONES.index(a) if (a := above_of(b)) in SUIT_BONES else -1 for b in SUIT_BONES]
    joint = np.hypot(seat, np.where(np.array(above)[:, None] >= 0, seat[above], 0.0))
    for bone, degrees in (joint_deg or {}).items():
        joint[SUIT_BONES.index(bone)] = degrees
    mounts = np.tile([0.0, 0.0, 0.0, 1.0], (len(SUIT_BONES), 1))
    return SuitCalibration(SUIT_BONES, mounts, nothing, nothing, 0.0, nothing, seat, joint)


def headings(sd_deg=0.0, of=()):
    sd = np.zeros((1, len(SUIT_BONES)))
    sd[:, [SUIT_BONES.index(b) for b in of]] = np.radians(sd_deg)
    return Headings(np.array([0.1]), np.zeros_like(sd), sd)


def headings_of(calibration):
    nothing = np.zeros((1, len(calibration.names)))
    return Headings(np.array([0.1]), nothing, nothing)


def body(**turned):
    """A body in T-pose that faces +Z, but for bones that are turned (3,)."""
    local = np.tile([0.0, 0.0, 0.0, 1.0], (FRAMES, len(SKELETON.names), 1))
    for bone, rotvec in turned.items():
        local[:, SKELETON.index(bone)] = quaternion_from_rotvec(np.array(rotvec))
    return Motion(SKELETON, Fraction(10), np.zeros((FRAMES, 3)), local)


def places(calibration, headings, motion, lost=()):
    world = np.zeros((FRAMES, len(SUIT_BONES), 4))
    world[:, [SUIT_BONES.index(b) for b in lost]] = np.nan
    return dict(zip(BODY_BONES, place_sd(world, calibration, headings, TIMES, motion).T, strict=True))


class Places(unittest.TestCase):
    def test_a_forearm_that_may_have_rolled_moves_no_hand_and_one_that_may_be_bent_does(self):
        usual = places(calibration(), headings(), body())
        rolled = places(calibration({"leftLowerArm": (50, 1, 1)}), headings(), body())
        bent = places(calibration({"leftLowerArm": (1, 50, 1)}), headings(), body())
        np.testing.assert_allclose(rolled["leftHand"], usual["leftHand"])
        forearm = np.linalg.norm(SKELETON.rest_offset_m[SKELETON.index("leftHand")])
        self.assertGreater(bent["leftHand"][0], 0.8 * HELD * np.radians(50) * forearm)
        np.testing.assert_allclose(bent["leftLowerArm"], usual["leftLowerArm"])

    def test_a_heading_moves_what_is_level_and_not_what_hangs(self):
        straight, hanging = body(), body(leftUpperArm=(0, 0, -np.pi / 2))
        unsure = headings(10, ("leftUpperArm",))
        for motion, moved in ((straight, True), (hanging, False)):
            before, after = (places(calibration(), h, motion)["leftLowerArm"][0] for h in (headings(), unsure))
            self.assertEqual(after > 1.3 * before, moved)

    def test_a_seat_known_by_way_of_another_takes_its_error_along(self):
        """Shoulder and upper arm off by the same: that moves the elbow further than two that are off by chance."""
        seat = {b: (1, 1, 25) for b in ("leftShoulder", "leftUpperArm")}
        apart = calibration(seat, {"leftUpperArm": (2, 2, np.hypot(25, 25))})
        together = calibration(seat, {"leftUpperArm": (2, 2, 0.0)})
        one, other = (places(c, headings(), body())["leftLowerArm"][0] for c in (apart, together))
        self.assertGreater(other, 1.2 * one)

    def test_further_out_is_less_sure_and_a_lost_sensor_least(self):
        usual = places(calibration(), headings(), body())
        arm = [usual[b][0] for b in ("leftShoulder", "leftUpperArm", "leftLowerArm", "leftHand")]
        self.assertEqual(arm, sorted(arm))
        self.assertEqual(usual["hips"][0], 0.0)
        lost = places(calibration(), headings(), body(), lost=("leftLowerArm",))
        self.assertGreater(lost["leftHand"][0], 1.5 * usual["leftHand"][0])

    def test_frames_come_in_blocks_of_any_number(self):
        motion = body()
        long = Motion(SKELETON, Fraction(10), np.zeros((1203, 3)), np.repeat(motion.rotation_local[:1], 1203, axis=0))
        found = place_sd(np.zeros((1203, len(SUIT_BONES), 4)), calibration(), headings(), np.arange(1203) / 10, long)
        self.assertEqual(found.shape, (1203, len(BODY_BONES)))
        np.testing.assert_allclose(found, np.repeat(found[:1], 1203, axis=0))


class Joints(unittest.TestCase):
    def test_they_are_as_sure_as_one_seat_against_the_other(self):
        loose = joint_sd(calibration({"leftHand": (30, 30, 30), "leftLowerArm": (30, 30, 30)}), headings())
        known = joint_sd(
            calibration({"leftHand": (30, 30, 30), "leftLowerArm": (30, 30, 30)}, {"leftHand": (2, 2, 2)}), headings()
        )
        self.assertEqual(set(known), set(BODY_BONES))
        self.assertLess(known["leftHand"], 0.5 * loose["leftHand"])
        self.assertEqual(known["leftFoot"], loose["leftFoot"])
        self.assertGreater(joint_sd(calibration(), headings(10, ("leftHand",)))["leftHand"], loose["rightHand"])


class BonesWithoutASensor(unittest.TestCase):
    def test_what_hangs_on_nothing_that_is_heard_is_unknown(self):
        self.assertEqual(unknown_bones(SUIT_BONES), ())
        self.assertEqual(
            unknown_bones([b for b in SUIT_BONES if b not in ("head", "leftHand", "rightUpperLeg")]),
            ("neck", "head", "leftHand"),
        )
        legs = [b for b in SUIT_BONES if b == "hips" or "Leg" in b or "Foot" in b]
        arms = {side + b for side in ("left", "right") for b in ("Shoulder", "UpperArm", "LowerArm", "Hand")}
        self.assertEqual(set(unknown_bones(legs)), {"spine", "chest", "upperChest", "neck", "head"} | arms)

    def test_it_is_said_to_be_far_less_sure_than_what_lies_between_two_sensors(self):
        gone = "head", "leftFoot", "leftUpperArm"
        rest = calibration().only([b for b in SUIT_BONES if b not in gone])
        found, usual = joint_sd(rest, headings_of(rest)), joint_sd(calibration(), headings())
        self.assertEqual(found["rightFoot"], usual["rightFoot"])
        for bone in gone:
            self.assertGreater(found[bone], 3 * usual[bone], bone)
        self.assertGreater(found["head"], found["leftUpperArm"], "whose forearm is heard")
        world = np.zeros((FRAMES, len(rest.names), 4))
        at = dict(zip(BODY_BONES, place_sd(world, rest, headings_of(rest), TIMES, body()).T, strict=True))
        whole = places(calibration(), headings(), body())
        self.assertGreater(at["head"][0], 1.2 * whole["head"][0], "the neck")
        self.assertGreater(at["leftToes"][0], 1.2 * whole["leftToes"][0])
        self.assertAlmostEqual(at["rightToes"][0], whole["rightToes"][0])


class Documents(unittest.TestCase):
    def test_what_is_known_about_each_axis_is_kept_and_one_number_of_before_is_read(self):
        given = calibration({"leftHand": (20, 5, 5)}, {"leftHand": (9, 4, 4)})
        rows = suit_to_document(given)
        again = suit_from_document({"suit": rows})
        np.testing.assert_allclose(again.seat_sd_deg, given.seat_sd_deg, atol=1e-3)
        np.testing.assert_allclose(again.joint_sd_deg, given.joint_sd_deg, atol=1e-3)
        for row in rows.values():
            del row["axes_sd_deg"], row["joint_sd_deg"]
        before = suit_from_document({"suit": rows})
        np.testing.assert_allclose(before.sd_deg, given.sd_deg, atol=1e-3)
        self.assertGreater(
            before.joint_sd_deg[SUIT_BONES.index("leftHand"), 0], before.sd_deg[SUIT_BONES.index("leftHand")]
        )

    def test_malformed_numbers_are_refused_in_a_sentence(self):
        for wrong in ([1.0, 2.0], [1.0, -2.0, 3.0], [1.0, float("nan"), 3.0], "much"):
            rows = suit_to_document(calibration())
            rows["leftHand"]["axes_sd_deg"] = wrong
            with self.assertRaisesRegex(InputError, "three numbers|malformed"):
                suit_from_document({"suit": rows})
