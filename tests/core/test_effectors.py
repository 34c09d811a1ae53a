"""Effectors: tracks for rigs that take hips, hands, feet, elbows and knees through controls; beside joints, and alone."""

import json
import shutil
import tempfile
import unittest
from contextlib import redirect_stderr
from dataclasses import replace
from fractions import Fraction
from io import StringIO
from pathlib import Path
from types import SimpleNamespace

import numpy as np

from otrevo.cli.__main__ import main
from otrevo.core.body.kinematics import motion_joints
from otrevo.core.characters.character import read_character
from otrevo.core.characters.sheet import EFFECTORS, propose_sheet, sheet_from
from otrevo.core.characters.write_gltf import read_gltf_effectors, read_gltf_motion
from otrevo.core.characters.write_usd import read_usd_effectors
from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import open_bvh, write_bvh
from otrevo.core.passes.contract import PlayedCharacter
from otrevo.core.retarget.deliver import package_character
from otrevo.core.retarget.feet import sole_height
from otrevo.core.retarget.settings import RetargetSettings, settings_from
from otrevo.core.retarget.transfer import retarget
from otrevo.core.sim.characters.build import Build, built
from otrevo.core.sim.characters.files import FOLDER
from otrevo.core.sim.characters.habits import named
from tests.core.test_character_files import glb, parts, write_usd
from tests.core.test_retarget import performance, stepping

ALL = RetargetSettings(effectors=True)
CONTROLS = {"hips": "ctl.body", "leftHand": "ctl.hand", "rightHand": "ctl.hand.001", "leftFoot": "ctl.foot",
            "rightFoot": "ctl.foot.001", "leftKnee": "pole.knee", "rightElbow": "pole.elbow"}  # fmt: skip


def with_effectors(sheet, character, effectors):
    rows = [{"effector": e, "target": n} for e, n in effectors.items()]
    return sheet_from(sheet.document() | {"effectors": rows}, character, "the map")


class BesideJoints(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.motion = performance(seconds=4)

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name)

    def test_hands_and_feet_are_at_their_joints_and_marks_on_the_side_that_bends_out(self):
        for name in ("keeper", "wick", "gull"):
            character, _ = read_character(FOLDER / f"{name}.glb")
            sheet = propose_sheet(character)
            result = retarget(self.motion, character, sheet, ALL)
            tracks = {t.name: t for t in result.effectors}
            self.assertEqual(list(tracks), [f"effector_{e}" for e in EFFECTORS])

            def joint(bone, sheet=sheet, character=character, result=result):
                return result.positions[:, character.index(sheet.pairs[bone].targets[0])]

            for end in ("hips", "leftHand", "rightFoot"):
                np.testing.assert_allclose(tracks[f"effector_{end}"].positions, joint(end), atol=1e-12)
            for mark, (upper, lower, end) in {
                "leftElbow": ("leftUpperArm", "leftLowerArm", "leftHand"),
                "rightKnee": ("rightUpperLeg", "rightLowerLeg", "rightFoot"),
            }.items():
                place = tracks[f"effector_{mark}"].positions
                line = joint(end) - joint(upper)
                line /= np.linalg.norm(line, axis=1)[:, None]
                off = joint(lower) - joint(upper)
                off = off - (off * line).sum(1)[:, None] * line
                bent = np.linalg.norm(off, axis=1) > 0.05 * np.linalg.norm(joint(end) - joint(upper), axis=1)
                self.assertGreater(bent.sum(), 100, f"{name} {mark}")
                to_mark = place - joint(lower)
                along = (to_mark * off).sum(1) / np.linalg.norm(to_mark, axis=1) / np.linalg.norm(off, axis=1)
                self.assertGreater(along[bent].min(), 0.95)
                step = np.linalg.norm(np.diff(place, axis=0), axis=1).max()
                self.assertLess(step, 4 * np.linalg.norm(np.diff(joint(lower), axis=0), axis=1).max() + 0.002)
                z = matrix_from_quaternion(tracks[f"effector_{mark}"].rotations)[:, :, 2]
                np.testing.assert_allclose(z, to_mark / np.linalg.norm(to_mark, axis=1)[:, None], atol=1e-9)

    def test_a_straight_limb_keeps_its_mark_on_the_side_of_the_hinge(self):
        """An arm that is stretched and bent again never throws its mark to the other side."""
        motion, _ = stepping(2)
        local = motion.rotation_local.copy()
        elbow = motion.skeleton.names.index("leftLowerArm")
        bend = 0.4 * np.abs(np.sin(np.linspace(0, 6, len(motion))))
        local[:, elbow] = np.stack([0 * bend, -np.sin(bend / 2), 0 * bend, np.cos(bend / 2)], axis=1)
        motion = replace(motion, rotation_local=local)
        character, _ = read_character(FOLDER / "keeper.glb")
        result = retarget(motion, character, propose_sheet(character), ALL)
        mark = next(t for t in result.effectors if t.name == "effector_leftElbow").positions
        elbow = result.positions[:, character.index(propose_sheet(character).pairs["leftLowerArm"].targets[0])]
        way = (mark - elbow) / np.linalg.norm(mark - elbow, axis=1)[:, None]
        self.assertGreater((way @ way.mean(axis=0)).min(), 0.9)

    def test_every_format_brings_them_back(self):
        body = built(Build(height_m=1.4, arms_down_deg=40, spine=4))
        write_usd(self.path / "crew.usda", body, [n.replace(" ", "_") for n in named(body.names, "shin")], 0.01, "Z")
        shutil.copy(FOLDER / "wick.glb", self.path)
        kinds = {"wick.glb": ("glb", "character_bvh"), "crew.usda": ("usd", "character_bvh")}
        for name, formats in kinds.items():
            character, _ = read_character(self.path / name)
            sheet = with_effectors(propose_sheet(character), character, {"leftHand": "grip left", "rightKnee": "knee"})
            played = PlayedCharacter("crew", character, sheet)
            made = package_character("crew", self.motion, played, (self.path / name).read_bytes(), settings=ALL)
            result = retarget(self.motion, character, sheet, ALL)
            for kind in formats:
                with self.subTest(f"{name} {kind}"):
                    (file,) = made.files(kind, Fraction(120))
                    out = self.path / f"out{file.ending}"
                    file.write(out)
                    apart = file.compare(out)
                    self.assertNotIn("fault", apart)
                    self.assertLess(apart["position_mm"], 0.1)
                    self.assertLess(apart["rotation_deg"], 0.01)
                    if kind == "character_bvh":
                        tree = open_bvh(out)[0]
                        new = [n for n in tree.names if n not in {c.replace(" ", "_") for c in character.names}]
                        self.assertEqual((len(new), new[1]), (9, "grip_left"))
                        self.assertTrue(all(tree.parents[tree.names.index(n)] == 0 for n in new))
                        continue
                    found = read_gltf_effectors(out) if kind == "glb" else read_usd_effectors(out)
                    self.assertEqual(len(found), 9)
                    places = found["grip left" if kind == "glb" else "grip_left"][0]
                    change = matrix_from_quaternion(character.from_file[1])
                    hand = result.positions[:, character.index(sheet.pairs["leftHand"].targets[0])]
                    np.testing.assert_allclose(character.from_file[0] * places @ change.T, hand, atol=1e-4)

    def test_one_that_came_back_otherwise_is_told(self):
        character, _ = read_character(FOLDER / "wick.glb")
        played = PlayedCharacter("crew", character, propose_sheet(character))
        given = (FOLDER / "wick.glb").read_bytes()
        (file,) = package_character("crew", self.motion, played, given, settings=ALL).files("glb", Fraction(30))
        file.write(self.path / "out.glb")
        document, binary = parts((self.path / "out.glb").read_bytes())
        node = next(i for i, n in enumerate(document["nodes"]) if n.get("name") == "effector_hips")
        animation = document["animations"][-1]
        animation["channels"] = [c for c in animation["channels"] if c["target"].get("node") != node]
        (self.path / "out.glb").write_bytes(glb(document, binary))
        self.assertIn("8 of 9 effectors came back", file.compare(self.path / "out.glb")["fault"])

    def test_a_control_of_the_character_moves_and_keeps_to_its_joint(self):
        """A control that rests 4 cm behind the wrist stays 4 cm behind it; what hangs on it goes along."""
        document, binary = parts((FOLDER / "keeper.glb").read_bytes())
        keeper, _ = read_character(FOLDER / "keeper.glb")
        sheet = propose_sheet(keeper)
        wrist = keeper.positions[keeper.index(sheet.pairs["leftHand"].targets[0])]
        at = wrist + [0, 0, -0.04]
        count = len(document["nodes"])
        document["nodes"] += [{"name": "ctl.hand", "translation": at.tolist(), "children": [count + 1]},
                              {"name": "ctl.grip", "translation": [0.0, 0.05, 0.0]},
                              {"name": "rig", "translation": [0, 2, 0], "scale": [0.5, 0.5, 0.5], "children": [count + 3]},
                              {"name": "plain"}]  # fmt: skip
        document["scenes"][0]["nodes"] += [count, count + 2]
        for skin in document["skins"]:
            skin["joints"] += [count, count + 1]
            del skin["inverseBindMatrices"]
        (self.path / "rig.glb").write_bytes(glb(document, binary))
        character, _ = read_character(self.path / "rig.glb")
        sheet = with_effectors(propose_sheet(character), character, {"leftHand": "ctl.hand", "rightHand": "plain"})
        result = retarget(self.motion, character, sheet)
        wrist, control, grip = (
            result.positions[:, character.index(n)]
            for n in (sheet.pairs["leftHand"].targets[0], "ctl.hand", "ctl.grip")
        )
        np.testing.assert_allclose(np.linalg.norm(control - wrist, axis=1), 0.04, atol=1e-6)
        np.testing.assert_allclose(np.linalg.norm(grip - control, axis=1), 0.05, atol=1e-6)
        self.assertGreater(np.ptp(control, axis=0).max(), 0.1)
        played = PlayedCharacter("rig", character, sheet)
        made = package_character("rig", self.motion, played, (self.path / "rig.glb").read_bytes())
        (file,) = made.files("glb", Fraction(120))
        file.write(self.path / "out.glb")
        apart = file.compare(self.path / "out.glb")
        self.assertNotIn("fault", apart)
        self.assertLess(apart["position_mm"], 0.1)
        _, joints, _, skeleton = read_gltf_motion(self.path / "out.glb")
        np.testing.assert_allclose(joints[:, skeleton.names.index("ctl.hand")], control, atol=1e-5)
        places = read_gltf_effectors(self.path / "out.glb")["plain"][
            0
        ]  # half as large under its rig, yet where the hand is
        right = result.positions[:, character.index(sheet.pairs["rightHand"].targets[0])]
        np.testing.assert_allclose(places, right, atol=1e-5)


class Alone(unittest.TestCase):
    """A map that names effectors only: the rig does the rest."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name)
        body = built(Build(height_m=1.2, spine=5))
        truth = {t: b for b, t in enumerate(body.truth) if t}
        names, parents, places = list(named(body.names, "plain")), list(body.parents), list(body.positions)
        behind = {"leftKnee": ("leftLowerLeg", 0.4), "rightElbow": ("rightLowerArm", -0.3)}
        for effector, name in CONTROLS.items():
            bone, ahead = behind.get(effector, (effector, 0.0))
            names.append(name.replace(".", "_"))
            parents.append(0)
            places.append(body.positions[truth[bone]] + [0, 0, ahead])
        self.truth = truth
        rig = SimpleNamespace(parents=np.array(parents), positions=np.array(places))
        write_usd(self.path / "rig.usda", rig, names, 0.01, "Z")
        self.effectors = [{"effector": e, "target": n.replace(".", "_")} for e, n in CONTROLS.items()]

    def run_command(self, *words):
        said = StringIO()
        with redirect_stderr(said):
            status = main([str(w) for w in words])
        return status, said.getvalue()

    def test_controls_move_by_the_size_of_the_rig_and_feet_stand_where_they_stand(self):
        motion, _ = stepping(4)
        character, _ = read_character(self.path / "rig.usda")
        sheet = sheet_from({"pairs": [], "effectors": self.effectors}, character, "the map")
        self.assertEqual(sheet_from(sheet.document(), character, "again").effectors, sheet.effectors)
        result = retarget(motion, character, sheet)
        foot = result.positions[:, character.index("ctl_foot")]
        rest = character.positions[character.index("ctl_foot")]
        joint, _ = motion_joints(motion)
        names = motion.skeleton.names
        own = joint[:, names.index("leftFoot")]
        still = np.linalg.norm(np.diff(own, axis=0), axis=1) < 1e-9
        self.assertGreater(still.sum(), 100)
        self.assertLess(np.linalg.norm(np.diff(foot, axis=0), axis=1)[still].max(), 1e-9)
        self.assertAlmostEqual(foot[:, 1].min(), rest[1], delta=0.005)
        self.assertGreater(foot[:, 1].min(), sole_height(character))
        size = result.figures["scale"]
        self.assertAlmostEqual(np.ptp(foot[:, 1]), size * np.ptp(own[:, 1]), delta=1e-4)
        spine = [b for b, n in enumerate(character.names) if n not in {r["target"] for r in self.effectors}]
        np.testing.assert_array_equal(
            result.positions[:, spine], np.repeat(character.positions[None, spine], len(motion), 0)
        )
        knee = result.positions[:, character.index("pole_knee")]
        self.assertTrue((knee[:, 2] > foot[:, 2]).all())

    def test_from_the_command_line_to_usd(self):
        write_bvh(self.path / "body.bvh", performance(seconds=2))
        at = self.path
        self.assertEqual(self.run_command("character", "--file", at / "rig.usda", "--out", at / "c.json")[0], 0)
        (at / "m.json").write_text(
            json.dumps({"otrevo": "map/1", "character": "rig", "pairs": [], "effectors": self.effectors})
        )
        base = ("retarget", "--body", at / "body.bvh", "--character", at / "c.json", "--map", at / "m.json")
        status, said = self.run_command(*base, "--out", at / "o.usda", "--report", at / "r.json")
        self.assertEqual((status, said), (0, ""))
        self.assertEqual(json.loads((at / "r.json").read_text())["frames"], 240)
        self.assertEqual(self.run_command(*base, "--out", at / "o.bvh")[0], 0)
        status, said = self.run_command(*base, "--out", at / "o.vrma")
        self.assertEqual(status, 2)
        self.assertIn("hips", said)

    def test_what_is_wrong_is_said(self):
        character, _ = read_character(self.path / "rig.usda")
        whole = propose_sheet(character).document()
        hips = whole["pairs"][0]["target"][0]
        for rows, words in (
            ([{"effector": "tail", "target": "x"}], "'tail' is none"),
            ([{"effector": "hips", "target": ""}], "a name of 1 to 200"),
            ([{"effector": "hips", "target": 7}], "a name of 1 to 200"),
            ([{"effector": "hips", "target": "a"}, {"effector": "leftHand", "target": "a"}], "there twice"),
            ([{"effector": "hips", "target": hips}], "moved as a joint already"),
            ("hips", "expected a list"),
        ):
            with self.assertRaises(InputError, msg=words) as raised:
                sheet_from(whole | {"effectors": rows}, character, "the map")
            self.assertIn(words, str(raised.exception))
        with self.assertRaises(InputError) as raised:
            sheet_from({"pairs": []}, character, "the map")
        self.assertIn("hips is not mapped", str(raised.exception))
        with self.assertRaises(InputError):
            settings_from({"effectors": "all"}, "s.json")
