"""A character's motion as VRMA: a humanoid in T-pose with identity rotations, and its animation (VRMC_vrm_animation 1.0).

The skeleton in the file is the character's mapped bones brought into the T-pose: their joints, each bone's rotation the
identity. A bone's animated rotation is its world rotation with the one of its own T-pose taken off, seen from its parent. Metres,
+Y up, facing +Z; hips carry the position.
"""

import numpy as np

from otrevo.core.body.skeleton import parents_among
from otrevo.core.characters.glb_parts import BinaryParts, glb_bytes
from otrevo.core.conventions import make_continuous, quaternion_conjugate, quaternion_multiply, quaternion_rotate
from otrevo.core.errors import InputError
from otrevo.core.formats.documents import write_whole


def write_vrma(path, motion, sheet):
    """Write a CharacterMotion by its MapSheet as VRMA, whole or not at all. Raises InputError for a map sheet of effectors alone."""
    names, parents, joints, rotations = humanoid(motion, sheet)
    parts = BinaryParts()
    times = parts.put(np.arange(len(motion)) / float(motion.rate), "SCALAR", bounds=True)
    nodes, samplers, channels = [], [], []
    for b, name in enumerate(names):
        offset = joints[b] - (joints[parents[b]] if parents[b] >= 0 else 0.0)
        node = {"name": name, "translation": [round(float(v), 7) for v in offset]}
        children = [c for c in range(len(names)) if parents[c] == b]
        nodes.append(node | ({"children": children} if children else {}))
        local = rotations[:, b]
        if parents[b] >= 0:
            local = quaternion_multiply(quaternion_conjugate(rotations[:, parents[b]]), local)
        samplers.append(
            {"input": times, "output": parts.put(make_continuous(local), "VEC4"), "interpolation": "LINEAR"}
        )
        channels.append({"sampler": len(samplers) - 1, "target": {"node": b, "path": "rotation"}})
    hips = motion.positions[:, motion.character.index(sheet.pairs["hips"].targets[0])]
    samplers.append({"input": times, "output": parts.put(hips, "VEC3"), "interpolation": "LINEAR"})
    channels.append({"sampler": len(samplers) - 1, "target": {"node": names.index("hips"), "path": "translation"}})
    document = {
        "asset": {"version": "2.0", "generator": "Otrevo"}, "extensionsUsed": ["VRMC_vrm_animation"],
        "extensions": {"VRMC_vrm_animation": {
            "specVersion": "1.0", "humanoid": {"humanBones": {name: {"node": b} for b, name in enumerate(names)}},
        }},
        "scene": 0, "scenes": [{"nodes": [names.index("hips")]}], "nodes": nodes,
        "animations": [{"name": "take", "samplers": samplers, "channels": channels}],
        "accessors": parts.accessors, "bufferViews": parts.views, "buffers": [{"byteLength": len(parts.data)}],
    }  # fmt: skip
    write_whole(path, glb_bytes(document, bytes(parts.data)))


def humanoid(motion, sheet):
    """(bone names, parents, joints (H, 3) in T-pose, rotations (T, H, 4) of the world against the T-pose) of a character in motion."""
    character = motion.character
    if not sheet.pairs:
        raise InputError(f"{character.name}: its map sheet names effectors and no hips; a VRMA needs a humanoid.")
    names = sheet.bones()  # one bone of theirs is one of ours in the file
    parents = parents_among(names)
    own = [character.index(sheet.pairs[n].targets[0]) for n in names]
    turn = [sheet.rest[n].rotation for n in names]
    joints = character.positions[own].copy()
    for b, p in enumerate(parents):
        if p >= 0:
            joints[b] = joints[p] + quaternion_rotate(
                turn[p], character.positions[own[b]] - character.positions[own[p]]
            )
    change = quaternion_multiply(np.array(turn), character.rotations[own])
    rotations = quaternion_multiply(motion.rotations[:, own], quaternion_conjugate(change)[None])
    return names, parents, joints, rotations
