"""Plants: when a heel, a ball or a hand of a body stands still where it is. `plants/1`.

A point is planted while it is slow and near the level it rests at, from where it has come to its place until it leaves it. Levels are found, not assumed: the floor is where slow feet mostly
are, and steps and platforms are where they rest for long. Two thresholds with hysteresis decide, speeds are central
differences over a window of time so that the rate does not matter. Metres, seconds, +Y up.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.conventions import find_runs, join_runs, quaternion_rotate
from otrevo.core.errors import InputError

FEET = ("leftFoot", "leftToes", "rightFoot", "rightToes")
WINDOW_S = 0.05
SLOW_M_S, STILL_M_S = 0.20, 0.10  # a plant ends above the first and needs to have been below the second
LEFT_M = 0.004  # so far from where it stood, a point has left
LIFTED_M = 0.03  # higher over its level, a point is in the air
SHORTEST_S, BREAK_S = 0.08, 0.05
EDGE_S = 0.06  # edges are moved inward by twice this at most
REST_S = 0.12
STEP_M = 0.05  # levels nearer to one another are one floor


@dataclass(frozen=True)
class Plant:
    """bone: "leftFoot" is the heel, "leftToes" the ball, "leftHand" the palm; start_s, end_s; level_m: height it stands on."""

    bone: str
    start_s: float
    end_s: float
    level_m: float = 0.0

    def document(self):
        return {
            "bone": self.bone,
            "start_s": round(self.start_s, 4),
            "end_s": round(self.end_s, 4),
            "level_m": round(self.level_m, 4),
        }


def sole_points(motion, joint, rotation):
    """{bone: (T, 3)} of heels and balls; joint, rotation: world joints (T, B, 3) and rotations (T, B, 4) of the motion.

    A heel lies below and behind the ankle as far as the toes' joint lies below it; bodies without toes end where a foot would.
    """
    names, rest = motion.skeleton.names, motion.skeleton.rest_offset_m
    out = {}
    for side in ("left", "right"):
        foot = names.index(f"{side}Foot") if f"{side}Foot" in names else -1
        if foot < 0:
            continue
        if f"{side}Toes" in names:
            toes = names.index(f"{side}Toes")
            ball, length = rest[toes], float(np.linalg.norm(rest[toes]))
            out[f"{side}Toes"] = joint[:, toes]
        else:
            length = 0.35 * float(np.linalg.norm(rest[foot]))
            ball = np.array([0.0, -0.4 * length, 0.9 * length])
            out[f"{side}Toes"] = joint[:, foot] + quaternion_rotate(rotation[:, foot], ball)
        heel = np.array([ball[0] * 0.0, ball[1], -0.3 * length])
        out[f"{side}Foot"] = joint[:, foot] + quaternion_rotate(rotation[:, foot], heel)
    return out


def find_plants(motion, joint, rotation, hands=False):
    """[Plant] of heels and balls of a motion, in order of time; with `hands`, of palms too."""
    rate = float(motion.rate)
    points = sole_points(motion, joint, rotation)
    if hands:
        points |= {
            n: joint[:, motion.skeleton.names.index(n)] for n in ("leftHand", "rightHand") if n in motion.skeleton.names
        }
    speeds = {n: speed(p, rate) for n, p in points.items()}
    out = []
    for name, p in points.items():
        if name in FEET:  # a heel that is held still in the air is no plant: it stands where the ball's floor is
            ball = name.replace("Foot", "Toes")
            floors = levels_of(points[ball][:, 1], speeds[ball], rate)
            lower = lowest(p[:, 1], speeds[name]) - lowest(points[ball][:, 1], speeds[ball]) if name != ball else 0.0
            levels = [v + lower for v in floors]
        else:
            levels = levels_of(p[:, 1], speeds[name], rate)
        if not levels:
            continue
        nearest = np.abs(p[:, 1, None] - np.array(levels)).argmin(axis=1)
        near = np.abs(p[:, 1] - np.array(levels)[nearest]) < LIFTED_M
        for s, e in hysteresis(speeds[name], near, rate):
            s, e = exact_edges(p, s, e, rate)
            out.append(Plant(name, s / rate, (e - 1) / rate, levels[int(np.median(nearest[s:e]))]))
    return sorted(out, key=lambda q: (q.start_s, q.bone))


def exact_edges(points, start, end, rate):
    """The edges [start, end) of a plant by place: from where the point (T, 3) has come to stand until it has left.

    Where it stands is its mean over EDGE_S further inside; it has come, or left, where it is LEFT_M from there.
    """
    n, k = max(2, int(EDGE_S * rate)), max(1, int(0.5 * EDGE_S * rate))
    if end - start < 4 * n:
        return start, end
    before = np.linalg.norm(
        points[start : start + 2 * n] - points[start + 2 * n : start + 2 * n + k].mean(axis=0), axis=1
    )
    after = np.linalg.norm(points[end - 2 * n : end] - points[end - 2 * n - k : end - 2 * n].mean(axis=0), axis=1)
    come, gone = np.flatnonzero(before > LEFT_M), np.flatnonzero(after > LEFT_M)
    return start + (int(come[-1]) + 1 if len(come) else 0), end - (2 * n - int(gone[0]) if len(gone) else 0)


def lowest(height, speed):
    """The height at which a point mostly rests when it is low."""
    slow = height[speed < SLOW_M_S]
    return float(np.percentile(slow if len(slow) else height, 8))


def speed(points, rate):
    """Speed (T,), m/s, of points (T, 3) over a window of time."""
    n = max(1, int(round(WINDOW_S * rate / 2)))
    t = np.arange(len(points))
    a, b = np.maximum(t - n, 0), np.minimum(t + n, len(points) - 1)
    return np.linalg.norm(points[b] - points[a], axis=1) / np.maximum(b - a, 1) * rate


def levels_of(height, speed, rate):
    """Heights at which a point rests, each for at least REST_S in a stretch; what lies within a STEP is one floor, the longest rest's."""
    rests = [(float(np.median(height[s:e])), e - s) for s, e in find_runs(speed < STILL_M_S) if e - s >= REST_S * rate]
    out = []
    for level, _ in sorted(rests, key=lambda r: -r[1]):
        if all(abs(level - v) > STEP_M for v in out):
            out.append(level)
    return out


def hysteresis(speed, near, rate):
    """Stretches [start, end) in which a point is planted: begun when still and near its level, ended when neither slow nor near."""
    slow = (speed < SLOW_M_S) & near
    still = (speed < STILL_M_S) & near
    runs = [(s, e) for s, e in find_runs(slow) if still[s:e].any()]
    return [(s, e) for s, e in join_runs(runs, BREAK_S * rate) if e - s >= SHORTEST_S * rate]


def plants_document(plants):
    return {"otrevo": "plants/1", "plants": [p.document() for p in plants]}


def plants_from(document, where):
    """[Plant] of a `plants/1` document. Raises InputError naming the place in it."""
    out = []
    for i, row in enumerate(document.get("plants") or []):
        numbers = [row.get(k) for k in ("start_s", "end_s", "level_m")] if isinstance(row, dict) else []
        if (
            not numbers
            or row.get("bone") not in (*FEET, "leftHand", "rightHand")
            or not all(isinstance(v, (int, float)) and np.isfinite(v) for v in numbers)
        ):
            raise InputError(f"{where}: plants[{i}]: expected a bone such as leftFoot, start_s, end_s and level_m.")
        if row["end_s"] < row["start_s"]:
            raise InputError(f"{where}: plants[{i}]: it ends at {row['end_s']:g} s, before it begins.")
        out.append(Plant(row["bone"], float(row["start_s"]), float(row["end_s"]), float(row["level_m"])))
    return out
