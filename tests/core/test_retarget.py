"""A performer's motion on characters: angles, plants, files out and in, and the way back from foreign skeletons."""

import json
import shutil
import tempfile
import unittest
from contextlib import redirect_stderr
from fractions import Fraction
from io import StringIO
from pathlib import Path

import numpy as np

from otrevo.cli.__main__ import main
from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.characters.character import character_from, read_character
from otrevo.core.characters.glb_parts import glb_bytes
from otrevo.core.characters.gltf import GltfFile, node_tree
from otrevo.core.characters.sheet import propose_sheet, sheet_from
from otrevo.core.characters.write_bvh import write_bvh_motion
from otrevo.core.characters.write_gltf import read_gltf_motion, write_gltf_motion
from otrevo.core.characters.write_vrma import write_vrma
from otrevo.core.conventions import matrix_from_quaternion, quaternion_conjugate, quaternion_multiply, quaternion_rotate
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import local_matrices, open_bvh, write_bvh
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.retarget.adopt import adopt
from otrevo.core.retarget.feet import foot_points, sole_height
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

    def test_the_line_from_hips_to_neck_points_as_the_performers_whatever_bones_the_spine_has(self):
        """A performer with a hollow back: the line keeps what it is off in a T-pose, or nothing with the performer's posture."""
        source = self.motion.skeleton
        offsets = source.rest_offset_m.copy()
        offsets[source.index("chest")] += [0, 0, -0.012]
        offsets[source.index("neck")] += [0.004, 0, -0.008]
        hollow = Motion(source.with_offsets(offsets), self.motion.rate, self.motion.root_position_m,
                        self.motion.rotation_local)  # fmt: skip
        for name in ("keeper", "wick", "gull"):
            character, proposal = read_character(FOLDER / f"{name}.glb")
            sheet = propose_sheet(character, proposal)
            hips, neck = (character.index(sheet.pairs[b].targets[0]) for b in ("hips", "neck"))
            for motion, stance, off in (
                (self.motion, "character", 0.1), (hollow, "performer", 0.1), (hollow, "character", 4.5)
            ):  # fmt: skip
                result = retarget(motion, character, sheet, settings_from({"stance": stance}, "s"))
                joint, _ = motion_joints(motion)
                ours = joint[:, source.index("neck")] - joint[:, source.index("hips")]
                apart = angles_between(ours, result.positions[:, neck] - result.positions[:, hips])
                self.assertLess(apart.max(), off, f"{name} {stance}")
                self.assertLess(np.ptp(apart), 0.1, f"{name} {stance}: the same at all times")
                if off > 1:
                    self.assertGreater(apart.min(), 1.0, f"{name} keeps its own posture")

    def test_a_chain_shares_its_rotation_as_the_map_says(self):
        """The first bone of Wick's chain keeps to the hips at 0, and does all that the last one does at 1."""
        character, _ = read_character(FOLDER / "wick.glb")
        document = propose_sheet(character).document()
        row = next(r for r in document["pairs"] if r["bone"] in ("spine", "chest") and len(r["target"]) == 2)
        first, last = (character.index(t) for t in row["target"])

        def apart(shares):
            """How far the first bone of the chain is turned from the last one, as a share of the way from the one before (T,)."""
            rows = [r | {"shares": shares} if r is row else r for r in document["pairs"]]
            sheet = sheet_from(document | {"pairs": rows}, character, "the map")
            self.assertEqual(sheet_from(sheet.document(), character, "again").pairs[row["bone"]].shares, tuple(shares))
            result = retarget(self.motion, character, sheet)
            turned = [
                quaternion_multiply(result.rotations[:, b], quaternion_conjugate(character.rotations[b]))
                for b in (first, last)
            ]
            between = quaternion_multiply(quaternion_conjugate(turned[0]), turned[1])
            return np.degrees(2 * np.arccos(np.clip(np.abs(between[:, 3]), 0, 1)))

        whole, half, none = apart([0.0, 1.0]), apart([0.5, 1.0]), apart([1.0, 1.0])
        self.assertGreater(whole.max(), 3)
        moved = whole > 1
        np.testing.assert_allclose(half[moved] / whole[moved], 0.5, atol=0.02)
        self.assertLess(none.max(), whole.max() / 10)
        for wrong in ([0.5], [0.9, 0.1], [0, 2], ["a", 1]):
            rows = [r | {"shares": wrong} if r is row else r for r in document["pairs"]]
            with self.assertRaisesRegex(InputError, "shares"):
                sheet_from(document | {"pairs": rows}, character, "the map")

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

    def test_bones_under_an_uneven_scale_come_back_where_they_should_be(self):
        """The middle of an arm and of the trunk made thinner, which skews and stretches whatever turns beyond."""
        given, name = self.path / "uneven.glb", {"LeftLowerArm": [0.7, 1.3, 1.0], "Spine2": [1.2, 1.0, 0.85]}
        file = GltfFile(FOLDER / "keeper.glb")
        for node in file.document["nodes"]:
            if node["name"] in name:
                node["scale"] = name[node["name"]]
        for skin in file.document["skins"]:
            skin.pop("inverseBindMatrices", None)
        given.write_bytes(glb_bytes(file.document, file.buffers[0]))
        character, proposal = read_character(given)
        result = retarget(self.motion, character, propose_sheet(character, proposal))
        write_gltf_motion(self.path / "out.glb", given, result)
        _, joints, turns, _ = read_gltf_motion(self.path / "out.glb")
        change = matrix_from_quaternion(character.from_file[1])
        off = np.linalg.norm(character.from_file[0] * joints @ change.T - result.positions, axis=2)
        self.assertLess(1000 * off.max(), 0.1)
        apart = (change @ turns).swapaxes(2, 3) @ matrix_from_quaternion(result.rotations)
        self.assertLess(np.degrees(np.arccos(np.clip((np.trace(apart, axis1=2, axis2=3) - 1) / 2, -1, 1))).max(), 0.05)

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
