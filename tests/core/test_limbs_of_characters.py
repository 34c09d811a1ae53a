"""Bending a limb to a place, how a plan shares chains and twists, and what map sheets and rest poses refuse and keep."""

import unittest
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.limb import STRETCHED, bend, softened
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.characters.character import character_from, read_character
from otrevo.core.characters.sheet import propose_sheet, sheet_from
from otrevo.core.conventions import (
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.retarget.plan import make_plan
from otrevo.core.retarget.transfer import retarget
from otrevo.core.sim.characters.files import FOLDER


class Bending(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(11)
        self.count = 400
        self.hinge = np.tile([1.0, 0.0, 0.0], (self.count, 1))
        self.root = rng.normal(0, 1, (self.count, 3))
        knee = quaternion_from_rotvec(
            np.stack([rng.uniform(0.05, 1.5, self.count), 0 * self.root[:, 0], 0 * self.root[:, 0]], 1)
        )
        self.turn = quaternion_from_rotvec(rng.normal(0, 0.6, (self.count, 3)))
        upper = quaternion_rotate(self.turn, np.array([0.0, -0.42, 0.0]))
        lower = quaternion_rotate(quaternion_multiply(self.turn, knee), np.array([0.0, -0.39, 0.0]))
        self.hinge = quaternion_rotate(self.turn, self.hinge)
        self.joint, self.end = self.root + upper, self.root + upper + lower

    def bent(self, target):
        first, second = bend(self.root, self.joint, self.end, target, self.hinge)
        joint = self.root + quaternion_rotate(first, self.joint - self.root)
        return joint, joint + quaternion_rotate(second, self.end - self.joint)

    def test_the_end_comes_to_every_place_within_reach(self):
        rng = np.random.default_rng(3)
        way = rng.normal(0, 1, (self.count, 3))
        way /= np.linalg.norm(way, axis=1, keepdims=True)
        target = self.root + way * rng.uniform(0.21, 0.78, (self.count, 1))  # nearer than that a knee does not fold
        joint, end = self.bent(target)
        self.assertLess(np.abs(end - target).max(), 1e-9)
        for a, b, length in ((self.root, joint, 0.42), (joint, end, 0.39)):
            self.assertLess(np.abs(np.linalg.norm(b - a, axis=1) - length).max(), 1e-12, "bones keep their length")

    def test_where_it_is_already_nothing_turns(self):
        joint, end = self.bent(self.end)
        self.assertLess(np.abs(joint - self.joint).max(), 1e-7)
        self.assertLess(np.abs(end - self.end).max(), 1e-7)

    def test_it_bends_as_a_knee_does(self):
        target = self.root + 0.7 * (self.end - self.root)
        joint, end = self.bent(target)
        normal = np.cross(joint - self.root, end - joint)
        self.assertGreater((normal * self.hinge).sum(axis=1).min(), 0)

    def test_beyond_its_reach_it_points_there_and_is_not_straight(self):
        target = self.root + 3.0 * (self.end - self.root) / np.linalg.norm(self.end - self.root, axis=1, keepdims=True)
        joint, end = self.bent(target)
        far = np.linalg.norm(end - self.root, axis=1)
        was = np.linalg.norm(self.end - self.root, axis=1)  # as far as the performer's own limb is stretched it may go
        self.assertTrue((far <= np.maximum(STRETCHED * 0.81, was) + 1e-4).all())
        way, wanted = (end - self.root) / far[:, None], (target - self.root) / 3.0
        self.assertLess(np.abs(way - wanted).max(), 1e-9)

    def test_softening_is_smooth_and_leaves_what_the_performer_does(self):
        asked = np.linspace(0.5, 1.4, 500)
        given = softened(asked, 1.0, np.zeros(500))
        self.assertTrue((np.diff(given) >= 0).all())
        self.assertLess(np.diff(given, 2).max(), 1e-3)
        np.testing.assert_allclose(given[asked < 0.97], asked[asked < 0.97])
        stretched = softened(np.array([0.998]), 1.0, np.array([0.998]))
        self.assertAlmostEqual(stretched[0], 0.998, places=4)

    def test_a_knee_that_passes_through_straight_does_not_jump(self):
        angle = np.linspace(-0.08, 0.3, 300)  # first bent a little the wrong way
        hinge = np.tile([1.0, 0.0, 0.0], (300, 1))
        root, joint = np.zeros((300, 3)), np.tile([0.0, -0.42, 0.0], (300, 1))
        lower = quaternion_rotate(quaternion_from_rotvec(angle[:, None] * hinge), np.array([0.0, -0.39, 0.0]))
        first, _ = bend(root, joint, joint + lower, joint + lower, hinge)
        moved = quaternion_rotate(first, joint)
        self.assertLess(np.linalg.norm(np.diff(moved, axis=0), axis=1).max(), 1e-3)


def standing(rotations):
    """A Motion of one pose, the generic body, with {bone: rotation vector} away from the T-pose."""
    skeleton = generic_skeleton()
    local = np.tile([0.0, 0.0, 0.0, 1.0], (4, len(skeleton.names), 1))
    for bone, vector in rotations.items():
        local[:, skeleton.index(bone)] = quaternion_from_rotvec(np.array(vector))
    return Motion(skeleton, Fraction(30), np.tile(skeleton.rest_offset_m[0], (4, 1)), local)


class Sharing(unittest.TestCase):
    def test_four_spine_bones_share_what_three_of_ours_turn(self):
        character, proposal = read_character(FOLDER / "wick.glb")
        sheet = propose_sheet(character, proposal)
        bend_by = 0.3
        motion = standing({b: [bend_by, 0, 0] for b in ("spine", "chest", "upperChest")})
        result = retarget(motion, character, sheet, plants=[])
        plan = make_plan(character, sheet, motion.skeleton)
        trunk = [t for b in ("spine", "chest", "upperChest") for t in sheet.pairs[b].targets]
        angles = []
        for name in trunk:
            b = character.index(name)
            turned = quaternion_multiply(result.rotations[0, b], character.rotations[b] * [-1, -1, -1, 1])
            angles.append(float(np.linalg.norm(rotvec_from_quaternion(turned))))
        self.assertEqual(len(angles), 4)
        self.assertTrue((np.diff(angles) > 0.05).all(), "each turns further than the one below")
        self.assertAlmostEqual(angles[-1], 3 * bend_by, places=6)
        self.assertGreater(plan.legs_ratio, 0.5)

    def test_twist_bones_take_their_share_of_a_turned_hand(self):
        character, proposal = read_character(FOLDER / "wick.glb")
        sheet = propose_sheet(character, proposal)
        result = retarget(standing({"leftHand": [1.0, 0, 0]}), character, sheet, plants=[])
        still = retarget(standing({}), character, sheet, plants=[])
        twist = next(h for h, of in sheet.helpers.items() if of == sheet.pairs["leftLowerArm"].targets[0])
        b = character.index(twist)
        between = quaternion_multiply(result.rotations[0, b], still.rotations[0, b] * [-1, -1, -1, 1])
        angle = float(np.linalg.norm(rotvec_from_quaternion(between)))
        self.assertAlmostEqual(angle, 0.5, delta=0.02)  # it sits halfway
        arm = character.index(sheet.pairs["leftLowerArm"].targets[0])
        np.testing.assert_allclose(result.rotations[0, arm], still.rotations[0, arm], atol=1e-9)

    def test_a_bone_of_the_file_that_nobody_drives_follows_its_parent(self):
        character, proposal = read_character(FOLDER / "gull.glb")
        sheet = propose_sheet(character, proposal)
        result = retarget(standing({"hips": [0, 0.7, 0]}), character, sheet, plants=[])
        tail = next(
            b
            for b, name in enumerate(character.names)
            if name in sheet.unmapped and character.parents[b] == result.root
        )
        length = np.linalg.norm(result.positions[:, tail] - result.positions[:, result.root], axis=1)
        rest = np.linalg.norm(character.positions[tail] - character.positions[result.root])
        np.testing.assert_allclose(length, rest, atol=1e-9)
        self.assertFalse(result.driven[tail])


class Sheets(unittest.TestCase):
    def setUp(self):
        self.character, proposal = read_character(FOLDER / "keeper.glb")
        self.document = propose_sheet(self.character, proposal).document()

    def refused(self, change, words):
        document = {
            **self.document,
            "pairs": [dict(p) for p in self.document["pairs"]],
            "rest_pose": [dict(r) for r in self.document["rest_pose"]],
        }
        change(document)
        with self.assertRaises(InputError) as caught:
            sheet_from(document, self.character, "hero.map.json")
        self.assertIn(words, str(caught.exception))
        self.assertIn("hero.map.json", str(caught.exception))

    def test_what_cannot_be_is_one_sentence(self):
        self.refused(lambda d: d.update(pairs={}), "expected a list")
        self.refused(lambda d: d["pairs"][0].update(bone="tail"), "not one of a performer's bones")
        self.refused(lambda d: d["pairs"].append(dict(d["pairs"][0])), "mapped twice")
        self.refused(lambda d: d["pairs"][0].update(target="Hips"), "list of bone names")
        self.refused(lambda d: d["pairs"].pop(0), "hips is not mapped")
        self.refused(lambda d: d["pairs"][-1].update(target=["Hips"]), "driven by")
        self.refused(lambda d: d["rest_pose"][0].update(rotation_xyzw=[0, 0, 0, 3]), "unit quaternion")

    def test_a_rest_pose_that_somebody_corrected_leads(self):
        turned = quaternion_from_rotvec(np.array([0.0, 0.0, 0.4]))
        for row in self.document["rest_pose"]:
            if row["bone"] == "LeftUpperArm":
                row["rotation_xyzw"] = turned.tolist()
        sheet = sheet_from(self.document, self.character, "hero.map.json")
        np.testing.assert_allclose(sheet.rest["leftUpperArm"].rotation, turned)

    def test_a_character_document_is_checked_where_it_is_wrong(self):
        whole = self.character.document()
        for change, words in (
            (lambda d: d["bones"][3].update(parent=7), "bones[3]"),
            (lambda d: d["bones"][2].update(rest_position_m=[0, 0]), "bones[2].rest_position_m"),
            (lambda d: d["bones"][2].update(name=d["bones"][1]["name"]), "bones[2]"),
            (lambda d: d["bones"][5].update(rest_rotation_xyzw=[0, 0, 0, 2]), "unit quaternion"),
            (lambda d: d.update(bones=[]), "at least two bones"),
        ):
            document = {**whole, "bones": [dict(b) for b in whole["bones"]]}
            change(document)
            with self.assertRaises(InputError) as caught:
                character_from(document, "hero.json")
            self.assertIn(words, str(caught.exception))
