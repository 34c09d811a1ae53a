"""A skeleton as somebody's file has it: in the file's own units, axes, order and names."""

from dataclasses import dataclass, field

import numpy as np

from otrevo.core.errors import InputError

MOST_BONES = 1000
LONGEST_NAME = 1000
MOST_BYTES = 150 * 2**20


@dataclass(frozen=True)
class FileSkeleton:
    """Bones of a character file at rest, in the axes and unit of the file; every parent comes before its children.

    source: the file's name; names (B); parents (B,), -1 for a root; matrices (B, 4, 4): bone to file at rest.
    ends (B, 3): where a leaf ends, NaN where nothing says so. held (B,): how much skin hangs on a bone, NaN without a skin.
    skin (V, 3): skin at rest, and skin_bone (V,) the bone that holds each point most. shapes: names of its face shapes.
    metres: per unit, as the file says, or None; up and facing: axes such as "+Y", as the file says, or "".
    humanoid: VRM bone -> number of the bone, from a table in the file. rest_from: "zero", "bind" or "first_frame".
    nodes (B,): the bone's number in the file, for writing. notes: what was odd but understood. settled: up and facing are
    decided and not to be found again. expressions: of a VRM file, by VRM 1.0 names: [(shape, weight 0 to 1), ...].
    """

    source: str
    names: tuple[str, ...]
    parents: np.ndarray
    matrices: np.ndarray
    ends: np.ndarray
    held: np.ndarray
    skin: np.ndarray = field(default_factory=lambda: np.zeros((0, 3)))
    skin_bone: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    shapes: tuple[str, ...] = ()
    metres: float | None = None
    up: str = ""
    facing: str = ""
    humanoid: dict = field(default_factory=dict)
    rest_from: str = "zero"
    nodes: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    notes: tuple[str, ...] = ()
    settled: bool = False
    expressions: dict = field(default_factory=dict)

    @property
    def positions(self):
        """Joints (B, 3) at rest."""
        return self.matrices[:, :3, 3]


def checked(skeleton):
    """The FileSkeleton itself. Raises InputError when its bones cannot be a body's."""
    where, count = skeleton.source, len(skeleton.names)
    if count < 2:
        raise InputError(f"{where}: it holds no skeleton; expected a character with bones.")
    if count > MOST_BONES:
        raise InputError(f"{where}: {count} bones; expected at most {MOST_BONES} in a character.")
    if not np.isfinite(skeleton.matrices).all():
        bone = skeleton.names[int(np.flatnonzero(~np.isfinite(skeleton.matrices).all(axis=(1, 2)))[0])][:80]
        raise InputError(
            f"{where}: the rest pose of bone '{bone}' holds NaN or infinite numbers; expected finite ones."
        )
    if float(np.ptp(skeleton.positions, axis=0).max()) <= 0:
        raise InputError(f"{where}: all bones lie in one point; expected a skeleton with lengths.")
    return skeleton


def unlike(names):
    """Bone names of any file as names that are told apart: none is empty, none used twice, none endless."""
    out, seen = [], set()
    for i, name in enumerate(names):
        name = "".join(c for c in str(name or "") if c.isprintable())[:LONGEST_NAME] or f"bone {i + 1}"
        own, n = name, 2
        while own in seen:
            own, n = f"{name}#{n}", n + 1
        seen.add(own)
        out.append(own)
    return tuple(out)


def ordered(parents, where):
    """Numbers (B,) of bones such that parents come first. Raises InputError for a bone that is its own ancestor."""
    parents = list(parents)
    children = {}
    for i, p in enumerate(parents):
        children.setdefault(p, []).append(i)
    order, stack = [], list(reversed(children.get(-1, [])))
    while stack:
        i = stack.pop()
        order.append(i)
        stack.extend(reversed(children.get(i, [])))
    if len(order) < len(parents):
        raise InputError(f"{where}: some bones are their own ancestors; expected a tree of bones.")
    return np.array(order, dtype=np.int64)


def bone_rotations(linear):
    """Rotations (..., 3, 3) of bones' matrices (..., 3, 3) without their scales; a mirrored bone's first axis is turned round."""
    u, _, vt = np.linalg.svd(linear)
    turn = u @ vt
    turn[np.linalg.det(turn) < 0, :, 0] *= -1
    return turn
