"""A character's motion as BVH on the character's own skeleton: its names, unit, axes and order.

A BVH character keeps its OFFSETs and channels; its zero pose stays what it was. For every other character the zero pose is its rest pose,
with offsets along the file's axes, rotations in the order Z, X, Y. Effectors that are no bones are joints under the root, at its end.
"""

from pathlib import Path

import numpy as np

from otrevo.core.characters.file_skeleton import unlike
from otrevo.core.conventions import euler_from_quaternion, matrix_from_quaternion, quaternion_from_matrix
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import open_bvh
from otrevo.core.formats.documents import write_whole

_POSITIONS = ("xposition", "yposition", "zposition")
_CHANNEL = {c + kind: c.upper() + kind for c in "xyz" for kind in ("position", "rotation")}


def write_bvh_motion(path, motion, given=None):
    """Write a CharacterMotion as BVH, whole or not at all; given: the character's own file, when that is a BVH.

    Raises InputError when the given file has other bones than the character.
    """
    character = motion.character
    to_file = matrix_from_quaternion(character.from_file[1]).T
    scale = character.from_file[0]
    turns = np.einsum("ij,tbjk->tbik", to_file, matrix_from_quaternion(motion.rotations))
    places = np.einsum("ij,tbj->tbi", to_file, motion.positions) / scale
    if given is not None and Path(given).suffix.lower() == ".bvh":
        tree = open_bvh(given, frames_wanted=False)[0]
        if len(tree.names) != len(character.names):
            raise InputError(f"{Path(given).name}: its bones are not those of the character '{character.name}'.")
        names, offsets, channels, ends = tree.names, np.array(tree.offsets), tree.channels, tree.ends
    else:
        rest = character.positions @ to_file.T / scale
        offsets = np.array([rest[b] - (rest[p] if p >= 0 else 0.0) for b, p in enumerate(character.parents)])
        turns = turns @ (to_file @ matrix_from_quaternion(character.rotations)).transpose(0, 2, 1)[None]
        names = [n.replace(" ", "_") for n in character.names]
        rotating = ["zrotation", "xrotation", "yrotation"]
        loose = [p < 0 or b == motion.root or b in motion.loose for b, p in enumerate(character.parents)]
        channels = [[*_POSITIONS, *rotating] if free else rotating for free in loose]
        tips = character.ends @ to_file.T / scale
        leaves = [b for b in range(len(names)) if not (character.parents == b).any()]
        ends = [(b, tips[b] - rest[b] if np.isfinite(tips[b]).all() else 0.2 * offsets[b]) for b in leaves]
    if (character.parents < 0).sum() != 1:
        raise InputError(
            f"{character.name}: {int((character.parents < 0).sum())} root bones; a BVH holds one skeleton."
        )
    fixed = [
        character.names[b]
        for b in sorted(motion.loose)
        if character.parents[b] >= 0 and not set(_POSITIONS) <= set(channels[b])
    ]
    if fixed:
        raise InputError(f"{fixed[0]}: the file gives this bone no position channels, so it cannot carry an effector; give the effector a name of its own.")  # fmt: skip
    tracks, parents = [t for t in motion.effectors if t.bone < 0], character.parents
    if tracks:
        count, root = len(names), int(np.flatnonzero(parents < 0)[0])
        names, parents = (
            [*names, *unlike([t.name.replace(" ", "_") for t in tracks])],
            np.append(parents, [root] * len(tracks)),
        )
        offsets = np.concatenate([offsets, np.zeros((len(tracks), 3))])
        channels = [*channels, *[[*_POSITIONS, "zrotation", "xrotation", "yrotation"]] * len(tracks)]
        ends = [*ends, *((count + k, np.zeros(3)) for k in range(len(tracks)))]
        places = np.concatenate([places, *((t.positions @ to_file.T / scale)[:, None] for t in tracks)], axis=1)
        turns = np.concatenate(
            [turns, *((to_file @ matrix_from_quaternion(t.since_rest) @ to_file.T)[:, None] for t in tracks)], axis=1
        )
    values = _values(
        parents,
        offsets,
        channels,
        turns,
        places,
        {motion.root, *motion.loose, *range(len(character.names), len(names))},
    )
    write_whole(path, _text(names, parents, offsets, channels, ends, values, float(1 / motion.rate)).encode())


def _values(parents, offsets, channels, turns, places, loose):
    """Channel values (T, channels) of world rotations (T, B, 3, 3) and joints (T, B, 3) in the file's axes; loose: bones with places of their own."""
    columns = []
    for b, own in enumerate(channels):
        above = parents[b]
        local = turns[:, b] if above < 0 else turns[:, above].transpose(0, 2, 1) @ turns[:, b]
        axes = "".join(c[0] for c in own if c.endswith("rotation")).upper()
        angles = (
            np.degrees(np.unwrap(euler_from_quaternion(axes, quaternion_from_matrix(local)), axis=0))
            if len(axes) == 3
            else None
        )
        if above < 0:
            moved = places[:, b] - offsets[b]
        elif b in loose:  # seen from its parent, in the parent's axes: positions there stand for the offset
            moved = np.einsum("tji,tj->ti", turns[:, above], places[:, b] - places[:, above])
        else:
            moved = np.broadcast_to(offsets[b], (len(turns), 3))
        for c in own:
            if c.endswith("position"):
                columns.append(moved[:, "xyz".index(c[0])])
            else:
                columns.append(angles[:, axes.index(c[0].upper())] if angles is not None else np.zeros(len(turns)))
    return np.stack(columns, axis=1)


def _text(names, parents, offsets, channels, ends, values, seconds):
    lines = ["HIERARCHY"]
    tips = dict((int(b), o) for b, o in ends)

    def joint(b, depth):
        pad = "\t" * depth
        lines.append(f"{pad}{'ROOT' if parents[b] < 0 else 'JOINT'} {names[b]}")
        lines.append(f"{pad}{{")
        lines.append(f"{pad}\tOFFSET {_numbers(offsets[b])}")
        lines.append(f"{pad}\tCHANNELS {len(channels[b])} {' '.join(_CHANNEL[c] for c in channels[b])}")
        for c in np.flatnonzero(np.asarray(parents) == b):
            joint(int(c), depth + 1)
        if b in tips:
            lines.extend([f"{pad}\tEnd Site", f"{pad}\t{{", f"{pad}\t\tOFFSET {_numbers(tips[b])}", f"{pad}\t}}"])
        lines.append(f"{pad}}}")

    joint(int(np.flatnonzero(np.asarray(parents) < 0)[0]), 0)
    lines += ["MOTION", f"Frames: {len(values)}", f"Frame Time: {seconds:.10f}"]
    return "\n".join(lines) + "\n" + "\n".join(" ".join(f"{v:.6f}" for v in row) for row in values.tolist()) + "\n"


def _numbers(values):
    return " ".join(f"{v:.6f}" for v in values)
