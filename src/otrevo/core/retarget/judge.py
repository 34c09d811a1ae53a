"""How well a character follows its performer: the figures of a report, and the same as snags on the Bench.

Everything is measured on the finished motion, from its joints and rotations alone, never taken from what the solver meant to do.
k is the length of the character's legs over the performer's; what is left unsaid is in metres, in the world, +Y up.
"""

from dataclasses import dataclass, field

import numpy as np
from numba import njit

from otrevo.core.conventions import find_runs, quaternion_rotate
from otrevo.core.retarget.feet import SIDES, foot_points, sole_height
from otrevo.core.retarget.plants import FEET, sole_points
from otrevo.core.snags import Snag

SLIDE_LIMIT_M = 0.005  # by k; what eyes take for standing
SINK_LIMIT_M = 0.003  # by k
# A bone that turns so much further than the performer's from one frame to the next, at 120 frames a second.
FLIP_DEG = 40.0
SNAPPED = 0.995  # of a leg's length
MISS_LIMIT_M = 0.010
OFF_PROP_M = 0.04  # by k
DOUBTED = 0.6
SHORT_S = 0.04  # what is over sooner is no snag
DIRECTIONS = {
    "arms": [("UpperArm", "LowerArm"), ("LowerArm", "Hand")],
    "legs": [("UpperLeg", "LowerLeg"), ("LowerLeg", "Foot")],
}
TRUNK = [("hips", "neck"), ("neck", "head")]


@dataclass(frozen=True)
class Judged:
    """Per frame, for plots and snags.

    slide (T,), mm by side: how far a planted heel or ball lies from where it stands; sunk (T,), mm by side: soles under the
    floor; snapped (T,): by side, a knee straighter than the performer's; flipped: {bone of ours: (T,)}; missed (T,), mm by limb.
    off_prop: {(hand, prop): (T,), mm}: how far a hand is from the place on a prop that the performer's hand touches.
    figures: what a report says, per limb.
    """

    slide: dict
    sunk: dict
    snapped: dict
    flipped: dict
    missed: dict
    figures: dict = field(default_factory=dict)
    off_prop: dict = field(default_factory=dict)


def judge(result, plan, motion, joint, rotation, off_prop=None):
    """The Judged of a CharacterMotion; motion, joint (T, S, 3), rotation (T, S, 4): the performer's, as it was retargeted.

    off_prop: {(hand, prop): how far off it is (T,)}, metres.
    """
    rate, k = float(motion.rate), plan.legs_ratio
    own, ground = sole_points(motion, joint, rotation), sole_height(plan.character)
    slide, sunk, snapped, limbs = {}, {}, {}, {}
    for side in SIDES:
        local = foot_points(plan, side)
        if local is None or not {side + "UpperLeg", side + "LowerLeg"} <= plan.joints.keys():
            continue
        foot = plan.joints[side + "Foot"]
        points = {
            side + part: result.positions[:, foot] + quaternion_rotate(result.rotations[:, foot], v)
            for part, v in local.items()
        }
        plants = [p for p in result.plants if p.bone in points and p.bone in FEET]
        slide[side], each = _slides(points, plants, rate)
        performers = _slides(own, plants, rate)[1]
        height = 1000 * (np.minimum(*(p[:, 1] for p in points.values())) - ground)
        sunk[side] = np.maximum(-height, 0.0)
        snapped[side] = _snapped(plan, result.positions, joint, motion.skeleton.names, side)
        limbs[side + "Foot"] = {
            "plants": len(plants),
            "slide_mm": _worst(each),
            "performer_slide_mm": _worst(performers),
            "sink_mm": round(float(sunk[side].max()), 2),
            "float_mm": _floats(points, plants, rate, ground),
        }
        limbs[side + "LowerLeg"] = {"knee_snap_share": round(float(snapped[side].mean()), 5)}
    missed = {limb: 1000 * m for limb, m in result.missed.items()}
    for limb, m in missed.items():
        limbs.setdefault(limb, {})["unreachable_frames"] = int((m > 1000 * MISS_LIMIT_M).sum())
        limbs[limb]["miss_mm"] = round(float(m.max()), 1)
    flipped = _flips(plan, result, motion.skeleton.names, rotation, rate)
    figures = {
        "limbs": limbs,
        "directions_deg": _directions(plan, result.positions, joint, motion.skeleton.names),
        "slide_mm": max((v["slide_mm"] for v in limbs.values() if "slide_mm" in v), default=0.0),
        "sink_mm": max((v["sink_mm"] for v in limbs.values() if "sink_mm" in v), default=0.0),
        "float_mm": max((v["float_mm"] for v in limbs.values() if "float_mm" in v), default=0.0),
        "knee_snap_share": max((v["knee_snap_share"] for v in limbs.values() if "knee_snap_share" in v), default=0.0),
        "flips": int(sum(f.sum() for f in flipped.values())),
        "scale": round(k, 4),
    }
    off = {key: 1000 * m for key, m in (off_prop or {}).items()}
    return Judged(slide, sunk, snapped, flipped, missed, figures, off)


def snags_of(judged, sheet, rate_hz, start_s=0.0):
    """Snags of a character's motion: what a person should look at before it leaves."""
    k = max(judged.figures["scale"], 0.05)
    frames = len(next(iter(judged.slide.values()), ()))
    out = []

    def add(kind, series, limit, words, limit_words, subject):
        for s, e in find_runs(series > limit):
            if (e - s) / rate_hz >= SHORT_S:
                worst = float(series[s:e].max())
                out.append(Snag(kind, "character", start_s + s / rate_hz, start_s + e / rate_hz, worst / limit,
                                words.format(worst), limit_words, subject))  # fmt: skip

    for side in judged.slide:
        foot, limit = f"{side} foot", 1000 * SLIDE_LIMIT_M * k
        add("foot slides", judged.slide[side], limit, foot + ": slides {:.0f} mm while it stands", f"{limit:.1f} mm", side + "Foot")  # fmt: skip
        limit = 1000 * SINK_LIMIT_M * k
        add("under the floor", judged.sunk[side], limit, foot + ": sole {:.0f} mm under the floor", f"{limit:.1f} mm", side + "Foot")  # fmt: skip
        for s, e in find_runs(judged.snapped[side]):
            length = (e - s) / rate_hz
            if length >= SHORT_S:
                out.append(Snag("knee snaps", "character", start_s + s / rate_hz, start_s + e / rate_hz, length / SHORT_S,
                                f"{side} knee: straight for {length:.2f} s, the performer's is not", f"{SHORT_S} s", side + "LowerLeg"))  # fmt: skip
    for bone, jumps in judged.flipped.items():
        for s, e in find_runs(jumps):
            out.append(Snag("flip", "character", start_s + s / rate_hz, start_s + (e + 1) / rate_hz, 3.0,
                            f"{bone}: turns over from one frame to the next", f"{FLIP_DEG:.0f} degrees more than the performer", bone))  # fmt: skip
    for limb, m in judged.missed.items():
        add("out of reach", m, 1000 * MISS_LIMIT_M, limb + ": {:.0f} mm short of its place", f"{1000 * MISS_LIMIT_M:.0f} mm", limb)  # fmt: skip
    for (hand, prop), m in judged.off_prop.items():
        limit = 1000 * OFF_PROP_M * k
        add("hand off prop", m, limit, f"{hand.removesuffix('Hand')} hand: {{:.0f}} mm off the {prop}", f"{limit:.0f} mm", hand)  # fmt: skip
    for p in sheet.pairs.values():
        if p.confidence < DOUBTED and p.doubt:
            out.append(Snag("map doubt", "character", start_s, start_s + frames / rate_hz, (1 - p.confidence) / (1 - DOUBTED),
                            f"{p.bone}: {p.doubt}", f"a confidence of {DOUBTED}", p.bone))  # fmt: skip
    return out


def _worst(values):
    return round(float(max(values, default=0.0)), 2)


def _span(plant, rate, frames):
    s, e = (int(np.clip(round(t * rate), 0, frames - 1)) for t in (plant.start_s, plant.end_s))
    return s, e + 1


def _slides(points, plants, rate):
    """(how far a planted point lies from where it stands (T,), mm; the largest of every plant, mm)."""
    frames = len(next(iter(points.values())))
    series, each = np.zeros(frames), []
    for p in plants:
        s, e = _span(p, rate, frames)
        flat = points[p.bone][s:e][:, [0, 2]]
        away = 1000 * np.linalg.norm(flat - np.median(flat, axis=0), axis=1)
        series[s:e] = np.maximum(series[s:e], away)
        each.append(float(away.max()))
    return series, each


def _floats(points, plants, rate, ground):
    """How far over the floor a foot stands at most, mm, among plants of the lowest level of its point."""
    worst = 0.0
    for bone, point in points.items():
        own = [p for p in plants if p.bone == bone]
        lowest = min((p.level_m for p in own), default=0.0)
        for p in own:
            if p.level_m <= lowest + 1e-6:
                s, e = _span(p, rate, len(point))
                worst = max(worst, 1000 * float(np.median(point[s:e, 1]) - ground))
    return round(worst, 2)


def _stretch(a, b, c):
    """How far a limb of joints (T, 3) is stretched, 1 for straight."""
    length = np.linalg.norm(b - a, axis=1) + np.linalg.norm(c - b, axis=1)
    return np.linalg.norm(c - a, axis=1) / np.maximum(length, 1e-9)


def _snapped(plan, positions, joint, names, side):
    bones = [side + part for part in ("UpperLeg", "LowerLeg", "Foot")]
    theirs = _stretch(*(positions[:, plan.joints[b]] for b in bones))
    if not set(bones) <= set(names):
        return np.zeros(len(theirs), dtype=bool)
    ours = _stretch(*(joint[:, names.index(b)] for b in bones))
    return (theirs > SNAPPED) & (ours <= SNAPPED)


def _flips(plan, result, names, rotation, rate):
    """{bone of ours: frames (T,) at which the character's bone turns over and the performer's does not}."""
    bones = [bone for bone in plan.joints if bone in names]
    if len(result) < 2 or not bones:
        return {}
    theirs, ours = (np.array(list(map(f, bones))) for f in (plan.joints.get, names.index))
    found = _turned_over(result.rotations, rotation, theirs, ours, np.radians(FLIP_DEG * min(120.0 / rate, 2.0)))
    return {bone: found[:, i] for i, bone in enumerate(bones) if found[:, i].any()}


@njit(cache=True, error_model="numpy")
def _turned_over(rotation, source, theirs, ours, limit):
    """Frames (T, N) in which the bones `theirs` turn by more than `limit` (radians) further than `ours` since the frame before."""
    out = np.zeros((rotation.shape[0], theirs.shape[0]), dtype=np.bool_)
    least = np.cos(0.5 * limit)
    for t in range(1, rotation.shape[0]):
        for i in range(theirs.shape[0]):
            a, b, dot, own = theirs[i], ours[i], 0.0, 0.0
            for k in range(4):
                dot += rotation[t, a, k] * rotation[t - 1, a, k]
            if abs(dot) >= least:
                continue
            for k in range(4):
                own += source[t, b, k] * source[t - 1, b, k]
            more = 2 * np.arccos(min(abs(dot), 1.0)) - 2 * np.arccos(min(abs(own), 1.0))
            out[t, i] = more > limit
    return out


def _directions(plan, positions, joint, names):
    """{group: 95 % of the angle between the character's limbs and the performer's, degrees}."""
    pairs = {g: [(s + a, s + b) for s in SIDES for a, b in rows] for g, rows in DIRECTIONS.items()} | {"trunk": TRUNK}
    out = {}
    for group, rows in pairs.items():
        angles = []
        for a, b in rows:
            if not {a, b} <= set(names) or not {a, b} <= plan.joints.keys():
                continue
            ours = joint[:, names.index(b)] - joint[:, names.index(a)]
            theirs = positions[:, plan.joints[b]] - positions[:, plan.joints[a]]
            size = np.linalg.norm(ours, axis=1) * np.linalg.norm(theirs, axis=1)
            angles.append(np.degrees(np.arccos(np.clip((ours * theirs).sum(1) / np.maximum(size, 1e-12), -1, 1))))
        if angles:
            out[group] = round(float(np.percentile(np.concatenate(angles), 95)), 3)
    return out
