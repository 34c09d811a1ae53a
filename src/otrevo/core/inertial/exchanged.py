"""Sensors that sit on other limbs than they say, found by how limbs move.

Neighbours feel the same at their joint. Where two sensors have changed places, what either says of its joints cannot be explained by any
heading and any place of the joint, and with the names the other way round it can.
"""

from dataclasses import replace

import numpy as np

from otrevo.core.inertial.joints import find_link, links_of

SIDES, NEIGHBOURS = 0.92, 0.78  # so much of what was unexplained may be left, at most, for an exchange to be believed
WORSE_THAN = 0.15  # unexplained before it: what fits well is not asked about
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
        best, plainest = 1.0, None
        for pair, believed in _suspects():
            if not set(pair) <= set(names):
                continue
            other = _swapped(names, [pair])
            after = _unexplained(felt, other, known)
            touched = [k for k in now if _numbers(names, k) != _numbers(other, k)]
            before = _size([now[k] for k in touched])
            share = _size([after[k] for k in touched]) / max(before, 1e-9)
            if before > WORSE_THAN and share < min(best, believed):
                best, plainest = share, pair
        if plainest is None:
            break
        found.append(plainest)
        names = _swapped(names, [plainest])
    return found


def put_right(recording, pairs):
    """The SuitRecording with the names of exchanged sensors the other way round."""
    return replace(recording, names=tuple(_swapped(recording.names, pairs))).only(recording.names)


def _suspects():
    """(pair of sensors that somebody may confuse, the share below which it is believed): left and right, and neighbours."""
    for parts in _PARTS:
        for part in parts:
            yield ("left" + part, "right" + part), SIDES
        for side in ("left", "right"):
            yield from (((side + a, side + b), NEIGHBOURS) for a, b in zip(parts, parts[1:], strict=False))
    yield from ((pair, SIDES) for pair in (("hips", "chest"), ("chest", "head")))


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
