"""How far a character's rest pose is from a T-pose, bone by bone, and the rotations that take it there.

A limb's direction is from its joint to the next mapped one. Arms are brought along +X and -X, legs straight down, each by the
shortest rotation in the world that keeps what the parent's rotation did to it. Hands are matched by two lines: from the
wrist to the knuckles, and across them; feet by the line of the toes over the floor, for their slope belongs to the shoe.
The trunk and the head stand as they are unless they lean clearly. Rotations are of the world, metres, T-pose facing +Z.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.body.skeleton import BONE_NAMES, BONE_PARENTS, generic_skeleton
from otrevo.core.conventions import quaternion_from_rotvec, quaternion_multiply, quaternion_rotate

NEXT = {"UpperArm": "LowerArm", "LowerArm": "Hand", "UpperLeg": "LowerLeg", "LowerLeg": "Foot", "Shoulder": "UpperArm"}
FLAT_DEG = 25.0  # a shin that is turned less leaves the sole flat
LEANS_DEG = 12.0  # a trunk that leans less stands in its own posture
FINGERS = ("Index", "Middle", "Ring", "Little")
_PARENT = {n: BONE_NAMES[p] if p >= 0 else None for n, p in zip(BONE_NAMES, BONE_PARENTS, strict=True)}
_GENERIC = dict(zip(BONE_NAMES, generic_skeleton().rest_offset_m, strict=True))


@dataclass(frozen=True)
class RestTurn:
    """degrees: of the bone's direction against the T-pose; rotation (4,): of the world, from rest to T-pose; seen: it was measured.

    by_hand: a person set it, and a change of the map elsewhere leaves it.
    """

    degrees: float
    rotation: np.ndarray
    seen: bool
    by_hand: bool = False


def match_rest_pose(positions, pairs, ends=None):
    """{our bone: RestTurn}. positions (B, 3) of a character's joints at rest; pairs: {our bone: [their numbers]}; ends (B, 3)."""
    first = {bone: positions[targets[0]] for bone, targets in pairs.items()}
    out = {}
    lean = _trunk_lean(first)
    for bone in BONE_NAMES:
        if bone not in pairs:
            continue
        above = _PARENT[bone]
        while above is not None and above not in out:
            above = _PARENT[above]
        inherited = out[above].rotation if above else lean
        out[bone] = _one(bone, first, pairs, ends, inherited, lean)
    return out


def direction(bone, first, pairs=None, ends=None):
    """Where a bone of ours points, by the joints in `first` ({bone: (3,)}), or None where nothing tells."""
    side = "left" if bone.startswith("left") else "right" if bone.startswith("right") else ""
    core = bone.removeprefix(side) if side else bone
    target = None
    if core in NEXT:
        target = first.get(side + NEXT[core])
    elif core == "Hand":
        knuckles = [first[side + f + "Proximal"] for f in FINGERS if side + f + "Proximal" in first]
        target = np.mean(knuckles, axis=0) if knuckles else None
    elif core == "Foot":
        target = first.get(side + "Toes")
    elif core.endswith("Metacarpal"):
        target = first.get(bone.replace("Metacarpal", "Proximal"))
    elif core.endswith("Proximal"):
        onward = "Distal" if "Thumb" in core else "Intermediate"
        target = first.get(bone.replace("Proximal", onward))
    elif core.endswith("Intermediate"):
        target = first.get(bone.replace("Intermediate", "Distal"))
    if (
        target is None
        and ends is not None
        and pairs is not None
        and bone in pairs
        and np.isfinite(ends[pairs[bone][-1]]).all()
    ):
        target = ends[pairs[bone][-1]]
    if target is None or bone not in first:
        return None
    v = target - first[bone]
    return v / np.linalg.norm(v) if np.linalg.norm(v) > 1e-9 else None


def _one(bone, first, pairs, ends, inherited, lean):
    side = 1.0 if bone.startswith("left") else -1.0
    core = bone.removeprefix("left").removeprefix("right")
    points = direction(bone, first, pairs, ends)
    if core in ("hips", "spine", "chest", "upperChest", "neck", "head"):
        return RestTurn(_angle(lean), lean, True)
    if core in ("UpperArm", "LowerArm"):
        wanted = np.array([side, 0.0, 0.0])
    elif core in ("UpperLeg", "LowerLeg"):
        wanted = np.array([0.0, -1.0, 0.0])
    elif core == "Shoulder":
        return RestTurn(_angle(inherited), inherited, False)  # a collar bone's slope is its own
    elif core == "Hand":
        return _hand(bone, first, points, inherited, side)
    elif core in ("Foot", "Toes"):
        return _foot(core, points, inherited)
    else:
        wanted = _finger(core, side)
        if points is None:
            return RestTurn(_angle(inherited), inherited, False)
        turned = quaternion_rotate(inherited, points)
        rotation = quaternion_multiply(shortest_rotation(turned, wanted), inherited)
        return RestTurn(_between(points, wanted), rotation, True)
    if points is None:
        return RestTurn(_angle(inherited), inherited, False)
    rotation = quaternion_multiply(shortest_rotation(quaternion_rotate(inherited, points), wanted), inherited)
    return RestTurn(_between(points, wanted), rotation, True)


def _hand(bone, first, points, inherited, side):
    """By the line to the knuckles and the line across them: index to little finger points back in a T-pose, palm down."""
    if points is None:
        return RestTurn(_angle(inherited), inherited, False)
    prefix = "left" if side > 0 else "right"
    row = [first[f"{prefix}{f}Proximal"] for f in FINGERS if f"{prefix}{f}Proximal" in first]
    named = [f for f in FINGERS if f"{prefix}{f}Proximal" in first]
    wanted = np.mean([_GENERIC[f"left{f}Proximal"] for f in named] or [[1.0, 0.0, 0.0]], axis=0) * [side, 1.0, 1.0]
    wanted /= np.linalg.norm(wanted)
    if len(row) >= 2:
        across = row[-1] - row[0]
        rotation = _frames(points, across, wanted, np.array([0.0, 0.0, -1.0]))
    else:
        rotation = quaternion_multiply(shortest_rotation(quaternion_rotate(inherited, points), wanted), inherited)
    return RestTurn(_between(points, wanted), rotation, True)


def _foot(core, points, inherited):
    if core == "Toes":
        return RestTurn(_angle(inherited), inherited, False)
    if points is None:
        return RestTurn(_angle(inherited), inherited, False)
    if _angle(inherited) < FLAT_DEG:  # it stands on its sole, whatever the shin above it does
        inherited = np.array([0.0, 0.0, 0.0, 1.0])
    turned = quaternion_rotate(inherited, points)
    level = np.array([turned[0], 0.0, turned[2]])
    if np.linalg.norm(level) < 0.2:
        return RestTurn(_angle(inherited), inherited, False)
    yaw = shortest_rotation(level / np.linalg.norm(level), np.array([0.0, 0.0, 1.0]))
    rotation = quaternion_multiply(yaw, inherited)
    return RestTurn(_angle(rotation), rotation, True)


def _finger(core, side):
    """Where a finger bone points in a T-pose: straight out; the thumb's as the generic body's."""
    if core.startswith("Thumb"):
        onward = {"ThumbMetacarpal": "leftThumbProximal"}.get(core, "leftThumbDistal")
        v = _GENERIC[onward] / np.linalg.norm(_GENERIC[onward])
        return np.array([side * v[0], v[1], v[2]])
    return np.array([side, 0.0, 0.0])


def _trunk_lean(first):
    """The rotation (4,) that stands a clearly leaning trunk upright and faces it forward, else none."""
    need = ("leftUpperLeg", "rightUpperLeg", "leftUpperArm", "rightUpperArm")
    if not all(b in first for b in need):
        return np.array([0.0, 0.0, 0.0, 1.0])
    up = first["leftUpperArm"] + first["rightUpperArm"] - first["leftUpperLeg"] - first["rightUpperLeg"]
    left = first["leftUpperLeg"] - first["rightUpperLeg"]
    rotation = _frames(up, left, np.array([0.0, 1.0, 0.0]), np.array([1.0, 0.0, 0.0]))
    return rotation if _angle(rotation) > LEANS_DEG else np.array([0.0, 0.0, 0.0, 1.0])


def _frames(a, b, to_a, to_b):
    """The rotation (4,) that takes direction a to to_a, and b as near to to_b as that allows."""
    from scipy.spatial.transform import Rotation

    rotation, _ = Rotation.align_vectors(
        np.stack([to_a, _beside(to_b, to_a)]), np.stack([a / np.linalg.norm(a), _beside(b, a)]), weights=[np.inf, 1]
    )
    return rotation.as_quat()


def _beside(v, axis):
    v = v - (v @ axis) / (axis @ axis) * axis
    return v / max(np.linalg.norm(v), 1e-12)


def shortest_rotation(a, b):
    """The shortest rotation (4,) that takes unit vector a to unit vector b."""
    axis = np.cross(a, b)
    s, c = np.linalg.norm(axis), float(a @ b)
    if s < 1e-9:
        axis = np.array([0.0, 1.0, 0.0]) if c < 0 else axis
        return quaternion_from_rotvec(axis * (np.pi if c < 0 else 0.0))
    return quaternion_from_rotvec(axis / s * np.arctan2(s, c))


def _angle(rotation):
    return float(np.degrees(2 * np.arctan2(np.linalg.norm(rotation[:3]), abs(rotation[3]))))


def _between(a, b):
    return float(np.degrees(np.arctan2(np.linalg.norm(np.cross(a, b)), a @ b)))
