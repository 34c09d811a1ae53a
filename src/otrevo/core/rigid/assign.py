"""Which rigid body is on which limb: by what it is called, doubted by where it is while the performer holds a T-pose, or where no name
says anything by where it is then (core.rigid.by_place)."""

import re
from dataclasses import dataclass

import numpy as np
import scipy

from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.bone_names import TRUNK, worn_on
from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply, rotvec_from_quaternion
from otrevo.core.errors import InputError
from otrevo.core.rigid.by_place import bones_by_place, other_side, places_in_t_pose, widths
from otrevo.core.rigid.exchanged import find_exchanged_bodies
from otrevo.core.words import in_a_row, in_words

STILL_M_S = 0.12
STILL_S = 0.5
WIDE_SHARE = 0.95  # of how far apart the hands ever are while the body is still
UPRIGHT_M = 0.03
STANDS_SHARE = 0.65  # of how high bodies ever are spread: with the arms up that is more than in a T-pose
HELD_SHARE = 0.9
SEEN_FRAMES, USUAL_ROUNDS, USUAL_RAD = 500, 5, np.radians(2.0)
AS_USUAL_RAD = np.radians(10.0)  # by how much more a T-pose may be turned in which more bodies are seen
FAR_M = 0.45  # from where a limb is in a T-pose: that is no body of this performer
MOVES_M = 0.02
FEWEST = 3  # bodies on limbs
_WORDS = re.compile(r"[\W_]+|(?<=[a-z])(?=[A-Z])|(?<=[^\W\d_])(?=\d)|(?<=\d)(?=[^\W\d_])")
NEARLY_ALL = 0.8  # of the bodies on limbs have a word that says whose they are, or no word does


@dataclass(frozen=True)
class Assignment:
    """bones: {body: bone}; confidence: {body: 0 to 1}; left_out: {body: why}; frames (K,): of the T-pose; facing_rad about +Y; notes."""

    bones: dict
    confidence: dict
    left_out: dict
    frames: np.ndarray
    facing_rad: float
    notes: tuple[str, ...] = ()


def assign_bodies(recording, height_m, given=None, of=""):
    """Propose which body is on which limb: as names say, or by where bodies are in the T-pose where names of fewer than three say anything.

    Parameters
    ----------
    recording : BodiesRecording
    height_m : float
        Of the performer.
    given : dict, optional
        {body: bone} where somebody has decided; bodies that are not in it are left out.
    of : str
        Whose bodies they are, where they are of several performers and no map is given: the word that their names share.

    Returns
    -------
    Assignment

    Raises
    ------
    InputError
        When there is no still pose, the bodies are of several performers, or too few are left.
    """
    left_out = {}
    if given is not None:
        bones = _checked(given, recording.names)
        left_out = {n: "not in the map" for n in recording.names if n not in bones}
    else:
        bones, others = _by_names(recording.names, of)
        moved = np.nanmax(np.nanstd(recording.position_m, axis=0), axis=1)
        if moved.max() > 5 * MOVES_M:
            left_out = {n: "never moves" for n, m in zip(recording.names, moved, strict=True) if m < MOVES_M}
        left_out |= {n: f"of another performer, {whose}" for n, whose in others.items()}
        bones = {n: b for n, b in bones.items() if n not in left_out}
    nameless = given is None and len(bones) < FEWEST
    said = f"only {len(bones)} of the names say a limb" if bones else "no name says a limb"
    if nameless:
        bones = dict.fromkeys(n for n in recording.names if n not in left_out)
    frames = _t_pose(recording, bones)
    seen = np.isfinite(recording.position_m[frames, :, 0]).any(axis=0)
    place = {
        n: np.nanmedian(recording.position_m[frames, i], axis=0) if seen[i] else np.full(3, np.nan)
        for i, n in enumerate(recording.names)
    }
    unseen = [n for n in bones if not np.isfinite(place[n]).all()]
    left_out |= dict.fromkeys(unseen, "not seen in the T-pose")
    bones = {n: b for n, b in bones.items() if n not in unseen}
    faces, notes = True, ()
    if nameless:
        bones, faces = _by_place(recording, place, list(bones), height_m)
        notes = (
            f"{said}: bodies are on those they are beside in the T-pose"
            + ("" if faces else ", and left may be right, as nothing tells which way the performer faces"),
        )
    elif given is None:
        sits, exchanged, backwards = find_exchanged_bodies(bones, place, recording, height_m)
        bones = {n: bones[sits.get(n, n)] for n in bones}
        notes = tuple(
            f"{in_a_row([repr(n) for n in r])} are in each other's place in the T-pose; they are read the other way round"
            for r in exchanged
        )
        if backwards:
            bones = {n: other_side(b) for n, b in bones.items()}
            notes += ("arms and thighs would go backwards, so left and right are read the other way round",)
    place = {n: p for n, p in place.items() if np.isfinite(p).all() and n not in left_out}
    confidence = dict.fromkeys(bones, 1.0)
    if given is None and len(bones) < FEWEST:
        raise InputError(
            f"Only {len(bones)} bodies could be put on limbs, by names or by where they are in the T-pose; expected three at least, "
            "with names such as hips, leftHand, rightFoot, or --map."
        )
    facing = _facing(bones, place)
    if facing is None:
        raise InputError(
            "No two bodies are on a left and a right limb, so nobody can tell which way the performer faces."
        )
    if given is None:
        confidence = _confidence(bones, place, places_in_t_pose(height_m, facing, bones, place))
        why = "on no limb in the T-pose" if nameless else "its name says no limb"
        left_out |= {n: why for n in place if n not in bones}
    if not faces:
        confidence = {n: share / 2 if bones[n] not in TRUNK else share for n, share in confidence.items()}
    return Assignment(bones, confidence, left_out, frames, facing, notes)


def _by_place(recording, place, names, height_m):
    """({body: bone}, whether it is known which way the performer faces) by places {body: (3,)} in the T-pose."""
    at = [recording.names.index(n) for n in names]
    where = np.array([place[n] for n in names]).reshape(-1, 3)
    if np.isfinite(where).all(axis=1).sum() < FEWEST:
        return {}, False
    bones, faces = bones_by_place(where, recording.position_m[:, at], recording.rotation[:, at], height_m)
    return {names[b]: bone for b, bone in bones.items()}, faces


def _checked(given, names):
    unknown = [n for n in given if n not in names]
    if unknown:
        raise InputError(
            f"The map names the body '{unknown[0]}', which is not recorded; there are {', '.join(names[:20])}."
        )
    for body, bone in given.items():
        if bone not in BODY_BONES:
            raise InputError(
                f"The map puts '{body}' on '{bone}', which is not a bone; expected one such as hips, chest, leftHand."
            )
    twice = [b for b in set(given.values()) if list(given.values()).count(b) > 1]
    if twice:
        raise InputError(f"The map puts two bodies on {twice[0]}; expected one.")
    return dict(given)


def groups_of(bones):
    """{group: its bodies} where the bodies {body: bone} are of several performers, whom a word at the front or at the end of the
    names tells apart; else empty.
    """
    for end in (0, -1):
        groups = {}
        for name in bones:
            groups.setdefault([w for w in _WORDS.split(name) if w][end].lower(), []).append(name)
        whole = {g: n for g, n in groups.items() if len(n) >= FEWEST}
        unique = all(len({bones[n] for n in names}) == len(names) for names in whole.values())
        if len(whole) > 1 and unique and sum(map(len, whole.values())) >= NEARLY_ALL * len(bones):
            return whole
    return {}


def _by_names(names, of):
    """({body: bone} of one performer as far as names tell, {body: the group of another one}). Raises InputError where
    they are of several and `of` says none of them.
    """
    bones = worn_on(names)
    per_bone = {}
    for name, bone in bones.items():
        per_bone.setdefault(bone, []).append(name)
    double = {b: n for b, n in per_bone.items() if len(n) > 1}
    groups = groups_of(bones) if len(double) >= FEWEST else {}
    if groups:
        said = of.lower()
        own = [g for g in groups if said == g] or [
            g for g in groups if min(len(g), len(said)) > 1 and (said.startswith(g) or g.startswith(said))
        ]
        if len(own) != 1:
            raise InputError(
                f"The bodies are of several performers: {', '.join(groups)}; expected which of them it is."
            )
        others = {n: g for g, names in groups.items() if g != own[0] for n in names}
        return {n: bones[n] for n in groups[own[0]]}, others
    if len(double) >= FEWEST:
        bone, both = next(iter(double.items()))
        raise InputError(
            f"The bodies are of several performers ('{both[0]}' and '{both[1]}' are both on the {in_words(bone)}); expected a map with those of one."
        )
    for both in double.values():  # the first is it, the others may be on what lies beside
        for name in both[1:]:
            del bones[name]
    return bones, {}


def _t_pose(recording, bones):
    """Frames (K,) of the T-pose: still, the hands far apart, the body upright, and limbs turned as most often in such moments.

    bones: {body: bone, or None where no name says one: then all of them are spread widely, and high}.

    Hands may be as far apart with the head turned or the wrists bent. Raises InputError when nothing is ever still.
    """
    position, hz = recording.position_m, recording.rate_hz
    step = max(1, round(0.2 * hz))
    speed = np.full(len(position), np.inf)
    moved = np.linalg.norm(position[step:] - position[:-step], axis=2) * hz / step
    half = step // 2
    known = np.isfinite(moved).sum(axis=1)
    upper = np.ceil(0.75 * np.maximum(known - 1, 0)).astype(int)  # what is not known is sorted to the end
    speed[half : half + len(moved)] = np.nan_to_num(np.sort(moved, axis=1)[np.arange(len(moved)), upper], nan=np.inf)
    still = speed < STILL_M_S
    if not still.any():
        raise InputError("The bodies never stand still; expected a T-pose, held for a second.")
    worn = sorted(recording.names.index(n) for n in bones)
    number = {bone: recording.names.index(n) for n, bone in bones.items() if bone}
    ends = next(([number[s + b] for s in ("left", "right")] for b in ("Hand", "LowerArm", "UpperArm")
                 if "left" + b in number and "right" + b in number), None)  # fmt: skip
    if not number:
        spread, high = widths(position[:, worn])
        spread = np.where(high < STANDS_SHARE * np.max(high, where=still & np.isfinite(high), initial=0.0), 0.0, spread)
    elif ends is None:
        spread = np.nanmax(np.linalg.norm(position - np.nanmedian(position, axis=1, keepdims=True), axis=2), axis=1)
    else:
        spread = np.linalg.norm((position[:, ends[0]] - position[:, ends[1]])[:, [0, 2]], axis=1)
    spread = np.where(still, np.nan_to_num(spread), -1.0)  # hands may be lost in all of them
    may_be = still & (spread >= WIDE_SHARE * spread.max())
    upright = [number[b] for b in ("hips", "head") if b in number]
    if upright:
        high = position[:, upright, 1].mean(axis=1)
        may_be &= ~(high < np.nanmax(np.where(may_be, high, np.nan), initial=-np.inf) - UPRIGHT_M)
    window = int(STILL_S * hz)
    held = scipy.ndimage.uniform_filter1d(still.astype(float), 2 * window + 1, mode="constant") > HELD_SHARE
    at = np.flatnonzero(may_be & held if (may_be & held).any() else may_be)
    at = at[:: max(1, len(at) // SEEN_FRAMES)]
    unusual = _unusual(recording.rotation[at][:, worn])
    seen = np.where(unusual < unusual.min() + AS_USUAL_RAD, np.isfinite(position[at][:, worn, 0]).sum(axis=1), -1)
    best = int(at[np.argmin(np.where(seen == seen.max(), unusual, np.inf))])
    near = np.arange(max(0, best - window), min(len(position), best + window + 1))
    return near[still[near]]


def _unusual(rotation):
    """How far (K,) the bodies are turned against each other from how they mostly are, radians, RMS; rotation (K, N, 4)."""
    against = quaternion_multiply(quaternion_conjugate(rotation[:, :1]), rotation)
    off = np.zeros(against.shape[:2])
    for _ in range(USUAL_ROUNDS):  # towards the geometric median
        weight = np.nan_to_num(1 / np.maximum(off, USUAL_RAD))
        known = np.nan_to_num(against)
        scatter = np.einsum("kn,kni,knj->nij", weight, known, known)
        usual = np.linalg.eigh(scatter)[1][..., -1]  # the mean of rotations, whatever the quaternions' signs
        turn = quaternion_multiply(quaternion_conjugate(usual), against)
        off = 2 * np.arctan2(np.linalg.norm(turn[..., :3], axis=-1), np.abs(turn[..., 3]))
    known = np.isfinite(off)
    return np.where(known.any(axis=1), np.sqrt(np.nansum(off**2, axis=1) / np.maximum(known.sum(axis=1), 1)), np.inf)


def _facing(bones, place):
    """The performer's facing about +Y by their left and right bodies in a T-pose, or None."""
    across = np.zeros(3)
    for name, bone in bones.items():
        other = (
            next((n for n, b in bones.items() if b == "right" + bone[4:]), None) if bone.startswith("left") else None
        )
        if other in place and name in place:
            across += place[name] - place[other]
    if np.linalg.norm(across[[0, 2]]) < 0.1:
        return None
    return float(np.arctan2(-across[2], across[0]))


def _confidence(bones, place, expected):
    """{body: 0 to 1}: less for a name whose limb is far from there in the T-pose."""
    away = {n: float(np.linalg.norm(place[n] - expected[b])) if n in place else 0.0 for n, b in bones.items()}
    return {n: round(1 / (1 + (d / FAR_M) ** 4), 2) for n, d in away.items()}


def turns_alike(recording, names):
    """Pairs of bodies that never turn against each other by more than two degrees: one may be the other under a second name."""
    out = []
    at = [recording.names.index(n) for n in names]
    for i, a in enumerate(at):
        for b in at[i + 1 :]:
            apart = quaternion_multiply(quaternion_conjugate(recording.rotation[:, a]), recording.rotation[:, b])
            apart = apart[np.isfinite(apart[:, 0])][::10]
            if len(apart) < 10:
                continue
            off = np.linalg.norm(
                rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(apart[:1]), apart)), axis=1
            )
            same = np.nanmax(np.linalg.norm(recording.position_m[:, a] - recording.position_m[:, b], axis=1)) < 0.01
            if np.degrees(off.max()) < 2 and same:
                out.append((recording.names[a], recording.names[b]))
    return out
