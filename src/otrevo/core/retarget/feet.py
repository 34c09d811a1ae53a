"""Keeping the performer's plants on the character: a foot stands where it landed, and soles stay over the floor.

For each foot the angles give a heel and a ball. While the performer's heel or ball is planted, the character's is held where it
came down; a ball that lands while the heel stands is held where the heel has put it, so nothing is pulled. Between plants what was
corrected fades from one to the next. The leg is then bent to the corrected ankle, and where a leg is too short for
it, the hips come down rather than the knee snap straight. World axes, metres.
"""

import numpy as np
import scipy

from otrevo.core.body.limb import STRETCHED, bend, shortest, unit
from otrevo.core.conventions import (
    find_runs,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.retarget.angles import hanging_on

FADE_S = 0.3  # a correction fades within this time after a plant, and before the next
HIPS_S = 0.25
LIFT_S = 0.15
ONE_FLOOR_M = 0.05
TOES_BEND = np.radians(60)
STEEP = np.radians([-75, -45])  # toes that point so far down do not bend, or bend as they should
TOE_SHARE = 0.4  # how long toes are that end nowhere, by the way from ankle to ball
SIDES = ("left", "right")


def foot_points(plan, side):
    """{"Foot": heel, "Toes": ball}: seen from the ankle, in the foot's own axes, on the sole. None where the character has no foot."""
    character, joints = plan.character, plan.joints
    if side + "Foot" not in joints:
        return None
    foot = joints[side + "Foot"]
    ankle, floor = character.positions[foot], sole_height(character)
    height = ankle[1] - floor
    if side + "Toes" in joints:
        ball = character.positions[joints[side + "Toes"]].copy()
    else:
        ball = ankle + [0.0, 0.0, 1.2 * height]
    ahead = unit(np.array([ball[0] - ankle[0], 0.0, ball[2] - ankle[2]]))
    ball[1] = floor
    heel = ankle - 0.35 * np.linalg.norm(ball - ankle) * ahead
    heel[1] = floor
    inverse = character.rotations[foot] * [-1, -1, -1, 1]
    return {"Foot": quaternion_rotate(inverse, heel - ankle), "Toes": quaternion_rotate(inverse, ball - ankle)}


def sole_height(character):
    """The floor that the character stands on in its own file."""
    if character.sole_m is not None:
        return character.sole_m
    return character.floor_m if character.floor_m is not None else float(character.positions[:, 1].min())


def keep_plants(plan, rate, plants, levels, scale, at, rotations, positions, floor=True):
    """Change a posed character (rotations (T, B, 4), positions (T, B, 3), at (T, 3) of the hips) so that its feet stand.

    Bones that nobody drives, and joints but those of the legs, are left to be set after it.

    plants: the performer's; levels: {"leftFoot": height of the performer's point on the floor, ...}; scale: of heights over the floor.
    """
    ground = sole_height(plan.character)
    shifts, points = {}, {}
    for side in SIDES:
        local = foot_points(plan, side)
        if local is None or side + "LowerLeg" not in plan.joints or side + "UpperLeg" not in plan.joints:
            continue
        foot = plan.joints[side + "Foot"]
        points[side] = _points(positions, rotations, foot, local)
        turn = _lie_still(side, points[side], plants, rate)
        for bone in (foot, plan.joints.get(side + "Toes")):
            if bone is not None:
                rotations[:, bone] = quaternion_multiply(turn, rotations[:, bone])
        points[side] = _points(positions, rotations, foot, local)
        shifts[side] = _shift(side, points[side], plants, levels, scale, rate, ground)
        if floor:
            lowest = np.minimum(points[side]["Foot"][:, 1], points[side]["Toes"][:, 1]) + shifts[side][:, 1]
            shifts[side][:, 1] += _lift(np.maximum(ground - lowest, 0.0), side, plants, rate)
    if not shifts:
        return
    wanted = {side: positions[:, plan.joints[side + "Foot"]] + shifts[side] for side in shifts}
    lowered = _hips_come_down(plan, positions, wanted, rate)
    at += lowered
    positions[:, _carried(plan)] += lowered[:, None]
    for side, target in wanted.items():
        bend_limb(plan, side, "UpperLeg", "LowerLeg", "Foot", target, rotations, positions)


def bend_toes(plan, rotations, positions):
    """Turn toes up where their tips would go through the floor: under a raised heel the sole bends."""
    character, ground = plan.character, sole_height(plan.character)
    for side in SIDES:
        toes, foot = plan.joints.get(side + "Toes"), plan.joints.get(side + "Foot")
        if toes is None or foot is None:
            continue
        ahead = character.positions[toes] - character.positions[foot]
        tip = character.ends[toes] - character.positions[toes]
        if not np.isfinite(tip).all():
            tip = TOE_SHARE * np.linalg.norm(ahead) * unit(np.array([ahead[0], 0.0, ahead[2]]))
        local = quaternion_rotate(character.rotations[toes] * [-1, -1, -1, 1], tip)
        way = quaternion_rotate(rotations[:, toes], local)
        # the tip is as far over the floor as the joint is at rest, less what the toes lean
        height = positions[:, toes, 1] + way[:, 1] - (ground + max(character.positions[toes, 1] + tip[1] - ground, 0.0))
        flat = np.linalg.norm(way[:, [0, 2]], axis=1)
        if (height >= 0).all():
            continue
        now, flat_at_rest = np.arctan2(way[:, 1], flat), np.arctan2(tip[1], np.hypot(tip[0], tip[2]))
        wanted = np.arcsin(np.clip((way[:, 1] - np.minimum(height, 0.0)) / np.linalg.norm(tip), -1, 1))
        wanted = np.minimum(wanted, np.maximum(now, flat_at_rest))
        # no further than toes bend, and not at all where the foot points straight down: there it stands on nothing
        bend_by = np.minimum(np.maximum(wanted - now, 0.0), TOES_BEND) * _smooth(
            np.clip((now - STEEP[0]) / (STEEP[1] - STEEP[0]), 0, 1)
        )
        since_rest = quaternion_multiply(rotations[:, foot], quaternion_conjugate(character.rotations[foot])[None])
        across = quaternion_rotate(since_rest, np.array([-1.0, 0.0, 0.0]))
        turn, joint = quaternion_from_rotvec(across * bend_by[:, None]), positions[:, toes]
        rotations[:, toes] = quaternion_multiply(turn, rotations[:, toes])
        for b in hanging_on(toes, plan.arrays.parents):
            rotations[:, b] = quaternion_multiply(turn, rotations[:, b])
            positions[:, b] = joint + quaternion_rotate(turn, positions[:, b] - joint)


def _points(positions, rotations, foot, local):
    """{"Foot": heel (T, 3), "Toes": ball (T, 3)} of a posed foot."""
    return {k: positions[:, foot] + quaternion_rotate(rotations[:, foot], v) for k, v in local.items()}


def _lie_still(side, points, plants, rate):
    """Rotations of the world (T, 4) that keep a foot from turning and tilting while its heel and its ball both stand.

    Its line from heel to ball is held in the middle direction of that time, level where both stand on one floor.
    """
    way = points["Toes"] - points["Foot"]
    frames = len(way)
    stands = {}
    for part in ("Foot", "Toes"):
        stands[part] = np.full(frames, np.nan)
        for p in plants:
            if p.bone == side + part:
                s, e = (int(np.clip(round(t * rate), 0, frames - 1)) for t in (p.start_s, p.end_s))
                stands[part][s : e + 1] = p.level_m
    both = np.isfinite(stands["Foot"]) & np.isfinite(stands["Toes"])
    turn = np.zeros((frames, 3))
    for s, e in find_runs(both):
        held = np.median(way[s:e], axis=0)
        held[1] = 0.0 if np.ptp([np.median(stands[part][s:e]) for part in stands]) < ONE_FLOOR_M else held[1]
        turn[s:e] = rotvec_from_quaternion(shortest(unit(way[s:e]), np.broadcast_to(unit(held), (e - s, 3))))
    _fade(turn, both, rate)
    return quaternion_from_rotvec(turn)


def _carried(plan):
    """Which bones (B,) hang on the hips."""
    out = np.zeros(len(plan.arrays.parents), dtype=bool)
    for b, parent in enumerate(plan.arrays.parents):
        out[b] = b == plan.root or (parent >= 0 and out[parent])
    return out


def bend_limb(plan, side, upper, lower, end, target, rotations, positions):
    """Bend one limb so that its end comes to target (T, 3); the end keeps its rotation in the world."""
    a, b, c = (plan.joints[side + part] for part in (upper, lower, end))
    axis = quaternion_rotate(
        performer_axes(plan, a, rotations),
        np.array([1.0, 0.0, 0.0] if "Leg" in upper else [0.0, -1.0 if side == "left" else 1.0, 0.0]),
    )
    first, second = bend(positions[:, a], positions[:, b], positions[:, c], target, axis)
    for bone in range(len(plan.arrays.parents)):
        if plan.arrays.after[bone] == plan.arrays.after[a]:
            rotations[:, bone] = quaternion_multiply(first, rotations[:, bone])
        elif plan.arrays.after[bone] == plan.arrays.after[b]:
            rotations[:, bone] = quaternion_multiply(second, rotations[:, bone])


def performer_axes(plan, bone, rotations):
    """World rotation (T, 4) of the performer's bone that drives `bone`: its axes are the T-pose's."""
    return quaternion_multiply(rotations[:, bone], quaternion_conjugate(plan.arrays.change[bone])[None])


def _shift(side, points, plants, levels, scale, rate, ground):
    """How far the ankle of one foot is moved (T, 3), by the plants of its heel and ball."""
    frames = len(points["Foot"])
    shift, known = np.zeros((frames, 3)), np.zeros(frames, dtype=bool)
    rows = sorted((p for p in plants if p.bone in (side + "Foot", side + "Toes")), key=lambda p: p.start_s)
    for p in rows:
        s, e = (int(np.clip(round(t * rate), 0, frames - 1)) for t in (p.start_s, p.end_s))
        q = points[p.bone.removeprefix(side)][s : e + 1]
        level = ground + max(0.0, scale * (p.level_m - levels.get(p.bone, p.level_m)))
        if known[s]:  # the other point stands: this one lands where that has put it
            place = q[0] + shift[s]
        else:
            place = np.median(q, axis=0)
        place[1] = level
        own = place - q
        overlap = known[s : e + 1]
        n = int(overlap.sum()) if overlap.any() and overlap[0] else 0
        if n:
            n = int(np.argmin(overlap)) if not overlap.all() else len(overlap)
            f = np.linspace(0, 1, n + 2)[1:-1, None]
            own[:n] = (1 - f) * shift[s : s + n] + f * own[:n]
        shift[s : e + 1], known[s : e + 1] = own, True
    _fade(shift, known, rate)
    return shift


def _lift(need, side, plants, rate):
    """How far a foot is lifted (T,) so that it nowhere needs more; smooth in time, and nothing is added while it stands."""
    n = max(3, int(LIFT_S * rate) | 1)
    smooth = scipy.ndimage.uniform_filter1d(scipy.ndimage.maximum_filter1d(need, n), n)
    away = np.full(len(need), np.inf)
    times = np.arange(len(need)) / rate
    for p in plants:
        if p.bone in (side + "Foot", side + "Toes"):
            away = np.minimum(away, np.maximum(np.maximum(p.start_s - times, times - p.end_s), 0.0))
    return np.maximum(need, smooth * _smooth(np.clip(away / LIFT_S, 0, 1)))


def _fade(shift, known, rate):
    """Fill frames without a plant: from the last correction to the next, each fading within FADE_S where they are far apart."""
    frames, n = len(shift), max(2, int(FADE_S * rate))
    if not known.any():
        return
    for s, e in find_runs(~known):
        gap = e - s
        t = np.arange(1, gap + 1)
        left = shift[s - 1] if s > 0 else np.zeros(3)
        right = shift[e] if e < frames else np.zeros(3)
        if gap <= 2 * n and s > 0 and e < frames:
            f = _smooth(t / (gap + 1))[:, None]
            shift[s:e] = (1 - f) * left + f * right
        else:
            out, into = 1 - _smooth(np.clip(t / n, 0, 1)), _smooth(np.clip(1 - (gap + 1 - t) / n, 0, 1))
            shift[s:e] = out[:, None] * left + into[:, None] * right


def _smooth(f):
    return f * f * (3 - 2 * f)


def _hips_come_down(plan, positions, wanted, rate):
    """How far the hips are moved (T, 3) so that no leg is asked to stretch beyond its length; smooth in time."""
    frames = len(positions)
    short = np.zeros((frames, 3))
    for side, target in wanted.items():
        a, b, c = (plan.joints[side + part] for part in ("UpperLeg", "LowerLeg", "Foot"))
        length = np.linalg.norm(positions[0, b] - positions[0, a]) + np.linalg.norm(positions[0, c] - positions[0, b])
        was = np.linalg.norm(positions[:, c] - positions[:, a], axis=1)
        line = target - positions[:, a]
        far = np.linalg.norm(line, axis=1)
        over = np.maximum(far - np.maximum(STRETCHED * length * 0.995, np.minimum(was, STRETCHED * length)), 0.0)
        pull = unit(line) * over[:, None]
        stronger = np.linalg.norm(pull, axis=1) > np.linalg.norm(short, axis=1)
        short[stronger] = pull[stronger]
    n = max(3, int(HIPS_S * rate) | 1)
    if np.abs(short).max() <= 1e-6:
        return short
    most = scipy.ndimage.maximum_filter1d(short, n, axis=0) + scipy.ndimage.minimum_filter1d(short, n, axis=0)
    smooth = scipy.ndimage.uniform_filter1d
    return smooth(smooth(most, n, axis=0), n, axis=0)
