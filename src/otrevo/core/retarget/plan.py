"""What moves what: a map sheet, a character and a performer's skeleton as arrays for compiled loops.

Every bone of the character that somebody drives has one or two of our bones with a share between them, and a rotation C such that
its world rotation is (our world rotation) C. C takes the character's rest pose to the T-pose (the map sheet's rest rotation) and then
its limb to where the performer's own limb points in a T-pose, so that a mapped limb points in the world where the
performer's does. World axes, metres, quaternions x y z w.
"""

from collections import namedtuple
from dataclasses import dataclass

import numpy as np

from otrevo.core.body.skeleton import END_OFFSETS, rest_joints
from otrevo.core.characters.rest_pose import direction, shortest_rotation
from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply, quaternion_rotate

TRUNK = ("hips", "spine", "chest", "upperChest")
POINTED = ("UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg")
SPINE_LINE = (*TRUNK, "neck", "head")
UPRIGHT = np.array([0.0, 0.0, 0.0, 1.0])
SLOPED = ("Thumb", "Index", "Middle", "Ring", "Little")

# Arrays of a plan: parents (B,); offset (B, 3): joint seen from the parent's joint, in the parent's own axes; rest (B, 4): local
# rotation at rest; before, after (B,): our bones, -1 for none; share (B,): 0 is before, 1 is after; change (B, 4): C.
PlanArrays = namedtuple("PlanArrays", "parents offset rest before after share change twist_of twist_next twist_share")


@dataclass(frozen=True)
class Plan:
    """arrays for the loops; root: the character's bone that carries the hips; source: the performer's Skeleton.

    joints: {our bone: number of the character's first bone for it}; legs_ratio: length of the character's legs over the performer's.
    trunk (B,): which bones are the character's spine, chest and upper chest.
    """

    arrays: PlanArrays
    character: object
    source: object
    root: int
    joints: dict
    legs_ratio: float
    trunk: np.ndarray


def make_plan(character, sheet, source, stance="character"):
    """The Plan for a Character by a MapSheet and the performer's Skeleton.

    stance: whose posture spine, neck, head and collar bones have in a T-pose: the character's own, or the performer's.
    """
    count = len(character.names)
    number = {n: i for i, n in enumerate(character.names)}
    before, after = np.full(count, -1), np.full(count, -1)
    share, change = np.ones(count), np.tile([0.0, 0.0, 0.0, 1.0], (count, 1))
    ours = {n: i for i, n in enumerate(source.names)}
    joints = {bone: number[p.targets[0]] for bone, p in sheet.pairs.items()}
    rest_source = rest_joints(source)
    posture = _posture(character, sheet, number, rest_source) if stance == "performer" else {}
    for bone, low, high, f, target in _drivers(sheet, ours):
        b = number[target]
        before[b], after[b], share[b] = ours[low], ours[high], f
        turn = quaternion_multiply(posture.get(bone, UPRIGHT), _change(bone, sheet, rest_source, stance))
        change[b] = quaternion_multiply(turn, character.rotations[b])
    parents = character.parents
    inverse = quaternion_conjugate(character.rotations)
    offset, rest = character.positions.copy(), character.rotations.copy()
    below = parents >= 0
    offset[below] = quaternion_rotate(
        inverse[parents[below]], character.positions[below] - character.positions[parents[below]]
    )
    rest[below] = quaternion_multiply(inverse[parents[below]], character.rotations[below])
    twist_of, twist_next, twist_share = _twists(character, sheet, number)
    arrays = PlanArrays(
        parents.astype(np.int64), offset, rest, before, after, share, change, twist_of, twist_next, twist_share
    )
    lengths = leg_length(lambda b: character.positions[joints[b]] if b in joints else None)
    own = leg_length(lambda b: rest_source.get(b))
    ratio = lengths / own if lengths and own else 1.0
    spine = {number[t] for b in TRUNK[1:] if b in sheet.pairs for t in sheet.pairs[b].targets} - {joints["hips"]}
    trunk = np.isin(np.arange(count), list(spine))
    return Plan(arrays, character, source, joints["hips"], joints, ratio, trunk)


def leg_length(joint):
    """Mean length of thigh and shin of both legs by joint(bone) -> (3,) or None; 0 where there is none."""
    out = []
    for side in ("left", "right"):
        points = [joint(side + part) for part in ("UpperLeg", "LowerLeg", "Foot")]
        if all(p is not None for p in points):
            out.append(np.linalg.norm(points[1] - points[0]) + np.linalg.norm(points[2] - points[1]))
    return float(np.mean(out)) if out else 0.0


def _drivers(sheet, ours):
    """(our bone, from, to, share between them, character bone) for every bone that somebody drives; the trunk by shares."""
    seen = set()
    trunk = [b for b in TRUNK if b in ours]
    order = [(b, t) for b in TRUNK[1:] if b in sheet.pairs for t in sheet.pairs[b].targets]
    last = {t: b for b, t in order}  # one bone of theirs for several of ours follows the last of them
    for bone, pair in sheet.pairs.items():
        if bone in TRUNK[1:]:
            own = [t for t in pair.targets if last[t] == bone]
            shares = dict(zip(pair.targets, pair.shares, strict=False))
            known = [b for b in trunk if TRUNK.index(b) <= TRUNK.index(bone)]
            high = known[-1]
            low = known[-2] if len(known) > 1 else high
            for k, target in enumerate(own):
                yield bone, low, high, shares.get(target, (k + 1) / len(own)), target
            continue
        if bone not in ours:
            continue
        low = "upperChest" if "upperChest" in ours else trunk[-1]
        for k, target in enumerate(pair.targets):
            if target in seen:
                continue
            seen.add(target)
            if bone == "neck" and "neck" in ours and "head" in ours and len(pair.targets) > 1:
                # 0 is the chest, 1 the neck, 2 the head
                at = 2 * pair.shares[k] if pair.shares else 2 * (k + 1) / (len(pair.targets) + 1)
                yield (bone, low, "neck", at, target) if at <= 1 else (bone, "neck", "head", at - 1, target)
            else:
                yield bone, bone, bone, 1.0, target


def _change(bone, sheet, rest_source, stance):
    """The rotation (4,) of the world that takes the character's rest to where the performer's limb is in a T-pose."""
    turn = sheet.rest[bone].rotation if bone in sheet.rest else UPRIGHT
    core = bone.removeprefix("left").removeprefix("right")
    if core in POINTED or any(f in core for f in SLOPED) or (stance == "performer" and core == "Shoulder"):
        theirs = sheet.limb_direction.get(bone)
        ours = direction(bone, rest_source)
        if ours is None and bone in END_OFFSETS:
            ours = np.array(END_OFFSETS[bone]) / np.linalg.norm(END_OFFSETS[bone])
        if theirs is not None and ours is not None:
            return quaternion_multiply(shortest_rotation(quaternion_rotate(turn, theirs), ours), turn)
    return turn


def _posture(character, sheet, number, rest_source):
    """{bone of the spine or neck: the rotation (4,) of the world that takes it to where the performer's points in a T-pose}.

    Ours that share one of theirs count as one bone, from the first of them to the next that has another.
    """
    line = [b for b in SPINE_LINE if b in sheet.pairs and b in rest_source]
    groups = [[b] for b in line[:1]]
    for bone in line[1:]:
        same = sheet.pairs[bone].targets[0] == sheet.pairs[groups[-1][0]].targets[0]
        groups[-1].append(bone) if same else groups.append([bone])
    out = {}
    for own, following in zip(groups, groups[1:], strict=False):
        a, b = (number[sheet.pairs[g[0]].targets[0]] for g in (own, following))
        theirs, ours = character.positions[b] - character.positions[a], rest_source[following[0]] - rest_source[own[0]]
        if own[0] != "hips" and min(np.linalg.norm(theirs), np.linalg.norm(ours)) > 1e-6:
            turn = sheet.rest[own[0]].rotation if own[0] in sheet.rest else UPRIGHT
            theirs = quaternion_rotate(turn, theirs / np.linalg.norm(theirs))
            out |= dict.fromkeys(own, shortest_rotation(theirs, ours / np.linalg.norm(ours)))
    return out


def _twists(character, sheet, number):
    """(bone each helper twists for (B,), the bone whose twist it shares (B,), share (B,)); -1 where it is no helper."""
    count = len(character.names)
    of, following, share = np.full(count, -1), np.full(count, -1), np.zeros(count)
    first = {p.targets[0]: bone for bone, p in sheet.pairs.items()}
    onward = {"UpperArm": "LowerArm", "LowerArm": "Hand", "UpperLeg": "LowerLeg", "LowerLeg": "Foot"}
    for helper, limb in sheet.helpers.items():
        bone = first.get(limb)
        role = next((r for r in onward if bone and bone.endswith(r)), None)
        following_bone = bone.replace(role, onward[role]) if role else None
        if following_bone not in sheet.pairs:
            continue
        a, b, h = number[limb], number[sheet.pairs[following_bone].targets[0]], number[helper]
        line = character.positions[b] - character.positions[a]
        at = (character.positions[h] - character.positions[a]) @ line / max(line @ line, 1e-12)
        of[h], following[h], share[h] = a, b, float(np.clip(at, 0, 1))
    return of, following, share
