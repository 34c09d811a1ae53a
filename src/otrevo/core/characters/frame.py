"""A character file's axes and unit, from its data and from what the file says.

Up is where the trunk rises from the legs. Facing is told by what only points forward on a body: toes, the skin of the feet,
eyes, knees, thumbs. Sides follow from the two; names of sides are one more witness, because some people name them as
the viewer sees them. The unit is the one that the file states if it gives a body a body's size, else the likeliest one.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.characters.fingers import find_fingers

AXES = {f"{sign}{name}": np.eye(3)[i] * (1 if sign == "+" else -1) for i, name in enumerate("XYZ") for sign in "+-"}
SMALLEST_M, LARGEST_M = 0.3, 6.0
USUAL_M = 1.65
# name, metres, how unusual (a factor of size, logarithmic)
UNITS = (("centimetres", 0.01, 0.0), ("metres", 1.0, 0.0), ("millimetres", 0.001, 0.2), ("inches", 0.0254, 0.45), ("decimetres", 0.1, 0.45), ("feet", 0.3048, 0.7), ("tens of metres", 10.0, 1.0), ("hundreds of metres", 100.0, 0.8))  # fmt: skip
CLEARLY = 0.9  # the next unit has to be so much less likely


@dataclass(frozen=True)
class Frame:
    """up, facing: axes of the file such as "+Y"; rotation (3, 3): file axes to ours; metres per unit and how it was found
    ("metadata", "detected", "guessed"); sure: how clear the facing is, 0 to 1; left_first: the first of each pair is left."""

    up: str
    facing: str
    rotation: np.ndarray
    metres: float
    evidence: str
    sure: float
    left_first: bool
    notes: tuple[str, ...] = ()


def find_frame(tree, legs, arms, head):
    """The Frame of a BoneTree whose joints are known: legs, arms ({role: bone} of both), head (or -1)."""
    x, skeleton = tree.positions, tree.skeleton
    hip = np.array([x[leg["UpperLeg"]] for leg in legs])
    foot = np.array([x[leg["Foot"]] for leg in legs])
    shoulder = np.array([x[arm["UpperArm"]] for arm in arms])
    trunk = shoulder.mean(axis=0) - hip.mean(axis=0)
    witness = [(2.0, trunk), (1.2, hip.mean(axis=0) - foot.mean(axis=0))]
    if head >= 0:
        witness.append((1.0, x[head] - shoulder.mean(axis=0)))
    score = {a: sum(w * _unit(v) @ axis for w, v in witness) + 0.4 * (a == skeleton.up) for a, axis in AXES.items()}
    up = max(score, key=score.get)
    lateral = _unit(hip[0] - hip[1]) + _unit(shoulder[0] - shoulder[1])
    forward = np.cross(lateral, _unit(trunk))  # where the body faces, were the first of each pair the left one
    forward = _unit(forward - (forward @ AXES[up]) * AXES[up])
    told = facing_witness(tree, legs, arms, head, forward, AXES[up])
    said = sum({"left": 1, "right": -1}.get(tree.said[p[0][r]].side, 0) - {"left": 1, "right": -1}.get(tree.said[p[1][r]].side, 0) for p, r in ((legs, "UpperLeg"), (legs, "Foot"), (arms, "UpperArm"), (arms, "Hand")))  # fmt: skip
    total = told + 1.6 * np.sign(said) * min(abs(said), 4) / 4
    if skeleton.facing:
        total += (100.0 if skeleton.settled else 0.5) * float(forward @ AXES[skeleton.facing])
    left_first = total >= 0
    forward = forward if left_first else -forward
    level = {a: axis for a, axis in AXES.items() if a[1] != up[1]}
    facing = max(level, key=lambda a: forward @ level[a])
    rotation = np.stack([np.cross(AXES[up], AXES[facing]), AXES[up], AXES[facing]])
    metres, evidence, note = find_unit(tree, rotation)
    notes = [note] if note else []
    if skeleton.up and up != skeleton.up:
        notes.append(f"the file says {skeleton.up} is up, but its body stands along {up}")
    if said and (said > 0) != left_first:
        notes.append("its names tell left and right as a viewer sees them; sides are taken from where it faces")
    return Frame(
        up,
        facing,
        rotation,
        metres,
        evidence,
        float(np.clip(0.5 + 0.25 * abs(total), 0.5, 1.0)),
        bool(left_first),
        tuple(notes),
    )


def _unit(v):
    return v / max(np.linalg.norm(v), 1e-12)


def facing_witness(tree, legs, arms, head, forward, up):
    """How much tells that the body faces `forward` (positive) rather than away from it (negative)."""
    x, skeleton = tree.positions, tree.skeleton
    out = 0.0
    for leg in legs:
        shin = np.linalg.norm(x[leg["Foot"]] - x[leg["LowerLeg"]])
        here = [leg["Foot"], *tree.below(leg["Foot"])]
        tip = max((x[b] - x[leg["Foot"]] for b in here), key=lambda v: abs(v @ forward))
        if skeleton.skin_bone.size and (hanging := np.isin(skeleton.skin_bone, here)).sum() > 8:
            ahead = (skeleton.skin[hanging] - x[leg["Foot"]]) @ forward
            tip = tip + forward * (ahead.max() + ahead.min())
        end = skeleton.ends[here[-1]]
        if np.isfinite(end).all():
            tip = tip + (end - x[leg["Foot"]])
        out += 1.5 * np.clip(tip @ forward / (0.2 * shin), -1, 1)
        line = x[leg["Foot"]] - x[leg["UpperLeg"]]
        knee = x[leg["LowerLeg"]] - x[leg["UpperLeg"]]
        knee = knee - (knee @ line) / max(line @ line, 1e-12) * line
        out += 0.4 * np.clip(knee @ forward / (0.04 * np.linalg.norm(line)), -1, 1)
    if head >= 0:
        eyes = [b for b in tree.below(head)[1:] if tree.said[b].names("eye", "jaw")]
        if eyes:
            out += 1.5 * np.clip((np.mean(x[eyes], axis=0) - x[head]) @ forward / (0.03 * tree.size), -1, 1)
        else:
            out += 0.6 * np.clip(_alike_leaves(tree, head, forward, up) / (0.03 * tree.size), -1, 1)
    for arm in arms:
        line = x[arm["Hand"]] - x[arm["UpperArm"]]
        elbow = x[arm["LowerArm"]] - x[arm["UpperArm"]]
        elbow = elbow - (elbow @ line) / max(line @ line, 1e-12) * line
        out -= 0.3 * np.clip(elbow @ forward / (0.04 * np.linalg.norm(line)), -1, 1)
        thumbs = [b for b in tree.below(arm["Hand"])[1:] if tree.said[b].names("thumb")]
        if not thumbs:
            thumbs = [b for name, b in find_fingers(tree, arm["Hand"])[0].items() if name.startswith("Thumb")]
        if thumbs:
            ahead = (np.mean(x[thumbs], axis=0) - x[arm["Hand"]]) @ forward
            out += 0.5 * np.clip(ahead / (0.02 * tree.size), -1, 1)
    return float(out)


def _alike_leaves(tree, head, forward, up):
    """How far ahead of the head's joint two bones lie side by side that nothing hangs on: eyes without a name, if anything; else 0."""
    leaves = [b for b in tree.children[head] if not tree.children[b] and not tree.ends[b]]
    side, high, ahead = (
        (tree.positions[leaves] - tree.positions[head]) @ np.stack([np.cross(up, forward), up, forward], 1)
    ).T
    close = 0.006 * tree.size
    alike = [(ahead[i] + ahead[k]) / 2 for i in range(len(leaves)) for k in range(i)
             if abs(side[i] + side[k]) < close < abs(side[i] - side[k]) and abs(high[i] - high[k]) < close and abs(ahead[i] - ahead[k]) < close]  # fmt: skip
    return max(alike, key=abs, default=0.0)


def find_unit(tree, rotation):
    """(metres per unit, evidence, note) of a skeleton; rotation (3, 3): file axes to ours."""
    skeleton = tree.skeleton
    points = [tree.positions, skeleton.ends[np.isfinite(skeleton.ends).all(axis=1)]]
    if len(skeleton.skin):
        points.append(skeleton.skin)
    height = float(np.ptp(np.concatenate(points) @ rotation.T, axis=0)[1])
    if skeleton.metres is not None and SMALLEST_M < height * skeleton.metres < LARGEST_M:
        return skeleton.metres, "metadata", ""
    ranked = sorted((abs(np.log(height * m / USUAL_M)) + odd, m, name) for name, m, odd in UNITS)
    size = height * ranked[0][1]
    note = f"read as {ranked[0][2]}: {height:.4g} units tall, {size:.2f} m"
    if skeleton.metres is not None:
        note += f"; by what the file says it would be {height * skeleton.metres:.4g} m tall"
    sure = ranked[1][0] - ranked[0][0] > CLEARLY
    return ranked[0][1], "detected" if sure else "guessed", note
