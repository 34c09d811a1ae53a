"""Characters in glTF 2.0: GLB, glTF with its buffers beside it, VRM 1.0 and 0.x.

Accessors are views into the file's buffers. A skin's inverse bind matrices lead over the nodes'
own transforms: a file saved in mid-motion keeps its rest pose there. Per the glTF 2.0 specification a skinned point is
sum(weight * joint world * inverse bind * point), so `joint world * inverse bind` is one matrix for all joints at rest.
"""

import json
import struct
from base64 import b64decode
from pathlib import Path

import numpy as np

from otrevo.core.characters.file_skeleton import MOST_BYTES, FileSkeleton, checked, ordered, unlike
from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.errors import InputError

_TYPES = {5120: "i1", 5121: "u1", 5122: "i2", 5123: "u2", 5125: "u4", 5126: "f4"}
_WIDTH = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
_MOST_VALUES = 60_000_000
_OLD_EXPRESSIONS = {  # VRM 0.x -> 1.0
    "a": "aa", "i": "ih", "u": "ou", "e": "ee", "o": "oh", "blink_l": "blinkLeft", "blink_r": "blinkRight", "joy": "happy",
    "sorrow": "sad", "fun": "relaxed", "lookup": "lookUp", "lookdown": "lookDown", "lookleft": "lookLeft", "lookright": "lookRight",
}  # fmt: skip
_OLD_THUMB = {"Proximal": "Metacarpal", "Intermediate": "Proximal", "Distal": "Distal"}  # VRM 0.x -> 1.0
BODY_BONES = 12  # a second tree of so many bones is a second skeleton
MOVED = 0.02  # share of the body's size by which nodes differ from their skin before the skin is said to lead
_PART = {"bufferView": int, "byteOffset": int, "componentType": int}  # of a buffer
# what has to be a list [of], an object {with}, a text or a whole number where it is there at all; the rest is looked at where it is used
_SHAPE = {
    "asset": {}, "extensions": {}, "nodes": [{"children": [int]}], "skins": [{"joints": [int], "inverseBindMatrices": int}],
    "meshes": [{"primitives": [{"attributes": {}, "targets": [{}]}], "weights": [object]}], "buffers": [{"uri": str}],
    "accessors": [_PART | {"type": str, "sparse": {"count": int, "indices": _PART, "values": _PART}}],
    "bufferViews": [{"byteOffset": int, "byteStride": int}], "animations": [{"channels": [{"target": {}}], "samplers": [{}]}],
}  # fmt: skip


class Entry(dict):
    """An object of the description, its fields as attributes too; what is not there is None."""

    def __getattr__(self, field):
        if field.startswith("_"):
            raise AttributeError(field)
        return self.get(field)


def _misshapen(value, shape, path=""):
    """The path below which a value has not its _SHAPE, or None."""
    if not isinstance(value, shape if isinstance(shape, type) else type(shape)) or (
        shape is int and isinstance(value, bool)
    ):
        return path
    inner = [(f"{path}[{i}]", v, shape[0]) for i, v in enumerate(value)] if isinstance(shape, list) else []
    if isinstance(shape, dict):
        inner = [(f"{path}.{k}", value[k], s) for k, s in shape.items() if value.get(k) is not None]
    return next((found for where, v, s in inner if (found := _misshapen(v, s, where)) is not None), None)


class GltfFile:
    """An opened file: its `document`, an Entry of lists of Entries, and its buffers as bytes. Raises InputError for what is broken."""

    def __init__(self, path):
        self.path, self.where = Path(path), Path(path).name
        if self.path.stat().st_size > MOST_BYTES:
            raise InputError(f"{self.where}: larger than {MOST_BYTES // 2**20} MB; expected a character, not a scene.")
        data = self.path.read_bytes()
        self.document, binary = self._cut(data)
        self.buffers = [self._buffer(i, b, binary) for i, b in enumerate(self.document.buffers or [])]

    def _cut(self, data):
        """(document, binary chunk or None)."""
        try:
            if data[:4] == b"glTF":
                version, length = struct.unpack("<II", data[4:12])
                if version != 2:
                    raise InputError(f"{self.where}: a GLB of version {version}; expected glTF 2.0.")
                if length > len(data):
                    raise InputError(f"{self.where}: {len(data)} of {length} bytes are there; expected a whole file.")
                chunks, at = {}, 12
                while at + 8 <= length:
                    size, kind = struct.unpack("<II", data[at : at + 8])
                    chunks.setdefault(kind, data[at + 8 : at + 8 + size])
                    at += 8 + size + (-size) % 4
                document, binary = json.loads(chunks[0x4E4F534A], object_hook=Entry), chunks.get(0x004E4942)
            else:
                document, binary = json.loads(data, object_hook=Entry), None
        except InputError:
            raise
        except (ValueError, KeyError, struct.error, RecursionError):
            raise InputError(
                f"{self.where}: it cannot be read as glTF; expected a GLB, VRM or glTF 2.0 file."
            ) from None
        if (wrong := _misshapen(document, _SHAPE)) is not None:
            raise InputError(f"{self.where}: its description is not glTF 2.0 ({wrong[1:] or 'no object'}).")
        if str((document.asset or {}).get("version", ""))[:1] != "2":
            raise InputError(f"{self.where}: expected glTF of version 2.0.")
        return document, binary

    def _buffer(self, number, buffer, binary):
        if buffer.uri is None:
            if binary is None:
                raise InputError(f"{self.where}: buffer {number} is missing; expected it inside the file.")
            return binary
        if buffer.uri.startswith("data:"):
            return b64decode(buffer.uri.partition(",")[2])
        beside = self.path.parent / Path(buffer.uri).name
        if not beside.is_file():
            raise InputError(f"{self.where}: the file '{beside.name}' that holds its buffer {number} is missing.")
        return beside.read_bytes()

    def item(self, kind, number):
        """One entry of a list of the document. Raises InputError for a number out of range."""
        entries = self.document.get(kind) or []
        if not isinstance(number, int) or isinstance(number, bool) or not 0 <= number < len(entries):
            raise InputError(f"{self.where}: it refers to {kind}[{number}], and has {len(entries)} of them.")
        return entries[number]

    def accessor(self, number):
        """The values (N, width) of an accessor, normalised integers as floats."""
        a = self.item("accessors", number)
        width, kind = _WIDTH.get(a.type), _TYPES.get(a.componentType)
        if width is None or kind is None or not isinstance(a.count, int) or not 0 <= a.count * width <= _MOST_VALUES:
            raise InputError(f"{self.where}: accessors[{number}] has a kind or count that glTF does not know.")
        dtype = np.dtype("<" + kind)
        if a.bufferView is None:
            values = np.zeros((a.count, width), dtype)
        else:
            values = self._view(number, a.bufferView, a.byteOffset or 0, dtype, a.count, width)
        if a.sparse is not None:
            count = a.sparse.count
            index = self._view(number, a.sparse.indices.bufferView, a.sparse.indices.byteOffset or 0,
                               np.dtype("<" + _TYPES[a.sparse.indices.componentType]), count, 1)[:, 0]  # fmt: skip
            values = values.copy()
            values[index] = self._view(
                number, a.sparse["values"].bufferView, a.sparse["values"].byteOffset or 0, dtype, count, width
            )
        if a.normalized and dtype.kind in "iu":
            return values / float(np.iinfo(dtype).max)
        return values

    def _view(self, number, view_number, offset, dtype, count, width):
        view = self.item("bufferViews", view_number)
        self.item("buffers", view.buffer)
        start, stride = (view.byteOffset or 0) + offset, view.byteStride or dtype.itemsize * width
        data = self.buffers[view.buffer]
        if count and (start < 0 or stride < 1 or start + (count - 1) * stride + dtype.itemsize * width > len(data)):
            raise InputError(f"{self.where}: accessors[{number}] reaches beyond its buffer of {len(data)} bytes.")
        if not count:
            return np.zeros((0, width), dtype)
        return np.ndarray((count, width), dtype, data, start, (stride, dtype.itemsize))


def node_tree(file):
    """(parents (N,), local matrices (N, 4, 4), world matrices (N, 4, 4), order) of all nodes of a GltfFile."""
    nodes = file.document.nodes or []
    parents = np.full(len(nodes), -1)
    for i, node in enumerate(nodes):
        for child in node.children or []:
            file.item("nodes", child)
            if parents[child] >= 0:
                raise InputError(f"{file.where}: nodes[{child}] has two parents; expected a tree of nodes.")
            parents[child] = i
    order = ordered(parents, file.where)
    local = np.array([_local(n, file.where, i) for i, n in enumerate(nodes)]).reshape(-1, 4, 4)
    world = local.copy()
    for i in order:
        if parents[i] >= 0:
            world[i] = world[parents[i]] @ local[i]
    return parents, local, world, order


def _local(node, where, number):
    try:
        if node.matrix:
            return np.array(node.matrix, dtype=float).reshape(4, 4).T
        out = np.eye(4)
        if node.rotation:
            quaternion = np.array(node.rotation, dtype=float)
            length = np.linalg.norm(quaternion)
            if quaternion.shape != (4,) or length == 0:
                raise ValueError
            out[:3, :3] = matrix_from_quaternion(quaternion / length) if np.isfinite(quaternion).all() else np.nan
        out[:3, :3] *= np.array(node.scale or [1.0, 1.0, 1.0], dtype=float)
        out[:3, 3] = node.translation or [0.0, 0.0, 0.0]
        return out
    except (TypeError, ValueError):
        raise InputError(f"{where}: nodes[{number}] has a position, rotation or scale that is none.") from None


def read_gltf(path):
    """The FileSkeleton of a GLB, glTF or VRM file. Raises InputError in one sentence for what cannot be understood."""
    file = GltfFile(path)
    gltf = file.document
    if not gltf.nodes:
        raise InputError(f"{file.where}: it holds no nodes, so no skeleton; expected a character.")
    parents, _, world, order = node_tree(file)
    bind = _bind_matrices(file)
    notes = []
    if gltf.skins and not bind:
        raise InputError(f"{file.where}: its skin has no bones; expected a skin that hangs on a skeleton.")
    humanoid, facing = _humanoid(file)
    joints = set(bind) | set(humanoid.values())
    if not joints:  # a skeleton without a skin: everything that is no picture, camera or light
        joints = {i for i, n in enumerate(gltf.nodes) if n.mesh is None and n.camera is None}
        joints = {i for i in joints if parents[i] >= 0 or any(parents[j] == i for j in joints)}
    bones = _one_skeleton([int(i) for i in order if int(i) in joints], parents, notes)
    number = {node: b for b, node in enumerate(bones)}
    bone_parents = np.array([_ancestor(parents, number, node) for node in bones], dtype=np.int64)
    matrices, rest_from = _rest(file, bones, world, bind, notes)
    ends = np.full((len(bones), 3), np.nan)
    for node, n in enumerate(gltf.nodes):  # a plain node below a leaf says where the leaf ends
        parent = parents[node]
        if node not in number and parent in number and n.mesh is None and not (bone_parents == number[parent]).any():
            b = number[parent]
            ends[b] = (
                (matrices[b] @ np.linalg.inv(world[parent]) @ world[node])[:3, 3] if _regular(world[parent]) else np.nan
            )
    skin, skin_bone, held = _skin(file, number, matrices, bind)
    return checked(
        FileSkeleton(
            file.where, unlike([gltf.nodes[i].name for i in bones]), bone_parents, matrices, ends, held, skin, skin_bone,
            _shapes(file), 1.0, "+Y", facing, {k: number[v] for k, v in humanoid.items() if v in number}, rest_from,
            np.array(bones, dtype=np.int64), tuple(notes), expressions=_expressions(file),
        )
    )  # fmt: skip


def _one_skeleton(bones, parents, notes):
    """The bones of the largest skeleton, and of what is too small to be another body: loose controls, a prop."""
    number = {node: node for node in bones}
    root = {}
    for node in bones:
        above = _ancestor(parents, number, node)
        root[node] = node if above < 0 else root[above]
    sizes = {r: list(root.values()).count(r) for r in set(root.values())}
    largest = max(sizes, key=lambda r: (sizes[r], -r), default=-1)
    others = {r for r, n in sizes.items() if r != largest and n >= BODY_BONES}
    if others:
        notes.append(f"it holds {len(others) + 1} skeletons; the largest is read")
    return [node for node in bones if root[node] not in others]


def _regular(matrix):
    return np.isfinite(matrix).all() and abs(np.linalg.det(matrix[:3, :3])) > 1e-18


def _ancestor(parents, number, node):
    node = parents[node]
    while node >= 0 and node not in number:
        node = parents[node]
    return number.get(node, -1)


def _bind_matrices(file):
    """{joint node: (4, 4) bone to mesh space at bind, NaN where the skin does not say} of all skins."""
    out = {}
    for s, skin in enumerate(file.document.skins or []):
        joints = skin.joints or []
        inverse = None
        if skin.inverseBindMatrices is not None:
            inverse = np.asarray(file.accessor(skin.inverseBindMatrices), dtype=float)
            if inverse.shape[1] != 16:
                raise InputError(f"{file.where}: skins[{s}] has bind matrices that are not 4 by 4.")
            inverse = inverse.reshape(-1, 4, 4).transpose(0, 2, 1)
            if len(inverse) < len(joints):
                raise InputError(f"{file.where}: skins[{s}] has {len(joints)} bones and {len(inverse)} bind matrices.")
        for k, joint in enumerate(joints):
            file.item("nodes", joint)
            good = inverse is not None and _regular(inverse[k])
            out.setdefault(joint, np.linalg.inv(inverse[k]) if good else np.full((4, 4), np.nan))
    return out


def _rest(file, bones, world, bind, notes):
    """(bone to file (B, 4, 4) at rest, where that comes from): by the skin's bind matrices where it has any.

    Bind matrices are in the space of the mesh. One matrix takes it to the file: `joint world * inverse bind`, the
    same for all joints when the file stands at rest. In mid-motion its scale is still the same for all; of its
    rotation the quarter turn nearest to most joints is meant, for meshes are moved by axes.
    """
    nodes = world[bones]
    known = [b for b, node in enumerate(bones) if node in bind and np.isfinite(bind[node]).all()]
    if not known:
        return nodes, "zero"
    inside = np.array([bind[bones[b]] for b in known])
    to_file = nodes[known] @ np.linalg.inv(inside)
    spread = np.abs(to_file[:, :3, :3] - np.median(to_file[:, :3, :3], axis=0)).max()
    scale = float(np.median(np.cbrt(np.abs(np.linalg.det(to_file[:, :3, :3])))))
    size = max(float(np.ptp(nodes[:, :3, 3], axis=0).max()), 1e-12)
    moved = spread > MOVED * scale or np.ptp(to_file[:, :3, 3], axis=0).max() > MOVED * size
    if not moved:
        change = np.median(to_file, axis=0)
    else:
        turns = np.linalg.svd(to_file[:, :3, :3])
        mean = np.linalg.svd((turns.U @ turns.Vh).sum(axis=0))
        change = np.eye(4)
        change[:3, :3] = scale * _quarter_turn(mean.U @ mean.Vh)
        notes.append("it was saved in mid-motion; its rest pose is read from its skin")
    out = nodes.copy()
    out[known] = change @ inside
    if moved:  # bones the skin does not hold follow the nearest one above that it holds
        number, parents = {node: b for b, node in enumerate(bones)}, node_tree(file)[0]
        for b, node in enumerate(bones):
            above = _ancestor(parents, number, node)
            if b not in set(known) and above >= 0:
                out[b] = out[above] @ np.linalg.inv(nodes[above]) @ nodes[b]
    return out, "bind"


def _quarter_turn(rotation):
    """The rotation matrix among the 24 that keep the axes which is nearest to `rotation`."""
    from scipy.spatial.transform import Rotation  # takes half a second to load, and few files need it

    return Rotation.create_group("O")[
        int(np.argmax((Rotation.create_group("O").as_matrix() * rotation).sum(axis=(1, 2))))
    ].as_matrix()


def _skin(file, number, matrices, bind):
    """(skin points at rest (V, 3), the bone that holds each most (V,), how much hangs on each bone (B,))."""
    points, owners, held = [], [], np.zeros(len(matrices))
    skinned = False
    for node in file.document.nodes:
        if node.mesh is None or node.skin is None:
            continue
        joints = np.array(file.item("skins", node.skin).joints or [], dtype=np.int64)
        to_file = np.full((len(joints), 4, 4), np.nan)  # what hangs on a bone that is left out is left out too
        for k, joint in enumerate(joints.tolist()):
            if joint in number:
                inverse = np.linalg.inv(bind[joint]) if np.isfinite(bind[joint]).all() else np.eye(4)
                to_file[k] = matrices[number[joint]] @ inverse
        for primitive in file.item("meshes", node.mesh).primitives or []:
            a = primitive.attributes or {}
            if any(a.get(key) is None for key in ("POSITION", "JOINTS_0", "WEIGHTS_0")):
                continue
            x = np.asarray(file.accessor(a["POSITION"]), dtype=float)
            j, w = file.accessor(a["JOINTS_0"]).astype(np.int64), np.asarray(file.accessor(a["WEIGHTS_0"]), dtype=float)
            if len(j) != len(x) or len(w) != len(x) or (len(j) and j.max() >= len(joints)):
                raise InputError(f"{file.where}: its skin names bones that its skeleton does not have.")
            skinned = True
            most = np.argmax(w, axis=1)
            owner = j[np.arange(len(j)), most]
            points.append(np.einsum("vij,vj->vi", to_file[owner], np.c_[x, np.ones(len(x))])[:, :3])
            table = np.array([number.get(int(n), -1) for n in joints])
            owners.append(table[owner])
            inside = table[j] >= 0
            held += np.bincount(table[j][inside], w[inside], len(held))
    if not skinned:
        return np.zeros((0, 3)), np.zeros(0, dtype=np.int64), np.full(len(matrices), np.nan)
    points = np.concatenate(points)
    good = np.isfinite(points).all(axis=1)
    return points[good], np.concatenate(owners)[good], held


def shape_names(mesh):
    """Names of a mesh's face shapes (morph targets), in order, told apart; "shape 1" where the file has none."""
    count = max((len(p.targets or []) for p in mesh.primitives or []), default=0)
    named = mesh.extras.get("targetNames") if isinstance(mesh.extras, dict) else None
    for p in mesh.primitives or []:
        if not named and isinstance(p.extras, dict):
            named = p.extras.get("targetNames")
    named = named if isinstance(named, list) else []
    return unlike([named[i] if i < len(named) else f"shape {i + 1}" for i in range(count)])


def _shapes(file):
    """Names of all face shapes of a file, in order, each once."""
    return tuple(dict.fromkeys(name for mesh in file.document.meshes or [] for name in shape_names(mesh)))


def _humanoid(file):
    """({VRM 1.0 bone: node}, facing) of a VRM file; ({}, "+Z") for others, as glTF has it."""
    extensions = file.document.get("extensions") or {}
    rows, facing, old = [], "+Z", False
    if isinstance(one := extensions.get("VRMC_vrm"), dict):
        bones = (one.get("humanoid") or {}).get("humanBones") or {}
        rows = [(name, row.get("node")) for name, row in bones.items() if isinstance(row, dict)]
    elif isinstance(zero := extensions.get("VRM"), dict):
        old, facing = True, "-Z"
        bones = (zero.get("humanoid") or {}).get("humanBones") or []
        rows = [(row.get("bone"), row.get("node")) for row in bones if isinstance(row, dict)]
    out = {}
    for name, node in rows:
        if isinstance(name, str) and isinstance(node, int) and 0 <= node < len(file.document.nodes):
            if old and "Thumb" in name:
                side, _, part = name.partition("Thumb")
                name = f"{side}Thumb{_OLD_THUMB.get(part, part)}"
            out[name] = node
    return out, facing


def _expressions(file):
    """{VRM 1.0 name of an expression, or its own: [(shape, weight 0 to 1), ...]} of a VRM file; what binds no shape is left out."""
    extensions = file.document.get("extensions") or {}
    rows = []
    if isinstance(one := extensions.get("VRMC_vrm"), dict):
        for group in ("preset", "custom"):
            found = (one.get("expressions") or {}).get(group) or {}
            for name, row in found.items() if isinstance(found, dict) else ():
                binds = row.get("morphTargetBinds") if isinstance(row, dict) else None
                rows += [(name, b, "node", 1.0) for b in binds or [] if isinstance(b, dict)]
    elif isinstance(zero := extensions.get("VRM"), dict):
        for row in (zero.get("blendShapeMaster") or {}).get("blendShapeGroups") or []:
            if isinstance(row, dict):
                preset = str(row.get("presetName") or "").lower()
                name = (
                    _OLD_EXPRESSIONS.get(preset, preset)
                    if preset not in ("", "unknown")
                    else str(row.get("name") or "")
                )
                rows += [(name, b, "mesh", 0.01) for b in row.get("binds") or [] if isinstance(b, dict)]
    out = {}
    for name, bind, kind, unit in rows:
        shape, weight = _bound_shape(file, bind, kind), bind.get("weight", 1.0 / unit)
        if name and shape and isinstance(weight, (int, float)) and np.isfinite(weight):
            out.setdefault(name, []).append((shape, round(float(np.clip(unit * weight, 0, 1)), 6)))
    return out


def _bound_shape(file, bind, kind):
    """The name of the shape that an expression's bind means, or None."""
    number, index = bind.get(kind), bind.get("index")
    if kind == "node" and isinstance(number, int) and 0 <= number < len(file.document.nodes or []):
        number = file.document.nodes[number].mesh
    if not isinstance(number, int) or not 0 <= number < len(file.document.meshes or []):
        return None
    names = shape_names(file.document.meshes[number])
    return names[index] if isinstance(index, int) and 0 <= index < len(names) else None
