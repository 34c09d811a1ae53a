"""A character's motion as glTF: the given file, untouched, with one animation more.

Everything that the file holds stays as it is; samplers, channels and their numbers are added behind it. Each mapped bone gets a
rotation, the hips a position as well, all in the axes and unit of the node above them. Effectors that are no bones move the
node of their name, or a new one at the top of the scene. Rotations are float32 quaternions
with continuous signs; time is in seconds from the first frame.
"""

import json
from base64 import b64encode

import numpy as np

from otrevo.core.characters.file_skeleton import bone_rotations
from otrevo.core.characters.glb_parts import BinaryParts, glb_bytes
from otrevo.core.characters.gltf import GltfFile, node_tree, read_gltf, shape_names
from otrevo.core.conventions import (
    make_continuous,
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_from_matrix,
    quaternion_multiply,
    quaternion_rotate,
)
from otrevo.core.errors import InputError
from otrevo.core.formats.documents import write_whole

LINEAR = "LINEAR"
UNMOVED = 1e-5
RIGID_SHARE = 1e-3  # of a bone's length: what it may seem to change by without a position of its own
SKEWED_SHARE = 1e-5  # the same under an uneven scale, where lengths truly change
SETTLING = 12  # rounds, at most, in which a bone under an uneven scale finds its rotation
SETTLED = 1e-6  # how near to it is near enough
RIGID = 1e-6  # how far from a rotation a matrix of float32 numbers may be


def write_gltf_motion(path, given, motion, name="take", shapes=None):
    """Write a CharacterMotion over the character file `given` (a GLB, VRM or glTF), its effectors included: a GLB. Whole or not at all.

    shapes: {shape name of the file: values (T,) 0 to 1}, for its face; shapes that are not named keep their own weight.

    Raises InputError when the given file is not the one the character was read from.
    """
    skeleton, file = read_gltf(given), GltfFile(given)
    character = motion.character
    if tuple(skeleton.names) != tuple(character.names):
        raise InputError(
            f"{file.where}: its bones are not those of the character '{character.name}'; expected the file it was read from."
        )
    parents, local, world, order = node_tree(file)
    to_file = matrix_from_quaternion(character.from_file[1]).T
    bones = {int(node): b for b, node in enumerate(skeleton.nodes)}
    # what the world turned each bone by since its rest, on the matrix it has at rest: scales and mirrors stay as they are
    delta = quaternion_multiply(motion.rotations, quaternion_conjugate(character.rotations)[None])
    wanted = (to_file, delta, skeleton.matrices[:, :3, :3])
    places = np.einsum("ij,tbj->tbi", to_file, motion.positions) / character.from_file[0]
    plain = _is_plain(local, skeleton.matrices)
    pose, still = (_pose_by_quaternions, RIGID_SHARE) if plain else (_pose_by_matrices, SKEWED_SHARE)
    rotation, moved = {}, {}
    for node, turns, offset in pose(file, order, parents, local, bones, wanted, places):
        rotation[node] = make_continuous(turns)
        size = max(float(np.abs(local[node][:3, 3]).max()), 1e-9)
        travels = bones[node] == motion.root or bones[node] in motion.loose
        if travels or np.abs(offset - local[node][:3, 3]).max() > max(still * size, UNMOVED):
            moved[node] = offset
    document = json.loads(json.dumps(file.document))
    change = quaternion_from_matrix(to_file)
    for track in motion.effectors:
        if track.bone < 0:
            node, above = _node_of(document, track.name, parents, bones)
            back = np.linalg.inv(world[above]) if above >= 0 else np.eye(4)
            turn = quaternion_from_matrix(_turns(back[None, :3, :3] / np.cbrt(abs(np.linalg.det(back[:3, :3])))))[0]
            places = track.positions @ to_file.T / character.from_file[0]
            rotation[node] = make_continuous(quaternion_multiply(turn, quaternion_multiply(change, track.rotations)))
            moved[node] = places @ back[:3, :3].T + back[:3, 3]
    binary = file.buffers[0] if file.buffers and file.document.buffers[0].uri is None else b""
    binary = _with_animation(document, binary, motion, rotation, moved, name, file, shapes or {})
    write_whole(path, glb_bytes(document, binary))


def _node_of(document, name, parents, bones):
    """(number, the node above it or -1) of a node of that name that hangs on no bone; if there is none, of a new one at the top."""
    for number in range(len(parents)):
        above = [number]
        while parents[above[-1]] >= 0:
            above.append(int(parents[above[-1]]))
        if document["nodes"][number].get("name") == name and not bones.keys() & set(above):
            return number, int(parents[number])
    document["nodes"].append({"name": name})
    number = len(document["nodes"]) - 1
    scenes = document.get("scenes") or []
    if scenes:
        scenes[document.get("scene", 0)].setdefault("nodes", []).append(number)
    return number, -1


def _is_plain(local, matrices):
    """Whether all nodes (N, 4, 4) and bones at rest (B, 4, 4) are rotations with one scale, none mirrored."""
    linear = np.concatenate([local[:, :3, :3], matrices[:, :3, :3]])
    square = linear.swapaxes(1, 2) @ linear
    scale = square[:, 0, 0]
    even = np.abs(square - scale[:, None, None] * np.eye(3)).max(axis=(1, 2)) < RIGID * scale
    return bool(even.all() and (np.linalg.det(linear) > 0).all())


def _pose_by_quaternions(file, order, parents, local, bones, wanted, places):
    """(node, rotations (T, 4), positions (T, 3)) in the parent of every bone, where nothing is scaled unevenly or mirrored."""
    to_file, delta, rest = wanted
    change = quaternion_from_matrix(to_file)
    size = np.cbrt(np.linalg.det(rest))
    own = quaternion_multiply(quaternion_multiply(change, delta), quaternion_conjugate(change))
    own = quaternion_multiply(own, quaternion_from_matrix(rest / size[:, None, None])[None])
    local_size = np.cbrt(np.linalg.det(local[:, :3, :3]))
    local_turn = quaternion_from_matrix(local[:, :3, :3] / local_size[:, None, None])
    posed = {
        -1: (np.array([[0.0, 0.0, 0.0, 1.0]]), 1.0, np.zeros((1, 3)))
    }  # node -> rotation, scale, place in the world
    for node in map(int, order):
        turn, scale, place = posed[int(parents[node])]
        if node not in bones:
            here = place + scale * quaternion_rotate(turn, local[node][:3, 3])
            posed[node] = quaternion_multiply(turn, local_turn[node]), scale * local_size[node], here
            continue
        b, back = bones[node], quaternion_conjugate(turn)
        posed[node] = own[:, b], size[b], places[:, b]
        yield node, quaternion_multiply(back, own[:, b]), quaternion_rotate(back, places[:, b] - place) / scale


def _pose_by_matrices(file, order, parents, local, bones, wanted, places):
    """The same as _pose_by_quaternions, whatever the nodes' scales are: scales and mirrors stay what they are at rest.

    Under a bone that is scaled unevenly everything that turns is skewed and changes its length. Bones there turn such that, but
    for the skew, they point as they should, and get a position in every frame that puts their joint where it should be.
    """
    to_file, delta, rest = wanted
    wanted = to_file @ matrix_from_quaternion(delta) @ to_file.T @ rest
    posed = {-1: (np.eye(3)[None], np.zeros((1, 3)))}  # node -> (linear (T, 3, 3), place (T, 3)) in the world
    inverse = {}  # of nodes above others
    for node in map(int, order):
        up = int(parents[node])
        linear, place = posed[up]
        if node not in bones:
            posed[node] = linear @ local[node][:3, :3], place + linear @ local[node][:3, 3]
            continue
        b = bones[node]
        if up not in inverse:
            inverse[up] = _inverse(linear)
        scale = node_scale(file, node, local)
        turns = _turns(inverse[up] @ wanted[:, b] / scale)
        reached = linear @ turns * scale
        if np.abs(reached - wanted[:, b]).max() > RIGID * np.abs(rest[b]).max():
            turns, reached = _settled(linear, inverse[up], scale, turns, bone_rotations(wanted[:, b]))
        posed[node] = reached, places[:, b]
        yield node, quaternion_from_matrix(turns), (inverse[up] @ (places[:, b] - place)[..., None])[..., 0]


def _settled(above, inverse, scale, turns, wanted):
    """(rotations (T, 3, 3) in the parent, what they come to in the world (T, 3, 3)) such that the world's are `wanted` but for their skew.

    above, inverse (T, 3, 3): from the parent to the world and back; scale (3,): of the bone.
    """
    for _ in range(SETTLING):
        missing = wanted @ bone_rotations(above @ turns * scale).swapaxes(1, 2)
        if np.abs(missing - np.eye(3)).max() < SETTLED:
            break
        turns = _turns(inverse @ missing @ above @ turns)
    return turns, above @ turns * scale


def _with_animation(document, binary, motion, rotation, moved, name, file, shapes):
    """The binary chunk with the animation's arrays behind it; the document is changed to tell of them."""
    views, accessors = document.setdefault("bufferViews", []), document.setdefault("accessors", [])
    buffers = document.setdefault("buffers", [])
    number = 0
    if not buffers or buffers[0].get("uri") is not None:
        number = len(buffers)
        buffers.append({"byteLength": 0})
        if number:  # a GLB's own chunk must be its first buffer: those that came from files go inside as text
            for k, b in enumerate(buffers[:-1]):
                b["uri"] = "data:application/octet-stream;base64," + b64encode(file.buffers[k]).decode()
            buffers.insert(0, buffers.pop())
            for view in views:
                view["buffer"] += 1
            number = 0

    parts = BinaryParts(binary, views, accessors, number)
    times = parts.put(np.arange(len(motion)) / float(motion.rate), "SCALAR", bounds=True)
    samplers, channels = [], []
    for path, tracks, kind in (("rotation", rotation, "VEC4"), ("translation", moved, "VEC3")):
        for node, values in tracks.items():
            samplers.append({"input": times, "output": parts.put(values, kind), "interpolation": LINEAR})
            channels.append({"sampler": len(samplers) - 1, "target": {"node": node, "path": path}})
            target = document["nodes"][node]
            if "matrix" in target:  # an animated node must have its parts apart; the matrix says the same
                matrix = np.array(target.pop("matrix"), dtype=float).reshape(4, 4).T
                scale = np.linalg.norm(matrix[:3, :3], axis=0)
                target["translation"] = matrix[:3, 3].tolist()
                target["rotation"] = quaternion_from_matrix(matrix[:3, :3] / scale).tolist()
                target["scale"] = scale.tolist()
    for node, weights in _weights(file, shapes, len(motion)).items():
        samplers.append({"input": times, "output": parts.put(weights.reshape(-1), "SCALAR"), "interpolation": LINEAR})
        channels.append({"sampler": len(samplers) - 1, "target": {"node": node, "path": "weights"}})
    document.setdefault("animations", []).append({"name": name, "samplers": samplers, "channels": channels})
    buffers[number]["byteLength"] = len(parts.data)
    return bytes(parts.data)


def node_scale(file, node, local):
    """The scale (3,) of a node, with its signs; local (N, 4, 4): the nodes' own matrices."""
    given = file.document["nodes"][node].get("scale")
    return np.array(given, dtype=float) if given else np.linalg.norm(local[node][:3, :3], axis=0)


def _inverse(linear):
    """Inverses of matrices (T, 3, 3); of rotations with one scale by turning them over."""
    square = linear.swapaxes(1, 2) @ linear
    scale = square[:, 0, 0]
    if np.abs(square - scale[:, None, None] * np.eye(3)).max() < RIGID * scale.min():
        return linear.swapaxes(1, 2) / scale[:, None, None]
    return np.linalg.inv(linear)


def _turns(linear):
    """The rotations nearest to matrices (T, 3, 3); those that are rotations already are taken as they are."""
    if np.abs(linear.swapaxes(1, 2) @ linear - np.eye(3)).max() < RIGID:
        return linear
    u, _, vt = np.linalg.svd(linear)
    u[np.linalg.det(u @ vt) < 0, :, 2] *= -1
    return u @ vt


def _weights(file, shapes, frames):
    """{node: weights (T, shapes of its mesh)} of the nodes whose meshes have any of the shapes that are driven."""
    out = {}
    for number, node in enumerate(file.document.nodes):
        if node.mesh is None:
            continue
        mesh = file.document.meshes[node.mesh]
        names = shape_names(mesh)
        if not any(n in shapes for n in names):
            continue
        own = file.document["nodes"][number].get("weights") or mesh.weights or []
        rest = [float(own[k]) if k < len(own) else 0.0 for k in range(len(names))]
        out[number] = np.stack([shapes.get(n, np.full(frames, w)) for n, w in zip(names, rest, strict=True)], axis=1)
    return out


def read_gltf_shapes(path, animation=-1):
    """{shape name: values (T,)} of a GLB's animation."""
    file = GltfFile(path)
    chosen, out = file.document.animations[animation], {}
    for channel in chosen.channels:
        if channel.target.path == "weights":
            names = shape_names(file.document.meshes[file.document.nodes[channel.target.node].mesh])
            values = file.accessor(chosen.samplers[channel.sampler].output).reshape(-1, len(names))
            out |= {n: values[:, k] for k, n in enumerate(names)}
    return out


def read_gltf_motion(path, animation=-1):
    """(times (T,), joints (T, B, 3), rotations (T, B, 3, 3), FileSkeleton) of a GLB's animation, in the file's axes and unit.

    For reading back what was written: nodes are posed by the channels, every sampler at the first one's times.
    """
    file, skeleton = GltfFile(path), read_gltf(path)
    times, world = _posed_nodes(file, animation)
    bones = world[:, skeleton.nodes]
    return times, bones[..., :3, 3], bone_rotations(bones[..., :3, :3]), skeleton


def read_gltf_effectors(path, animation=-1):
    """{name: (places (T, 3), rotations (T, 3, 3))} of moving nodes that are no bones, in a GLB's axes and unit."""
    file, skeleton = GltfFile(path), read_gltf(path)
    world, bones = _posed_nodes(file, animation)[1], set(skeleton.nodes.tolist())
    moving = {c.target.node for c in file.document.animations[animation].channels if c.target.path == "rotation"}
    return {
        file.document.nodes[n].name: (world[:, n, :3, 3], bone_rotations(world[:, n, :3, :3]))
        for n in moving if n is not None and n not in bones
    }  # fmt: skip


def _posed_nodes(file, animation):
    """(times (T,), node to file (T, N, 4, 4)) of a GLB's animation."""
    animations = file.document.animations or []
    if not animations:
        raise InputError(f"{file.where}: it holds no animation.")
    chosen = animations[animation]
    parents, local, _, order = node_tree(file)
    times = file.accessor(chosen.samplers[0].input)[:, 0].astype(float)
    frames = len(times)
    posed = np.tile(local, (frames, 1, 1, 1)) if len(local) else np.zeros((frames, 0, 4, 4))
    parts = {}
    for channel in chosen.channels:
        if channel.target.node is not None and channel.target.path != "weights":
            sampler = chosen.samplers[channel.sampler]
            parts.setdefault(channel.target.node, {})[channel.target.path] = file.accessor(sampler.output).astype(float)
    for node, tracks in parts.items():
        scale = tracks.get("scale", np.broadcast_to(node_scale(file, node, local), (frames, 3)))
        if "rotation" in tracks:
            turns = tracks["rotation"] / np.linalg.norm(tracks["rotation"], axis=1, keepdims=True)
            posed[:, node, :3, :3] = matrix_from_quaternion(turns) * scale[:, None, :]
        if "translation" in tracks:
            posed[:, node, :3, 3] = tracks["translation"]
    world = posed.copy()
    for node in order:
        if parents[node] >= 0:
            world[:, node] = world[:, parents[node]] @ posed[:, node]
    return times, world
