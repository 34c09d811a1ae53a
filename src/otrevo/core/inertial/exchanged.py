"""Sensors that sit on other limbs than they say, found by how limbs move.

Neighbours feel the same at their joint. Where two sensors have changed places, what either says of its joints cannot be explained by any
heading and any place of the joint, and with the names the other way round it can.
"""

import itertools
from dataclasses import replace

import numpy as np

from otrevo.core.inertial.joints import find_link, links_of

# so much of what was unexplained may be left, at most, for an exchange to be believed
SIDES, NEIGHBOURS, OTHERS = 0.92, 0.78, 0.7
# so much must be unexplained before it, by two that anybody may confuse and by any other two
WORSE_THAN, STRANGE = 0.15, 0.3
# by so much the squares of what is unexplained shrink in all, at least: of two that anybody may confuse, and of any other two
ENOUGH, MUCH = 0.25, 0.3
MOVES_MS2 = 1.0  # what a limb feels that moves enough to tell whose it is
# in a warm-up that is shorter, down to so much more must be unexplained, and so much less of it left
SHORT_S, LESS = 30.0, 0.15
MOST_FOUND = 4
THIN = 2
_PARTS = ("Shoulder", "UpperArm", "LowerArm", "Hand"), ("UpperLeg", "LowerLeg", "Foot")


def find_exchanged(felt):
    """[(sensor, sensor)] of a Felt that have changed places, the plainest first."""
    names, found, known = list(felt.names), [], {}
    short = LESS * max(0.0, 1 - float(np.ptp(felt.times_s)) / SHORT_S)
    # half the samples tell as much
    thin = {k: getattr(felt, k)[::THIN] for k in ("times_s", "force", "bend", "known", "shakes")}
    felt = replace(felt, **thin)
    for _ in range(MOST_FOUND):
        now = _unexplained(felt, names, known)
        most, plainest = 0.0, None
        for pair, believed, worse_than, gain in _suspects(names):
            other = swapped(names, [pair])
            touched = [k for k in now if _numbers(names, k) != _numbers(other, k)]
            before = _size([now[k] for k in touched])
            if before <= worse_than + short:
                continue
            after = _unexplained(felt, other, known)
            share = _size([after[k] for k in touched]) / max(before, 1e-9)
            gained = sum(v**2 for v in now.values()) - sum(v**2 for v in after.values())
            if share < believed - short and gained > max(most, gain):
                most, plainest = gained, pair
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
    """(pair of the sensors `names`, the share below which it is believed, what must be unexplained before it, by how much the squares of that must
    shrink): whom somebody may confuse, left and right and neighbours, and any other two.
    """
    usual = {}
    for parts in _PARTS:
        for part in parts:
            usual["left" + part, "right" + part] = SIDES
        for side in ("left", "right"):
            usual |= {(side + a, side + b): NEIGHBOURS for a, b in zip(parts, parts[1:], strict=False)}
    usual |= {("hips", "chest"): SIDES, ("chest", "head"): SIDES}
    for pair, believed in usual.items():
        if set(pair) <= set(names):
            yield pair, believed, WORSE_THAN, ENOUGH
    known = {frozenset(p) for p in usual}
    for pair in itertools.combinations(names, 2):
        if frozenset(pair) not in known:
            yield pair, OTHERS, STRANGE, MUCH


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


def limbs_of(names, legs):
    """Pairs of the sensors of both arms, or both legs, left and right."""
    return [(f"left{p}", f"right{p}") for p in _PARTS[legs] if {f"left{p}", f"right{p}"} <= set(names)]


def swapped(names, pairs):
    """The names with those of each pair in each other's place, one pair after the other."""
    for a, b in pairs:
        other = {a: b, b: a}
        names = [other.get(n, n) for n in names]
    return list(names)


def _size(values):
    return float(np.sqrt(np.mean(np.square(values)))) if values else 0.0


def _numbers(names, key):
    return names.index(key[0]), names.index(key[1])


def _unexplained(felt, names, known):
    """{(above, below, joint): unexplained, of limbs that hardly move the less} of the links among sensors called `names`; known: what was
    computed before, by number."""
    out, named = {}, replace(felt, names=tuple(names))
    for key in links_of(names):
        at = (*_numbers(names, key), key[2] in ("spine", "neck"))
        if at not in known:
            link = find_link(named, *key)
            known[at] = link.unexplained * min(1.0, link.felt_ms2 / MOVES_MS2)
        out[key] = known[at]
    return out
