"""Which branch of a hand is which finger, and which bones of it are its joints.

A thumb leaves nearest to the wrist and points away from the others; from it the others follow in the order in which they lie
side by side. Names decide where they name fingers.
"""

import numpy as np

NAMES = ("Thumb", "Index", "Middle", "Ring", "Little")
WORDS = ("thumb", "index", "middle", "ring", "little")
JOINTS = {"Thumb": ("Metacarpal", "Proximal", "Distal")} | dict.fromkeys(
    NAMES[1:], ("Proximal", "Intermediate", "Distal")
)
BY_COUNT = {1: ("Middle",), 2: ("Index", "Middle"), 3: ("Index", "Middle", "Ring"), 4: NAMES[1:]}
TOO_LONG = 1.9  # times the usual reach of what leaves a hand
LITTLE = 0.84  # the last of three fingers is the little one when it is so much shorter than the one before


def find_fingers(tree, hand):
    """({bone of ours without side, such as "IndexProximal": bone of the file}, metacarpals, how clear) of one hand."""
    ways = [w for c in tree.children[hand] for w in _ways(tree, hand, c)]
    far = [tree.length(hand, w[0]) + tree.reach[w[0]] for w in ways]
    ways = [w for w, f in zip(ways, far, strict=True) if f < TOO_LONG * np.median(far)]  # what is held is no finger
    if not ways:
        return {}, (), 1.0
    named = _by_name(tree, ways)
    sure = 0.98 if named else 0.85
    named = named or _by_place(tree, hand, ways)
    out, carpals = {}, []
    for finger, way in named.items():
        joints, before = _joints(tree, hand, finger, way)
        carpals += before
        out |= {f"{finger}{joint}": bone for joint, bone in joints.items()}
    return out, tuple(carpals), sure


def _ways(tree, hand, child):
    """Ways of finger bones that begin at a child of the hand; a metacarpal may lead to several fingers."""
    far = tree.length(hand, child) + tree.reach[child]
    said = tree.said[child]
    if (
        said.names("weapon", "ik", "twist", "cloth", "helper", "tail")
        or far < 0.005 * tree.size
        or far > 0.35 * tree.size
    ):
        return []
    if tree.ends[child] or (
        not tree.children[child]
        and not said.names(*WORDS, "finger")
        and not np.isfinite(tree.skeleton.ends[child]).all()
    ):
        return []
    branches = [c for c in tree.children[child] if tree.children[c] or tree.said[c].names(*WORDS)]
    if len(branches) > 1 and not said.names(*WORDS):
        return [(child, *tree.way_down(c)) for c in branches]
    return [tree.way_down(child)]


def _by_name(tree, ways):
    """{finger: way} when every way's name tells a finger of its own, else {}."""
    out = {}
    for way in ways:
        said = [w for w in WORDS if any(tree.said[b].names(w) for b in way)]
        if len(said) == 1 and NAMES[WORDS.index(said[0])] not in out:
            out[NAMES[WORDS.index(said[0])]] = way
    return out if out and len(out) >= len(ways) - 1 else {}


def _by_place(tree, hand, ways):
    """{finger: way} by where fingers leave the hand and point."""
    x = tree.positions
    ways = [w for w in ways if len(w) >= 2 or np.isfinite(tree.skeleton.ends[w[0]]).all() or len(ways) > 2]
    if not ways:
        return {}
    if len(ways) == 1:
        return {"Middle": ways[0]}
    knuckle = np.array([x[w[min(1, len(w) - 1)]] - x[hand] for w in ways])
    start = np.array([x[w[0]] - x[hand] for w in ways])
    tip = np.array([_tip(tree, w) - x[hand] for w in ways])
    size = np.linalg.norm(tip, axis=1).max()
    middle = np.median(tip / np.linalg.norm(tip, axis=1, keepdims=True), axis=0)
    middle /= max(np.linalg.norm(middle), 1e-9)
    spread = (knuckle + tip) / 2
    spread = spread - (spread @ middle)[:, None] * middle
    across = np.linalg.svd(spread - spread.mean(axis=0))[2][0]
    order = np.argsort(spread @ across)
    if len(ways) == 2:  # a thumb and a mitten: the shorter one is the thumb
        order = sorted(order, key=lambda i: np.linalg.norm(tip[i]))
        return {"Thumb": ways[order[0]], "Index": ways[order[1]]}
    unlike = []
    for i in (order[0], order[-1]):
        others = [k for k in range(len(ways)) if k != i]
        way = tip[i] - start[i]
        mean = np.mean([(tip[k] - start[k]) / max(np.linalg.norm(tip[k] - start[k]), 1e-9) for k in others], axis=0)
        bent = np.arccos(np.clip(way @ mean / max(np.linalg.norm(way) * np.linalg.norm(mean), 1e-9), -1, 1))
        near = np.median(start[others] @ middle) - start[i] @ middle
        short = np.median(tip[others] @ middle) - tip[i] @ middle
        fewer = np.median([len(ways[k]) for k in others]) - len(ways[i])
        unlike.append(2.0 * bent + 3.0 * near / size + 3.0 * short / size + 0.3 * np.clip(fewer, -1, 1))
    if unlike[1] > unlike[0]:
        order = order[::-1]
    rest = BY_COUNT.get(len(ways) - 1, NAMES[1:])
    if len(ways) == 4:
        last, before = (np.linalg.norm(tip[i] - start[i]) for i in (order[-1], order[-2]))
        rest = (*rest[:2], "Little" if last < LITTLE * before else "Ring")
    return {"Thumb": ways[order[0]]} | {f: ways[i] for f, i in zip(rest, order[1:], strict=False)}


def _tip(tree, way):
    end = tree.skeleton.ends[way[-1]]
    return end if np.isfinite(end).all() else tree.positions[way[-1]]


def _joints(tree, hand, finger, way):
    """({joint: bone}, metacarpals before them) along the way of one finger; a last bone that is only an end is left out."""
    carpal = [b for b in way[:-1] if tree.said[b].names("metacarpal")] if finger != "Thumb" else []
    way = [b for b in way if b not in carpal and not tree.ends[b]]
    if len(way) == 4 and finger != "Thumb":
        first, second = tree.length(way[0], way[1]), tree.length(way[1], way[2])
        if tree.length(hand, way[0]) < 0.5 * first or (first > 1.3 * second and tree.length(hand, way[0]) < first):
            carpal, way = [*carpal, way[0]], way[1:]
    elif len(way) >= 5:
        carpal, way = ([*carpal, way[0]], way[1:]) if finger != "Thumb" else (carpal, way)
    names = JOINTS[finger]
    if len(way) == 2:
        names = (names[1], names[2]) if finger == "Thumb" else (names[0], names[1])
    elif len(way) == 1:
        names = (names[0],) if finger != "Thumb" else (names[1],)
    return dict(zip(names, way, strict=False)), carpal
