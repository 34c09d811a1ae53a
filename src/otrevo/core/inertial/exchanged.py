"""Sensors that sit on other limbs than they say, found by how limbs move.

Neighbours feel the same at their joint. Where two sensors have changed places, what either says of its joints cannot be explained by any
heading and any place of the joint, and with the names the other way round it can.
"""

import itertools
from dataclasses import replace

import numpy as np

from otrevo.core.inertial.joints import links_of, unexplained
from otrevo.core.words import bones_in_a_row

# so much better, as a sum of logarithms, must the joints be explained after an exchange: of two that anybody may confuse, and of a forearm and its hand,
# which a stiff wrist makes one, or any other two. In 58 warm-ups in suits worn as they say, the most were 0.15 and 0.65
USUAL, OTHERS = 0.5, 1.0
STRANGE = 0.24  # and so much is unexplained before it, at least, of any other two: nobody puts on a hand for a thigh and has it fit a little worse
LEAST = 0.02  # what of a joint is never explained, and counts for nothing
MOVES_MS2 = 1.0  # what a limb feels that moves enough to tell whose it is
SHORT_S, MORE = 30.0, 0.6  # in a warm-up that is shorter, up to so much better still
MOST_FOUND = 4
THIN = 2
_PARTS = ("Shoulder", "UpperArm", "LowerArm", "Hand"), ("UpperLeg", "LowerLeg", "Foot")


def find_exchanged(felt):
    """[(sensor, sensor)] of a Felt that have changed places, the plainest first."""
    names, found, known = list(felt.names), [], {}
    short = MORE * max(0.0, 1 - float(np.ptp(felt.times_s)) / SHORT_S)
    # half the samples tell as much
    thin = {k: getattr(felt, k)[::THIN] for k in ("times_s", "force", "bend", "known", "shakes")}
    felt = replace(felt, **thin)
    for _ in range(MOST_FOUND):
        now, most, plainest = _unexplained(felt, names, known), short, None
        for pair, least, strange in _suspects(names):
            other = swapped(names, [pair])
            touched = [k for k in now if _numbers(names, k) != _numbers(other, k)]
            if not touched or np.mean([now[k][0] ** 2 for k in touched]) < strange**2:
                continue
            after = _unexplained(felt, other, known)
            better = sum(_better(now[k], after[k]) for k in touched) - least
            if better > most:
                most, plainest = better, pair
        if plainest is None:
            break
        found.append(plainest)
        names = swapped(names, [plainest])
    return found


def put_right(recording, pairs):
    """The SuitRecording with the names of exchanged sensors the other way round, one pair after the other; of what it has of them."""
    sits = {said: bone for bone, said in worn_as(pairs).items()}
    names = [sits.get(n, n) for n in recording.names]
    order = [n for n in recording.names if n in names] + [n for n in names if n not in recording.names]
    return replace(recording, names=tuple(names)).only(order)


def _suspects(names):
    """(pair of the sensors `names`, by how much better they must explain their joints, how much must be unexplained before): whom somebody may
    confuse, left and right and neighbours, and any other two.
    """
    usual = {frozenset(pair) for pair in (("hips", "chest"), ("chest", "head"))}
    stiff = {frozenset((side + "LowerArm", side + "Hand")) for side in ("left", "right")}
    for parts in _PARTS:
        usual |= {frozenset(("left" + part, "right" + part)) for part in parts}
        for side in ("left", "right"):
            usual |= {frozenset((side + a, side + b)) for a, b in zip(parts, parts[1:], strict=False)}
    for pair in itertools.combinations(names, 2):
        who = frozenset(pair)
        yield pair, USUAL if who in usual - stiff else OTHERS, 0.0 if who in usual else STRANGE


def worn_as(pairs):
    """{bone: name of the sensor that sits on it} after exchanges one after the other, of those that are not their own."""
    names = sorted({n for p in pairs for n in p})
    return {bone: said for said, bone in zip(names, swapped(names, pairs), strict=True) if said != bone}


def pairs_of(worn):
    """The fewest pairs exchanged one after the other that have sensors worn as worn_as says. Raises ValueError where no exchange does."""
    names = now = sorted(worn)
    if sorted(worn.values()) != names:
        raise ValueError(f"sensors in each other's place: {', '.join(names)}")
    sits = {said: bone for bone, said in worn.items()}
    pairs = []
    for i, said in enumerate(names):
        if now[i] != sits[said]:
            pairs.append((now[i], sits[said]))
            now = swapped(now, pairs[-1:])
    return pairs


def net_pairs(pairs):
    """Pairs exchanged one after the other, as few as do the same: a pair twice is none."""
    return pairs_of(worn_as(pairs))


def rounds_of(pairs):
    """[(sensor, …)] that have changed places among each other, two or more at a time, for whoever reads it."""
    worn, out = worn_as(pairs), []
    for first in sorted(worn):
        if not any(first in r for r in out):
            round_ = [first]
            while worn[round_[-1]] != first:
                round_.append(worn[round_[-1]])
            out.append(tuple(round_))
    return out


def said_of_exchanged(pairs):
    """[sentence] of who has changed places."""
    return [f"{bones_in_a_row(r)} have changed places; they are read the other way round" for r in rounds_of(pairs)]


def limbs_of(names, legs):
    """Pairs of the sensors of both arms, or both legs, left and right."""
    return [(f"left{p}", f"right{p}") for p in _PARTS[legs] if {f"left{p}", f"right{p}"} <= set(names)]


def swapped(names, pairs):
    """The names with those of each pair in each other's place, one pair after the other."""
    for a, b in pairs:
        other = {a: b, b: a}
        names = [other.get(n, n) for n in names]
    return list(names)


def _numbers(names, key):
    return names.index(key[0]), names.index(key[1])


def _better(before, after):
    """By how much better a joint is explained, of what _unexplained tells of it, where it moves enough both times."""
    moves = min(1.0, before[1] / MOVES_MS2, after[1] / MOVES_MS2)
    return moves * np.log((before[0] + LEAST) / (after[0] + LEAST))


def _unexplained(felt, names, known):
    """{(above, below, joint): (share that is unexplained, what both feel in m/s²)} of the links among sensors called `names`; known: what was
    computed before, by number."""
    out, named = {}, replace(felt, names=tuple(names))
    for key in links_of(names):
        at = (*_numbers(names, key), key[2] in ("spine", "neck"))
        if at not in known:
            known[at] = unexplained(named, *key)
        out[key] = known[at]
    return out
