"""Face shapes found under prefixes, cases and side marks, and their values through a GLB."""

import json
import struct
import tempfile
import unittest
from pathlib import Path

import numpy as np

from otrevo.cli.__main__ import main
from otrevo.core.characters.character import character_from, read_character
from otrevo.core.characters.face import ShapeDriver, driven_values, drivers_from, propose_shapes
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.characters.write_gltf import read_gltf_shapes
from otrevo.core.characters.write_usd import read_usd_shapes
from otrevo.core.conventions import quaternion_multiply
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.formats.bvh import write_bvh
from otrevo.core.formats.face_csv import write_face_csv
from otrevo.core.retarget.transfer import retarget
from otrevo.core.sim.characters.build import Build, built
from otrevo.core.sim.characters.files import FOLDER
from otrevo.core.sim.characters.habits import named
from tests.core.test_character_files import write_usd
from tests.core.test_retarget import performance

HABITS = {
    "as they are": lambda n: n,
    "prefixed": lambda n: f"hero_face_{n}",
    "namespaced": lambda n: f"crew:Head.{n}",
    "shouting": lambda n: n.upper(),
    "low": lambda n: n.lower(),
    "sides last": lambda n: n.replace("Left", "_L").replace("Right", "_R"),
    "sides first": lambda n: ("L_" if n.endswith("Left") else "R_" if n.endswith("Right") else "") + n.removesuffix("Left").removesuffix("Right"),
    "snake": lambda n: "".join(f"_{c.lower()}" if c.isupper() else c for c in n),
    "prefixed with a side": lambda n: f"bs_{n.replace('Left', 'L').replace('Right', 'R')}",
}  # fmt: skip


class Names(unittest.TestCase):
    def test_all_52_under_every_habit(self):
        for habit, name in HABITS.items():
            with self.subTest(habit):
                names = [name(n) for n in FACE_SHAPES]
                found = {d.shape: d.target for d in propose_shapes(names)}
                self.assertEqual(found, dict(zip(FACE_SHAPES, names, strict=True)))

    def test_what_is_no_common_shape_is_left_alone(self):
        self.assertEqual(propose_shapes(["beak", "crest_1", "smirk", "jaw", "left"]), [])

    def test_the_shipped_characters(self):
        self.assertEqual(len(propose_shapes(read_character(FOLDER / "wick.glb")[0].shapes)), 9)
        self.assertEqual(len(propose_shapes(read_character(FOLDER / "keeper.glb")[0].shapes)), 9)
        self.assertEqual(propose_shapes(read_character(FOLDER / "gull.glb")[0].shapes), [])


class Values(unittest.TestCase):
    def test_gains_mixtures_limits_and_a_lost_face(self):
        drivers = drivers_from(
            {"shapes": [{"shape": "jawOpen", "target": "beak", "gain": 0.5}, {"shape": "mouthPucker", "target": "beak", "offset": 0.1, "high": 0.8}]},
            ("beak",), "m.json",
        )  # fmt: skip
        times = np.array([0.0, 1.0, 2.0])
        values = np.array([[0.0, 0.0], [np.nan, 1.0], [1.0, 1.0]])
        found = driven_values(drivers, times, values, ["jawOpen", "mouthPucker"], np.array([0.0, 1.0, 2.0]))["beak"]
        np.testing.assert_allclose(found, [0.1, 1.0, 1.0])
        for wrong in (
            [{"shape": "grin", "target": "beak"}],
            [{"shape": "jawOpen", "target": "nose"}],
            [{"shape": "jawOpen", "target": "beak", "gain": "much"}],
            3,
        ):
            with self.assertRaises(InputError):
                drivers_from({"shapes": wrong}, ("beak",), "m.json")

    def test_values_come_back_from_the_glb(self):
        with tempfile.TemporaryDirectory() as folder:
            at = Path(folder)
            (at / "wick.glb").write_bytes((FOLDER / "wick.glb").read_bytes())
            write_bvh(at / "body.bvh", performance(seconds=2))
            times = np.arange(60) / 30
            values = np.random.default_rng(3).random((60, len(FACE_SHAPES)))
            write_face_csv(at / "face.csv", times, values)
            run = lambda *words: self.assertEqual(main([str(w) for w in words]), 0)  # noqa: E731
            run("character", "--file", at / "wick.glb", "--out", at / "c.json")
            run("map", "--character", at / "c.json", "--out", at / "m.json")
            run("retarget", "--body", at / "body.bvh", "--character", at / "c.json", "--map", at / "m.json", "--face", at / "face.csv",
                "--rate", "30", "--out", at / "o.glb")  # fmt: skip
            shapes = read_gltf_shapes(at / "o.glb")
            blink = values[:, FACE_SHAPES.index("eyeBlinkLeft")]
            self.assertLess(np.abs(shapes["wick_face_EyeBlink_L"] - blink).max(), 1e-4)

    def test_values_come_back_from_usd(self):
        from pxr import Sdf, Usd, UsdGeom, UsdSkel, Vt

        body = built(Build(height_m=1.7))
        with tempfile.TemporaryDirectory() as folder:
            at = Path(folder)
            write_usd(at / "crew.usda", body, [n.replace(" ", "_") for n in named(body.names, "shin")])
            stage = Usd.Stage.Open(str(at / "crew.usda"))
            head = UsdGeom.Mesh.Define(stage, Sdf.Path("/crew/head"))
            head.CreatePointsAttr([(0, 0, 160), (5, 0, 160), (0, 5, 165)])
            binding = UsdSkel.BindingAPI.Apply(head.GetPrim())
            names = ["Face_eyeBlink_L", "Face_eyeBlink_R", "Face_jawOpen", "Face_crest"]
            binding.CreateBlendShapesAttr(Vt.TokenArray(names))
            stage.GetRootLayer().Save()
            del stage
            write_bvh(at / "body.bvh", performance(seconds=1))
            values = np.random.default_rng(4).random((30, len(FACE_SHAPES)))
            write_face_csv(at / "face.csv", np.arange(30) / 30, values)
            run = lambda *words: self.assertEqual(main([str(w) for w in words]), 0)  # noqa: E731
            run("character", "--file", at / "crew.usda", "--out", at / "c.json")
            run("map", "--character", at / "c.json", "--out", at / "m.json")
            run("retarget", "--body", at / "body.bvh", "--character", at / "c.json", "--map", at / "m.json", "--face", at / "face.csv",
                "--rate", "30", "--out", at / "o.usda")  # fmt: skip
            shapes = read_usd_shapes(at / "o.usda")
            self.assertEqual(set(shapes), set(names[:3]))
            for name, common in zip(names[:3], ("eyeBlinkLeft", "eyeBlinkRight", "jawOpen"), strict=True):
                self.assertLess(np.abs(shapes[name] - values[:, FACE_SHAPES.index(common)]).max(), 1e-4)


PRESETS = {  # VRM 1.0 expression: what has to move it
    "aa": "jawOpen", "ou": "mouthPucker", "oh": "mouthFunnel", "ee": "mouthStretchLeft", "ih": "mouthLowerDownRight",
    "blinkLeft": "eyeBlinkLeft", "blinkRight": "eyeBlinkRight", "happy": "mouthSmileLeft", "angry": "browDownRight",
    "sad": "mouthFrownLeft", "surprised": "eyeWideRight", "lookUp": "eyeLookUpLeft", "lookLeft": "eyeLookOutLeft",
    "relaxed": "eyeSquintLeft", "lookDown": "eyeLookDownRight", "lookRight": "eyeLookInLeft",
}  # fmt: skip
OLD = {"aa": "a", "ou": "u", "oh": "o", "ee": "e", "ih": "i", "blinkLeft": "blink_l", "blinkRight": "blink_r", "happy": "joy",
       "sad": "sorrow", "relaxed": "fun"}  # fmt: skip


def with_expressions(path, version, custom=None):
    """Wick as a VRM whose shapes have names that say nothing; shape k is bound by the k-th of the expressions, at weight 0.8."""
    given = (FOLDER / "wick.glb").read_bytes()
    length = int.from_bytes(given[12:16], "little")
    document, rest = json.loads(given[20 : 20 + length]), given[20 + length :]
    mesh = next(i for i, m in enumerate(document["meshes"]) if m["primitives"][0].get("targets"))
    node = next(i for i, n in enumerate(document["nodes"]) if n.get("mesh") == mesh)
    count = len(document["meshes"][mesh]["primitives"][0]["targets"])
    chosen = list(custom or PRESETS)[:count]
    names = [f"fcl_{i:03d}" for i in range(count)]
    for m in document["meshes"]:
        m.setdefault("extras", {})["targetNames"] = names
    if version == 1:
        rows = {n: {"morphTargetBinds": [{"node": node, "index": i, "weight": 0.8}]} for i, n in enumerate(chosen)}
        group = "custom" if custom else "preset"
        document.setdefault("extensions", {})["VRMC_vrm"] = {"specVersion": "1.0", "humanoid": {"humanBones": {}}, "expressions": {group: rows}}  # fmt: skip
    else:
        rows = [
            {"name": n, "presetName": OLD.get(n, n.lower()), "binds": [{"mesh": mesh, "index": i, "weight": 80}]}
            for i, n in enumerate(chosen)
        ]
        document.setdefault("extensions", {})["VRM"] = {
            "humanoid": {"humanBones": []},
            "blendShapeMaster": {"blendShapeGroups": rows},
        }
    document["extensionsUsed"] = list(document["extensions"])
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    body = struct.pack("<II", len(text), 0x4E4F534A) + text + rest
    path.write_bytes(struct.pack("<4sII", b"glTF", 2, 12 + len(body)) + body)
    return dict(zip(chosen, names, strict=False))


class Expressions(unittest.TestCase):
    def test_expressions_of_both_versions_drive_the_shapes_they_bind(self):
        with tempfile.TemporaryDirectory() as folder:
            for version in (1, 0):
                with self.subTest(version):
                    path = Path(folder) / f"crew{version}.vrm"
                    bound = with_expressions(path, version)
                    character = character_from(read_character(path)[0].document(), "c.json")
                    drivers = propose_shapes(character.shapes, character.expressions)
                    for expression, shape in bound.items():
                        own = [d for d in drivers if d.target == shape]
                        self.assertIn(PRESETS[expression], [d.shape for d in own], expression)
                        self.assertAlmostEqual(sum(d.gain for d in own), 0.8)
                    everything = np.ones((2, len(FACE_SHAPES)))
                    values = driven_values(drivers, np.arange(2.0), everything, list(FACE_SHAPES), np.arange(2.0))
                    for shape in bound.values():
                        np.testing.assert_allclose(values[shape], 0.8)

    def test_expressions_of_their_own_names_and_names_that_lead(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "crew.vrm"
            bound = with_expressions(path, 1, {"JawOpen": "", "crew_MouthSmileLeft": "", "smirk": ""})
            character = read_character(path)[0]
            drivers = {d.target: d.shape for d in propose_shapes(character.shapes, character.expressions)}
            self.assertEqual(drivers, {bound["JawOpen"]: "jawOpen", bound["crew_MouthSmileLeft"]: "mouthSmileLeft"})
        named = propose_shapes(("jawOpen", "other"), {"aa": [("other", 1.0)]})
        self.assertEqual([(d.shape, d.target) for d in named], [("jawOpen", "jawOpen")], "not opened twice")
        blinks = {"blink": [("both", 1.0)], "blinkLeft": [("l", 1.0)], "blinkRight": [("r", 1.0)]}
        self.assertEqual({d.target for d in propose_shapes(("both", "l", "r"), blinks)}, {"l", "r"})


class Bones(unittest.TestCase):
    """Gull's face has no shapes of common names; its eyes and jaw are bones."""

    def test_eyes_and_jaw_turn_where_no_shape_shows_them(self):
        motion = performance("semaphore", 1)
        character, proposal = read_character(FOLDER / "gull.glb")
        sheet = propose_sheet(character, proposal)
        names, values = list(FACE_SHAPES), np.zeros((len(motion), len(FACE_SHAPES)))
        half = len(motion) // 2
        for shape, column in (("eyeLookOutLeft", 0.8), ("eyeLookInRight", 0.8), ("jawOpen", 0.5)):
            values[half:, names.index(shape)] = column
        plain = retarget(motion, character, sheet)
        result = retarget(motion, character, sheet, face=(names, values, []))
        turned = quaternion_multiply(result.rotations, plain.rotations * [-1, -1, -1, 1])
        degrees = np.degrees(2 * np.arccos(np.clip(np.abs(turned[..., 3]), 0, 1)))
        own = [b for b in ("leftEye", "rightEye", "jaw") if b in sheet.pairs]
        self.assertIn("leftEye", own)
        for bone in own:
            b = character.index(sheet.pairs[bone].targets[0])
            self.assertLess(degrees[: half - 1, b].max(), 1e-4)
            np.testing.assert_allclose(degrees[half:, b], 0.5 * 22 if bone == "jaw" else 0.8 * 30, atol=1e-3)
        axis = turned[-1, [character.index(sheet.pairs[b].targets[0]) for b in ("leftEye", "rightEye")], :3]
        np.testing.assert_allclose(axis[0], axis[1], atol=1e-6, err_msg="both look to the same side")
        rest = [b for b in range(len(character.names)) if degrees[:, b].max() > 1e-4]
        moved = {character.names[b] for b in rest}
        self.assertEqual(moved, {sheet.pairs[b].targets[0] for b in own}, "and nothing else moves")
        shown = [ShapeDriver("jawOpen", "beak"), ShapeDriver("eyeLookUpLeft", "up")]
        kept = retarget(motion, character, sheet, face=(names, values, shown))
        np.testing.assert_array_equal(kept.rotations, plain.rotations, "shapes show them already")
