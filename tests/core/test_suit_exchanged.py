"""Sensors that are worn in each other's place: found, told, kept in documents and put right."""

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.inertial.alike import find_exchanged_alike
from otrevo.core.inertial.calibrate import calibrate_suit_alone, calibrate_wearer
from otrevo.core.inertial.documents import suit_from_document, suit_to_document
from otrevo.core.inertial.exchanged import (
    find_exchanged,
    net_pairs,
    pairs_of,
    put_right,
    rounds_of,
    said_of_exchanged,
    worn_as,
)
from otrevo.core.inertial.felt import felt
from otrevo.core.inertial.first_seats import FirstSeats
from otrevo.core.inertial.joints import find_links
from otrevo.core.inertial.recording import suit_recording
from otrevo.core.inertial.stills import find_stills
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.suit import make_suit, record_suit
from otrevo.core.words import in_a_row
from tests.core.test_plain_warm_up import march_on_the_spot
from tests.core.test_suit_recording import rows


def stands_straight_only_at_first(seed, until_s=8.6):
    """(a performer, the Motion of a warm-up) who bends the knees in all poses but the first two."""
    performer = make_performer(seed, shipped_chart(), sloppiness_deg=2.5)
    skeleton, offsets = performer.skeleton, performer.skeleton.rest_offset_m.copy()
    legs = [skeleton.index(side + b) for side in ("left", "right") for b in ("UpperLeg", "LowerLeg", "Foot")]
    offsets[[legs[i] for i in (1, 2, 4, 5)]] *= 1.04  # hips that stay as low as they were bend the knees
    performer = replace(performer, skeleton=skeleton.with_offsets(offsets))
    motion = perform("suit warm-up", performer, seed, Fraction(120)).motion
    bent = np.clip((np.arange(len(motion)) / float(motion.rate) - until_s) / 0.5, 0.0, 1.0)[:, None, None]
    local, root = motion.rotation_local.copy(), motion.root_position_m.copy()
    local[:, legs] = quaternion_from_rotvec(bent * rotvec_from_quaternion(local[:, legs]))
    ankles = [
        motion_joints(m)[0][:, legs[2::3], 1].min(axis=1) for m in (motion, replace(motion, rotation_local=local))
    ]
    root[:, 1] += ankles[0] - ankles[1]
    return performer, replace(motion, rotation_local=local, root_position_m=root)


class Exchanged(unittest.TestCase):
    def test_sensors_in_each_others_place_are_found_and_none_invented(self):
        performer = make_performer(2, shipped_chart(), sloppiness_deg=2.5)
        motion = perform("suit warm-up", performer, 2, Fraction(120)).motion
        for pair in (
            (),
            ("leftUpperLeg", "rightUpperLeg"),
            ("rightLowerArm", "rightUpperArm"),
            ("leftFoot", "rightFoot"),
            ("hips", "rightShoulder"),
            ("leftShoulder", "leftHand"),
            ("rightUpperArm", "rightHand"),
        ):
            worn = {pair[0]: pair[1], pair[1]: pair[0]} if pair else {}
            found = find_exchanged(felt(record_suit(motion, make_suit(motion.skeleton, 2, worn=worn))))
            self.assertEqual([set(p) for p in found], [set(pair)] if pair else [], pair)

    def test_those_that_feel_alike_are_told_apart_by_how_they_follow_their_arms(self):
        """A stiff wrist makes one limb of a forearm and its hand, and the trunk carries both collar bones alike."""
        alike = [("leftLowerArm", "leftHand"), ("rightLowerArm", "rightHand"), ("leftShoulder", "rightShoulder")]
        performer = make_performer(6, shipped_chart(), sloppiness_deg=2.5)
        motion = perform("suit warm-up", performer, 6, Fraction(120)).motion
        hands = [motion.skeleton.index(side + "Hand") for side in ("left", "right")]
        motion.rotation_local[:, hands] = [0.0, 0.0, 0.0, 1.0]
        for pairs in ([], *([p] for p in alike), alike):
            suit = make_suit(motion.skeleton, 6, worn=dict([*pairs, *(p[::-1] for p in pairs)]))
            recording = record_suit(motion, suit)
            self.assertEqual(find_exchanged_alike(felt(recording), recording), pairs)
        found = calibrate_suit_alone(recording, generic_skeleton(performer.height_m))
        self.assertEqual({frozenset(p) for p in found.exchanged}, {frozenset(p) for p in alike})

    def test_whatever_the_trunk_carries_is_told_apart_by_which_arm_it_turns_with_and_by_turning_as_a_head(self):
        performer = make_performer(6, shipped_chart(), sloppiness_deg=2.5)
        motion = perform("suit warm-up", performer, 6, Fraction(120)).motion
        for pairs in (
            [], [("chest", "leftShoulder")], [("chest", "rightShoulder")], [("head", "leftShoulder")], [("head", "rightShoulder")],
            [("chest", "head")], [("chest", "head"), ("leftShoulder", "rightShoulder")],
        ):  # fmt: skip
            suit = make_suit(motion.skeleton, 6, worn=dict([*pairs, *(p[::-1] for p in pairs)]))
            recording = record_suit(motion, suit)
            self.assertEqual(find_exchanged_alike(felt(recording), recording), pairs)

    def test_whoever_holds_the_head_still_wears_it_where_it_says(self):
        performer = make_performer(6, shipped_chart(), sloppiness_deg=2.5)
        motion = perform("suit warm-up", performer, 6, Fraction(120)).motion
        motion.rotation_local[:, [motion.skeleton.index(b) for b in ("neck", "head")]] = [0.0, 0.0, 0.0, 1.0]
        recording = record_suit(motion, make_suit(motion.skeleton, 6))
        self.assertEqual(find_exchanged_alike(felt(recording), recording), [])

    def test_arms_that_hang_say_nothing_of_their_collar_bones(self):
        performer = make_performer(21, shipped_chart(), sloppiness_deg=2.5)
        motion = march_on_the_spot(performer)
        for pairs in ([], [("leftShoulder", "rightShoulder")]):
            suit = make_suit(motion.skeleton, 21, worn=dict([*pairs, *(p[::-1] for p in pairs)]))
            recording = record_suit(motion, suit)
            self.assertEqual(find_exchanged_alike(felt(recording), recording), [])

    def test_limbs_that_hardly_move_are_not_taken_for_others(self):
        """Nine seconds of a warm-up in which only some limbs move."""
        for seed in (1000, 1004, 1005):
            performer = make_performer(seed, shipped_chart(), sloppiness_deg=2.5)
            motion = perform("suit warm-up", performer, seed, Fraction(120)).motion.window(8 * 120, 17 * 120)
            self.assertEqual(find_exchanged(felt(record_suit(motion, make_suit(motion.skeleton, seed)))), [], seed)

    def test_without_a_chest_sensor_arms_hang_on_the_hips(self):
        performer = make_performer(1001, shipped_chart(), sloppiness_deg=2.5)
        motion = perform("suit warm-up", performer, 1001, Fraction(120)).motion
        suit = make_suit(motion.skeleton, 1001)
        names = [n for n in suit.names if n != "chest"]
        found = calibrate_suit_alone(record_suit(motion, suit).only(names), generic_skeleton(performer.height_m))
        self.assertEqual(found.exchanged, (), "as arms are whose heading nothing tells")
        self.assertEqual(found.notes, ())
        for bone in ("leftUpperArm", "leftLowerArm", "rightUpperArm", "rightLowerArm"):
            mount = found.mount[found.names.index(bone)], suit.mount[suit.names.index(bone)]
            turn = rotvec_from_quaternion(quaternion_multiply(mount[0], quaternion_conjugate(mount[1])))
            self.assertLess(np.degrees(np.linalg.norm(turn)), 15.0, bone)

    def test_who_sits_where_comes_back_from_a_document_and_is_put_right_in_takes_that_lack_one(self):
        pairs = [("leftFoot", "rightFoot"), ("rightHand", "leftFoot"), ("chest", "head")]
        worn = worn_as(pairs)
        self.assertEqual(
            worn,
            {
                "rightFoot": "leftFoot",
                "rightHand": "rightFoot",
                "leftFoot": "rightHand",
                "chest": "head",
                "head": "chest",
            },
        )
        self.assertEqual(worn_as(pairs_of(worn)), worn)
        self.assertEqual(rounds_of(pairs), [("chest", "head"), ("leftFoot", "rightHand", "rightFoot")])
        self.assertEqual(in_a_row(rounds_of(pairs)[1]), "leftFoot, rightHand and rightFoot")
        with self.assertRaises(ValueError):
            pairs_of({"leftFoot": "rightFoot"})
        recording = suit_recording(*rows(sensors=("pelvis", "chest", "leftFoot", "rightFoot")))
        right = put_right(recording, pairs)
        self.assertEqual(right.names, ("hips", "rightFoot", "head", "rightHand"))

    def test_an_exchange_that_is_undone_is_none(self):
        arms, hands = [("leftLowerArm", "rightLowerArm")], [("leftHand", "rightHand")]
        self.assertEqual(net_pairs([*hands, *arms, *hands]), arms)
        self.assertEqual(net_pairs([]), [])

    def test_three_that_have_gone_round_are_put_right(self):
        performer = make_performer(2, shipped_chart(), sloppiness_deg=2.5)
        motion = perform("suit warm-up", performer, 2, Fraction(120)).motion
        round_ = ["leftUpperArm", "rightLowerArm", "leftFoot"]
        suit = make_suit(motion.skeleton, 2, worn=dict(zip(round_, [*round_[1:], round_[0]], strict=True)))
        recording = record_suit(motion, suit)
        skeleton, found, _ = calibrate_wearer(recording, {"height_m": performer.height_m})
        document = suit_to_document(found)
        self.assertEqual(suit_from_document({"suit": document}).exchanged, found.exchanged)
        document["leftFoot"].pop("exchanged_with")
        with self.assertRaisesRegex(InputError, "in each other's place"):
            suit_from_document({"suit": document})
        right = put_right(recording, found.exchanged)
        for said, bone in suit.worn.items():
            s, t = recording.names.index(said), right.names.index(bone)
            np.testing.assert_array_equal(right.rotation[:, t], recording.rotation[:, s])
            turn = quaternion_multiply(found.mount[t], quaternion_conjugate(suit.mount[s]))
            self.assertLess(np.degrees(np.linalg.norm(rotvec_from_quaternion(turn))), 15.0, bone)

    def test_one_pair_of_forearms_is_not_taken_for_both_arms(self):
        performer = make_performer(105, shipped_chart(), sloppiness_deg=2.5)
        motion = perform("suit warm-up", performer, 105, Fraction(120)).motion
        pair = "leftLowerArm", "rightLowerArm"
        recording = record_suit(motion, make_suit(motion.skeleton, 105, worn=dict([pair, pair[::-1]])))
        found = calibrate_suit_alone(recording, generic_skeleton(performer.height_m))
        self.assertEqual([set(p) for p in found.exchanged], [set(pair)])

    def test_knees_tell_left_from_right_whatever_the_filters_headings_are(self):
        """A suit whose thighs' and shins' headings differ by more than a right angle, worn as it should be, and its legs or all of it the
        wrong way round; and legs of which only the hip joints tell.
        """
        pairs = [
            (f"left{b}", f"right{b}")
            for b in ("Shoulder", "UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg", "Foot")
        ]
        for seed, ways in ((12, ([], pairs[4:], pairs)), (18, ([], pairs[4:]))):
            performer = make_performer(seed, shipped_chart(), sloppiness_deg=2.5)
            motion = perform("suit warm-up", performer, seed, Fraction(120)).motion
            for worn in ways:
                suit = make_suit(motion.skeleton, seed, worn=dict([*worn, *((b, a) for a, b in worn)]))
                recording = record_suit(motion, suit)
                fit = FirstSeats(
                    recording, find_stills(recording), find_links(felt(recording)), generic_skeleton(performer.height_m)
                )
                self.assertEqual({frozenset(p) for p in fit.exchanged_sides()}, {frozenset(p) for p in worn})

    def test_whoever_bends_the_knees_in_most_poses_has_no_knees_that_bend_forwards(self):
        """Legs that are straight elsewhere seem bent backwards from a pose in which they are bent."""
        pairs = [
            (f"left{b}", f"right{b}")
            for b in ("Shoulder", "UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg", "Foot")
        ]
        performer, motion = stands_straight_only_at_first(12)
        for worn in ([], pairs):
            suit = make_suit(motion.skeleton, 12, worn=dict([*worn, *((b, a) for a, b in worn)]))
            found = calibrate_suit_alone(record_suit(motion, suit), generic_skeleton(performer.height_m))
            self.assertEqual({frozenset(p) for p in found.exchanged}, {frozenset(p) for p in worn})

    def test_a_calibration_reads_them_the_other_way_round(self):
        performer = make_performer(3, shipped_chart(), sloppiness_deg=2.5)
        motion = perform("suit warm-up", performer, 3, Fraction(120)).motion
        arms = [(f"left{b}", f"right{b}") for b in ("Shoulder", "UpperArm", "LowerArm", "Hand")]
        suit = make_suit(motion.skeleton, 3, worn=dict([*arms, *((b, a) for a, b in arms)]))
        found = calibrate_suit_alone(record_suit(motion, suit), generic_skeleton(performer.height_m))
        self.assertEqual({frozenset(p) for p in found.exchanged}, {frozenset(p) for p in arms})
        self.assertEqual(len(said_of_exchanged(found.exchanged)), 4)
        seat = suit.mount[suit.names.index("rightUpperArm")]  # the sensor called right sits on the left arm
        turn = rotvec_from_quaternion(
            quaternion_multiply(found.mount[found.names.index("leftUpperArm")], quaternion_conjugate(seat))
        )
        self.assertLess(np.degrees(np.linalg.norm(turn)), 15.0)


if __name__ == "__main__":
    unittest.main()
