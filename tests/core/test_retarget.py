"""A performer's motion on characters: angles, plants, files out and in, and the way back from foreign skeletons."""

import json
import shutil
import tempfile
import unittest
from contextlib import redirect_stderr
from dataclasses import replace
from fractions import Fraction
from io import StringIO
from pathlib import Path

import numpy as np

from otrevo.cli.__main__ import main
from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.characters.character import character_from, read_character
from otrevo.core.characters.gltf import GltfFile, node_tree
from otrevo.core.characters.sheet import propose_sheet, sheet_from
from otrevo.core.characters.write_bvh import write_bvh_motion
from otrevo.core.characters.write_gltf import read_gltf_motion, write_gltf_motion
from otrevo.core.characters.write_vrma import write_vrma
from otrevo.core.conventions import matrix_from_quaternion, quaternion_multiply, quaternion_rotate
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import local_matrices, open_bvh, write_bvh
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.retarget.adopt import adopt
from otrevo.core.retarget.feet import foot_points, sole_height
from otrevo.core.retarget.judge import judge, snags_of
from otrevo.core.retarget.plan import make_plan
from otrevo.core.retarget.plants import find_plants, plants_from
from otrevo.core.retarget.settings import settings_from
from otrevo.core.retarget.transfer import retarget
from otrevo.core.sim.characters.files import FOLDER
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer

LIMBS = (("UpperArm", "LowerArm"), ("LowerArm", "Hand"), ("UpperLeg", "LowerLeg"), ("LowerLeg", "Foot"))


def performance(name="rope haul", seconds=12):
    motion = perform(name, make_performer(5, shipped_chart(), 1.72), 5, 120.0).motion
    return Motion(motion.skeleton, Fraction(120), motion.root_position_m, motion.rotation_local).window(
        0, 120 * seconds
    )


def angles_between(a, b):
    dot = (a * b).sum(-1) / np.linalg.norm(a, axis=-1) / np.linalg.norm(b, axis=-1)
    return np.degrees(np.arccos(np.clip(dot, -1, 1)))


def stepping(seconds=6, rate=120):
    """A body that steps on the spot, each foot standing truly still between its steps; and when each foot stands."""
    skeleton, frames = generic_skeleton(), seconds * rate
    t = np.arange(frames) / rate
    local = np.tile([0.0, 0.0, 0.0, 1.0], (frames, len(skeleton.names), 1))
    stands = {}
    for side, phase in (("left", 0.0), ("right", 1.0)):
        lift = np.sqrt(np.clip(np.sin(np.pi * (t - phase)), 0, None))  # a step of a second, then a second of standing
        swing = np.where(lift > 0, np.sin(2 * np.pi * (t - phase)), 0.0)  # forward, and back to where it was
        thigh, knee = 0.5 * lift + 0.4 * swing, 1.0 * lift
        for bone, angle in ((f"{side}UpperLeg", -thigh), (f"{side}LowerLeg", knee), (f"{side}Foot", thigh - knee)):
            local[:, skeleton.index(bone), 0], local[:, skeleton.index(bone), 3] = np.sin(angle / 2), np.cos(angle / 2)
        stands[side] = lift == 0
    root = np.tile(skeleton.rest_offset_m[0], (frames, 1))
    return Motion(skeleton, Fraction(rate), root, local), stands


class Angles(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.motion = performance()
        cls.joint, cls.rotation = motion_joints(cls.motion)

    def test_limbs_point_where_the_performers_point_on_all_three(self):
        index = self.motion.skeleton.names.index
        for name in ("keeper", "wick", "gull"):
            character, proposal = read_character(FOLDER / f"{name}.glb")
            sheet = propose_sheet(character, proposal)
            result = retarget(self.motion, character, sheet)
            for side in ("left", "right"):
                for a, b in LIMBS[:2]:
                    ours = self.joint[:, index(side + b)] - self.joint[:, index(side + a)]
                    first, second = (character.index(sheet.pairs[side + x].targets[0]) for x in (a, b))
                    theirs = result.positions[:, second] - result.positions[:, first]
                    self.assertLess(np.percentile(angles_between(ours, theirs), 95), 0.5, f"{name} {side}{a}")
            lengths = np.linalg.norm(result.positions[:, 1:] - result.positions[:, character.parents[1:]], axis=2)
            moved = np.ptp(lengths, axis=0)
            loose = character.parents[1:] != result.root
            self.assertLess(
                moved[loose & (np.arange(1, len(character.names)) != result.root)].max(), 1e-6, "bones must not stretch"
            )

    def test_the_same_twice(self):
        character, proposal = read_character(FOLDER / "wick.glb")
        sheet = propose_sheet(character, proposal)
        a, b = (retarget(self.motion, character, sheet) for _ in range(2))
        np.testing.assert_array_equal(a.rotations, b.rotations)
        np.testing.assert_array_equal(a.positions, b.positions)

    def test_nan_is_refused_and_work_can_be_stopped(self):
        character, proposal = read_character(FOLDER / "gull.glb")
        sheet = propose_sheet(character, proposal)
        broken = self.motion.rotation_local.copy()
        broken[7, 3] = np.nan
        with self.assertRaisesRegex(InputError, "NaN"):
            retarget(
                Motion(self.motion.skeleton, self.motion.rate, self.motion.root_position_m, broken), character, sheet
            )

        def stop(share):
            raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            retarget(self.motion, character, sheet, progress=stop)


class Plants(unittest.TestCase):
    def test_plants_are_found_with_their_edges(self):
        motion, stands = stepping()
        plants = find_plants(motion, *motion_joints(motion))
        for side in ("left", "right"):
            edges = np.diff(np.concatenate([[0], stands[side].astype(int), [0]]))
            true = list(zip(np.flatnonzero(edges == 1) / 120, (np.flatnonzero(edges == -1) - 1) / 120, strict=True))
            true = [(s, e) for s, e in true if e - s > 0.1]
            found = [(p.start_s, p.end_s) for p in plants if p.bone == f"{side}Foot"]
            self.assertEqual(len(found), len(true))
            self.assertLess(np.median(np.abs(np.array(found) - np.array(true))), 0.03)

    def test_feet_stand_still_on_the_character_and_never_under_its_floor(self):
        motion, stands = stepping()
        for name in ("keeper", "wick", "gull"):
            character, proposal = read_character(FOLDER / f"{name}.glb")
            sheet = propose_sheet(character, proposal)
            result = retarget(motion, character, sheet)
            plan = make_plan(character, sheet, motion.skeleton)
            for side in ("left", "right"):
                foot = plan.joints[f"{side}Foot"]
                for local in foot_points(plan, side).values():
                    point = result.positions[:, foot] + quaternion_rotate(result.rotations[:, foot], local)
                    inside = np.convolve(stands[side], np.ones(9), "same") >= 9
                    for s, e in ((s, e) for s, e in _runs(inside) if e - s > 30):
                        slide = 1000 * np.linalg.norm(np.ptp(point[s:e], axis=0))
                        self.assertLess(slide, 0.5 * plan.legs_ratio + 0.05, f"{name} {side}")
                    self.assertGreater(1000 * (point[:, 1] - sole_height(character)).min(), -3 * plan.legs_ratio)

    def test_edited_plants_are_kept(self):
        motion, _ = stepping()
        character, proposal = read_character(FOLDER / "keeper.glb")
        sheet = propose_sheet(character, proposal)
        given = plants_from({"plants": [{"bone": "leftToes", "start_s": 0.2, "end_s": 0.9, "level_m": 0.0}]}, "p.json")
        self.assertEqual(len(retarget(motion, character, sheet, plants=given).plants), 1)
        with self.assertRaisesRegex(InputError, "before it begins"):
            plants_from({"plants": [{"bone": "leftToes", "start_s": 2, "end_s": 1, "level_m": 0}]}, "p.json")


class Reach(unittest.TestCase):
    def test_hands_come_to_their_places_where_they_can(self):
        motion = performance("semaphore", 6)
        joint, _ = motion_joints(motion)
        character, proposal = read_character(FOLDER / "keeper.glb")
        sheet = propose_sheet(character, proposal)
        places = {}
        for value in (0.0, 1.0):
            settings = settings_from({"reach": {"leftHand": value, "rightHand": [[0, 0], [3, value]]}}, "s.json")
            result = retarget(motion, character, sheet, settings)
            plan = make_plan(character, sheet, motion.skeleton)
            ours = plan.legs_ratio * joint[:, motion.skeleton.names.index("leftHand")] + [0, sole_height(character), 0]
            places[value] = np.linalg.norm(result.positions[:, plan.joints["leftHand"]] - ours, axis=1)
        reachable = len(motion) - (result.missed["leftHand"] > 0.003).sum()
        self.assertGreater(reachable, 0.5 * len(motion))
        self.assertLess(np.sort(places[1.0])[reachable - 1], 0.003)
        self.assertGreater(np.median(places[0.0]), 0.01, "angles alone leave it elsewhere")

    def test_bones_do_not_stretch_and_nothing_jumps(self):
        motion = performance("semaphore", 6)
        character, proposal = read_character(FOLDER / "gull.glb")
        sheet = propose_sheet(character, proposal)
        settings = settings_from({"reach": {"leftHand": 1, "rightHand": 1, "leftFoot": 1, "rightFoot": 1}}, "s.json")
        plain, result = retarget(motion, character, sheet), retarget(motion, character, sheet, settings)
        arm = [character.index(sheet.pairs[f"left{part}"].targets[0]) for part in ("UpperArm", "LowerArm", "Hand")]
        for a, b in zip(arm, arm[1:], strict=False):
            length = np.linalg.norm(result.positions[:, b] - result.positions[:, a], axis=1)
            self.assertLess(np.ptp(length), 1e-6)
        step = [np.linalg.norm(np.diff(r.positions[:, arm[1]], axis=0), axis=1).max() for r in (plain, result)]
        self.assertLess(step[1], 4 * step[0] + 0.01)


def _runs(mask):
    edges = np.diff(np.concatenate([[0], mask.astype(int), [0]]))
    return zip(np.flatnonzero(edges == 1), np.flatnonzero(edges == -1), strict=True)


class Files(unittest.TestCase):
    def setUp(self):
        self.folder = tempfile.TemporaryDirectory()
        self.addCleanup(self.folder.cleanup)
        self.path = Path(self.folder.name)
        self.motion = performance(seconds=3)

    def on(self, name):
        character, proposal = read_character(FOLDER / f"{name}.glb")
        return character, retarget(self.motion, character, propose_sheet(character, proposal))

    def test_glb_is_the_given_file_with_an_animation_that_reads_back(self):
        for name in ("keeper", "wick", "gull"):
            character, result = self.on(name)
            out = self.path / f"{name}.glb"
            write_gltf_motion(out, FOLDER / f"{name}.glb", result, "slate 7")
            times, joints, turns, skeleton = read_gltf_motion(out)
            change = matrix_from_quaternion(character.from_file[1])
            back = character.from_file[0] * joints @ change.T
            self.assertLess(1000 * np.abs(back - result.positions).max(), 0.1)
            self.assertLess(np.abs(change @ turns - matrix_from_quaternion(result.rotations)).max(), 1e-4)
            self.assertAlmostEqual(times[-1], (len(result) - 1) / 120, places=5)
            given = (FOLDER / f"{name}.glb").read_bytes()
            length = int.from_bytes(given[12:16], "little")
            binary = given[28 + length :]
            self.assertIn(binary.rstrip(b"\0"), out.read_bytes(), "what the file held is still there")
            self.assertEqual(skeleton.shapes, character.shapes)

    def test_bvh_on_the_characters_skeleton_reads_back(self):
        character, result = self.on("wick")
        write_bvh_motion(self.path / "wick.bvh", result)
        tree, rate, values, _ = open_bvh(self.path / "wick.bvh")
        self.assertEqual((tuple(tree.names), rate), (character.names, 120))
        world = local_matrices(tree, values)
        for bone, parent in enumerate(tree.parents):
            if parent >= 0:
                world[:, bone] = world[:, parent] @ world[:, bone]
        back = character.from_file[0] * world[..., :3, 3] @ matrix_from_quaternion(character.from_file[1]).T
        self.assertLess(1000 * np.abs(back - result.positions).max(), 0.1)

    def test_vrma_is_a_humanoid_in_t_pose_that_moves_as_the_character_does(self):
        character, result = self.on("wick")
        sheet = propose_sheet(character)
        write_vrma(self.path / "wick.vrma", result, sheet)
        file = GltfFile(self.path / "wick.vrma")
        bones = file.document["extensions"]["VRMC_vrm_animation"]["humanoid"]["humanBones"]
        rest = node_tree(file)[2]
        at = {name: rest[row["node"], :3, 3] for name, row in bones.items()}
        arm = at["leftLowerArm"] - at["leftUpperArm"]
        self.assertGreater(arm[0] / np.linalg.norm(arm), 0.9999, "its rest is a T-pose")
        self.assertLess(np.abs(rest[:, :3, :3] - np.eye(3)).max(), 1e-6)
        _, joints, _, skeleton = read_gltf_motion(self.path / "wick.vrma")
        column = {int(node): b for b, node in enumerate(skeleton.nodes)}
        for side in ("left", "right"):
            for a, b in LIMBS:
                first, second = (column[bones[side + x]["node"]] for x in (a, b))
                theirs = joints[:, second] - joints[:, first]
                i, j = (character.index(sheet.pairs[side + x].targets[0]) for x in (a, b))
                self.assertLess(angles_between(theirs, result.positions[:, j] - result.positions[:, i]).max(), 0.05)

    def test_every_command(self):
        shutil.copy(FOLDER / "gull.glb", self.path)
        write_bvh(self.path / "body.bvh", self.motion)

        def run(*words):
            said = StringIO()
            with redirect_stderr(said):
                status = main([str(w) for w in words])
            return status, said.getvalue()

        at = self.path
        self.assertEqual(
            run("character", "--file", at / "gull.glb", "--out", at / "c.json", "--report", at / "r.json")[0], 0
        )
        self.assertEqual(run("map", "--character", at / "c.json", "--out", at / "m.json")[0], 0)
        self.assertEqual(run("plants", "--body", at / "body.bvh", "--out", at / "p.json")[0], 0)
        base = (
            "retarget",
            "--body",
            at / "body.bvh",
            "--character",
            at / "c.json",
            "--map",
            at / "m.json",
            "--rate",
            "30",
        )
        self.assertEqual(run(*base, "--plants", at / "p.json", "--out", at / "o.glb", "--report", at / "o.json")[0], 0)
        self.assertEqual(json.loads((at / "o.json").read_text())["frames"], 90)
        self.assertEqual(run(*base, "--out", at / "o.bvh")[0], 0)
        self.assertEqual(run(*base, "--out", at / "o.vrma")[0], 0)
        self.assertEqual(run("adopt", "--motion", at / "o.bvh", "--out", at / "a.bvh", "--report", at / "a.json")[0], 0)
        status, said = run(*base, "--out", at / "o.fbx")
        self.assertEqual(status, 2)
        self.assertIn("expected a file that ends in", said)
        (at / "gull.glb").unlink()
        status, said = run(*base, "--out", at / "lost.glb")
        self.assertEqual((status, "gull.glb" in said, (at / "lost.glb").exists()), (2, True, False))

    def test_documents_come_back_as_they_were(self):
        character, proposal = read_character(FOLDER / "wick.glb")
        again = character_from(json.loads(json.dumps(character.document())), "c.json")
        self.assertEqual(again.names, character.names)
        np.testing.assert_allclose(again.rotations, character.rotations, atol=1e-8)
        sheet = propose_sheet(character, proposal)
        back = sheet_from(json.loads(json.dumps(sheet.document())), again, "m.json")
        self.assertEqual(back.pairs.keys(), sheet.pairs.keys())
        for bone, turn in sheet.rest.items():
            np.testing.assert_allclose(back.rest[bone].rotation, turn.rotation, atol=1e-8)
        document = sheet.document()
        document["pairs"][3]["target"] = ["no such bone"]
        with self.assertRaisesRegex(InputError, "no bone 'no such bone'"):
            sheet_from(document, again, "m.json")

    def test_settings_are_checked(self):
        self.assertEqual(
            settings_from({"reach": {"leftHand": 0.5}}, "s.json").reach_at("leftHand", np.zeros(2)).tolist(), [0.5, 0.5]
        )
        for wrong in (
            {"hips_height": "tall"},
            {"reach": {"tail": 1}},
            {"reach": {"leftHand": [[0, 2]]}},
            {"scale": "both"},
            {"floor": 1},
        ):
            with self.assertRaises(InputError, msg=str(wrong)):
                settings_from(wrong, "s.json")


class ForeignMotion(unittest.TestCase):
    def test_a_motion_that_comes_back_from_a_character_is_the_motion(self):
        motion = performance(seconds=3)
        character, proposal = read_character(FOLDER / "wick.glb")
        sheet = propose_sheet(character, proposal)
        result = retarget(motion, character, sheet)
        with tempfile.TemporaryDirectory() as folder:
            write_bvh_motion(Path(folder) / "foreign.bvh", result)
            adopted = adopt(Path(folder) / "foreign.bvh")
            self.assertAlmostEqual(float(adopted.motion.rate), 120)
            own, _ = motion_joints(adopted.motion)
            index = adopted.motion.skeleton.names.index
            for side in ("left", "right"):
                for a, b in LIMBS:
                    first, second = (character.index(sheet.pairs[side + x].targets[0]) for x in (a, b))
                    was = result.positions[:, second] - result.positions[:, first]
                    now = own[:, index(side + b)] - own[:, index(side + a)]
                    self.assertLess(np.percentile(angles_between(was, now), 95), 1.0, f"{side}{a}")


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
        for name in ("wick", "gull"):
            own, at = self.on(name)
            theirs, _ = self.on(name, stance="performer")
            joint, _ = motion_joints(self.motion)
            index = self.motion.skeleton.names.index
            spine = joint[:, index("neck")] - joint[:, index("upperChest")]

            def off(result, at=at, spine=spine):
                found = result.positions[:, at["neck"]] - result.positions[:, at["upperChest"]]
                return np.median(angles_between(found, spine))

            self.assertLessEqual(off(theirs), off(own) + 0.05, name)

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
