"""What a performer's motion on a character is judged by, and what goes beyond angles: leaning, toes, held props."""

import unittest
from dataclasses import replace

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.limb import bend
from otrevo.core.characters.character import read_character
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply, quaternion_rotate
from otrevo.core.errors import InputError
from otrevo.core.retarget.judge import OFF_PROP_M, judge, snags_of
from otrevo.core.retarget.plan import make_plan
from otrevo.core.retarget.settings import settings_from
from otrevo.core.retarget.transfer import retarget
from otrevo.core.sim.characters.files import FOLDER
from tests.core.test_retarget import angles_between, performance, stepping


class Judged(unittest.TestCase):
    """The figures of a report are measured on the result, so that a bad result shows in them."""

    def setUp(self):
        self.motion, self.stands = stepping()
        self.character, proposal = read_character(FOLDER / "keeper.glb")
        self.sheet = propose_sheet(self.character, proposal)
        self.result = retarget(self.motion, self.character, self.sheet)
        self.plan = make_plan(self.character, self.sheet, self.motion.skeleton)

    def again(self, positions=None, rotations=None):
        spoilt = replace(
            self.result,
            positions=self.result.positions if positions is None else positions,
            rotations=self.result.rotations if rotations is None else rotations,
        )
        return judge(spoilt, self.plan, self.motion, *motion_joints(self.motion))

    def test_a_good_result_has_good_figures_and_no_snags(self):
        figures = self.result.figures
        self.assertLess(figures["slide_mm"], 0.5)
        self.assertLess(figures["sink_mm"], 3)
        self.assertLess(figures["float_mm"], 2)
        self.assertEqual((figures["knee_snap_share"], figures["flips"]), (0.0, 0))
        self.assertLess(figures["directions_deg"]["arms"], 0.5)
        self.assertEqual(snags_of(self.result.judged, self.sheet, 120.0), [])

    def test_slides_sinking_and_floating_are_told_by_foot(self):
        positions = self.result.positions.copy()
        left = self.character.index(self.sheet.pairs["leftFoot"].targets[0])
        positions[:, left, 0] += 0.03 * np.sin(np.linspace(0, 20, len(positions)))
        positions[:, left, 1] -= 0.02
        judged = self.again(positions)
        limbs = judged.figures["limbs"]
        self.assertGreater(limbs["leftFoot"]["slide_mm"], 20)
        self.assertAlmostEqual(limbs["leftFoot"]["sink_mm"], 20, delta=1)
        self.assertLess(limbs["rightFoot"]["slide_mm"], 0.5)
        kinds = {(s.kind, s.subject) for s in snags_of(judged, self.sheet, 120.0, 2.0)}
        self.assertEqual(kinds, {("foot slides", "leftFoot"), ("under the floor", "leftFoot")})
        self.assertTrue(all(2.0 <= s.start_s < s.end_s <= 8.1 for s in snags_of(judged, self.sheet, 120.0, 2.0)))
        raised = self.result.positions + [0.0, 0.05, 0.0]
        self.assertAlmostEqual(self.again(raised).figures["float_mm"], 50, delta=1)

    def test_a_knee_that_snaps_and_a_bone_that_flips_are_found(self):
        positions, rotations = self.result.positions.copy(), self.result.rotations.copy()
        a, b, c = (
            self.character.index(self.sheet.pairs[f"left{p}"].targets[0]) for p in ("UpperLeg", "LowerLeg", "Foot")
        )
        bent = slice(60, 90)  # in its step
        positions[bent, b] = 0.5 * (positions[bent, a] + positions[bent, c])
        rotations[200:260, a] = quaternion_multiply(np.array([1.0, 0, 0, 0]), rotations[200:260, a])
        judged = self.again(positions, rotations)
        self.assertAlmostEqual(
            judged.figures["limbs"]["leftLowerLeg"]["knee_snap_share"], 30 / len(positions), delta=0.01
        )
        self.assertEqual(judged.figures["flips"], 2, "over and back")
        self.assertEqual(set(judged.flipped), {"leftUpperLeg"})
        kinds = [s.kind for s in snags_of(judged, self.sheet, 120.0)]
        self.assertEqual((kinds.count("flip"), kinds.count("knee snaps")), (2, 1))

    def test_what_is_out_of_reach_and_a_doubtful_map_are_said(self):
        settings = settings_from({"reach": {"leftHand": 1}, "scale": "performer", "out_of_reach": "report"}, "s.json")
        far = replace(self.motion, root_position_m=self.motion.root_position_m + [3.0, 0, 0])
        wick, proposal = read_character(FOLDER / "wick.glb")
        sheet = propose_sheet(wick, proposal)
        sheet.pairs["neck"] = replace(sheet.pairs["neck"], confidence=0.3, doubt="it could be the head")
        result = retarget(far, wick, sheet, settings)
        limb = result.figures["limbs"]["leftHand"]
        self.assertEqual(limb["unreachable_frames"], len(far))
        snags = snags_of(result.judged, sheet, 120.0)
        self.assertEqual({s.kind for s in snags if s.subject in ("leftHand", "neck")}, {"out of reach", "map doubt"})
        self.assertIn("could be the head", next(s.text for s in snags if s.kind == "map doubt"))


class Leaning(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.motion = performance("rope haul", 8)

    def on(self, name, **settings):
        character, proposal = read_character(FOLDER / f"{name}.glb")
        sheet = propose_sheet(character, proposal)
        result = retarget(self.motion, character, sheet, settings_from(settings, "s.json"))
        return result, {b: character.index(p.targets[0]) for b, p in sheet.pairs.items()}

    def test_spine_and_collar_bone_help_a_hand_that_is_too_short(self):
        both = {"leftHand": 1, "rightHand": 1}
        alone, _ = self.on("keeper", reach=both, out_of_reach="report")
        leaning, at = self.on("keeper", reach=both)
        plain, _ = self.on("keeper")
        for hand in both:
            self.assertGreater(alone.missed[hand].max(), 0.02)
            self.assertLess(leaning.missed[hand].max(), 0.005)
        turned = 1 - np.abs((leaning.rotations[:, at["chest"]] * plain.rotations[:, at["chest"]]).sum(1))
        self.assertGreater(turned.max(), 1e-4, "the chest leans")
        np.testing.assert_allclose(leaning.rotations[:, at["head"]], plain.rotations[:, at["head"]], atol=1e-12)
        self.assertEqual(alone.figures["directions_deg"]["trunk"], plain.figures["directions_deg"]["trunk"])
        for result in (leaning, plain):
            jerk = np.abs(np.diff(result.positions[:, at["leftHand"]], 3, axis=0)).max()
            self.assertLess(jerk, 0.02, "nothing jumps")

    def test_hands_that_meet_meet_on_the_character_too(self):
        joint, _ = motion_joints(self.motion)
        names = self.motion.skeleton.names
        own = joint[:, names.index("leftHand")] - joint[:, names.index("rightHand")]
        near = np.linalg.norm(own, axis=1) < 0.2
        self.assertGreater(near.sum(), 10)
        for name in ("keeper", "wick", "gull"):
            hands = {"leftHand": 1, "rightHand": 1}
            result, at = self.on(name, reach=hands, reach_on={"leftHand": "other", "rightHand": "other"})
            plain, _ = self.on(name)
            theirs = result.positions[:, at["leftHand"]] - result.positions[:, at["rightHand"]]
            trunk = [np.linalg.norm(x[0, i] - x[0, j]) for x, i, j in (
                (result.positions, at["head"], at["hips"]), (joint, names.index("head"), names.index("hips")))]  # fmt: skip
            height = trunk[0] / trunk[1]
            apart = np.linalg.norm(theirs - height * own, axis=1)[near]
            before = np.linalg.norm(
                plain.positions[:, at["leftHand"]] - plain.positions[:, at["rightHand"]] - height * own, axis=1
            )
            self.assertLess(apart.max(), 0.010, name)
            self.assertLess(np.median(apart), np.median(before[near]) + 1e-9, name)

    def test_a_place_on_the_own_body_counts_only_near_it(self):
        result, at = self.on("gull", reach={"leftHand": 1}, reach_on={"leftHand": "body"})
        plain, _ = self.on("gull")
        moved = np.linalg.norm(result.positions[:, at["leftHand"]] - plain.positions[:, at["leftHand"]], axis=1)
        joint, _ = motion_joints(self.motion)
        names = self.motion.skeleton.names
        away = np.min([np.linalg.norm(joint[:, names.index("leftHand")] - joint[:, names.index(b)], axis=1)
                       for b in ("hips", "chest", "head")], axis=0)  # fmt: skip
        if (away > 0.51).any():
            self.assertLess(moved[away > 0.51].max(), 1e-9)
        self.assertGreater(moved[away < 0.4].max(), 0.005)

    def test_a_performers_posture_can_be_taken_over(self):
        """A performer who stoops: their spine and neck lean in their own T-pose, the characters' do not."""
        skeleton = self.motion.skeleton
        offsets = skeleton.rest_offset_m.copy()
        for bone, ahead in (("upperChest", -0.02), ("neck", 0.03), ("head", 0.04)):
            offsets[skeleton.names.index(bone), 2] += ahead
        stooped = replace(self.motion, skeleton=replace(skeleton, rest_offset_m=offsets))
        joint, _ = motion_joints(stooped)
        for name in ("keeper", "gull"):
            character, proposal = read_character(FOLDER / f"{name}.glb")
            sheet = propose_sheet(character, proposal)
            at = {b: character.index(p.targets[0]) for b, p in sheet.pairs.items()}
            shares = (
                sheet.pairs["chest"].targets[0] == sheet.pairs["upperChest"].targets[0]
            )  # one bone cannot bend as two do
            for a, b in (("neck", "head"),) if shares else (("upperChest", "neck"), ("neck", "head")):
                ours = joint[:, skeleton.names.index(b)] - joint[:, skeleton.names.index(a)]
                off = {}
                for stance in ("character", "performer"):
                    result = retarget(stooped, character, sheet, settings_from({"stance": stance}, "s.json"))
                    off[stance] = angles_between(result.positions[:, at[b]] - result.positions[:, at[a]], ours)
                self.assertGreater(np.median(off["character"]), 4, f"{name} {a}")
                self.assertLess(off["performer"].max(), 0.1, f"{name} {a}")

    def test_settings_are_refused_in_a_sentence(self):
        for document, words in (
            ({"reach_on": 3}, "expected an object"), ({"reach_on": {"leftHand": "moon"}}, "expected a hand or foot"),
            ({"reach_on": {"tail": "room"}}, "tail"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, words):
                settings_from(document, "s.json")


class Toes(unittest.TestCase):
    def test_the_sole_bends_under_a_raised_heel_and_the_ball_stays_where_it_stood(self):
        """A performer without measured toes stands on the balls of both feet: their toes go rigidly with the foot."""
        still, _ = stepping()
        skeleton, frames = still.skeleton, len(still)
        angle = 0.6 * np.clip(np.sin(np.pi * np.arange(frames) / 360), 0, 1)
        local = np.tile([0.0, 0.0, 0.0, 1.0], (frames, len(skeleton.names), 1))
        for side in ("left", "right"):
            foot = skeleton.index(f"{side}Foot")
            local[:, foot, 0], local[:, foot, 3] = np.sin(angle / 2), np.cos(angle / 2)
        motion = Motion(skeleton, still.rate, still.root_position_m.copy(), local)
        joint, _ = motion_joints(motion)
        ball = skeleton.index("leftToes")
        motion.root_position_m[:] += joint[0, ball] - joint[:, ball]  # the balls do not move
        for name in ("keeper", "wick", "gull"):
            character, proposal = read_character(FOLDER / f"{name}.glb")
            sheet = propose_sheet(character, proposal)
            result = retarget(motion, character, sheet)
            foot, toes = (character.index(sheet.pairs[f"left{p}"].targets[0]) for p in ("Foot", "Toes"))
            turned = quaternion_multiply(result.rotations[180], result.rotations[0] * [-1, -1, -1, 1])
            degrees = np.degrees(2 * np.arccos(np.clip(np.abs(turned[:, 3]), 0, 1)))
            self.assertGreater(degrees[foot], 30, "the heel is raised")
            self.assertLess(degrees[toes], 6, "the toes lie on the floor")
            step = np.linalg.norm(np.diff(result.positions[:, toes], axis=0), axis=1).max()
            self.assertLess(step, 0.001, "nothing jumps")
            self.assertLess(result.figures["slide_mm"], 0.5)


class HeldProps(unittest.TestCase):
    def test_a_prop_stays_in_the_hand_that_holds_it_and_stands_where_it_is_put(self):
        motion = performance("semaphore", 6)
        joint, rotation = motion_joints(motion)
        names = motion.skeleton.names
        hand, frames = names.index("rightHand"), len(motion)
        palm = joint[:, hand] + 0.5 * (joint[:, names.index("rightMiddleProximal")] - joint[:, hand])
        grip = quaternion_rotate(rotation[:, hand], np.array([-0.02, -0.03, 0.04]))
        pose = np.concatenate([palm + grip, rotation[:, hand]], axis=1)
        stood = np.tile([1.5, 0.4, 1.0, 0, 0, 0, 1.0], (frames, 1))
        points = np.array([[0.0, -0.2, 0.05], [0.03, -0.1, 0.0], [-0.04, -0.15, 0.02]])
        for name, size in (("keeper", "performer"), ("gull", "character"), ("wick", "performer")):
            character, proposal = read_character(FOLDER / f"{name}.glb")
            sheet = propose_sheet(character, proposal)
            result = retarget(motion, character, sheet, settings_from({"prop_size": size}, "s.json"))
            at = {b: character.index(p.targets[0]) for b, p in sheet.pairs.items()}
            theirs = result.positions[:, at["rightHand"]]
            theirs = theirs + 0.5 * (result.positions[:, at["rightMiddleProximal"]] - theirs)
            held = result.carry(pose, points)
            np.testing.assert_allclose(held[:, :3] - theirs, result.prop_scale * grip, atol=0.003, err_msg=name)
            np.testing.assert_allclose(held[:, 3:], pose[:, 3:])
            self.assertEqual(result.prop_scale == 1.0, size == "performer")
            standing = result.carry(stood, points)
            self.assertLess(np.ptp(standing[:, :3], axis=0).max(), 1e-9, "nobody holds it")
            self.assertAlmostEqual(standing[0, 0], 1.5 * result.figures["scale"], places=3)

    def palms(self, positions, number, side):
        wrist = positions[:, number(side + "Hand")]
        return wrist + 0.5 * (positions[:, number(side + "MiddleProximal")] - wrist)

    def test_a_hand_that_reaches_onto_a_prop_touches_it_where_the_performers_does(self):
        """One hand holds a bar, the other takes hold of its end now and then; and a post stands in the room."""
        motion = performance("rope haul", 8)
        joint, rotation = motion_joints(motion)
        index = motion.skeleton.names.index
        left, right = (self.palms(joint, index, side) for side in ("left", "right"))
        turn = rotation[:, index("rightHand")]
        bar = np.concatenate([right, turn], axis=1)
        inside = quaternion_rotate(quaternion_conjugate(turn), left - right)
        apart = np.linalg.norm(inside[::10, None] - inside[None], axis=2)
        end = inside[
            10 * np.argmax((apart < 0.05).sum(axis=1))
        ]  # where the left hand is most of the time, seen from the right
        points = end * np.linspace(0, 1, 9)[:, None]
        touches = np.linalg.norm(inside - end, axis=1) < 0.05
        self.assertGreater(touches.sum(), 60)
        for name, size in (("keeper", "performer"), ("keeper", "character"), ("wick", "character")):
            character, proposal = read_character(FOLDER / f"{name}.glb")
            sheet = propose_sheet(character, proposal)
            number = {b: character.index(p.targets[0]) for b, p in sheet.pairs.items()}.get
            settings = {"reach": {"leftHand": 1}, "reach_on": {"leftHand": "prop"}, "prop_size": size}
            result = retarget(motion, character, sheet, settings_from(settings, "s.json"), props={"bar": (bar, points)})
            angles = settings_from({"prop_size": size}, "s.json")
            plain = retarget(motion, character, sheet, angles, props={"bar": (bar, points)})
            k = result.prop_scale

            def off(on, number=number, k=k):
                theirs = self.palms(on.positions, number, "left") - on.carry(bar, points)[:, :3]
                return 1000 * np.linalg.norm(theirs - k * (left - bar[:, :3]), axis=1)[touches]

            self.assertLess(np.percentile(off(result), 95), 10, name)
            self.assertGreater(np.median(off(plain)), 2 * np.median(off(result)) + 5, name)
            said = [
                [s for s in snags_of(on.judged, sheet, 120.0) if s.kind == "hand off prop"] for on in (result, plain)
            ]
            self.assertEqual(said[0], [], name)
            far = bool(np.median(off(plain)) > 1000 * OFF_PROP_M * k)
            self.assertEqual(
                far, (name, size) != ("keeper", "performer"), "the keeper is built much like the performer"
            )
            self.assertEqual([s.subject for s in said[1]], ["leftHand"] * far, name)
            self.assertTrue(all("left hand" in s.text and "off the bar" in s.text for s in said[1]), name)
            step = np.linalg.norm(np.diff(result.positions[:, number("leftHand")], axis=0), axis=1).max()
            own = np.linalg.norm(np.diff(joint[:, index("leftHand")], axis=0), axis=1).max()
            self.assertLess(step, 2 * own, "it goes there and leaves smoothly")

    def test_wrists_and_elbows_keep_to_their_limits(self):
        """Hips far too low, hands where the performer has them: arms go up and would fold their wrists back."""
        motion = performance("semaphore", 6)
        character, proposal = read_character(FOLDER / "wick.glb")
        sheet = propose_sheet(character, proposal)
        at = {b: character.index(p.targets[0]) for b, p in sheet.pairs.items()}
        settings = {
            "hips_height": 0.4,
            "scale": "performer",
            "reach": {"leftHand": 1, "rightHand": 1},
            "out_of_reach": "report",
        }
        result = retarget(motion, character, sheet, settings_from(settings, "s.json"))
        for side in ("left", "right"):
            a, b, c = (result.positions[:, at[side + bone]] for bone in ("LowerArm", "Hand", "MiddleProximal"))
            wrist = angles_between(b - a, c - b)
            self.assertLess(wrist.max(), 80 + 10)  # the middle finger is a little off the hand's own line
            self.assertGreater(wrist.max(), 60)
        rng = np.random.default_rng(4)
        root, elbow, hand = np.zeros((500, 3)), np.tile([0.3, 0, 0], (500, 1)), np.tile([0.5, 0.1, 0], (500, 1))
        near = rng.normal(0, 0.05, (500, 3))
        first, second = bend(root, elbow, hand, near, np.tile([0.0, 0, 1], (500, 1)))
        folded = angles_between(quaternion_rotate(first, elbow), -quaternion_rotate(second, hand - elbow))
        self.assertGreater(folded.min(), 27.9)

    def test_taking_it_up_is_smooth(self):
        motion = performance("semaphore", 6)
        joint, _ = motion_joints(motion)
        hand = joint[:, motion.skeleton.names.index("rightHand")]
        place = hand[360] + [0.0, -0.05, 0.05]
        f = np.clip((np.arange(len(motion)) - 330) / 60, 0, 1)[:, None]
        pose = np.concatenate([(1 - f) * place + f * hand, np.tile([0, 0, 0, 1.0], (len(motion), 1))], axis=1)
        character, proposal = read_character(FOLDER / "gull.glb")
        result = retarget(motion, character, propose_sheet(character, proposal))
        carried = result.carry(pose, np.zeros((1, 3)))
        steps = [np.linalg.norm(np.diff(x[:, :3], axis=0), axis=1).max() for x in (pose, carried)]
        self.assertLess(steps[1], steps[0] + 0.02)
