"""Which bones of a character a performer's bones move: a map sheet, proposed from hierarchy, geometry and names.

Limbs first (`limbs`), their joints (`chains`), fingers (`fingers`), then sides, axes and the unit (`frame`). A table of humanoid
bones inside the file counts as certain. Each pair carries a confidence and, where witnesses disagree, a doubt in words.
"""

from dataclasses import dataclass, field

import numpy as np

from otrevo.core.body.skeleton import BONE_NAMES
from otrevo.core.characters.chains import ROLE_WORDS, arm_joints, head_and_neck, leg_joints, vote
from otrevo.core.characters.fingers import find_fingers
from otrevo.core.characters.frame import Frame, find_frame
from otrevo.core.characters.limbs import find_limbs
from otrevo.core.characters.tree import BoneTree

TRUNK = ("spine", "chest", "upperChest")
PLAIN_FACING = 0.25  # so far over one half, and the facing is beyond doubt
UNNAMED_JAW = 0.58
NEEDED = ("hips", "leftUpperLeg", "leftLowerLeg", "leftFoot", "rightUpperLeg", "rightLowerLeg", "rightFoot",
          "leftUpperArm", "leftLowerArm", "leftHand", "rightUpperArm", "rightLowerArm", "rightHand")  # fmt: skip
EXTRA = ("leftEye", "rightEye", "jaw")


@dataclass
class Pair:
    """bone: of ours; targets: numbers of the file's bones, parent first; confidence 0 to 1; doubt: what disagrees, or ""."""

    bone: str
    targets: list
    confidence: float
    doubt: str = ""


@dataclass
class Proposal:
    """pairs by our bone; helpers: {bone: the mapped bone it twists for}; frame: the file's axes and unit."""

    pairs: dict
    helpers: dict
    frame: Frame
    tree: BoneTree
    notes: list = field(default_factory=list)


def propose(skeleton):
    """The Proposal for a FileSkeleton. Raises InputError when it is no two-legged body."""
    tree = BoneTree(skeleton)
    table = {k: v for k, v in skeleton.humanoid.items() if k in BONE_NAMES or k in EXTRA}
    if all(n in table for n in NEEDED):
        return _from_table(tree, table)
    limbs = find_limbs(tree)
    legs, leg_sure = leg_joints(tree, limbs.legs)
    arms, arm_sure = arm_joints(tree, limbs.arms)
    x = tree.positions
    trunk_up = np.mean([x[a["UpperArm"]] for a in arms], axis=0) - np.mean([x[leg["UpperLeg"]] for leg in legs], axis=0)
    neck, head, head_sure = head_and_neck(tree, limbs.arm_fork, {w[0] for w in limbs.arms}, trunk_up)
    lateral = x[legs[0]["UpperLeg"]] - x[legs[1]["UpperLeg"]]
    if (x[arms[0]["UpperArm"]] - x[arms[1]["UpperArm"]]) @ lateral < 0:  # the arms in the order of the legs
        arms = arms[::-1]
    frame = find_frame(tree, legs, arms, head)
    sides = ("left", "right") if frame.left_first else ("right", "left")
    # who does not know the front does not know the sides
    facing = 0.3 + 0.7 * min(1.0, (frame.sure - 0.5) / PLAIN_FACING)
    pairs = {}

    def add(bone, targets, sure, role=""):
        said = [vote(tree.said[t], role) for t in targets[:1]] if role else [0.0]
        pairs[bone] = _judged(tree, bone, list(targets), sure, said[0])

    add("hips", [limbs.hips], limbs.sure)
    trunk = list(limbs.trunk)
    while len(neck) > 1 and tree.said[neck[0]].names("spine", "chest") and not tree.said[neck[0]].names("neck"):
        trunk, neck = [*trunk, neck[0]], neck[1:]
    for bone, targets in _shared_trunk(tree, trunk, limbs.hips).items():
        add(bone, targets, limbs.sure)
    if neck:
        add("neck", neck, head_sure)
    if head >= 0:
        add("head", [head], head_sure)
    for joints, sure in ((legs, min(leg_sure, limbs.sure)), (arms, min(arm_sure, limbs.sure))):
        for side, one in zip(sides, joints, strict=True):
            for role, bone in one.items():
                add(side + role, [bone], min(sure, facing), role)
    hands = [find_fingers(tree, arm["Hand"]) for arm in arms]
    for side, (found, _, sure), (others, *_) in zip(sides, hands, hands[::-1], strict=True):
        one_thing = all(b.startswith("Middle") and not tree.said[t].names("middle", "finger") for b, t in found.items())
        if one_thing and not others:
            continue  # one hand alone has something on it: it is held
        for bone, target in found.items():
            add(side + bone, [target], min(sure, arm_sure, facing))
    _face_bones(tree, pairs, frame)
    helpers = _inline_and_helpers(tree, pairs)
    return Proposal(pairs, helpers, frame, tree, [*skeleton.notes, *frame.notes])


def _from_table(tree, table):
    """The Proposal of a file that tells its humanoid bones itself."""
    legs = [
        {r: table[s + r] for r in ("UpperLeg", "LowerLeg", "Foot", "Toes") if s + r in table} for s in ("left", "right")
    ]
    arms = [
        {r: table[s + r] for r in ("Shoulder", "UpperArm", "LowerArm", "Hand") if s + r in table}
        for s in ("left", "right")
    ]
    frame = find_frame(tree, legs, arms, table.get("head", -1))
    pairs = {bone: Pair(bone, [target], 1.0) for bone, target in table.items()}
    trunk = [b for b in TRUNK if b in pairs]
    if trunk:  # ours that theirs lack move the next of theirs
        for bone in TRUNK:
            if bone not in pairs:
                pairs[bone] = Pair(bone, list(pairs[trunk[-1]].targets), 0.95)
    return Proposal(pairs, _inline_and_helpers(tree, pairs), frame, tree, [*tree.skeleton.notes, *frame.notes])


def _judged(tree, bone, targets, sure, said):
    """A Pair with its confidence: how clear the geometry was, and whether the name agrees."""
    agrees = said > 0.5 or _name_agrees(tree, bone, targets)
    against = said < -1.0 or _name_disagrees(tree, bone, targets)
    confidence = 0.35 + 0.6 * sure
    doubt = ""
    if agrees:
        confidence = 1 - (1 - confidence) * 0.25
    elif against:
        confidence = min(confidence * 0.65, 0.55)
        doubt = f"where it lies says {bone}, its name '{tree.skeleton.names[targets[0]][:60]}' says otherwise"
    elif sure < 0.7:
        doubt = "nothing but where it lies tells, and another bone would do nearly as well"
    return Pair(bone, targets, float(np.clip(confidence, 0.05, 0.99)), doubt)


_AGREE = {
    "hips": ("hips",),
    "spine": ("spine",),
    "chest": ("chest", "spine"),
    "upperChest": ("chest", "spine"),
    "neck": ("neck",),
    "head": ("head",),
}


def _name_agrees(tree, bone, targets):
    words = _AGREE.get(bone)
    if words is None:
        words = [f.lower() for f in ("Thumb", "Index", "Middle", "Ring", "Little") if f in bone]
    return bool(words) and any(tree.said[t].names(*words) for t in targets)


def _name_disagrees(tree, bone, targets):
    said = tree.said[targets[0]]
    parts = {w for words in ROLE_WORDS.values() for w in words} | {"neck", "head", "spine", "chest", "hips"}
    if bone in _AGREE:
        return bool(said.concepts & (parts - {"upper", "lower"})) and not said.names(
            *_AGREE[bone], "hips", "spine", "chest", "shoulder"
        )
    return False


def _shared_trunk(tree, trunk, hips):
    """{our trunk bone: theirs}: by how far along the trunk each begins; several of ours may move the same one."""
    if not trunk:
        return {}
    if len(trunk) <= 3:
        own = {1: (0, 0, 0), 2: (0, 1, 1), 3: (0, 1, 2)}[len(trunk)]
        return {bone: [trunk[i]] for bone, i in zip(TRUNK, own, strict=True)}
    at = np.cumsum([tree.length(a, b) for a, b in zip([hips, *trunk[:-1]], trunk, strict=True)])
    at = (at - at[0]) / max(at[-1] - at[0], 1e-9)
    out = {bone: [] for bone in TRUNK}
    for bone, share in zip(trunk, at, strict=True):
        out[TRUNK[int(np.clip(np.round(2 * share), 0, 2))]].append(bone)
    out["chest"] = out["chest"] or [trunk[len(trunk) // 2]]
    return out


def _face_bones(tree, pairs, frame):
    """Eyes and jaw: by name, else the two alike leaves before the head's joint, and the lowest one in the middle."""
    head = pairs.get("head")
    if head is None:
        return
    head = head.targets[0]
    side, up, ahead = ((tree.positions - tree.positions[head]) @ axis / tree.size for axis in frame.rotation)
    inside = [b for b in tree.below(head)[1:] if not tree.spare[b] and not tree.ends[b]]
    eyes = [b for b in inside if tree.said[b].names("eye")]
    jaws = [b for b in inside if tree.said[b].names("jaw")]
    sure = 0.95
    if not eyes and not jaws:
        sure = 0.75
        leaves = [
            b
            for b in inside
            if not tree.children[b] and tree.parents[b] == head and ahead[b] > 0.004 and not tree.said[b].concepts
        ]
        alike = [(a, b) for a in leaves for b in leaves if side[a] > 0.004 > -0.004 > side[b] and abs(side[a] + side[b]) < 0.006
                 and abs(up[a] - up[b]) < 0.006 and up[a] > 0]  # fmt: skip
        eyes = list(max(alike, key=lambda p: ahead[p[0]])) if alike else []
        jaws = sorted(
            (b for b in leaves if abs(side[b]) < 0.004 and not (eyes and up[b] >= up[eyes[0]])), key=lambda b: up[b]
        )
    if len(eyes) == 2 and abs(side[eyes[0]] - side[eyes[1]]) > 1e-3:
        eyes.sort(key=lambda b: -side[b])
        for bone, eye in zip(("leftEye", "rightEye"), eyes, strict=True):
            pairs[bone] = Pair(bone, [eye], sure)
    if jaws:
        pairs["jaw"] = Pair("jaw", [jaws[0]], sure if tree.said[jaws[0]].names("jaw") else UNNAMED_JAW)


def _inline_and_helpers(tree, pairs):
    """{helper: mapped bone}: twist bones beside a limb bone; those in line with it join its chain of targets."""
    mapped = {t: p for p in pairs.values() for t in p.targets}
    helpers = {}
    for bone, pair in pairs.items():
        if not any(
            bone.endswith(r) for r in ("UpperArm", "LowerArm", "UpperLeg", "LowerLeg", "Shoulder", "Hand", "Foot")
        ):
            continue
        first = pair.targets[0]
        for child in tree.children[first]:
            if child in mapped:
                continue
            onward = [b for b in tree.below(child) if b in mapped]
            if onward:  # in line: the limb's next joint hangs on it
                way = tree.up_to(onward[0], first)
                if all(b not in mapped for b in way[:-1]) and not bone.endswith(("Hand", "Foot", "Shoulder")):
                    pair.targets.extend(way[:-1])
            elif _beside(tree, pairs, bone, first, child):
                for b in tree.below(child):
                    helpers[b] = first
    return helpers


def _beside(tree, pairs, bone, first, child):
    """Whether an unmapped child lies on its limb between two joints, as twist bones do, or is named one."""
    if tree.said[child].names("weapon", "ik", "cloth", "hair", "tail"):
        return False
    if tree.said[child].names("twist"):
        return True
    after = {"UpperArm": "LowerArm", "LowerArm": "Hand", "UpperLeg": "LowerLeg", "LowerLeg": "Foot"}
    role = next((r for r in after if bone.endswith(r)), None)
    following = pairs.get(bone.replace(role, after[role])) if role else None
    if following is None or tree.children[child]:
        return False
    x = tree.positions
    line, off = x[following.targets[0]] - x[first], x[child] - x[first]
    length = np.linalg.norm(line)
    share = off @ line / max(length**2, 1e-12)
    return bool(-0.02 <= share < 0.99 and np.linalg.norm(off - share * line) < 0.08 * length)
