"""Character files of other people's habits: GLB, VRM, USD and BVH, saved oddly, and files that are broken."""

import json
import struct
import tempfile
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.characters.character import read_character
from otrevo.core.characters.guarded import read_guarded
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.characters.write_usd import read_usd_motion, write_usd_motion
from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.errors import InputError
from otrevo.core.passes.contract import PlayedCharacter
from otrevo.core.retarget.adopt import adopt
from otrevo.core.retarget.deliver import package_character
from otrevo.core.retarget.transfer import retarget
from otrevo.core.sim.characters.build import Build, built
from otrevo.core.sim.characters.files import FOLDER
from otrevo.core.sim.characters.habits import named
from tests.core.test_retarget import performance


def parts(data):
    """(document, binary) of a GLB."""
    size = struct.unpack("<I", data[12:16])[0]
    return json.loads(data[20 : 20 + size]), data[28 + size :]


def glb(document, binary):
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(binary))
    return (
        head + struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(binary), 0x004E4942) + binary
    )


def write_usd(path, body, names, metres=0.01, up="Z"):
    """A UsdSkel character without a skin, standing at its bind pose."""
    from pxr import Gf, Sdf, Usd, UsdGeom, UsdSkel, Vt

    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, metres)
    UsdGeom.SetStageUpAxis(stage, up)
    change = np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]]) if up == "Z" else np.eye(3)
    root = UsdSkel.Root.Define(stage, Sdf.Path("/crew"))
    skeleton = UsdSkel.Skeleton.Define(stage, root.GetPath().AppendChild("bones"))
    paths = []
    for b, name in enumerate(names):
        parent = body.parents[b]
        paths.append(name if parent < 0 else f"{paths[parent]}/{name}")
    at = body.positions @ change.T / metres
    skeleton.CreateJointsAttr(paths)
    moved = [Gf.Matrix4d(1).SetTranslate(Gf.Vec3d(*map(float, p))) for p in at]
    skeleton.CreateBindTransformsAttr(Vt.Matrix4dArray(moved))
    local = [p - (at[body.parents[b]] if body.parents[b] >= 0 else 0) for b, p in enumerate(at)]
    skeleton.CreateRestTransformsAttr(
        Vt.Matrix4dArray([Gf.Matrix4d(1).SetTranslate(Gf.Vec3d(*map(float, p))) for p in local])
    )
    stage.GetRootLayer().Save()


def write_bvh(path, body, names, order="ZXY", scale=100.0, folded=False):
    """A BVH of a Built body: as it stands, or folded up along +Y at zero and standing in its first frame."""
    lines, values, world = ["HIERARCHY"], [], {}

    def joint(b, depth):
        parent, pad = body.parents[b], "  " * depth
        offset = body.positions[b] - (body.positions[parent] if parent >= 0 else 0)
        turn = Rotation.identity()
        if folded and parent >= 0:  # the parent's turn brings +Y to where this bone really lies
            offset = world[parent][0].inv().apply(offset)
        world[b] = (world[parent][0] if parent >= 0 else turn, offset)
        children = np.flatnonzero(body.parents == b)
        if folded and len(children):
            way = body.positions[children[0]] - body.positions[b]
            target = Rotation.align_vectors([way / np.linalg.norm(way)], [[0, 1, 0]])[0]
            turn = world[b][0].inv() * target
            world[b] = (target, offset)
        lines.append(f"{pad}{'ROOT' if parent < 0 else 'JOINT'} {names[b]}\n{pad}{{")
        lines.append(f"{pad}OFFSET {' '.join(f'{v * scale:.6f}' for v in offset)}")
        position = "6 Xposition Yposition Zposition" if parent < 0 else "3"
        lines.append(f"{pad}CHANNELS {position} {' '.join(f'{c}rotation' for c in order)}")
        values.extend([0.0] * 3 if parent < 0 else [])
        values.extend(turn.as_euler(order, degrees=True))
        for c in children:
            joint(int(c), depth + 1)
        if not len(children):
            lines.append(f"{pad}End Site {{ OFFSET 0 {0.05 * scale} 0 }}")
        lines.append(f"{pad}}}")

    joint(0, 0)
    lines += ["MOTION", "Frames: 1", "Frame Time: 0.033333", " ".join(f"{v:.6f}" for v in values)]
    path.write_text("\n".join(lines))


class InFolder(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name)

    def mapped(self, path, body, names):
        """The Character, once its map has been compared with the truth."""
        character, proposal = read_character(path)
        sheet = propose_sheet(character, proposal)
        for b, truth in enumerate(body.truth):
            if truth and not truth.startswith("~") and truth not in ("spine", "neck"):
                self.assertEqual(sheet.pairs[truth].targets[0], names[b], f"{path.name}: {truth}")
        return character


class Kinds(InFolder):
    def test_usd_by_its_own_unit_and_axis(self):
        body = built(Build(height_m=1.6, arms_down_deg=40, spine=4))
        names = [n.replace(" ", "_") for n in named(body.names, "shin")]
        for ending, metres, up in ((".usda", 0.01, "Z"), (".usdc", 1.0, "Y"), (".usda", 0.01, "Y")):
            path = self.path / f"crew{len(list(self.path.iterdir()))}{ending}"
            write_usd(path, body, names, metres, up)
            character = self.mapped(path, body, names)
            self.assertEqual((character.up, character.unit_m, character.unit_evidence), (f"+{up}", metres, "metadata"))
            self.assertLess(
                np.abs(character.positions - body.positions[[body.names.index(n) for n in body.names]]).max(), 1e-4
            )

    def test_usd_takes_an_animation_that_usdskel_reads_back_and_that_can_be_adopted(self):
        body = built(Build(height_m=1.5, arms_down_deg=40, spine=4))
        names = [n.replace(" ", "_") for n in named(body.names, "shin")]
        write_usd(self.path / "crew.usda", body, names, 0.01, "Z")
        character, proposal = read_character(self.path / "crew.usda")
        motion = performance("semaphore", 2)
        result = retarget(motion, character, propose_sheet(character, proposal))
        write_usd_motion(self.path / "out.usda", self.path / "crew.usda", result, "slate 7")
        times, joints, turns, _ = read_usd_motion(self.path / "out.usda")
        change = matrix_from_quaternion(character.from_file[1])
        self.assertLess(1000 * np.abs(character.from_file[0] * joints @ change.T - result.positions).max(), 0.1)
        self.assertLess(np.abs(change @ turns - matrix_from_quaternion(result.rotations)).max(), 1e-4)
        self.assertAlmostEqual(times[-1], (len(result) - 1) / 120, places=5)
        self.assertEqual(float(adopt(self.path / "out.usda").motion.rate), 120)

    def test_bvh_in_every_unit_folded_up_or_not(self):
        body = built(Build(height_m=1.8, arms_down_deg=15))
        names = [n.replace(" ", "_") for n in named(body.names, "anatomy")]
        for scale, unit in ((100.0, 0.01), (1.0, 1.0), (1 / 0.0254, 0.0254), (1000.0, 0.001)):
            write_bvh(self.path / "crew.bvh", body, names, "ZYX", scale)
            character = self.mapped(self.path / "crew.bvh", body, names)
            self.assertAlmostEqual(character.unit_m, unit)
            self.assertEqual(character.rest_from, "zero")
        write_bvh(self.path / "folded.bvh", body, names, folded=True)
        character = self.mapped(self.path / "folded.bvh", body, names)
        self.assertEqual(character.rest_from, "first_frame")
        self.assertLess(
            np.abs(character.positions - body.positions[[list(names).index(n) for n in character.names]]).max(), 1e-3
        )

    def test_vrm_tables_are_certain(self):
        document, binary = parts((FOLDER / "gull.glb").read_bytes())
        proposal = read_character(FOLDER / "gull.glb")[1]
        numbers = {bone: int(p.targets[0]) for bone, p in proposal.pairs.items() if bone not in ("chest", "neck")}
        document["extensions"] = {
            "VRMC_vrm": {"humanoid": {"humanBones": {b: {"node": n} for b, n in numbers.items()}}}
        }
        (self.path / "one.vrm").write_bytes(glb(document, binary))
        character, found = read_character(self.path / "one.vrm")
        self.assertEqual(found.pairs["leftUpperArm"].confidence, 1.0)
        self.assertNotIn("neck", found.pairs)
        self.assertEqual(character.facing, "+Z")
        old = {"humanoid": {"humanBones": [
            {"bone": b.replace("ThumbProximal", "ThumbIntermediate").replace("ThumbMetacarpal", "ThumbProximal"), "node": n}
            for b, n in numbers.items()
        ]}}  # fmt: skip
        document["extensions"] = {"VRM": old}
        (self.path / "zero.vrm").write_bytes(glb(document, binary))
        found = read_character(self.path / "zero.vrm")[1]
        self.assertEqual(found.pairs["leftThumbMetacarpal"].targets, [numbers["leftThumbMetacarpal"]])

    def test_a_glb_saved_in_mid_motion_rests_as_its_skin_says(self):
        document, binary = parts((FOLDER / "keeper.glb").read_bytes())
        rng = np.random.default_rng(3)
        for node in document["nodes"][:-1]:
            turn = Rotation.from_rotvec(rng.normal(0, 0.35, 3)) * Rotation.from_quat(node["rotation"])
            node["rotation"] = turn.as_quat().tolist()
        (self.path / "moving.glb").write_bytes(glb(document, binary))
        moving, still = read_character(self.path / "moving.glb")[0], read_character(FOLDER / "keeper.glb")[0]
        self.assertEqual(moving.rest_from, "bind")
        self.assertIn("mid-motion", " ".join(moving.notes))
        height = moving.positions - moving.positions[0]
        self.assertLess(np.abs(height - (still.positions - still.positions[0])).max(), 1e-4)

    def test_of_two_skeletons_the_larger_is_read_and_it_is_said(self):
        document, binary = parts((FOLDER / "gull.glb").read_bytes())
        shift = len(document["nodes"])
        copies = [json.loads(json.dumps(n)) for n in document["nodes"][:30]]
        for node in copies:
            node["name"] += " twin"
            node["children"] = [c + shift for c in node.get("children", []) if c < 30] or None
            if node["children"] is None:
                del node["children"]
        document["nodes"] += copies
        document["scenes"][0]["nodes"].append(shift)
        document["skins"].append({"joints": list(range(shift, shift + 30))})
        (self.path / "two.glb").write_bytes(glb(document, binary))
        character, proposal = read_character(self.path / "two.glb")
        self.assertEqual(len(character.names), len(read_character(FOLDER / "gull.glb")[0].names))
        self.assertIn("2 skeletons", " ".join(character.notes))
        self.assertIn("leftHand", proposal.pairs)

    def test_wrong_metadata_is_seen_and_said(self):
        document, binary = parts((FOLDER / "keeper.glb").read_bytes())
        document["nodes"].append(
            {"name": "holder", "scale": [100, 100, 100], "children": document["scenes"][0]["nodes"][1:]}
        )
        document["scenes"][0]["nodes"] = [document["scenes"][0]["nodes"][0], len(document["nodes"]) - 1]
        (self.path / "giant.glb").write_bytes(glb(document, binary))
        character = read_character(self.path / "giant.glb")[0]
        self.assertEqual(character.unit_m, 0.01)
        self.assertNotEqual(character.unit_evidence, "metadata")
        self.assertIn("by what the file says", " ".join(character.notes))
        self.assertAlmostEqual(character.height_m, read_character(FOLDER / "keeper.glb")[0].height_m, places=3)


class Broken(InFolder):
    def refused(self, name, data, words):
        (self.path / name).write_bytes(data)
        apart = name == "no.usdc"  # a process for each would take the test's time
        with self.assertRaises(InputError) as caught:
            read_guarded(self.path / name, name) if apart else read_character(self.path / name)
        said = str(caught.exception)
        self.assertIn(words, said)
        self.assertIn(name, said)
        self.assertNotIn("\n", said)

    def changed(self, change):
        document, binary = parts((FOLDER / "gull.glb").read_bytes())
        return glb(change(document) or document, binary)

    def test_each_is_one_sentence(self):
        def loop(d):
            d["nodes"][5]["children"] = [0]

        def beyond(d):
            d["accessors"][0]["count"] = 10**5

        def out_of_range(d):
            d["skins"][0]["joints"][3] = 999

        def boneless(d):
            d["skins"][0]["joints"] = []

        def nan(d):
            d["nodes"][3]["rotation"] = [float("nan")] * 4
            del d["skins"][0]["inverseBindMatrices"]

        def bufferless(d):
            d["buffers"] = [{"byteLength": 10, "uri": "../../secret.bin"}]

        def table(d):
            names = {"nodes": [{"name": "table", "children": [1, 2, 3, 4]}, *({"name": f"leg {i}"} for i in range(4))]}
            for i, node in enumerate(names["nodes"][1:]):
                node["translation"] = [i % 2, -0.7, i // 2]
            return {"asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], **names}

        whole = (FOLDER / "gull.glb").read_bytes()
        for name, data, words in (
            ("loop.glb", self.changed(loop), "tree"),
            ("beyond.glb", self.changed(beyond), "beyond its buffer"),
            ("range.glb", self.changed(out_of_range), "nodes[999]"),
            ("boneless.glb", self.changed(boneless), "no bones"),
            ("nan.glb", self.changed(nan), "NaN"),
            ("buffers.glb", self.changed(bufferless), "secret.bin"),
            ("table.glb", self.changed(table), "two legs and two arms"),
            ("cut.glb", whole[: len(whole) // 2], "expected a whole file"),
            ("text.glb", b"hello there", "cannot be read as glTF"),
            ("deep.gltf", b'{"a":' * 100000, "cannot be read as glTF"),
            ("nothing.bvh", b"HIERARCHY\nMOTION\n", "nothing.bvh"),
            ("stop.bvh", b"HIERARCHY ROOT a { OFFSET 0 0 0 CHANNELS 3 Xrot", "malformed"),
            ("no.usda", b"#usda 1.0\n", "no skeleton"),
            ("no.usdc", b"PXR-USDC" + bytes(100), "cannot be read as USD"),
        ):  # fmt: skip
            with self.subTest(name):
                self.refused(name, data, words)

    def test_a_description_of_another_shape_is_refused_with_the_place(self):
        def put(*path, value):
            def change(d):
                for step in path[:-1]:
                    d = d[step]
                d[path[-1]] = value

            return change

        for path, value, words in (
            (("nodes",), {}, "(nodes)"), (("skins", 0), None, "(skins[0])"), (("asset",), [1], "(asset)"),
            (("nodes", 1, "children"), ["hips"], "nodes[1].children[0]"), (("buffers",), [[]], "buffers[0]"),
            (("meshes", 0, "primitives", 0, "attributes"), 7, "attributes"), (("bufferViews", 0, "byteOffset"), "x", "byteOffset"),
            (("accessors", 0, "componentType"), [5126], "componentType"), (("skins", 0, "inverseBindMatrices"), True, "inverseBind"),
            (("skins", 0, "inverseBindMatrices"), 1, "bind matrices that are not 4 by 4"),
            (("meshes", 0, "primitives", 0, "attributes", "JOINTS_0"), True, "accessors[True]"),
        ):  # fmt: skip
            with self.subTest(str(path)):
                self.refused("shape.glb", self.changed(put(*path, value=value)), words)

    def test_odd_but_understandable_is_read(self):
        def odd(d):
            d["nodes"][2]["name"] = "x" * 10_000
            d["nodes"][3]["name"] = d["nodes"][4]["name"]
            d["nodes"][6]["name"] = None

        (self.path / "odd.glb").write_bytes(self.changed(odd))
        document, sheet = read_guarded(self.path / "odd.glb", "odd.glb")
        names = [b["name"] for b in document["bones"]]
        self.assertEqual(len(set(names)), len(names))
        self.assertLess(max(map(len, names)), 1100)
        self.assertTrue(sheet["pairs"])


class Delivered(InFolder):
    """Characters of every kind leave in the formats that their own file allows, and read back as they were computed."""

    def made(self, path, motion):
        character, proposal = read_character(path)
        on = PlayedCharacter("crew", character, propose_sheet(character, proposal))
        return package_character("crew", motion, on, path.read_bytes())

    def test_usd_and_bvh_characters(self):
        body = built(Build(height_m=1.4, arms_down_deg=40, spine=4))
        names = [n.replace(" ", "_") for n in named(body.names, "shin")]
        write_usd(self.path / "crew.usda", body, names, 0.01, "Z")
        write_bvh(self.path / "plain.bvh", body, names)
        write_bvh(self.path / "folded.bvh", body, names, folded=True)
        motion = performance("semaphore", 2)
        allowed = {
            "crew.usda": {"usd", "character_bvh", "vrma"},
            "plain.bvh": {"character_bvh", "vrma"},
            "folded.bvh": {"character_bvh", "vrma"},
        }
        for name, kinds in allowed.items():
            made = self.made(self.path / name, motion)
            for kind in ("glb", "usd", "character_bvh", "vrma"):
                with self.subTest(f"{name} {kind}"):
                    files = made.files(kind, Fraction(30))
                    self.assertEqual(bool(files), kind in kinds)
                    for file in files:
                        out = self.path / f"out_{kind}{file.ending}"
                        file.write(out)
                        difference = file.compare(out)
                        self.assertNotIn("fault", difference)
                        self.assertLess(difference["position_mm"], 0.1)
                        self.assertLess(difference["rotation_deg"], 0.01)

    def test_what_comes_back_otherwise_is_told(self):
        motion = performance("semaphore", 2)
        made = self.made(FOLDER / "wick.glb", motion)
        (glb,) = made.files("glb", Fraction(30))
        (other,) = made.files("glb", Fraction(24))
        other.write(self.path / "other.glb")
        self.assertIn("of 60 frames came back", glb.compare(self.path / "other.glb")["fault"])
        moved = replace(motion, root_position_m=motion.root_position_m + [0.05, 0, 0])
        (aside,) = self.made(FOLDER / "wick.glb", moved).files("glb", Fraction(30))
        aside.write(self.path / "aside.glb")
        self.assertGreater(glb.compare(self.path / "aside.glb")["position_mm"], 10)
