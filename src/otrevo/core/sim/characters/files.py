"""The made-up characters of the production, as GLB files: `python -m otrevo.core.sim.characters.files FOLDER`.

Keeper: 1.79 m, heavy, T-pose, metres, clean names. Wick: 1.31 m child, A-pose, centimetres, Z up, prefixed names with side marks at
the end, four spine bones, twist bones. Gull: a creature of 1.0 m: short legs, big head, three fingers, two spine bones, a
tail, bones rolled at random, names that say nothing.
"""

import json
import struct
import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.sim.characters.build import Build, built
from otrevo.core.sim.characters.habits import named
from otrevo.core.sim.characters.skin import capsules_of, face_shapes, mesh, weights

FOLDER = Path(__file__).parent / "glb"


@dataclass(frozen=True)
class Made:
    """build: the skeleton; stout: factor on its girth; habit: of naming; unit_m, z_up: of the file; rolled: bones' own axes at random;
    head: its size against the height; colour: of the skin (linear); shapes: {what a shape does: its name in the file}."""

    name: str
    build: Build
    stout: float
    habit: str
    unit_m: float
    z_up: bool
    rolled: bool
    head: float
    colour: tuple
    shapes: dict


_PLAIN = {"jaw open": "jawOpen", "smile left": "mouthSmileLeft", "smile right": "mouthSmileRight", "brow left": "browOuterUpLeft",
          "brow right": "browOuterUpRight", "blink left": "eyeBlinkLeft", "blink right": "eyeBlinkRight", "pucker": "mouthPucker",
          "cheeks": "cheekPuff"}  # fmt: skip
CHARACTERS = (
    Made("keeper", Build(1.777, wide=1.18, head=1.05, spine=3, eyes=True), 1.35, "camel", 1.0, False, False, 1.0, (0.36, 0.30, 0.24, 1.0), _PLAIN),
    Made(
        "wick", Build(1.343, legs=0.86, arms=0.88, head=1.35, arms_down_deg=42, legs_apart_deg=4, spine=4, twist=1, eyes=True, extra=("root",)),
        0.95, "prefixed", 0.01, True, False, 1.3, (0.45, 0.22, 0.18, 1.0),
        {k: f"wick_face_{v[0].upper()}{v[1:]}".replace("Left", "_L").replace("Right", "_R") for k, v in _PLAIN.items()},
    ),
    Made(
        "gull", Build(
            1.052, legs=0.62, arms=1.1, head=1.9, hand=1.4, spine=2, fingers=("Thumb", "Index", "Middle"), eyes=True, extra=("tail",)),
        1.2, "numbers only", 1.0, False, True, 1.9, (0.55, 0.57, 0.60, 1.0),
        {"jaw open": "beak", "blink left": "lid_1", "blink right": "lid_2", "brow left": "crest_1", "brow right": "crest_2", "cheeks": "puff"},
    ),
)  # fmt: skip


def girth(made):
    """{bone ending: (radius at its start, at its end)} in metres."""
    h, s = made.build.height_m, made.stout
    r = {
        "hips": (0.056, 0.054), "spine": (0.058, 0.064), "neck": (0.027, 0.026), "head": (0.05, 0.05),
        "Shoulder": (0.030, 0.030), "UpperArm": (0.028, 0.023), "LowerArm": (0.022, 0.016), "Hand": (0.015, 0.015),
        "UpperLeg": (0.045, 0.032), "LowerLeg": (0.031, 0.022), "Foot": (0.022, 0.020), "Toes": (0.019, 0.013), "tail": (0.024, 0.014),
        "Proximal": (0.0062, 0.0058), "Intermediate": (0.0058, 0.0052), "Distal": (0.0052, 0.0045), "Metacarpal": (0.008, 0.0068),
    }  # fmt: skip
    thin = ("head", "neck", "Proximal", "Intermediate", "Distal", "Metacarpal")
    grow = made.build.hand
    return {
        k: tuple(h * v * ((s if k not in thin else 1.0) * (grow if k in thin[2:] else 1.0)) for v in pair)
        for k, pair in r.items()
    }


def write_character(path, made, seed=7):
    """Write one made-up character as GLB; returns (names in the file, truth) of its bones."""
    body = built(made.build)
    names = named(body.names, made.habit, seed)
    capsules = capsules_of(body, girth(made), made.build.height_m, made.head)
    vertices, faces, normals = mesh(capsules, made.build.height_m)
    joints, weight = weights(vertices, capsules, len(names), made.build.height_m)
    head = body.positions[body.names.index("head")]
    shapes = face_shapes(vertices, head, made.build.height_m, made.head)
    eyes = [
        _eye(body.positions[body.names.index(n)], 0.0105 * made.build.height_m * made.head, body.names.index(n))
        for n in ("leftEye", "rightEye")
    ]
    change = np.eye(3) / made.unit_m
    if made.z_up:
        change = np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]]) @ change  # ours to the file's: Y up becomes Z up
    rng = np.random.default_rng(seed)
    turn = (
        Rotation.random(len(names), random_state=rng).as_matrix()
        if made.rolled
        else np.tile(np.eye(3), (len(names), 1, 1))
    )
    glb = _Glb()
    world = np.tile(np.eye(4), (len(names), 1, 1))
    world[:, :3, :3], world[:, :3, 3] = turn, body.positions @ change.T
    nodes = []
    for b, name in enumerate(names):
        p = body.parents[b]
        local = np.linalg.inv(world[p]) @ world[b] if p >= 0 else world[b]
        node = {
            "name": name,
            "translation": _list(local[:3, 3]),
            "rotation": _list(Rotation.from_matrix(local[:3, :3]).as_quat()),
        }
        children = [c for c in range(len(names)) if body.parents[c] == b]
        nodes.append(node | ({"children": children} if children else {}))
    inverse = np.linalg.inv(world).transpose(0, 2, 1).reshape(-1, 16)
    bind = glb.put(inverse, "<f4", "MAT4")
    targets = [s for s in made.shapes if s in shapes]
    primitives = [
        glb.primitive(
            vertices @ change.T,
            faces,
            _turned(normals, change),
            joints,
            weight,
            0,
            [shapes[s] @ change.T for s in targets],
        )
    ]
    for x, f, n, bone in eyes:
        one = np.tile([bone, 0, 0, 0], (len(x), 1))
        primitives.append(
            glb.primitive(
                x @ change.T,
                f,
                _turned(n, change),
                one,
                np.tile([1.0, 0, 0, 0], (len(x), 1)),
                1,
                [np.zeros_like(x)] * len(targets),
            )
        )
    mesh_node = {"name": made.name, "mesh": 0, "skin": 0}
    roots = [b for b in range(len(names)) if body.parents[b] < 0]
    document = {
        "asset": {"version": "2.0", "generator": "Otrevo"}, "scene": 0, "scenes": [{"nodes": [len(names), *roots]}],
        "nodes": [*nodes, mesh_node], "skins": [{"joints": list(range(len(names))), "inverseBindMatrices": bind}],
        "meshes": [{"primitives": primitives, "weights": [0.0] * len(targets), "extras": {"targetNames": [made.shapes[s] for s in targets]}}],
        "materials": [
            {"name": "skin", "pbrMetallicRoughness": {"baseColorFactor": list(made.colour), "metallicFactor": 0.0, "roughnessFactor": 0.8}},
            {"name": "eyes", "pbrMetallicRoughness": {"baseColorFactor": [0.03, 0.03, 0.04, 1.0], "metallicFactor": 0.0, "roughnessFactor": 0.3}},
        ],
        "accessors": glb.accessors, "bufferViews": glb.views, "buffers": [{"byteLength": len(glb.data)}],
    }  # fmt: skip
    Path(path).write_bytes(glb.file(document))
    return names, body.truth


def _turned(normals, change):
    n = normals @ (change / np.cbrt(np.linalg.det(change))).T
    return n / np.linalg.norm(n, axis=1, keepdims=True)


def _eye(middle, radius, bone):
    """A ball: (points, faces, normals, bone)."""
    rings, around = 9, 14
    theta, phi = np.meshgrid(
        np.linspace(0, np.pi, rings), np.linspace(0, 2 * np.pi, around, endpoint=False), indexing="ij"
    )
    n = np.stack([np.sin(theta) * np.cos(phi), np.cos(theta), np.sin(theta) * np.sin(phi)], -1).reshape(-1, 3)
    faces = []
    for i in range(rings - 1):
        for j in range(around):
            a, b = i * around + j, i * around + (j + 1) % around
            faces += [[a, b, a + around], [b, b + around, a + around]]
    return middle + radius * n, np.array(faces), n, bone


def _list(values):
    return [round(float(v), 9) for v in values]


class _Glb:
    def __init__(self):
        self.data, self.views, self.accessors = bytearray(), [], []

    def _view(self, values):
        self.data.extend(b"\0" * (-len(self.data) % 4))
        self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": values.nbytes})
        self.data.extend(values.tobytes())
        return len(self.views) - 1

    def put(self, values, dtype, kind, bounds=False):
        values = np.ascontiguousarray(values, dtype=dtype)
        component = {"<f4": 5126, "<u2": 5123, "<u4": 5125, "u1": 5121}[dtype]
        accessor = {"bufferView": self._view(values), "componentType": component, "count": len(values), "type": kind}
        if bounds:
            accessor |= {"min": values.min(axis=0).tolist(), "max": values.max(axis=0).tolist()}
        self.accessors.append(accessor)
        return len(self.accessors) - 1

    def sparse(self, values):
        """A face shape: only the points that move."""
        values = np.ascontiguousarray(values, dtype="<f4")
        index = np.flatnonzero(np.abs(values).max(axis=1) > 0)
        accessor = {
            "componentType": 5126,
            "count": len(values),
            "type": "VEC3",
            "min": values.min(axis=0).tolist(),
            "max": values.max(axis=0).tolist(),
        }
        if len(index):
            accessor["sparse"] = {
                "count": len(index), "indices": {"bufferView": self._view(index.astype("<u4")), "componentType": 5125},
                "values": {"bufferView": self._view(values[index])},
            }  # fmt: skip
        self.accessors.append(accessor)
        return len(self.accessors) - 1

    def primitive(self, x, faces, normals, joints, weight, material, targets):
        attributes = {
            "POSITION": self.put(x, "<f4", "VEC3", True), "NORMAL": self.put(normals, "<f4", "VEC3"),
            "JOINTS_0": self.put(joints, "u1", "VEC4"), "WEIGHTS_0": self.put(weight, "<f4", "VEC4"),
        }  # fmt: skip
        return {
            "attributes": attributes, "indices": self.put(faces.reshape(-1), "<u4", "SCALAR"), "material": material,
            "targets": [{"POSITION": self.sparse(d)} for d in targets],
        }  # fmt: skip

    def file(self, document):
        text = json.dumps(document, separators=(",", ":")).encode()
        text += b" " * (-len(text) % 4)
        data = bytes(self.data) + b"\0" * (-len(self.data) % 4)
        head = struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(data))
        return (
            head + struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(data), 0x004E4942) + data
        )


if __name__ == "__main__":
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else FOLDER
    target.mkdir(exist_ok=True, parents=True)
    for one in CHARACTERS:
        write_character(target / f"{one.name}.glb", one)
        print(f"{one.name}.glb {(target / f'{one.name}.glb').stat().st_size / 1e6:.2f} MB")
