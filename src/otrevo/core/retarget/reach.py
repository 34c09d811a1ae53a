"""Reach: how far a hand or a foot keeps its place rather than its angles, from 0 to 1 over time.

Its place is the performer's: in the room (from the origin and the floor, times the scale of the path), on the other hand, on the
own body (as seen from the trunk and the head, times their sizes), or on a prop, where that is with the character. All but the
first count while the performer's hand is near what it reaches for, and fade out from there. The limb of two bones is bent there (`core.body.limb`).
Where an arm is too short, the spine and the collar bone lean towards the place, each up to its limit; what is still out of
reach the limb points at, and the report says by how much. A wrist bends no further than WRIST_DEG for it. World axes, metres.
"""

import numpy as np

from otrevo.core.body.limb import SOFT, about, unit
from otrevo.core.conventions import quaternion_conjugate, quaternion_from_rotvec, quaternion_multiply, quaternion_rotate
from otrevo.core.retarget.angles import follow, place_joints
from otrevo.core.retarget.feet import bend_limb, performer_axes, sole_height
from otrevo.core.retarget.held import nearness, palm, prop_on_character
from otrevo.core.retarget.plan import SLOPED

LIMBS = {
    "leftHand": ("left", "UpperArm", "LowerArm", "Hand"), "rightHand": ("right", "UpperArm", "LowerArm", "Hand"),
    "leftFoot": ("left", "UpperLeg", "LowerLeg", "Foot"), "rightFoot": ("right", "UpperLeg", "LowerLeg", "Foot"),
}  # fmt: skip
OTHER = {"leftHand": "rightHand", "rightHand": "leftHand", "leftFoot": "rightFoot", "rightFoot": "leftFoot"}
# From the other hand, or a bone of the trunk: up to here a place counts, and from here on not at all.
NEAR_M, FAR_M = 0.22, 0.50
BODY = ("hips", "chest", "head")  # what a place on the own body is seen from
LEAN_ROUNDS, CLOSE_M = 8, 1e-4
SPINE_DEG, COLLAR_DEG = 40.0, 25.0  # how far the whole spine and a collar bone lean at most
SPINE_SHARE = 0.6  # of what a hand is short of is asked of the spine, the rest of the collar bone
WRIST_DEG = 80.0
SETTLED_M = 0.01  # leaning sets in softly over so much


def reach_places(plan, motion, joint, rotation, settings, scale, at, rotations, positions, props=None):
    """Bend the limbs of a posed character to their places, as far as `settings.reach` says.

    joint (T, S, 3), rotation (T, S, 4): the performer's; scale: of places in the room; at (T, 3), rotations (T, B, 4), positions
    (T, B, 3): the character's, changed in place; props: {name: (pose (T, 7), points (K, 3))} with the performer. Returns {limb: how far it ends from its place (T,)}.
    """
    times = np.arange(len(motion)) / float(motion.rate)
    names, chosen = motion.skeleton.names, {}
    for limb, (side, *parts) in LIMBS.items():
        share = settings.reach_at(limb, times)
        if share.any() and limb in names and all(side + p in plan.joints for p in parts):
            chosen[limb] = share
    if not chosen:
        return {}

    loose = any(follows_between(plan, plan.joints[limb]) for limb in chosen)

    def pose(last=True):
        if last or loose:
            follow(plan.arrays, 0, len(times), rotations)
        place_joints(plan.arrays, 0, len(times), plan.root, at, rotations, positions)

    size = plan.legs_ratio if settings.prop_size == "character" else 1.0
    near = [limb for limb in chosen if settings.reach_on.get(limb) == "prop"]
    on_prop = _places_on_props(plan, near, motion, joint, rotation, props or {}, scale, size, positions)
    before = {limb: positions[:, plan.joints[limb]].copy() for limb in chosen}

    def targets():
        out = {}
        for limb, share in chosen.items():
            on = settings.reach_on.get(limb, "room")
            place = on_prop[limb][0] if limb in on_prop else _place(plan, limb, on, on == settings.reach_on.get(OTHER[limb]) and OTHER[limb] in chosen,
                           names, joint, rotation, scale, before, positions)  # fmt: skip
            out[limb] = before[limb] + (share * counts[limb])[:, None] * (place - before[limb])
        return out

    counts = {
        limb: on_prop[limb][1] if limb in on_prop else _counts(limb, settings.reach_on.get(limb, "room"), names, joint)
        for limb in chosen
    }

    if settings.out_of_reach == "lean":
        _lean(plan, targets, chosen, rotations, positions, pose)
    wanted = targets()
    for limb, target in wanted.items():
        side, upper, lower, end = LIMBS[limb]
        allowed = np.maximum(np.radians(WRIST_DEG), _wrist(plan, side, rotations)[0]) if end == "Hand" else None
        bend_limb(plan, side, upper, lower, end, target, rotations, positions)
        if allowed is not None:
            _ease_wrist(plan, side, allowed, rotations)
    pose()
    return {limb: np.linalg.norm(positions[:, plan.joints[limb]] - target, axis=1) for limb, target in wanted.items()}


def follows_between(plan, bone):
    """Whether a bone that nobody drives lies between a driven one and the hips, and has to follow before joints can be placed."""
    while bone >= 0 and bone != plan.root:
        if plan.arrays.before[bone] < 0:
            return True
        bone = int(plan.arrays.parents[bone])
    return False


def _place(plan, limb, on, both, names, joint, rotation, scale, before, positions):
    """Where a limb's end should come to lie (T, 3)."""
    own = joint[:, names.index(limb)]
    other = OTHER[limb]
    if on == "other" and other in names and other in plan.joints:
        apart = _size(plan, names, joint) * (own - joint[:, names.index(other)])
        if both:  # they meet half way
            return 0.5 * (before[limb] + before[other] + apart)
        return positions[:, plan.joints[other]] + apart
    if on == "body":
        return _on_body(plan, own, names, joint, rotation, positions)
    return scale * own + [0.0, sole_height(plan.character), 0.0]


def _places_on_props(plan, limbs, motion, joint, rotation, props, scale, size, positions):
    """{limb: (where its end lies on the props near it (T, 3), how near they are (T,), 0 to 1)} as the character holds them, or they stand."""
    names, rate, out = motion.skeleton.names, float(motion.rate), {}
    shown = {n: prop_on_character(positions, plan, motion, joint, rotation, *given, scale, size) for n, given in props.items()} if limbs else {}  # fmt: skip
    for limb in limbs:
        side = limb.removesuffix("Hand")
        own, end = joint[:, names.index(limb)], positions[:, plan.joints[limb]]
        touching = end
        if limb.endswith("Hand"):
            own, touching = palm(names.index, side, names, joint), palm(plan.joints.get, side, plan.joints, positions)
        place, total, near = np.zeros_like(own), np.zeros(len(own)), np.zeros(len(own))
        for name, (pose, points) in props.items():
            share = nearness(own, pose, points, rate)
            place += share[:, None] ** 3 * (shown[name][:, :3] + size * (own - pose[:, :3]))
            total += share**3
            near = np.maximum(near, share)
        there = total > 0
        place[there] /= total[there, None]
        out[limb] = np.where(there[:, None], place + end - touching, end), near
    return out


def _wrist(plan, side, rotations):
    """(how far the hand is bent from the forearm (T,), radians, the axis (T, 3) about which it would straighten)."""
    out = np.array([1.0 if side == "left" else -1.0, 0.0, 0.0])
    hand, arm = (
        quaternion_rotate(performer_axes(plan, plan.joints[side + part], rotations), out)
        for part in ("Hand", "LowerArm")
    )
    return np.arccos(np.clip((hand * arm).sum(axis=1), -1, 1)), unit(np.cross(hand, arm))


def _ease_wrist(plan, side, allowed, rotations):
    """Turn the hand and its fingers back by what the wrist is bent over `allowed` (T,), radians."""
    bent, axis = _wrist(plan, side, rotations)
    over = np.maximum(bent - allowed, 0.0)
    if not over.any():
        return
    back = about(axis, over)
    names = plan.source.names
    hand = [
        i for i, n in enumerate(names) if n == side + "Hand" or (n.startswith(side) and any(f in n for f in SLOPED))
    ]
    for bone in np.flatnonzero(np.isin(plan.arrays.after, hand)):
        rotations[:, bone] = quaternion_multiply(back, rotations[:, bone])


def _counts(limb, on, names, joint):
    """How far a place counts (T,), 0 to 1: always in the room, elsewhere while the performer's limb is near."""
    own = joint[:, names.index(limb)]
    marks = {"other": [OTHER[limb]], "body": BODY}.get(on, ())
    away = [np.linalg.norm(own - joint[:, names.index(b)], axis=1) for b in marks if b in names]
    if not away:
        return np.ones(len(own))
    f = np.clip((FAR_M - np.minimum.reduce(away)) / (FAR_M - NEAR_M), 0, 1)
    return f * f * (3 - 2 * f)


def _size(plan, names, joint):
    """The character's size over the performer's, by the way from the hips to the head."""
    if not {"hips", "head"} <= set(names) & plan.joints.keys():
        return plan.legs_ratio
    rest = plan.character.positions
    theirs = np.linalg.norm(rest[plan.joints["head"]] - rest[plan.joints["hips"]])
    ours = np.median(np.linalg.norm(joint[:, names.index("head")] - joint[:, names.index("hips")], axis=1))
    return float(theirs / max(ours, 1e-6))


def _on_body(plan, own, names, joint, rotation, positions):
    """A place (T, 3) seen from hips, chest and head of the performer, as seen from the character's; the nearest counts most."""
    length, width = _size(plan, names, joint), _width(plan, names, joint)
    stretch = np.array([width, length, 0.5 * (width + length)])
    total, weights = np.zeros_like(own), np.zeros(len(own))
    for bone in BODY:
        if bone not in names or bone not in plan.joints:
            continue
        b = names.index(bone)
        inside = quaternion_rotate(quaternion_conjugate(rotation[:, b]), own - joint[:, b])
        place = positions[:, plan.joints[bone]] + quaternion_rotate(rotation[:, b], stretch * inside)
        weight = 1.0 / (0.01 + (inside**2).sum(axis=1)) ** 2
        total += weight[:, None] * place
        weights += weight
    return total / np.maximum(weights, 1e-9)[:, None]


def _width(plan, names, joint):
    arms = ("leftUpperArm", "rightUpperArm")
    if not set(arms) <= set(names) & plan.joints.keys():
        return plan.legs_ratio
    rest = plan.character.positions
    theirs = np.linalg.norm(rest[plan.joints[arms[0]]] - rest[plan.joints[arms[1]]])
    ours = np.median(np.linalg.norm(joint[:, names.index(arms[0])] - joint[:, names.index(arms[1])], axis=1))
    return float(theirs / max(ours, 1e-6))


def _lean(plan, targets, chosen, rotations, positions, pose):
    """Lean spine and collar bones so that shoulders come nearer to where hands are to be, round by round.

    Arms, neck and head keep their directions in the world. What is asked of a joint is kept below its limit, smoothly.
    """
    arms, spine = [limb for limb in chosen if limb.endswith("Hand")], np.flatnonzero(plan.trunk).tolist()
    if not arms or not (spine or any(limb.replace("Hand", "Shoulder") in plan.joints for limb in arms)):
        return
    rest, frames = rotations.copy(), len(rotations)
    asked = {"spine": np.zeros((frames, 3))} | {limb: np.zeros((frames, 3)) for limb in arms}
    for _ in range(LEAN_ROUNDS):
        short = {limb: _short(plan, limb, target, positions) for limb, target in targets().items() if limb in arms}
        if max(float(np.abs(s).max()) for s in short.values()) < CLOSE_M:
            break
        for limb, pull in short.items():
            shoulder = positions[:, plan.joints[limb.replace("Hand", "UpperArm")]]
            collar = limb.replace("Hand", "Shoulder")
            alone = collar not in plan.joints
            if spine:
                asked["spine"] += (1.0 if alone else SPINE_SHARE) * _turning(shoulder - positions[:, spine[0]], pull)
            if not alone:
                part = 1.0 if not spine else 1 - SPINE_SHARE
                asked[limb] += part * _turning(shoulder - positions[:, plan.joints[collar]], pull)
        _apply(plan, spine, arms, asked, rest, rotations)
        pose(False)


def _short(plan, limb, target, positions):
    """By which vector (T, 3) the shoulder has to come nearer for the hand to reach its target."""
    upper, lower, hand = (plan.joints[limb.replace("Hand", p)] for p in ("UpperArm", "LowerArm", "Hand"))
    length = np.linalg.norm(positions[0, lower] - positions[0, upper]) + np.linalg.norm(
        positions[0, hand] - positions[0, lower]
    )
    line = target - positions[:, upper]
    far = np.linalg.norm(line, axis=1)
    stretched = np.linalg.norm(positions[:, hand] - positions[:, upper], axis=1)
    over = np.maximum(far - np.maximum(SOFT * length, np.minimum(stretched, far)), 0.0)
    return unit(line) * (over**2 / (over + SETTLED_M))[:, None]


def _turning(lever, move):
    """The small rotation (T, 3), as a vector, that moves the end of a lever (T, 3) by `move` (T, 3)."""
    return np.cross(lever, move) / np.maximum((lever * lever).sum(axis=1), 1e-6)[:, None]


def _limited(turn, degrees):
    """Rotation vectors (T, 3) kept below a limit, smoothly."""
    size = np.linalg.norm(turn, axis=1)
    limit = np.radians(degrees)
    return turn * (limit * np.tanh(size / limit) / np.maximum(size, 1e-12))[:, None]


def _apply(plan, spine, arms, asked, rest, rotations):
    """Set spine and collar bones from how they were by what is asked of them."""
    whole = _limited(asked["spine"], SPINE_DEG)
    for number, b in enumerate(spine):
        part = quaternion_from_rotvec(whole * (number + 1) / len(spine))
        rotations[:, b] = quaternion_multiply(part, rest[:, b])
    for limb in arms:
        collar = plan.joints.get(limb.replace("Hand", "Shoulder"))
        if collar is not None:
            own = quaternion_from_rotvec(whole + _limited(asked[limb], COLLAR_DEG))
            rotations[:, collar] = quaternion_multiply(own, rest[:, collar])
