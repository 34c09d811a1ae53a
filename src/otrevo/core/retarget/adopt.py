"""Motion on a foreign skeleton becomes a body of ours: the map the other way round.

The foreign skeleton is mapped and its rest pose matched like a character's. Our skeleton gets the foreign one's bone lengths, laid out in
a T-pose; a bone's world rotation is the foreign bone's, with the rotation between their rest poses taken off. So limbs point where
they pointed, and taking the body back to its own skeleton gives the motion it came from.
"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.skeleton import BONE_INDEX, BONE_NAMES, BONE_PARENTS, Skeleton, generic_skeleton, parents_among
from otrevo.core.characters.character import read_character
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.conventions import (
    make_continuous,
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_from_matrix,
    quaternion_multiply,
    quaternion_rotate,
)
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import local_matrices, open_bvh


@dataclass(frozen=True)
class Adopted:
    """motion: the body of ours; character and sheet: the foreign skeleton and its map; notes: what was odd."""

    motion: Motion
    character: object
    sheet: object
    notes: tuple[str, ...]


def adopt(path, sheet_for=None, progress=lambda share: None):
    """The Adopted body of a motion file (BVH, GLB, USD) on any skeleton.

    sheet_for: Character -> MapSheet, where somebody has corrected the map. Raises InputError for what cannot be understood.
    """
    path = Path(path)
    character, proposal = read_character(path)
    sheet = sheet_for(character) if sheet_for else propose_sheet(character, proposal)
    rate, positions, rotations, notes = _motion_of(path, character)
    progress(0.5)
    return Adopted(
        _onto_ours(character, sheet, rate, positions, rotations),
        character,
        sheet,
        tuple(dict.fromkeys([*character.notes, *notes])),
    )


def _motion_of(path, character):
    """(rate, joints (T, B, 3), bone rotations (T, B, 4), notes) of all bones, in our axes and metres."""
    change, scale = matrix_from_quaternion(character.from_file[1]), character.from_file[0]
    if path.suffix.lower() == ".bvh":
        tree, rate, values, notes = open_bvh(path)
        world = local_matrices(tree, values)
        for b, parent in enumerate(tree.parents):
            if parent >= 0:
                world[:, b] = world[:, parent] @ world[:, b]
        places, turns = world[..., :3, 3], world[..., :3, :3]
    else:
        from otrevo.core.characters.write_gltf import read_gltf_motion
        from otrevo.core.characters.write_usd import read_usd_motion
        from otrevo.core.formats.bvh import exact_rate

        read = read_usd_motion if path.suffix.lower().startswith(".usd") else read_gltf_motion
        times, places, turns, _ = read(path)
        if len(times) < 2:
            raise InputError(f"{path.name}: its animation holds {len(times)} frames; expected a motion.")
        rate, notes = exact_rate((len(times) - 1) / (times[-1] - times[0])), []
    if not (np.isfinite(places).all() and np.isfinite(turns).all()):
        raise InputError(f"{path.name}: its motion holds NaN or infinite numbers; expected finite ones.")
    return rate, scale * places @ change.T, quaternion_from_matrix(change @ turns), notes


def our_skeleton(character, sheet):
    """Our skeleton with the character's proportions, laid out in a T-pose, hips at their height over its floor."""
    rest = {b: character.positions[character.index(p.targets[0])] for b, p in sheet.pairs.items()}
    floor = character.sole_m if character.sole_m is not None else float(character.positions[:, 1].min())
    height = max(character.height_m, 0.3)
    generic = generic_skeleton(height)
    offsets = generic.rest_offset_m.copy()
    for b, name in enumerate(BONE_NAMES):
        if name not in rest:
            continue
        parent = BONE_NAMES[BONE_PARENTS[b]] if BONE_PARENTS[b] >= 0 else None
        while parent is not None and parent not in rest:
            parent = BONE_NAMES[BONE_PARENTS[BONE_INDEX[parent]]] if BONE_PARENTS[BONE_INDEX[parent]] >= 0 else None
        if parent is None:
            offsets[b] = [0.0, rest[name][1] - floor, 0.0]
            continue
        turn = _rest_rotation(sheet, parent)
        offsets[b] = quaternion_rotate(turn, rest[name] - rest[parent])
    kept = sheet.bones()  # one bone of theirs is one of ours, though several of ours would follow it
    table = dict(zip(BONE_NAMES, offsets, strict=True))
    return Skeleton(tuple(kept), parents_among(kept), np.array([table[n] for n in kept]))


def _rest_rotation(sheet, bone):
    """The rotation (4,) of the world that takes this bone at rest to where it is in our T-pose."""
    return sheet.rest[bone].rotation if bone in sheet.rest else np.array([0.0, 0.0, 0.0, 1.0])


def _onto_ours(character, sheet, rate, positions, rotations):
    skeleton = our_skeleton(character, sheet)
    world = np.empty((len(rotations), len(skeleton.names), 4))
    for b, name in enumerate(skeleton.names):
        own = character.index(sheet.pairs[name].targets[-1 if name in ("spine", "chest", "upperChest") else 0])
        change = quaternion_multiply(_rest_rotation(sheet, name), character.rotations[own])
        world[:, b] = quaternion_multiply(rotations[:, own], quaternion_conjugate(change)[None])
    local = world.copy()
    for b, parent in enumerate(skeleton.parents):
        if parent >= 0:
            local[:, b] = quaternion_multiply(quaternion_conjugate(world[:, parent]), world[:, b])
    hips = positions[:, character.index(sheet.pairs["hips"].targets[0])].copy()
    return Motion(skeleton, rate, hips, make_continuous(local))
