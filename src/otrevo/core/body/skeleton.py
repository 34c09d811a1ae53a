"""The performer's skeleton: VRM 1.0 humanoid bones, rest pose = T-pose with identity rotations.

`rest_offset_m[b]` is the joint of bone b seen from its parent's joint in T-pose world axes, metres; for the root it is
the height of the hips over the floor. The hips' joint lies midway between the hip joints. Proportions of the generic body
are round figures for an adult of 1.75 m, scaled linearly with height.

Source of the proportions: D. A. Winter, Biomechanics and Motor Control of Human Movement, after Drillis and Contini, 1964; arms: P. de Leva,
Adjustments to Zatsiorsky-Seluyanov's segment inertia parameters, Journal of Biomechanics 29, 1996.
"""

from dataclasses import dataclass, replace

import numpy as np

GENERIC_HEIGHT_M = 1.75

# name, parent, offset in metres for 1.75 m; right limbs are mirrored from the left ones below
_TRUNK = [
    ("hips", None, (0.0, 0.93, 0.0)),
    ("spine", "hips", (0.0, 0.11, -0.01)),
    ("chest", "spine", (0.0, 0.12, 0.0)),
    ("upperChest", "chest", (0.0, 0.12, -0.005)),
    ("neck", "upperChest", (0.0, 0.15, -0.005)),
    ("head", "neck", (0.0, 0.10, 0.02)),
]
_LEFT = [
    ("Shoulder", "upperChest", (0.03, 0.12, 0.01)),
    ("UpperArm", "Shoulder", (0.145, 0.0, -0.02)),
    ("LowerArm", "UpperArm", (0.28, 0.0, 0.0)),
    ("Hand", "LowerArm", (0.27, 0.0, 0.0)),
    ("UpperLeg", "hips", (0.09, 0.0, 0.0)),
    ("LowerLeg", "UpperLeg", (0.0, -0.43, 0.0)),
    ("Foot", "LowerLeg", (0.0, -0.42, 0.0)),
    ("Toes", "Foot", (0.0, -0.06, 0.135)),
]
_LEFT_FINGERS = [
    ("ThumbMetacarpal", "Hand", (0.022, -0.012, 0.024)),
    ("ThumbProximal", "ThumbMetacarpal", (0.034, -0.008, 0.026)),
    ("ThumbDistal", "ThumbProximal", (0.026, 0.0, 0.018)),
    ("IndexProximal", "Hand", (0.090, 0.0, 0.026)),
    ("IndexIntermediate", "IndexProximal", (0.042, 0.0, 0.0)),
    ("IndexDistal", "IndexIntermediate", (0.024, 0.0, 0.0)),
    ("MiddleProximal", "Hand", (0.090, 0.0, 0.004)),
    ("MiddleIntermediate", "MiddleProximal", (0.046, 0.0, 0.0)),
    ("MiddleDistal", "MiddleIntermediate", (0.028, 0.0, 0.0)),
    ("RingProximal", "Hand", (0.085, 0.0, -0.017)),
    ("RingIntermediate", "RingProximal", (0.042, 0.0, 0.0)),
    ("RingDistal", "RingIntermediate", (0.027, 0.0, 0.0)),
    ("LittleProximal", "Hand", (0.078, 0.0, -0.036)),
    ("LittleIntermediate", "LittleProximal", (0.033, 0.0, 0.0)),
    ("LittleDistal", "LittleIntermediate", (0.019, 0.0, 0.0)),
]


def _both_sides(rows):
    for side, sign in (("left", 1.0), ("right", -1.0)):
        for name, parent, (x, y, z) in rows:
            parent_name = parent if parent in ("hips", "upperChest") else side + parent
            yield side + name, parent_name, (sign * x, y, z)


_ROWS = [*_TRUNK, *_both_sides(_LEFT), *_both_sides(_LEFT_FINGERS)]
BONE_NAMES = tuple(r[0] for r in _ROWS)
BODY_BONES = BONE_NAMES[: len(_TRUNK) + 2 * len(_LEFT)]
FINGER_BONES = BONE_NAMES[len(BODY_BONES) :]
BONE_INDEX = {name: i for i, name in enumerate(BONE_NAMES)}
BONE_PARENTS = np.array([-1 if r[1] is None else BONE_INDEX[r[1]] for r in _ROWS], dtype=np.int64)
_GENERIC_OFFSETS = np.array([r[2] for r in _ROWS])

# Where a bone ends when no child says so: fingertips, toes, crown. Metres for 1.75 m, used by BVH end sites and drawing.
END_OFFSETS = {"head": (0.0, 0.20, 0.0), "leftToes": (0.0, -0.01, 0.07), "rightToes": (0.0, -0.01, 0.07)} | {
    f"{side}{finger}Distal": (sign * 0.022, 0.0, 0.0)
    for side, sign in (("left", 1.0), ("right", -1.0))
    for finger in ("Thumb", "Index", "Middle", "Ring", "Little")
}


def parents_among(names):
    """Parents (B,) of some of our bones by their numbers among `names`: the nearest bone above that is one of them, else -1."""
    out = []
    for name in names:
        b = BONE_PARENTS[BONE_INDEX[name]]
        while b >= 0 and BONE_NAMES[b] not in names:
            b = BONE_PARENTS[b]
        out.append(names.index(BONE_NAMES[b]) if b >= 0 else -1)
    return np.array(out, dtype=np.int64)


@dataclass(frozen=True)
class Skeleton:
    """Bones in an order in which every parent comes before its children.

    names: bone names (B); parents: (B,) index of the parent, -1 for the root; rest_offset_m: (B, 3).
    """

    names: tuple[str, ...]
    parents: np.ndarray
    rest_offset_m: np.ndarray

    def index(self, name):
        return self.names.index(name)

    def keep(self, names):
        """The same skeleton with only the bones in `names`, which must include every parent of a kept bone."""
        wanted = [n for n in self.names if n in set(names)]
        new_index = {n: i for i, n in enumerate(wanted)}
        old = [self.names.index(n) for n in wanted]
        parents = [-1 if self.parents[i] < 0 else new_index[self.names[self.parents[i]]] for i in old]
        return Skeleton(tuple(wanted), np.array(parents, dtype=np.int64), self.rest_offset_m[old].copy())

    def with_offsets(self, rest_offset_m):
        return replace(self, rest_offset_m=np.asarray(rest_offset_m, dtype=float))


def generic_skeleton(height_m=GENERIC_HEIGHT_M):
    """The generic body with fingers (52 bones), scaled to `height_m`."""
    return Skeleton(BONE_NAMES, BONE_PARENTS.copy(), _GENERIC_OFFSETS * (height_m / GENERIC_HEIGHT_M))


def rest_joints(skeleton):
    """{bone: joint (3,)} of a Skeleton in T-pose."""
    out = np.zeros((len(skeleton.names), 3))
    for b, parent in enumerate(skeleton.parents):
        out[b] = skeleton.rest_offset_m[b] + (out[parent] if parent >= 0 else 0.0)
    return dict(zip(skeleton.names, out, strict=True))
