"""Which bones of a limb are its joints: hip, knee, ankle, ball; collar, shoulder, elbow, wrist; the head on its neck.

A way down a limb may hold twist bones between the joints, helpers before them and ends after them. Every choice of joints along
the way is scored: bones of one limb are about equally long, what lies between two joints lies on the line between them, an ankle
bends, a wrist is where fingers leave, and names vote. Both sides are decided together where they are built alike.
"""

import math
from functools import cache
from itertools import combinations

import numpy as np

from otrevo.core.characters.limbs import fan
from otrevo.core.errors import InputError

ROLE_WORDS = {
    "UpperLeg": {"upperleg": 3, "leg": 1, "hips": 0.5, "lowerleg": -3, "foot": -3, "toes": -3, "spine": -2},
    "LowerLeg": {"lowerleg": 3, "leg": 0.8, "upperleg": -3, "foot": -2, "toes": -3},
    "Foot": {"foot": 3, "toes": -1.5, "lowerleg": -2, "upperleg": -3},
    "Toes": {"toes": 3, "foot": -0.5, "lowerleg": -3},
    "Shoulder": {"clavicle": 3, "shoulder": 1.5, "upperarm": -2, "lowerarm": -3, "chest": -1},
    "UpperArm": {"upperarm": 3, "arm": 1.5, "shoulder": 1.0, "clavicle": -2.5, "lowerarm": -3, "hand": -3},
    "LowerArm": {"lowerarm": 3, "arm": 0.5, "upperarm": -3, "hand": -2, "clavicle": -3, "shoulder": -2},
    "Hand": {"hand": 3, "lowerarm": -3, "finger": -2, "thumb": -3, "index": -3, "middle": -3, "ring": -3, "little": -3},
}
PARTS = {c for words in ROLE_WORDS.values() for c in words} | {"head", "neck", "jaw", "eye", "spine", "chest"}
LEG_ROLES, ARM_ROLES = ("UpperLeg", "LowerLeg", "Foot", "Toes"), ("Shoulder", "UpperArm", "LowerArm", "Hand")
NAME_WEIGHT = 0.8
UNLIKE_WEIGHT = 10.0  # of limbs that are not as long on both sides
HELD_SHARE = 0.1  # bones of two sides count as alike whose lengths are no more unlike than this
BEST_OF = 12  # choices of each side that are paired with the other's
# (none, for each point of lead over the next choice): how clear a choice is, so that wrong ones of nameless skeletons stay low
CLEAR = {"leg": (0.05, 0.8), "arm": (0.25, 0.75), "head": (-0.1, 0.85)}
LONGEST_WAY = 11


def vote(said, role):
    """What a name says for a role, about -3 to 3."""
    words = ROLE_WORDS[role]
    out = sum(words.get(c, 0) for c in said.concepts)
    out -= 2.5 * any(c in PARTS and c not in words for c in said.concepts) * (out <= 0)  # it names quite another part
    if said.names("twist", "ik", "end", "tail", "hair", "cloth", "weapon", "helper", "metacarpal"):
        out -= 3
    return float(np.clip(out, -4, 3.5))


class _Way:
    """A way down a limb: its bones, and what every choice of joints along it asks anew."""

    def __init__(self, tree, bones):
        self.tree, self.bones = tree, bones
        self.between = cache(lambda i, j: _between(tree, bones, i, j))
        self.straight = cache(
            lambda i, j, k: _cosine(
                tree.positions[bones[j]] - tree.positions[bones[i]], tree.positions[bones[k]] - tree.positions[bones[j]]
            )
        )
        self.vote = cache(lambda at, role: vote(tree.said[bones[at]], role))
        self.fork = fan(tree, bones)
        # for bones that are in no role though they hold skin and their name does not say that they are spare
        self.charge = [0.25 * (not tree.spare[b] and not tree.ends[b]) for b in bones]


def leg_joints(tree, ways):
    """[{role: bone}] and how clear it is (0 to 1) for the ways down both legs."""
    return _decide(tree, ways, LEG_ROLES, _leg_score, optional=3, limb="leg")


def arm_joints(tree, ways):
    """[{role: bone}] and how clear it is (0 to 1) for the ways down both arms."""
    return _decide(tree, ways, ARM_ROLES, _arm_score, optional=0, limb="arm")


def _decide(tree, ways, roles, score, optional, limb):
    """The best joints for both ways: the same ones where they have as many bones, else those that make both sides alike."""
    ways = [w[:LONGEST_WAY] for w in ways]
    asked = [_Way(tree, w) for w in ways]
    each = [[(score(way, c), c) for c in _choices(len(way.bones), optional)] for way in asked]
    bare = _bare(tree, ways)
    if bare is not None:  # what hangs on the end of the other one is held: it says nothing of the joints
        ranked = [(a, (c, c)) for a, c in each[bare]]
    elif len(ways[0]) == len(ways[1]):
        ranked = [((a + b) / 2, (c, c)) for (a, c), (b, _) in zip(*each, strict=True)]
    else:
        long = slice(0, 3) if limb == "leg" else slice(1, 4)
        best = [sorted(rows, key=lambda r: -r[0])[:BEST_OF] for rows in each]
        ranked = [
            ((a + b) / 2 - UNLIKE_WEIGHT * _unlike(tree, ways, (c[long], d[long])), (c, d))
            for a, c in best[0]
            for b, d in best[1]
        ]
    if not ranked:
        raise InputError(
            f"{tree.skeleton.source}: one {limb} has fewer than three joints; expected the skeleton of a two-legged character."
        )
    ranked.sort(key=lambda r: -r[0])
    lead = ranked[0][0] - ranked[1][0] if len(ranked) > 1 else 1.0
    out = [
        {role: w[at] for role, at in zip(roles, choice, strict=True) if at is not None}
        for w, choice in zip(ways, ranked[0][1], strict=True)
    ]
    return out, how_clear(limb, lead)


def _bare(tree, ways):
    """Which of two ways that are alike ends where the other one goes on, 0 or 1; None where they are as long or not alike."""
    short, long = sorted((0, 1), key=lambda i: len(ways[i]))
    count = len(ways[short])
    if count == len(ways[long]) or count < 4:
        return None
    a, b = (np.array([tree.length(p, q) for p, q in zip(w[: count - 1], w[1:count], strict=False)]) for w in ways)
    alike = np.abs(a - b) <= HELD_SHARE * np.maximum(a, b)
    return short if alike[:3].all() else None


def how_clear(limb, lead):
    """How clear a choice is (0 to 1) that leads the next one by so many points."""
    none, each = CLEAR[limb]
    return float(np.clip(none + each * lead, 0.0, 1.0))


def _unlike(tree, ways, joints):
    """How unlike the two long bones of both sides are; joints: by way, the places of the three joints that they lie between."""
    logs = np.log([[max(tree.length(w[a], w[b]), 1e-9 * tree.size) for a, b in zip(at, at[1:], strict=False)]
                   for w, at in zip(ways, joints, strict=True)])  # fmt: skip
    return float(np.abs(logs[0] - logs[1]).mean())


def _choices(count, optional):
    """Places of the four roles along a way; the optional one may be absent."""
    for c in combinations(range(count), 4):
        yield c
    for c in combinations(range(count), 3):
        yield (None, *c) if optional == 0 else (*c, None)


def _between(tree, way, i, j):
    """How far bones between two joints of a way lie off the line, as a share of its length; and the length."""
    a, b = tree.positions[way[i]], tree.positions[way[j]]
    length = tree.length(way[i], way[j])
    if length < 1e-9 * tree.size:
        return 2.0, 1e-9
    off = np.cross(tree.positions[list(way[i + 1 : j])] - a, (b - a) / length)
    return float(np.sqrt((off**2).sum(axis=1).max(initial=0.0))) / length, length


def _names(way, roles, choice):
    return sum(NAME_WEIGHT * way.vote(at, role) for role, at in zip(roles, choice, strict=True) if at is not None)


def _skipped(way, choice, count):
    """A charge for the bones among the first `count` that a choice leaves out."""
    return sum(way.charge[:count]) - sum(way.charge[at] for at in choice if at is not None)


def _cosine(u, v):
    return float(u @ v) / max(math.sqrt((u @ u) * (v @ v)), 1e-12)


def _leg_score(asked, choice):
    tree, way = asked.tree, asked.bones
    i, j, k, toe = choice
    off_thigh, thigh = asked.between(i, j)
    off_shin, shin = asked.between(j, k)
    out = _names(asked, LEG_ROLES, choice) - _skipped(asked, choice, len(way))
    out -= 2.0 * min(abs(math.log(thigh / shin)), 2) + 5.0 * (off_thigh + off_shin) + 1.5 * tree.ends[way[k]]
    total = tree.length(way[0], way[i]) + thigh + shin + tree.reach[way[k]]
    out += 3.0 * (thigh + shin) / max(total, 1e-9)
    out += 0.8 * asked.straight(i, j, k)  # a knee is about straight
    rest = tree.reach[way[k]]
    if toe is not None:
        foot, beyond = tree.length(way[k], way[toe]), tree.reach[way[toe]]
        out += 0.4 - 1.2 * abs(math.log(max(foot / shin, 1e-3) / 0.34)) * 0.6
        out += 1.0 * (1 - max(asked.straight(j, k, toe), 0))
        out -= 0.8 * tree.ends[way[toe]] + 3.0 * (way[toe] != way[-1] and asked.between(k, toe)[0] > 0.2)
        out -= 0.4 * min(beyond / max(foot, 1e-9), 3) * (beyond > foot)
    else:
        out -= 0.6 * (rest > 0.2 * shin)
    return out


def _arm_score(asked, choice):
    tree, way = asked.tree, asked.bones
    c, u, f, h = choice
    off_upper, upper = asked.between(u, f)
    off_lower, lower = asked.between(f, h)
    out = _names(asked, ARM_ROLES, choice) - _skipped(asked, choice, h + 1)
    out -= 2.0 * min(abs(math.log(upper / lower)), 2) + 5.0 * (off_upper + off_lower)
    rest = tree.reach[way[h]]
    out += 2.5 * (upper + lower) / max(tree.length(way[0], way[u]) + upper + lower + 0.5 * rest, 1e-9)
    out += 0.5 * asked.straight(u, f, h)
    if asked.fork >= 0:
        out += 2.0 if way[h] == asked.fork else -1.5 * min(1.0, tree.length(way[h], asked.fork) / (0.3 * lower))
    else:
        out -= 3.0 * max(0.0, rest / lower - 0.8)  # a hand is shorter than a forearm
    out -= 0.7 * abs(math.log(max(rest, 0.02 * lower) / (0.65 * lower))) if rest > 0 else 0.5
    out -= 1.5 * tree.ends[way[h]]
    if c is not None:
        out += 0.3 - 0.8 * abs(math.log(max(tree.length(way[c], way[u]), 1e-6) / (0.5 * upper))) * 0.6
    else:
        out -= 0.5 * (u > 0)
    return out


def head_and_neck(tree, fork, taken, up):
    """(neck bones, head, how clear) above the arms' fork; up (3,): the trunk's direction. (), -1 where there is no head."""
    best = []
    for first in tree.children[fork]:
        if first in taken or (tree.spare[first] and not tree.said[first].names("neck", "head")):
            continue
        for bone in tree.below(first)[:60]:
            way = tree.up_to(bone, fork)
            if len(way) <= 5 and not tree.ends[bone]:
                best.append((_head_score(tree, fork, way, up), way))
    best.sort(key=lambda b: -b[0])
    if not best or best[0][0] < -3:
        return (), -1, 0.3
    lead = best[0][0] - best[1][0] if len(best) > 1 else 1.0
    way = best[0][1]
    return tuple(way[:-1]), way[-1], how_clear("head", lead)


def _head_score(tree, fork, way, up):
    head, x = way[-1], tree.positions
    said = tree.said[head]
    out = NAME_WEIGHT * (
        3 * said.names("head")
        - 3 * said.names("neck", "spine", "chest", "clavicle", "eye", "jaw", "helper", "hair", "cloth", "tail")
    )
    out -= 2.0 * sum(tree.said[b].names("head", "hair", "tail", "eye", "jaw") for b in way[:-1])
    out += NAME_WEIGHT * 1.0 * sum(tree.said[b].names("neck") for b in way[:-1])
    way_up = x[head] - x[fork]
    out += 2.0 * _cosine(way_up, up)
    distance = np.linalg.norm(way_up) / tree.size
    out -= 1.2 * abs(np.log(max(distance, 1e-3) / 0.15))
    out += (0.0, 0.6, 0.3, -0.2, -0.6)[min(len(way) - 1, 4)]
    held = tree.skeleton.held
    if np.isfinite(held[head]):
        chain = [held[b] for b in [*way, *tree.below(head)]]
        out += 2.0 * held[head] / max(*chain, 1e-9)
    below = [c for c in tree.children[head] if not tree.ends[c]]
    out += 0.8 * (len(below) >= 2)  # eyes, jaw, hair
    if len(way) > 1 and not tree.children[head]:  # an eye or a jaw beside others
        out -= 1.2 * (sum(not tree.ends[c] for c in tree.children[way[-2]]) >= 2)
    rest = tree.reach[head] / tree.size
    out += 0.5 * (0.02 < rest < 0.2) - 0.8 * (rest == 0 and not np.isfinite(held[head]))
    return out
