"""Where the limbs of a skeleton are: the two branches that are legs, the two that are arms, and the trunk between them.

Nothing is known of units, axes, sides or names' worth at this stage. A body is looked for as two pairs of alike branches:
legs at one fork J, arms at another fork K, J above or beside K's way up from the root, legs pointing away from K. Every pair of
alike branches of every fork is scored as legs and as arms by length, proportion, fingers at its end and names; the two pairs that
together score best are the limbs. Names are votes among others, so skeletons without useful names come out the same way.
"""

import math
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from otrevo.core.errors import InputError

LEAST_REACH = 0.14  # of the skeleton's size: a branch shorter than this is no limb
MOST_UNLIKE = 0.6  # logarithm of how much farther one of a pair may reach: one hand may hold something
MOST_BRANCHES = 10  # of one fork that are looked at, longest first
LEAST_SCORE = -3.5  # below, nothing in the skeleton looks like a body
LEG_WORDS, ARM_WORDS = (
    ("upperleg", "lowerleg", "leg", "foot", "toes"),
    ("upperarm", "lowerarm", "arm", "hand", "clavicle", "shoulder"),
)
CLOSE = 0.2  # how sure it is when another pair of limbs does as well; a lead of a point is sure


@dataclass(frozen=True)
class Limbs:
    """hips: the bone that all hang on; legs and arms: pairs of ways, bones from the fork's child down to the tip.

    leg_fork, arm_fork: where they leave; trunk: bones after the hips up to the arms' fork; sure: 0 to 1.
    """

    hips: int
    legs: tuple
    arms: tuple
    leg_fork: int
    arm_fork: int
    trunk: tuple[int, ...]
    sure: float


def find_limbs(tree):
    """The Limbs of a BoneTree. Raises InputError when it does not look like a body with two legs and two arms."""
    pairs = list(_pairs(tree))
    as_legs, as_arms = [_leg_score(tree, *p) for p in pairs], [_arm_score(tree, *p) for p in pairs]
    best, found = [], None
    for i in np.argsort(as_legs)[::-1][:24]:
        for j in np.argsort(as_arms)[::-1][:24]:
            relation = _relation(tree, pairs[i], pairs[j])
            if relation is not None:
                best.append((as_legs[i] + as_arms[j] + relation, i, j))
    best.sort(reverse=True)
    if best and best[0][0] > LEAST_SCORE:
        found = best[0]
    if found is None:
        raise InputError(
            f"{tree.skeleton.source}: two legs and two arms could not be found among its {tree.count} bones; "
            "expected the skeleton of a two-legged character."
        )
    (fork, a, b), (arm_fork, c, d) = pairs[found[1]], pairs[found[2]]
    hips = _common(tree, fork, arm_fork)
    others = [s for s, i, j in best[1:] if set(pairs[i][1:]) != {a, b} or set(pairs[j][1:]) != {c, d}]
    margin = found[0] - (others[0] if others else -10.0)
    return Limbs(
        hips, (tree.way_down(a), tree.way_down(b)), (tree.way_down(c), tree.way_down(d)), fork,
        arm_fork, tuple(tree.up_to(arm_fork, hips)), float(np.clip(CLOSE + margin, CLOSE, 1.0)),
    )  # fmt: skip


def _pairs(tree):
    """(fork, child, child) of all pairs of alike, long enough branches."""
    for fork in range(tree.count):
        branches = [c for c in tree.children[fork] if not tree.spare[c]]
        far = {c: tree.length(fork, c) + tree.reach[c] for c in branches}
        branches = sorted((c for c in branches if far[c] > LEAST_REACH * tree.size), key=lambda c: -far[c])
        for a, b in combinations(branches[:MOST_BRANCHES], 2):
            if abs(np.log(far[a] / far[b])) < MOST_UNLIKE:
                yield fork, a, b


def _common(tree, a, b):
    """The lowest bone that both hang on, or are; -1 where they hang on different roots."""
    above = set()
    while a >= 0:
        above.add(a)
        a = int(tree.parents[a])
    while b >= 0 and b not in above:
        b = int(tree.parents[b])
    return b


def fan(tree, way):
    """The first bone on a way where three or more finger-like branches leave, or -1."""
    for bone in way:
        fingers = [c for c in tree.children[bone] if not tree.spare[c] and 0.008 * tree.size < tree.length(bone, c) + tree.reach[c] < 0.3 * tree.size and (tree.children[c] or np.isfinite(tree.skeleton.ends[c]).all())]  # fmt: skip
        if len(fingers) >= 3:
            return bone
    return -1


def _alike(tree, a, b):
    """0 for branches of the same lengths, less for others."""
    ways = [tree.way_down(x) for x in (a, b)]
    n = min(len(ways[0]), len(ways[1]), 5)
    lengths = np.array([[tree.length(w[k], w[k + 1]) for k in range(n - 1)] for w in ways]).reshape(2, -1)
    total = np.maximum(lengths.sum(), 1e-9)
    return -6.0 * float(np.abs(lengths[0] - lengths[1]).sum() / total) - 0.4 * min(abs(len(ways[0]) - len(ways[1])), 4)


def _two_long(tree, way):
    """(how unequal the two long bones of a way are, how much of its length they take, where they meet)."""
    best = (9.0, 0.0, 0)
    far = [[tree.length(a, b) for b in way] for a in way]
    total = sum(far[k][k + 1] for k in range(len(way) - 1)) + 1e-12
    for j in range(1, len(way) - 1):
        for i in range(j):
            for k in range(j + 1, len(way)):
                first, second = far[i][j], far[j][k]
                if min(first, second) < 1e-12:
                    continue
                unequal, part = abs(math.log(first / second)), (first + second) / total
                if unequal - 3.0 * part < best[0] - 3.0 * best[1]:
                    best = (unequal, part, j)
    return best


def _words(tree, a, b, good, bad):
    """What names on the ways down say, -3 to 3."""
    out = 0.0
    for start in (a, b):
        way = tree.way_down(start)[:6]
        hits = sum(tree.said[x].names(*good) for x in way) - sum(
            tree.said[x].names(*bad) and not tree.said[x].names(*good) for x in way
        )
        out += np.clip(1.2 * hits / max(1, min(len(way), 4)), -1, 1) * 1.5
    return out + 0.5 * ({tree.said[a].side, tree.said[b].side} == {"left", "right"})


def _leg_score(tree, fork, a, b):
    far = np.mean([tree.length(fork, c) + tree.reach[c] for c in (a, b)])
    unequal, part, _ = np.mean([_two_long(tree, tree.way_down(c)) for c in (a, b)], axis=0)
    fans = sum(fan(tree, tree.way_down(c)) >= 0 for c in (a, b))
    return (
        _alike(tree, a, b) - 1.2 * abs(np.log(far / (0.52 * tree.size))) - min(unequal, 2) + 1.5 * (part - 0.75) - 0.7 * fans
        + _words(tree, a, b, LEG_WORDS, ARM_WORDS)
    )  # fmt: skip


def _arm_score(tree, fork, a, b):
    far = np.mean([tree.length(fork, c) + tree.reach[c] for c in (a, b)])
    unequal, part, _ = np.mean([_two_long(tree, tree.way_down(c)) for c in (a, b)], axis=0)
    fans = sum(fan(tree, tree.way_down(c)) >= 0 for c in (a, b))
    return (
        _alike(tree, a, b) - 1.2 * abs(np.log(far / (0.45 * tree.size))) - min(unequal, 2) + 1.0 * (part - 0.6) + 0.9 * fans
        + _words(tree, a, b, ARM_WORDS, LEG_WORDS)
    )  # fmt: skip


def _relation(tree, legs, arms):
    """How well a pair of legs and a pair of arms go together, or None when they overlap or cross."""
    (fork, a, b), (arm_fork, c, d) = legs, arms
    if fork == arm_fork or len({a, b, c, d}) < 4:
        return None
    hips = _common(tree, fork, arm_fork)
    if hips < 0:
        return None
    to_legs, to_arms = tree.up_to(fork, hips), tree.up_to(arm_fork, hips)
    if set(to_arms) & {a, b} or set(to_legs) & {c, d} or not to_arms:
        return None  # arms hang on a leg, or legs on an arm
    trunk = tree.positions[arm_fork] - np.mean([tree.positions[x] for x in (a, b)], axis=0)
    length = np.linalg.norm(trunk)
    far = np.mean([tree.length(fork, x) + tree.reach[x] for x in (a, b)])
    if length < 1e-9 * tree.size:
        return None
    down = [_direction(tree, x) @ trunk / length for x in (a, b)]
    depth = tree.positions @ (-trunk / length)
    lowest = min(depth[tree.below(x)].max() for x in (a, b))
    above = depth.max() - lowest  # legs reach lowest: skirts and coats do not
    head = [x for x in tree.children[arm_fork] if x not in (c, d) and x not in to_arms and not tree.spare[x]]
    upward = max((_direction(tree, arm_fork, x) @ trunk / length for x in head), default=-0.3)
    return (
        -0.6 * len(to_legs) - 1.0 * abs(np.log(length / (0.6 * far))) - 1.3 * float(np.mean(down)) + 0.9 * upward
        - 0.12 * max(0, len(to_arms) - 5) - 4.0 * max(0.0, above / tree.size - 0.02)
    )  # fmt: skip


def _direction(tree, start, to=None):
    """Unit vector from `start` along its way down (or towards where the branch `to` goes)."""
    way = tree.way_down(start if to is None else to)
    x = tree.positions[way[min(len(way) - 1, 3)]] - tree.positions[start]
    return x / max(np.linalg.norm(x), 1e-12)
