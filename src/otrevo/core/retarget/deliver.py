"""A character's take as it leaves: over the character's own file or on its skeleton, read back and compared."""

import tempfile
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np

from otrevo.core.characters.face import driven_values, face_at
from otrevo.core.characters.write_bvh import write_bvh_motion
from otrevo.core.characters.write_gltf import read_gltf_effectors, read_gltf_motion, read_gltf_shapes, write_gltf_motion
from otrevo.core.characters.write_usd import (
    read_usd_effectors,
    read_usd_motion,
    read_usd_shapes,
    usd_names,
    write_usd_motion,
)
from otrevo.core.characters.write_vrma import humanoid, write_vrma
from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.formats.bvh import local_matrices, motion_difference, open_bvh, read_bvh, write_bvh
from otrevo.core.formats.contract import PackageCharacter, PackageFile
from otrevo.core.motion_rate import at_rate
from otrevo.core.retarget.transfer import retarget

SKINNED = (".glb", ".vrm")  # what takes an animation and can be shown in a browser
USD = (".usd", ".usda", ".usdc", ".usdz")


def package_character(name, motion, played, given, face=None, settings=None, props=None):
    """The PackageCharacter for a performer's Motion; played: the PlayedCharacter; given: the bytes of the character's own file.

    face: Channels of the performer's face shapes, from the motion's first frame on, or None; settings: RetargetSettings. props: {name: (Motion, points (K, 3))} of the
    props in the take, of the motion's frames; with the character they leave as BVH.
    """
    character, source = played.character, Path(played.character.source).suffix.lower()

    @cache
    def on_character(rate):
        own = at_rate(motion, rate)
        shown = None
        if face is not None and len(face.times_s):
            times = np.arange(len(own)) / float(rate)
            shown = (list(face.names), face_at(face.times_s, face.values, times), played.drivers)
        return retarget(own, character, played.sheet, settings, face=shown, props=props_at(rate))

    @cache
    def props_at(rate):
        out = {}
        for prop, (own, points) in (props or {}).items():
            at = at_rate(own, rate)
            out[prop] = np.concatenate([at.root_position_m, at.rotation_local[:, 0]], axis=1), points
        return out

    def over_the_file(ending, write_motion, read_motion, read_shapes, read_effectors, named):
        def make(result):
            shapes = {}
            if face is not None and len(face.times_s):
                times = np.arange(len(result)) / float(result.rate)
                shapes = driven_values(played.drivers, face.times_s, face.values, list(face.names), times)

            def write(path):
                with _on_disk(character, given) as own:
                    write_motion(path, own, result, name, shapes)

            def compare(path):
                back = read_shapes(path) if shapes else {}
                apart = max((float(np.abs(back[s] - v).max()) for s, v in shapes.items()), default=0.0)
                own = named([t for t in result.effectors if t.bone < 0])
                found = read_effectors(path) if own else {}
                both = _worse(difference(read_motion(path), result), _effectors_apart(found, own, character))
                return both | ({"shape_value": apart} if shapes else {})

            return PackageFile(f"_{name}{ending}", write, compare)

        return make

    def bvh(result):
        def write(path):
            with _on_disk(character, given) as own:
                write_bvh_motion(path, result, own)

        def compare(path):
            times, joints, turns = _bvh_motion(path)
            count = len(character.names)
            own = dict(enumerate((t for t in result.effectors if t.bone < 0), start=count))
            change = matrix_from_quaternion(character.from_file[1])
            found = {
                k: (joints[:, k], turns[:, k] @ change.T @ matrix_from_quaternion(np.array(t.rest)))
                for k, t in own.items()
                if k < joints.shape[1]
            }
            bones = difference((times, joints[:, :count], turns[:, :count]), result, source == ".bvh")
            return _worse(bones, _effectors_apart(found, own, character))

        return PackageFile(f"_{name}.bvh", write, compare)

    def vrma(result):
        return PackageFile(
            f"_{name}.vrma",
            lambda path: write_vrma(path, result, played.sheet),
            lambda path: _vrma_difference(path, result, played.sheet),
        )

    def carried(rate):
        result = on_character(rate)
        for prop, (own, _) in (props or {}).items():
            moved = replace(at_rate(own, rate), root_position_m=result.carried[prop][:, :3])
            yield PackageFile(
                f"_{name}_{prop}.bvh",
                lambda path, moved=moved: write_bvh(path, moved),
                lambda path, moved=moved: dict(zip(("position_mm", "rotation_deg"), motion_difference(moved, read_bvh(path)), strict=True)),
            )  # fmt: skip

    glb = over_the_file(".glb", write_gltf_motion, read_gltf_motion, read_gltf_shapes, read_gltf_effectors, _by_name)
    usd = over_the_file(".usdc", write_usd_motion, read_usd_motion, read_usd_shapes, read_usd_effectors, usd_names)
    sources = {"glb": (glb, SKINNED), "usd": (usd, USD), "character_bvh": (bvh, None), "vrma": (vrma, None)}

    def files(kind, rate):
        if kind == "bvh":
            return list(carried(rate))
        make, only = sources[kind]
        if kind == "character_bvh" and (character.parents < 0).sum() != 1:
            return []  # a BVH holds one skeleton
        if kind == "vrma" and not played.sheet.pairs:
            return []  # effectors alone are no humanoid
        return [make(on_character(rate))] if only is None or source in only else []

    scale, rotation = character.from_file
    return PackageCharacter(name, files, float(scale), tuple(float(v) for v in rotation))


class _on_disk:
    """The character's own file in a folder of its own, for readers that want a path."""

    def __init__(self, character, given):
        self.ending, self.given = Path(character.source).suffix.lower(), given

    def __enter__(self):
        self.folder = tempfile.TemporaryDirectory(prefix="otrevo-character-")
        path = Path(self.folder.name) / f"character{self.ending}"
        path.write_bytes(self.given)
        return path

    def __exit__(self, *_):
        self.folder.cleanup()


def difference(read, result, turns_told=True):
    """Largest distance of a joint (mm) and of a rotation (degrees) between a file read back and the CharacterMotion written to it.

    read: (times, joints (T, B, 3), rotations (T, B, 3, 3), ...) in the file's axes and unit; turns_told: its rotations are the
    bones' own, and not those since the rest pose.
    """
    character = result.character
    _, joints, turns, *_ = read
    if len(joints) != len(result):
        return {"fault": f"{len(joints)} of {len(result)} frames came back"}
    change = matrix_from_quaternion(character.from_file[1])
    back = character.from_file[0] * joints @ change.T
    wanted = matrix_from_quaternion(result.rotations)
    found = change @ turns
    if not turns_told:
        found = found @ change.T @ matrix_from_quaternion(character.rotations)[None]
    return {
        "position_mm": round(1000 * float(np.abs(back - result.positions).max()), 6),
        "rotation_deg": round(_apart(found, wanted), 6),
    }


def _by_name(tracks):
    return {t.name: t for t in tracks}


def _effectors_apart(found, tracks, character):
    """How far effectors that were read back, {key: (places (T, 3), rotations (T, 3, 3))} in the file's axes, are from {key: EffectorTrack}."""
    back = tracks.keys() & found.keys()
    if len(back) != len(tracks):
        return {"fault": f"{len(back)} of {len(tracks)} effectors came back"}
    change, scale = matrix_from_quaternion(character.from_file[1]), character.from_file[0]
    out = {"position_mm": 0.0, "rotation_deg": 0.0}
    for key, track in tracks.items():
        places, turns = found[key]
        moved = 1000 * float(np.abs(scale * places @ change.T - track.positions).max())
        out = _worse(out, {"position_mm": round(moved, 6),
                           "rotation_deg": round(_apart(change @ turns, matrix_from_quaternion(track.rotations)), 6)})  # fmt: skip
    return out


def _worse(a, b):
    """Of two comparisons the worse, figure by figure; a fault leads."""
    fault = a.get("fault") or b.get("fault")
    return {"fault": fault} if fault else {key: max(a[key], b[key]) for key in a}


def _apart(a, b):
    """The largest angle between rotations (..., 3, 3), degrees."""
    between = a.swapaxes(-1, -2) @ b
    odd = np.linalg.norm(between - between.swapaxes(-1, -2), axis=(-2, -1)) / (2 * np.sqrt(2))
    return float(np.degrees(np.arcsin(np.clip(odd, 0, 1))).max())


def _bvh_motion(path):
    """(times, joints, rotations) of a BVH, in its own axes and unit."""
    tree, rate, values, _ = open_bvh(path)
    world = local_matrices(tree, values)
    for bone, parent in enumerate(tree.parents):
        if parent >= 0:
            world[:, bone] = world[:, parent] @ world[:, bone]
    return np.arange(len(world)) / float(rate), world[..., :3, 3], world[..., :3, :3]


def _vrma_difference(path, result, sheet):
    """The hips' place and every bone's rotation in a VRMA read back, against what was written."""
    names, _, _, rotations = humanoid(result, sheet)
    _, joints, turns, skeleton = read_gltf_motion(path)
    if len(joints) != len(result):
        return {"fault": f"{len(joints)} of {len(result)} frames came back"}
    order = [skeleton.names.index(n) for n in names]
    hips = result.positions[:, result.character.index(sheet.pairs["hips"].targets[0])]
    return {
        "position_mm": round(1000 * float(np.abs(joints[:, skeleton.names.index("hips")] - hips).max()), 6),
        "rotation_deg": round(_apart(turns[:, order], matrix_from_quaternion(rotations)), 6),
    }
