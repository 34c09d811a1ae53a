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
WORSE_THAN, STRANGE = 0.15, 0.4
MUCH = 0.5  # by so much the squares of what is unexplained shrink in all, at least, where nobody would confuse the two
MOST_FOUND = 4
THIN = 2
_PARTS = ("Shoulder", "UpperArm", "LowerArm", "Hand"), ("UpperLeg", "LowerLeg", "Foot")


def find_exchanged(felt):
    """[(sensor, sensor)] of a Felt that have changed places, the plainest first."""
    names, found, known = list(felt.names), [], {}
    thin = {k: getattr(felt, k)[::THIN] for k in ("times_s", "force", "bend", "known")}  # half the samples tell as much
    felt = replace(felt, **thin)
    for _ in range(MOST_FOUND):
        now = _unexplained(felt, names, known)
        most, plainest = 0.0, None
        for pair, believed, worse_than, gain in _suspects(names):
            other = _swapped(names, [pair])
            touched = [k for k in now if _numbers(names, k) != _numbers(other, k)]
            before = _size([now[k] for k in touched])
            if before <= worse_than:
                continue
            after = _unexplained(felt, other, known)
            share = _size([after[k] for k in touched]) / max(before, 1e-9)
            gained = sum(v**2 for v in now.values()) - sum(v**2 for v in after.values())
            if share < believed and gained > max(most, gain):
                most, plainest = gained, pair
        if plainest is None:
            break
        found.append(plainest)
        names = _swapped(names, [plainest])
    return found


def put_right(recording, pairs):
    """The SuitRecording with the names of exchanged sensors the other way round."""
    return replace(recording, names=tuple(_swapped(recording.names, pairs))).only(recording.names)


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
            yield pair, believed, WORSE_THAN, 0.0
    known = {frozenset(p) for p in usual}
    for pair in itertools.combinations(names, 2):
        if frozenset(pair) not in known:
            yield pair, OTHERS, STRANGE, MUCH


def net_pairs(pairs):
    """Pairs exchanged one after the other, as few as do the same: a pair twice is none. As given where no pairs alone do it."""
    names = sorted({n for p in pairs for n in p})
    now = names
    for pair in pairs:
        now = _swapped(now, [pair])
    other = dict(zip(names, now, strict=True))
    if any(other[other[n]] != n for n in names):
        return pairs
    return [p for p in sorted({tuple(sorted(p)) for p in other.items()}) if p[0] != p[1]]


def limbs_of(names, legs):
    """Pairs of the sensors of both arms, or both legs, left and right."""
    return [(f"left{p}", f"right{p}") for p in _PARTS[legs] if {f"left{p}", f"right{p}"} <= set(names)]


def _swapped(names, pairs):
    other = {a: b for a, b in pairs} | {b: a for a, b in pairs}
    return [other.get(n, n) for n in names]


def _size(values):
    return float(np.sqrt(np.mean(np.square(values)))) if values else 0.0


def _numbers(names, key):
    return names.index(key[0]), names.index(key[1])


def _unexplained(felt, names, known):
    """{(above, below, joint): unexplained} of the links among sensors called `names`; known: what was computed before, by number."""
    out, named = {}, replace(felt, names=tuple(names))
    for key in links_of(names):
        at = (*_numbers(names, key), key[2] in ("spine", "neck"))
        if at not in known:
            known[at] = find_link(named, *key).unexplained
        out[key] = known[at]
    return out
