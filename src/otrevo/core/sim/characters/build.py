"""Skeletons as different people build them, with the truth about which bone is which.

A `Build` says how: proportions, rest pose, how many bones each part has, what hangs on it besides. `built` gives bones in our axes
and metres; the truth is our bone name for each bone, "" for what nobody drives, "~name" for what twists for it.
"""

from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.body.skeleton import END_OFFSETS, generic_skeleton
from otrevo.core.characters.file_skeleton import FileSkeleton

FINGERS = ("Thumb", "Index", "Middle", "Ring", "Little")


@dataclass(frozen=True)
class Build:
    """height_m; legs, arms, head, trunk, hand, wide: factors on the generic proportions. arms_down_deg, arms_forward_deg, legs_apart_deg:
    the rest pose; uneven_deg: how unlike the sides are in it. spine, neck: numbers of bones; fingers: names kept.
    ends, twist, metacarpals, eyes: whether there are such; extra: of "root", "armature", "tail", "skirt", "hair", "weapon", "ik", "pelvis",
    "wings"; shoulders, toes: whether they exist; joints_of_finger: 2 or 3.
    """

    height_m: float = 1.75
    legs: float = 1.0
    arms: float = 1.0
    head: float = 1.0
    trunk: float = 1.0
    hand: float = 1.0
    wide: float = 1.0
    arms_down_deg: float = 0.0
    arms_forward_deg: float = 0.0
    legs_apart_deg: float = 0.0
    elbow_deg: float = 0.0
    uneven_deg: float = 0.0
    spine: int = 3
    neck: int = 1
    fingers: tuple[str, ...] = FINGERS
    joints_of_finger: int = 3
    ends: bool = False
    twist: int = 0
    inline_twist: bool = False
    metacarpals: bool = False
    eyes: bool = False
    shoulders: bool = True
    toes: bool = True
    extra: tuple[str, ...] = ()
    radius: dict = field(default_factory=dict)


@dataclass(frozen=True)
class Built:
    """names: of what each bone is for ("leftUpperArm", "tail 2"); parents, positions (B, 3) in metres; truth (B)."""

    names: tuple[str, ...]
    parents: np.ndarray
    positions: np.ndarray
    truth: tuple[str, ...]
    ends: np.ndarray


def built(build):
    """The Built skeleton of a Build, standing on the floor at the origin and facing +Z."""
    rest = generic_skeleton(build.height_m)
    offset = {n: o.copy() for n, o in zip(rest.names, rest.rest_offset_m, strict=True)}
    parent = {n: rest.names[p] if p >= 0 else None for n, p in zip(rest.names, rest.parents, strict=True)}
    for n in offset:
        if n.endswith(("LowerLeg", "Foot")):
            offset[n] *= build.legs
        elif n.endswith(("LowerArm", "UpperArm")) or n in ("leftHand", "rightHand"):
            offset[n] *= build.arms
        elif any(f in n for f in FINGERS):
            offset[n] *= build.hand
        elif n in ("spine", "chest", "upperChest", "neck"):
            offset[n] *= build.trunk
        if n.endswith(("Shoulder", "UpperLeg", "UpperArm")):
            offset[n][0] *= build.wide
    offset["head"] *= build.head**0.5
    bones = [n for n in rest.names if _kept(n, build)]
    world, turn = {}, {}
    for n in bones:
        p = parent[n]
        while p is not None and p not in world:
            offset[n] = offset[n] + offset[p]
            p = parent[p]
        parent[n] = p
        turn[n] = (turn[p] if p else Rotation.identity()) * _rest_turn(n, build)
        world[n] = (world[p] + turn[p].apply(offset[n])) if p else offset[n]
    tips = {
        n: world[n] + turn[n].apply(_end(n, build, offset)) for n in bones if not any(parent[m] == n for m in bones)
    }
    rows = _Rows()
    _trunk(rows, build, world)
    for n in bones:
        if n in ("hips", "spine", "chest", "upperChest", "neck", "head"):
            continue
        p = parent[n]
        if p == "upperChest":
            p = rows.top
        if p == "hips" and "pelvis" in build.extra:
            p = "pelvis"
        if build.inline_twist and n.endswith(("LowerArm", "LowerLeg")):
            at = 0.5 * (world[parent[n]] + world[n])
            rows.add(f"{parent[n]} twist 1", p, at, parent[n])
            p = f"{parent[n]} twist 1"
        if build.metacarpals and n.endswith("Proximal") and "Thumb" not in n:
            rows.add(n.replace("Proximal", "Metacarpal"), p, world[p] + 0.25 * (world[n] - world[p]), "")
            p = n.replace("Proximal", "Metacarpal")
        rows.add(n, p, world[n], n)
        if build.twist and n.endswith(("LowerArm", "LowerLeg", "Hand", "Foot")) and not build.inline_twist:
            for k in range(build.twist):
                share = (k + 1) / (build.twist + 1)
                rows.add(
                    f"{parent[n]} twist {k + 1}",
                    parent[n],
                    world[parent[n]] + share * (world[n] - world[parent[n]]),
                    f"~{parent[n]}",
                )
    if build.ends:
        for n in list(rows.names):
            if n in tips:
                rows.add(f"{n} end", n, tips[n], "")
    _extras(rows, build, world, tips)
    positions = np.array(rows.positions)
    floor = min(positions[:, 1].min(), min(t[1] for t in tips.values())) - 0.02 * build.height_m
    positions[:, 1] -= floor
    if "root" in rows.names:
        positions[rows.names.index("root")] = 0
    order = _order(rows)
    number = {rows.names[i]: k for k, i in enumerate(order)}
    parents = np.array([number.get(rows.parents[i], -1) for i in order])
    ends = np.full((len(order), 3), np.nan)
    for n, tip in tips.items():
        if n in number and not build.ends:
            ends[number[n]] = tip - [0, floor, 0]
    return Built(
        tuple(rows.names[i] for i in order), parents, positions[order], tuple(rows.truth[i] for i in order), ends
    )


class _Rows:
    def __init__(self):
        self.names, self.parents, self.positions, self.truth, self.top = [], [], [], [], ""

    def add(self, name, parent, position, truth):
        self.names.append(name)
        self.parents.append(parent)
        self.positions.append(np.array(position, dtype=float))
        self.truth.append(truth)


def _order(rows):
    children = {}
    for i, p in enumerate(rows.parents):
        children.setdefault(p if p in rows.names else None, []).append(i)
    out, stack = [], children.get(None, [])[::-1]
    while stack:
        i = stack.pop()
        out.append(i)
        stack.extend(children.get(rows.names[i], [])[::-1])
    return out


def _kept(name, build):
    if any(f in name for f in FINGERS):
        finger = next(f for f in FINGERS if f in name)
        if finger not in build.fingers:
            return False
        if build.joints_of_finger == 2:
            return not name.endswith("ThumbMetacarpal" if finger == "Thumb" else "Distal")
        return True
    if name.endswith("Toes"):
        return build.toes
    return build.shoulders or not name.endswith("Shoulder")


def _rest_turn(name, build):
    sign = 1 if name.startswith("left") else -1
    uneven = build.uneven_deg * (1 if sign > 0 else -0.6)
    if name.endswith("UpperArm"):
        return Rotation.from_euler(
            "yz",
            [-sign * (build.arms_forward_deg + 0.5 * uneven), -sign * (build.arms_down_deg + uneven)],
            degrees=True,
        )
    if name.endswith("LowerArm"):
        return Rotation.from_euler("y", -sign * (build.elbow_deg + abs(uneven) * 0.5), degrees=True)
    if name.endswith("UpperLeg"):
        return Rotation.from_euler("xz", [-0.4 * uneven, sign * build.legs_apart_deg], degrees=True)
    if name.endswith("LowerLeg"):
        return Rotation.from_euler("x", 0.4 * abs(uneven), degrees=True)
    return Rotation.identity()


def _end(name, build, offset):
    if name in END_OFFSETS:
        size = build.height_m / 1.75 * (build.head if name == "head" else build.hand if "Distal" in name else 1.0)
        return np.array(END_OFFSETS[name]) * size
    return offset[name] * 0.6


def _trunk(rows, build, world):
    """hips, spine bones spread over the trunk, neck bones and head."""
    rows.add("hips", None, world["hips"], "hips")
    if "pelvis" in build.extra:
        rows.add("pelvis", "hips", world["hips"] - [0, 0.02, 0], "")
    line = [world["hips"], world["spine"], world["chest"], world["upperChest"]]
    before = "hips"
    shares = np.linspace(1 / 3, 1, build.spine) if build.spine > 1 else [0.45]
    for k, share in enumerate(shares):
        at = np.clip(share * 3, 0, 3)
        i = min(int(at), 2)
        rows.add(f"spine {k + 1}", before, line[i] + (at - i) * (line[i + 1] - line[i]), "spine")
        before = f"spine {k + 1}"
    rows.top = before
    for k in range(build.neck):
        share = k / max(build.neck, 1)
        rows.add(f"neck {k + 1}", before, world["neck"] + share * (world["head"] - world["neck"]), "neck")
        before = f"neck {k + 1}"
    rows.add("head", before, world["head"], "head")


def _extras(rows, build, world, tips):
    h = build.height_m
    if build.eyes:
        for side, sign in (("left", 1), ("right", -1)):
            rows.add(
                f"{side}Eye",
                "head",
                world["head"] + h * build.head * np.array([0.018 * sign, 0.050, 0.046]),
                f"{side}Eye",
            )
        rows.add("jaw", "head", world["head"] + h * build.head * np.array([0, 0.005, 0.015]), "jaw")
    for what in build.extra:
        if what == "tail":
            _chain(rows, "tail", "hips", world["hips"] + [0, 0.02, -0.06 * h], np.array([0, -0.02, -0.08]) * h, 5)
        elif what == "hair":
            _chain(
                rows, "hair", "head", world["head"] + h * np.array([0, 0.08, -0.05]), np.array([0, -0.05, -0.01]) * h, 4
            )
        elif what == "skirt":
            for k, (sx, sz) in enumerate(((1, 1), (-1, 1), (1, -1), (-1, -1))):
                start = world["hips"] + h * np.array([0.07 * sx, -0.03, 0.05 * sz])
                _chain(rows, f"skirt {k + 1}", "hips", start, h * np.array([0.01 * sx, -0.07, 0.01 * sz]), 3)
        elif what == "weapon":
            _chain(
                rows,
                "weapon",
                "rightHand",
                world["rightHand"] + h * np.array([-0.05, 0, 0]),
                h * np.array([0, 0, 0.25]),
                2,
            )
        elif what == "ik":
            for n in ("leftHand", "rightHand", "leftFoot", "rightFoot"):
                rows.add(f"{n} ik", "root" if "root" in build.extra else "hips", world[n], "")
        elif what == "wings":
            for side, sign in (("left", 1), ("right", -1)):
                _chain(
                    rows,
                    f"{side} wing",
                    rows.top,
                    world["upperChest"] + h * np.array([0.04 * sign, 0.02, -0.06]),
                    h * np.array([0.12 * sign, 0.02, -0.04]),
                    3,
                )
    if "root" in build.extra or "armature" in build.extra:
        rows.names.insert(0, "root")
        rows.parents.insert(0, None)
        rows.positions.insert(0, np.zeros(3))
        rows.truth.insert(0, "")
        rows.parents[rows.names.index("hips")] = "root"


def _chain(rows, name, parent, start, step, count):
    at = np.array(start, dtype=float)
    for k in range(count):
        rows.add(f"{name} {k + 1}", parent if k == 0 else f"{name} {k}", at, "")
        at = at + step * (0.95**k)


def random_build(rng):
    """A Build as somebody might have made it: proportions, fingers, twist bones, rest pose and what hangs on it at random."""
    chance, extra = (
        rng.random,
        [e for e in ("root", "tail", "skirt", "hair", "weapon", "ik", "pelvis") if rng.random() < 0.25],
    )
    hands = ((), FINGERS[:3], ("Thumb", "Index", "Middle", "Little"), FINGERS)
    return Build(
        height_m=rng.uniform(0.9, 2.1), legs=rng.uniform(0.6, 1.15), arms=rng.uniform(0.8, 1.25), head=rng.uniform(0.9, 2.0),
        trunk=rng.uniform(0.8, 1.2), hand=rng.uniform(0.8, 1.3), wide=rng.uniform(0.8, 1.4),
        arms_down_deg=float(rng.choice([0, 0, 45, 70, 20])), arms_forward_deg=rng.uniform(-5, 15),
        legs_apart_deg=rng.uniform(0, 12), elbow_deg=rng.uniform(0, 15), uneven_deg=float(rng.choice([0, 0, 0, 25])),
        spine=int(rng.integers(1, 6)), neck=int(rng.choice([1, 1, 1, 2, 0])), fingers=hands[int(rng.choice([0, 1, 2, 3, 3, 3, 3]))],
        ends=chance() < 0.4, twist=int(rng.choice([0, 0, 1, 2])), inline_twist=chance() < 0.15, metacarpals=chance() < 0.3,
        eyes=chance() < 0.4, shoulders=chance() < 0.9, toes=chance() < 0.9, extra=tuple(extra),
    )  # fmt: skip


def as_file(body, names, rng, skin=True):
    """The FileSkeleton of a Built body in axes and a unit at random, with its names; with a skin, or with end points."""
    change = Rotation.create_group("O")[int(rng.integers(24))].as_matrix() * float(rng.choice([1.0, 100.0, 1 / 0.0254]))
    matrices = np.tile(np.eye(4), (len(names), 1, 1))
    matrices[:, :3, :3], matrices[:, :3, 3] = change, body.positions @ change.T
    held = np.full(len(names), np.nan)
    if skin:  # heads hold much of it; roots, controls and ends hold none
        bare = [n.endswith((" end", " ik")) or n == "root" for n in body.names]
        held = np.where(bare, 0.0, np.where(np.array(body.names) == "head", 9.0, 3.0))
    ends = np.full_like(body.ends, np.nan) if skin else body.ends @ change.T
    return FileSkeleton("made up", tuple(names), body.parents, matrices, ends, held)


def score(body, proposal):
    """(right, wrong, missed, exchanged left and right) bones of a proposed map against the truth of a Built body."""
    got = {}
    for bone, pair in proposal.pairs.items():
        for target in pair.targets:
            got.setdefault(target, set()).add(bone)
    right = wrong = missed = exchanged = 0
    for i, truth in enumerate(body.truth):
        bones = got.get(i, set())
        if not truth or truth.startswith("~"):
            wrong += bool(bones)
        elif bones & ({"spine", "chest", "upperChest"} if truth == "spine" else {truth}):
            right += 1
        else:
            missed += 1
            wrong += bool(bones)
            exchanged += any(
                b != truth
                and b.replace("left", "").replace("right", "") == truth.replace("left", "").replace("right", "")
                for b in bones
            )
    return right, wrong, missed, exchanged
