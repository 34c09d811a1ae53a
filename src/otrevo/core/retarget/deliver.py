"""A character's take as it leaves: written over the character's own file, read back and compared."""

import tempfile
from pathlib import Path

import numpy as np

from otrevo.core.characters.face import driven_values, propose_shapes
from otrevo.core.characters.write_gltf import read_gltf_motion, read_gltf_shapes, write_gltf_motion
from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.formats.contract import PackageCharacter, PackageFile
from otrevo.core.motion_rate import at_rate
from otrevo.core.retarget.transfer import retarget

SKINNED = (".glb", ".vrm")  # what takes an animation and can be shown in a browser


def package_character(name, motion, character, sheet, given, face=None):
    """The PackageCharacter for a performer's Motion; given: the bytes of the character's own file, a GLB or VRM.

    face: Channels of the performer's face shapes, from the motion's first frame on, or None.
    """

    def files(rate):
        result = retarget(at_rate(motion, rate), character, sheet)
        shapes = {}
        if face is not None and len(face.times_s):
            times = np.arange(len(result)) / float(result.rate)
            shapes = driven_values(propose_shapes(character.shapes), face.times_s, face.values, list(face.names), times)

        def write(path):
            with _on_disk(character, given) as own:
                write_gltf_motion(path, own, result, name, shapes)

        def compare(path):
            back = read_gltf_shapes(path) if shapes else {}
            apart = max((float(np.abs(back[s] - v).max()) for s, v in shapes.items()), default=0.0)
            return difference(path, result) | ({"shape_value": apart} if shapes else {})

        return [PackageFile(f"_{name}.glb", write, compare)]

    scale, rotation = character.from_file
    return PackageCharacter(name, files, float(scale), tuple(float(v) for v in rotation))


def written_over(result, given, name):
    """The bytes of a GLB: a CharacterMotion over its character's own file, given as bytes."""
    with tempfile.TemporaryDirectory(prefix="otrevo-character-") as folder, _on_disk(result.character, given) as own:
        path = Path(folder) / "moving.glb"
        write_gltf_motion(path, own, result, name)
        return path.read_bytes()


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


def difference(path, result):
    """Largest distance of a joint (mm) and of a rotation (degrees) between a GLB read back and the CharacterMotion written to it."""
    character = result.character
    _, joints, turns, _ = read_gltf_motion(path)
    if len(joints) != len(result):
        return {"fault": f"{len(joints)} of {len(result)} frames came back"}
    change = matrix_from_quaternion(character.from_file[1])
    back = character.from_file[0] * joints @ change.T
    wanted = matrix_from_quaternion(result.rotations)
    trace = np.einsum("tbij,tbij->tb", change @ turns, wanted)
    # the angle by its sine: near zero the cosine tells nothing
    apart = np.linalg.norm((change @ turns) - wanted, axis=(2, 3)) / np.sqrt(8.0)
    degrees = np.degrees(2 * np.arcsin(np.clip(apart, 0, 1)))
    return {
        "position_mm": 1000 * float(np.abs(back - result.positions).max()),
        "rotation_deg": float(degrees.max()) if (trace > -1).all() else 180.0,
    }
