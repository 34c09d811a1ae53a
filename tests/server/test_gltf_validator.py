"""What leaves as GLB and VRMA, and the shipped characters, before the Khronos validator: it finds no error."""

import json
import subprocess
import tempfile
from fractions import Fraction
from pathlib import Path

import numpy as np
from django.conf import settings
from django.test import SimpleTestCase

from otrevo.core.characters.character import read_character
from otrevo.core.characters.face import propose_shapes
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.formats.contract import Channels
from otrevo.core.passes.contract import PlayedCharacter
from otrevo.core.retarget.deliver import package_character
from otrevo.core.sim.characters.files import FOLDER
from tests.core.test_character_face import with_expressions
from tests.core.test_retarget import performance


def found(*paths):
    """{file name: {"errors", "warnings"}} by the validator."""
    words = ["node", "validate-gltf.mjs", *map(str, paths)]
    done = subprocess.run(words, cwd=Path(settings.HOME) / "web", capture_output=True, text=True, check=True)
    return json.loads(done.stdout)


class Validator(SimpleTestCase):
    def test_no_error_and_no_warning_in_what_leaves(self):
        motion = performance(seconds=3)
        face = Channels(np.arange(90) / 30, np.random.default_rng(2).random((90, len(FACE_SHAPES))), tuple(FACE_SHAPES))
        with tempfile.TemporaryDirectory() as folder:
            at = Path(folder)
            sources = [FOLDER / f"{name}.glb" for name in ("keeper", "wick", "gull")]
            with_expressions(at / "crew.vrm", 1)
            paths = list(sources)
            for source in [*sources, at / "crew.vrm"]:
                character, proposal = read_character(source)
                drivers = tuple(propose_shapes(character.shapes, character.expressions))
                on = PlayedCharacter(source.stem, character, propose_sheet(character, proposal), drivers)
                made = package_character(source.stem, motion, on, source.read_bytes(), face)
                for kind in ("glb", "vrma"):
                    for file in made.files(kind, Fraction(30)):
                        paths.append(at / f"take{file.ending}")
                        file.write(paths[-1])
                        difference = file.compare(paths[-1])
                        self.assertLess(difference["position_mm"], 0.1)
                        self.assertLess(difference["rotation_deg"], 0.01)
                        self.assertLess(difference.get("shape_value", 0.0), 1e-4)
            self.assertEqual(len(paths), 3 + 4 * 2)
            for name, issues in found(*paths).items():
                self.assertEqual(issues["errors"], [], name)
                if not name.endswith("crew.glb"):
                    self.assertEqual(issues["warnings"], [], name)

    def test_it_does_find_errors(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "broken.glb"
            data = (FOLDER / "gull.glb").read_bytes()
            self.assertIn(b'"VEC4"', data)
            path.write_bytes(data.replace(b'"VEC4"', b'"VEC5"'))
            self.assertTrue(found(path)["broken.glb"]["errors"])
