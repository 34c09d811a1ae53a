"""A character: the skeleton of an animators' file in our axes and metres, with what was found out about the file. `character/1`."""

from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from otrevo.core.characters.bvh import read_character_bvh
from otrevo.core.characters.file_skeleton import FileSkeleton, bone_rotations
from otrevo.core.characters.frame import AXES
from otrevo.core.characters.gltf import read_gltf
from otrevo.core.characters.mapping import propose
from otrevo.core.characters.usd import read_usd
from otrevo.core.conventions import matrix_from_quaternion, quaternion_from_matrix
from otrevo.core.errors import InputError

READERS = {
    ".glb": read_gltf, ".gltf": read_gltf, ".vrm": read_gltf, ".bvh": read_character_bvh,
    ".usda": read_usd, ".usdc": read_usd, ".usdz": read_usd, ".usd": read_usd,
}  # fmt: skip
GLTF = (".glb", ".gltf", ".vrm")
SKEWED = 1e-3  # how unlike a bone's three scales are before it is noted
FEET = ("leftFoot", "leftToes", "rightFoot", "rightToes")


@dataclass(frozen=True)
class Character:
    """Bones (B) at rest in our axes and metres, facing +Z; every parent comes before its children.

    source: the file's name; unit_m: metres per unit of the file, unit_evidence: how that is known; up and facing: the
    file's own axes; from_file: (scale, rotation (4,)) that take the file's numbers to ours. rotations (B, 4): bone to world.
    ends (B, 3): where leaves end, NaN where nothing says so. floor_m, sole_m: heights of the lowest skin and of the lowest
    skin of the feet, or None; top_m: of the highest skin, joint or end. held (B,): how much skin hangs on a bone, NaN without a skin. humanoid: {VRM bone: name}.
    nodes: the bones' numbers in a glTF file, empty for other files. expressions: of a VRM file, {name: [(shape, weight), ...]}.
    """

    name: str
    source: str
    unit_m: float
    unit_evidence: str
    up: str
    facing: str
    rest_from: str
    from_file: tuple
    floor_m: float | None
    sole_m: float | None
    top_m: float
    names: tuple[str, ...]
    parents: np.ndarray
    positions: np.ndarray
    rotations: np.ndarray
    ends: np.ndarray
    held: np.ndarray
    shapes: tuple[str, ...] = ()
    humanoid: dict = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    nodes: tuple[int, ...] = ()
    expressions: dict = field(default_factory=dict)

    def index(self, name):
        return self.names.index(name)

    @property
    def height_m(self):
        """From the floor to the top."""
        if self.floor_m is not None:
            return self.top_m - self.floor_m
        tips = np.concatenate([self.positions, self.ends[np.isfinite(self.ends).all(axis=1)]])
        return self.top_m - float(tips[:, 1].min())

    def document(self):
        """The `character/1` document."""
        bones = []
        for b, name in enumerate(self.names):
            row = {
                "name": name, "parent": int(self.parents[b]), "rest_position_m": _rounded(self.positions[b]),
                "rest_rotation_xyzw": _rounded(self.rotations[b], 9),
            }  # fmt: skip
            if np.isfinite(self.ends[b]).all():
                row["end_position_m"] = _rounded(self.ends[b])
            if np.isfinite(self.held[b]):
                row["skin"] = round(float(self.held[b]), 3)
            if self.nodes:
                row["node"] = self.nodes[b]
            bones.append(row)
        expressions = {n: [{"shape": s, "weight": w} for s, w in binds] for n, binds in self.expressions.items()}
        return ({"expressions": expressions} if expressions else {}) | {
            "otrevo": "character/1", "name": self.name, "source": self.source, "units_m": self.unit_m,
            "unit_evidence": self.unit_evidence, "up": self.up, "facing": self.facing, "rest_from": self.rest_from,
            "from_file": {"scale": self.from_file[0], "rotation_xyzw": _rounded(self.from_file[1], 9)},
            "floor_m": self.floor_m, "sole_m": self.sole_m, "top_m": self.top_m, "bones": bones, "shapes": list(self.shapes),
            "humanoid": self.humanoid, "notes": list(self.notes),
        }  # fmt: skip

    def as_file(self):
        """The same as a FileSkeleton that stands in our axes, for the map."""
        matrices = np.tile(np.eye(4), (len(self.names), 1, 1))
        matrices[:, :3, :3] = matrix_from_quaternion(self.rotations)
        matrices[:, :3, 3] = self.positions
        return FileSkeleton(
            self.source, self.names, self.parents, matrices, self.ends, self.held, shapes=self.shapes, metres=1.0, up="+Y",
            facing="+Z", humanoid={k: self.index(v) for k, v in self.humanoid.items() if v in self.names},
            settled=True,
        )  # fmt: skip


def _rounded(values, digits=7):
    return [round(float(v), digits) + 0.0 for v in values]


def read_file_skeleton(path):
    """The FileSkeleton of a character file of any kind that is read. Raises InputError in one sentence."""
    path = Path(path)
    reader = READERS.get(path.suffix.lower())
    if reader is None:
        raise InputError(f"{path.name}: expected a character as {', '.join(sorted(READERS))}.")
    if not path.is_file():
        raise InputError(f"{path.name}: there is no such file; expected a character.")
    return reader(path)


def read_character(path, unit_m=None, up=None, facing=None):
    """(Character, Proposal) of a character file. unit_m, up, facing: as a person says them, where the file is misread.

    Raises InputError in one sentence for what cannot be understood.
    """
    skeleton = read_file_skeleton(path)
    proposal = propose(skeleton)
    frame = proposal.frame
    if up or facing:
        frame = _turned(frame, up or frame.up, facing or frame.facing, skeleton.source)
    if unit_m:
        frame = replace(frame, metres=float(unit_m), evidence="metadata")
    feet = [t for b in FEET if b in proposal.pairs for t in proposal.pairs[b].targets]
    return _in_our_axes(skeleton, frame, Path(path).stem, feet), proposal


def _turned(frame, up, facing, where):
    if up not in AXES or facing not in AXES or abs(AXES[up] @ AXES[facing]) > 0.5:
        raise InputError(f"{where}: up {up} and facing {facing}; expected two different axes such as +Y and +Z.")
    rotation = np.stack([np.cross(AXES[up], AXES[facing]), AXES[up], AXES[facing]])
    return replace(frame, up=up, facing=facing, rotation=rotation)


def _in_our_axes(skeleton, frame, name, feet):
    notes = [*skeleton.notes, *frame.notes]
    linear = skeleton.matrices[:, :3, :3]
    scales = np.linalg.norm(linear, axis=1)
    if (
        np.abs(scales - scales.mean(axis=1, keepdims=True))
        > SKEWED * np.maximum(scales.mean(axis=1, keepdims=True), 1e-12)
    ).any():
        notes.append("some bones are scaled unevenly; their rotations are read without it")
    if (np.linalg.det(linear) < 0).any():
        notes.append("some bones are mirrored by a negative scale; their rotations are read without it")
    turn = bone_rotations(linear)
    change, scale = frame.rotation, frame.metres
    positions, ends = scale * skeleton.positions @ change.T, scale * skeleton.ends @ change.T
    floor = sole = None
    skin = scale * skeleton.skin @ change.T
    if len(skin):
        floor = float(skin[:, 1].min())
        standing = np.isin(skeleton.skin_bone, feet)
        sole = float(skin[standing, 1].min()) if standing.any() else floor
    elif np.isfinite(ends).all(axis=1).any():
        floor = sole = float(np.nanmin(ends[:, 1]))
    return Character(
        name, skeleton.source, scale, frame.evidence, frame.up, frame.facing, skeleton.rest_from,
        (scale, quaternion_from_matrix(change)), floor, sole, float(np.nanmax([p[:, 1].max() for p in (positions, ends, skin) if len(p)])), skeleton.names, skeleton.parents, positions,
        quaternion_from_matrix(change @ turn), ends, skeleton.held, skeleton.shapes,
        {k: skeleton.names[v] for k, v in skeleton.humanoid.items()}, tuple(dict.fromkeys(notes)),
        tuple(int(n) for n in skeleton.nodes) if skeleton.source.lower().endswith(GLTF) else (), skeleton.expressions,
    )  # fmt: skip


def _expressions(given):
    """{name: [(shape, weight), ...]} as a document says it; what is malformed is left out."""
    rows = given.items() if isinstance(given, dict) else ()
    return {
        str(name): [(str(b["shape"]), float(b["weight"])) for b in binds if isinstance(b, dict) and {"shape", "weight"} <= b.keys()]
        for name, binds in rows if isinstance(binds, list)
    }  # fmt: skip


def _nodes(rows):
    nodes = [r.get("node") for r in rows]
    return tuple(nodes) if all(isinstance(n, int) and n >= 0 for n in nodes) else ()


def character_from(document, where):
    """The Character of a `character/1` document. Raises InputError naming the place in it."""

    def numbers(value, count, place):
        if (
            not isinstance(value, list)
            or len(value) != count
            or not all(isinstance(v, (int, float)) and np.isfinite(v) for v in value)
        ):
            raise InputError(f"{where}: {place}: expected {count} finite numbers.")
        return [float(v) for v in value]

    rows = document.get("bones")
    if not isinstance(rows, list) or len(rows) < 2 or not all(isinstance(r, dict) for r in rows):
        raise InputError(f"{where}: bones: expected a list of at least two bones.")
    names, parents, positions, rotations, ends, held = [], [], [], [], [], []
    for i, row in enumerate(rows):
        name, parent = row.get("name"), row.get("parent")
        if not isinstance(name, str) or name in names:
            raise InputError(f"{where}: bones[{i}]: expected a name of its own.")
        if not isinstance(parent, int) or not -1 <= parent < i:
            raise InputError(f"{where}: bones[{i}]: parent {parent!r}; expected the number of an earlier bone, or -1.")
        names.append(name)
        parents.append(parent)
        positions.append(numbers(row.get("rest_position_m"), 3, f"bones[{i}].rest_position_m"))
        rotation = np.array(numbers(row.get("rest_rotation_xyzw"), 4, f"bones[{i}].rest_rotation_xyzw"))
        if abs(np.linalg.norm(rotation) - 1) > 0.01:
            raise InputError(f"{where}: bones[{i}].rest_rotation_xyzw: expected a unit quaternion.")
        rotations.append(rotation / np.linalg.norm(rotation))
        ends.append(
            numbers(row["end_position_m"], 3, f"bones[{i}].end_position_m")
            if row.get("end_position_m")
            else [np.nan] * 3
        )
        held.append(float(row["skin"]) if isinstance(row.get("skin"), (int, float)) else np.nan)
    from_file = document.get("from_file") if isinstance(document.get("from_file"), dict) else {}
    scale = float(from_file.get("scale") or document.get("units_m") or 1.0)
    rotation = numbers(from_file.get("rotation_xyzw", [0, 0, 0, 1]), 4, "from_file.rotation_xyzw")
    return Character(
        str(document.get("name", "")), str(document.get("source", "")), float(document.get("units_m") or 1.0),
        str(document.get("unit_evidence", "guessed")), str(document.get("up", "+Y")), str(document.get("facing", "+Z")),
        str(document.get("rest_from", "zero")), (scale, np.array(rotation)), document.get("floor_m"), document.get("sole_m"),
        float(document["top_m"]) if isinstance(document.get("top_m"), (int, float)) else max(p[1] for p in positions),
        tuple(names), np.array(parents, dtype=np.int64), np.array(positions), np.array(rotations), np.array(ends),
        np.array(held), tuple(map(str, document.get("shapes") or [])), dict(document.get("humanoid") or {}),
        tuple(map(str, document.get("notes") or [])), _nodes(rows), _expressions(document.get("expressions")),
    )  # fmt: skip
