"""Characters as BVH: a skeleton without a skin. Rest is all channels at zero, or the first frame where zero is no pose.

A BVH states no unit and no axis; `core.characters.frame` finds them. Some files hold a skeleton that is folded up at
zero, all bones along one axis, and is a body only in its first frame.
"""

from pathlib import Path

import numpy as np

from otrevo.core.characters.file_skeleton import MOST_BYTES, FileSkeleton, checked, unlike
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import local_matrices, open_bvh

FOLDED = 0.85  # mean of the unit vectors to all ends: 1 where they all lie the same way


def read_character_bvh(path):
    """The FileSkeleton of a BVH. Raises InputError in one sentence for what cannot be understood."""
    path = Path(path)
    if path.stat().st_size > MOST_BYTES:
        raise InputError(
            f"{path.name}: larger than {MOST_BYTES // 2**20} MB; expected a character, not a day of motion."
        )
    tree, _, values, notes = open_bvh(path, frames_wanted=False)
    local = local_matrices(tree, values[:1] if len(values) else np.zeros((1, sum(map(len, tree.channels)))))[0]
    zero = local_matrices(tree, np.zeros((1, sum(map(len, tree.channels)))))[0]
    parents = np.array(tree.parents, dtype=np.int64)
    rest, first = _world(parents, zero), _world(parents, local)
    rest_from = "zero"
    if _folded(parents, rest) and not _folded(parents, first):
        rest, rest_from = first, "first_frame"
        notes.append("its zero pose is folded up; its rest pose is read from its first frame")
    ends = np.full((len(parents), 3), np.nan)
    for joint, offset in tree.ends:
        ends[joint] = rest[joint, :3, :3] @ offset + rest[joint, :3, 3]
    count = len(parents)
    return checked(
        FileSkeleton(path.name, unlike(tree.names), parents, rest, ends, np.full(count, np.nan), rest_from=rest_from,
                     nodes=np.arange(count), notes=tuple(notes))
    )  # fmt: skip


def _world(parents, local):
    out = local.copy()
    for b, parent in enumerate(parents):
        if parent >= 0:
            out[b] = out[parent] @ local[b]
    return out


def _folded(parents, world):
    """Whether all ends lie the same way from the root, as no body's do: its legs point where its head does."""
    tips = world[:, :3, 3]
    leaves = np.setdiff1d(np.arange(len(parents)), parents)
    ways = tips[leaves] - tips[0]
    far = np.linalg.norm(ways, axis=1)
    long = far > 0.2 * max(float(far.max(initial=0.0)), 1e-12)
    if long.sum() < 3:
        return False
    return bool(np.linalg.norm((ways[long] / far[long, None]).mean(axis=0)) > FOLDED)
