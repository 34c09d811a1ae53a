"""Effectors: tracks for rigs that take the hips, hands and feet through controls, and elbows and knees by a direction.

An effector has a place and a rotation in the world. Hips, hands and feet carry the character's own joint. An elbow or a knee has a
mark on the side to which it bends out: its Z axis points away from the joint, its Y axis lies along the axis of bending.
The map sheet names them. A name that one of the character's bones has moves that bone: it keeps to its joint as it does at rest. Any
other name becomes a track of its own. Where the map sheet has no joints for an effector, the performer's places are taken, by
the size of the character's controls over the performer. World axes, metres.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.body.limb import unit
from otrevo.core.characters.sheet import EFFECTORS
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_matrix,
    quaternion_multiply,
    quaternion_rotate,
)
from otrevo.core.retarget.feet import sole_height

BENDS = {
    f"{side}{bend}": tuple(side + bone for bone in bones)
    for side in ("left", "right")
    for bend, bones in (("Elbow", ("UpperArm", "LowerArm", "Hand")), ("Knee", ("UpperLeg", "LowerLeg", "Foot")))
}
UPRIGHT = (0.0, 0.0, 0.0, 1.0)
OWN_NAME = "effector_{}"
MARK_SHARE = 0.5  # of the limb's length: how far a mark of its own lies from the joint
# Of the limb's length, how far the joint lies off the straight line: below the first the hinge tells the direction, above the second the joint.
STRAIGHT, BENT = 0.01, 0.05


@dataclass(frozen=True)
class EffectorTrack:
    """positions (T, 3), rotations (T, 4) in the world; bone: the character's bone that it moves, or -1 for a track of its own.

    rest (4,): its rotation while the character rests, the identity for marks.
    """

    name: str
    positions: np.ndarray
    rotations: np.ndarray
    bone: int = -1
    rest: tuple = UPRIGHT

    @property
    def since_rest(self):
        """Rotations (T, 4) of the world since the character's rest."""
        return quaternion_multiply(self.rotations, quaternion_conjugate(np.array(self.rest)))


@dataclass(frozen=True)
class _Source:
    """Whose joints an effector is read from: joints (T, J, 3); numbers: {bone of ours: J}; rest (J, 3): the joints at rest, or None.

    since_rest (T, J, 4): rotations of the world since rest; frames (T, J, 4): since the performer's T-pose.
    """

    joints: np.ndarray
    since_rest: np.ndarray
    frames: np.ndarray
    numbers: dict
    rest: np.ndarray | None


def effectors_of_character(plan, sheet, rotations, positions, every):
    """The EffectorTracks of a posed character: those that the map sheet names, or all where `every`.

    plan: the Plan; rotations (T, B, 4), positions (T, B, 3): of the character. Effectors without joints are left out.
    """
    rest = plan.character.rotations
    used = sorted(set(plan.joints.values()))
    at = {b: k for k, b in enumerate(used)}
    source = _Source(
        positions[:, used],
        quaternion_multiply(rotations[:, used], quaternion_conjugate(rest[used])[None]),
        quaternion_multiply(rotations[:, used], quaternion_conjugate(plan.arrays.change[used])[None]),
        {bone: at[b] for bone, b in plan.joints.items() if plan.arrays.before[b] >= 0},
        plan.character.positions[used],
    )
    own = {bone: rest[b] for bone, b in plan.joints.items()}
    return _tracks(plan.character, sheet, source, own, every)


def effectors_of_performer(character, sheet, names, joint, rotation, rest, settings, ankle):
    """The EffectorTracks of a map sheet of effectors alone, from the performer's joints (T, S, 3) and rotations (T, S, 4).

    names: of the S bones; rest: {bone: joint (3,)} of the performer in T-pose; ankle: its height over the floor while they stand.
    Ways in the room and heights follow the size of the character's controls; hands keep the performer's place by that size.
    """
    size = controls_size(character, sheet, rest)
    wanted = joint * (size if settings.scale == "character" else 1.0)
    ground = sole_height(character)
    theirs = [character.positions[character.index(n), 1] - ground for e, n in sheet.effectors.items()
             if e.endswith("Foot") and n in character.names]  # fmt: skip
    low = float(np.mean(theirs)) if theirs else size * ankle
    wanted[..., 1] = ground + low + size * (joint[..., 1] - ankle)
    numbers = {bone: names.index(bone) for bone in names}
    if "hips" in numbers:
        hips = wanted[:, numbers["hips"], 1]
        wanted[:, numbers["hips"], 1] = ground + settings.hips_height * (hips - ground)
    source = _Source(wanted, rotation, rotation, numbers, None)
    return _tracks(character, sheet, source, dict.fromkeys(numbers, UPRIGHT), settings.effectors)


def controls_size(character, sheet, rest):
    """The character's size over the performer's, by the way from the feet's controls to the hips', or to the hands'; 1 if none tells."""
    own = {e: character.positions[character.index(n)] for e, n in sheet.effectors.items() if n in character.names}
    for feet, far in ((("leftFoot", "rightFoot"), ("hips",)), (("leftFoot", "rightFoot"), ("leftHand", "rightHand"))):
        if not all(e in own and e in rest for e in (*feet, *far)):
            continue
        theirs, ours = (
            np.mean([x[e] for e in far], axis=0) - np.mean([x[e] for e in feet], axis=0) for x in (own, rest)
        )
        if np.linalg.norm(theirs) > 1e-6:
            return float(np.linalg.norm(theirs) / np.linalg.norm(ours))
    return 1.0


def _tracks(character, sheet, source, own_rotation, every):
    out = []
    for effector in EFFECTORS:
        name = sheet.effectors.get(effector) or (OWN_NAME.format(effector) if every else "")
        bones = BENDS.get(effector, (effector,))
        if not name or not all(b in source.numbers for b in bones):
            continue
        bone = character.names.index(name) if name in character.names else -1
        rest = UPRIGHT
        if effector in BENDS:
            place, turn = _mark(source, effector, bones, character.positions[bone] if bone >= 0 else None)
        else:
            joint = source.numbers[effector]
            place, rest = source.joints[:, joint], own_rotation[effector]
            if bone >= 0 and source.rest is not None:
                offset = character.positions[bone] - source.rest[joint]
                place = place + quaternion_rotate(source.since_rest[:, joint], offset)
        if bone >= 0:
            rest = character.rotations[bone]
        if bone >= 0 or effector not in BENDS:
            turn = quaternion_multiply(source.since_rest[:, source.numbers[bones[0]]], np.array(rest))
        out.append(EffectorTrack(name, place.copy(), turn.copy(), bone, rest))
    return tuple(out)


def _mark(source, effector, bones, resting):
    """(place (T, 3), rotation (T, 4)) of the mark of an elbow or a knee; resting (3,): where the control of that name rests, or None."""
    upper, lower, end = (source.joints[:, source.numbers[b]] for b in bones)
    arm = effector.endswith("Elbow")
    turn = source.frames[:, source.numbers[bones[0]]]
    out = quaternion_rotate(turn, np.array([0.0, 0.0, -1.0 if arm else 1.0]))
    hinge = quaternion_rotate(turn, np.array([0.0, 1.0, 0.0] if arm else [1.0, 0.0, 0.0]))
    length = np.linalg.norm(lower - upper, axis=1) + np.linalg.norm(end - lower, axis=1)
    line = end - upper
    off = lower - upper - line * (((lower - upper) * line).sum(1) / np.maximum((line * line).sum(1), 1e-12))[:, None]
    bent = np.clip((np.linalg.norm(off, axis=1) / np.maximum(length, 1e-9) - STRAIGHT) / (BENT - STRAIGHT), 0, 1)
    share = (bent * bent * (3 - 2 * bent))[:, None]
    seen = off / np.maximum(np.linalg.norm(off, axis=1), 1e-12)[:, None]
    z = unit(share * seen + (1 - share) * out)
    y = unit(hinge - (hinge * z).sum(1)[:, None] * z)
    x = np.cross(y, z)
    away = MARK_SHARE * length[:, None]
    if resting is not None and source.rest is not None:
        away = np.linalg.norm(resting - source.rest[source.numbers[bones[1]]])
    return lower + away * z, quaternion_from_matrix(np.stack([x, y, z], axis=-1))


def move_controls(character, tracks, driven, rotations, positions):
    """Set the bones that tracks name to their places, and what hangs on them and nobody drives with them, in place.

    Returns the numbers of all bones that no longer lie where their parent carries them.
    """
    named = {t.bone: t for t in tracks if t.bone >= 0}
    moved, loose = set(), set(named)
    for b in range(len(character.names)):
        above = int(character.parents[b])
        if b in named:
            positions[:, b], rotations[:, b] = named[b].positions, named[b].rotations
            moved.add(b)
        elif above in moved and driven[b]:
            loose.add(b)
        elif above in moved:
            back = quaternion_conjugate(character.rotations[above])
            offset = quaternion_rotate(back, character.positions[b] - character.positions[above])
            positions[:, b] = positions[:, above] + quaternion_rotate(rotations[:, above], offset)
            rotations[:, b] = quaternion_multiply(
                rotations[:, above], quaternion_multiply(back, character.rotations[b])
            )
            moved.add(b)
    return loose
