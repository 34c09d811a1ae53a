"""Face shapes found under prefixes, cases and side marks, and their values through a GLB."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from otrevo.cli.__main__ import main
from otrevo.core.characters.face import driven_values, drivers_from, propose_shapes
from otrevo.core.characters.write_gltf import read_gltf_shapes
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.formats.bvh import write_bvh
from otrevo.core.formats.face_csv import write_face_csv
from otrevo.core.sim.characters.files import FOLDER
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
        from otrevo.core.characters.character import read_character

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
