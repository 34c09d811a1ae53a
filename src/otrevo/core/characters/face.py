"""Which face shapes of a character a performer's face drives, found by their names; and the values they get.

The 52 common names come under prefixes, in any case, with side marks at either end ("hero_face_eyeBlink_L", "EYEBLINKLEFT"). A
name is cut into words without its prefix and side; what is left has to be exactly the words of one common name. Names that
no rule explains are left alone: a face that moves wrongly is worse than one that rests. Expressions of a VRM file drive the
shapes that they bind, each from the common shapes that show the same. Values are 0 to 1 before gain, offset and limits.
"""

import re
from collections import Counter
from dataclasses import dataclass

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES

_CUT = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])|[\W_]+")
_SIDES = {
    "l": "left",
    "left": "left",
    "lf": "left",
    "lft": "left",
    "r": "right",
    "right": "right",
    "rt": "right",
    "rgt": "right",
}
SHARED_BY = 0.6


def _both(stem):
    return {f"{stem}Left": 0.5, f"{stem}Right": 0.5}


# What a VRM 1.0 expression shows, in common shapes with their shares.
EXPRESSIONS = {
    "aa": {"jawOpen": 1.0}, "ih": _both("mouthLowerDown"), "ou": {"mouthPucker": 1.0}, "ee": _both("mouthStretch"),
    "oh": {"mouthFunnel": 1.0}, "blinkLeft": {"eyeBlinkLeft": 1.0}, "blinkRight": {"eyeBlinkRight": 1.0}, "blink": _both("eyeBlink"),
    "happy": _both("mouthSmile"), "angry": _both("browDown"), "sad": _both("mouthFrown"), "relaxed": _both("eyeSquint"),
    "surprised": _both("eyeWide"), "lookUp": _both("eyeLookUp"), "lookDown": _both("eyeLookDown"),
    "lookLeft": {"eyeLookOutLeft": 0.5, "eyeLookInRight": 0.5}, "lookRight": {"eyeLookInLeft": 0.5, "eyeLookOutRight": 0.5},
}  # fmt: skip
ONE_EYE = ("blinkLeft", "blinkRight")  # where these are there, "blink" would close the eyes twice


@dataclass(frozen=True)
class ShapeDriver:
    """shape: of ours; target: of the character's; value = offset + gain * ours, kept between low and high."""

    shape: str
    target: str
    gain: float = 1.0
    offset: float = 0.0
    low: float = 0.0
    high: float = 1.0

    def document(self):
        return {
            "shape": self.shape,
            "target": self.target,
            "gain": self.gain,
            "offset": self.offset,
            "low": self.low,
            "high": self.high,
        }


def words_of(name):
    """(words without side marks, side) of a shape's name."""
    words = [w.lower() for w in _CUT.split(name) if w]
    side = ""
    for at in (-1, 0):
        if words and words[at] in _SIDES and not side:
            side = _SIDES[words.pop(at)]
    return words, side


def _common():
    out = {}
    for name in FACE_SHAPES:
        words, side = words_of(name)
        out["".join(words), side] = name
    return out


_COMMON = _common()
_LONGEST = sorted({stem for stem, _ in _COMMON}, key=len, reverse=True)


def propose_shapes(shapes, expressions=None):
    """[ShapeDriver] for a character's shape names, and for the shapes that expressions bind: {name: [(shape, weight), ...]}.

    A shape whose own name says what it is, is driven by that alone; what is shown that way already, no expression shows again.
    """
    cut = [words_of(s) for s in shapes]
    counts = Counter(w for words, _ in cut for w in set(words))
    shared = {w for w, n in counts.items() if n >= max(3, SHARED_BY * len(shapes))}
    out, taken = [], set()
    for shape, (words, side) in zip(shapes, cut, strict=True):
        stem = "".join(w for w in words if w not in shared)
        found = _COMMON.get((stem, side)) or _COMMON.get(("".join(words), side)) or _run_together(shape)
        if found and found not in taken:
            taken.add(found)
            out.append(ShapeDriver(found, shape))
    named = {d.target for d in out}
    for name, binds in (expressions or {}).items():
        if name == "blink" and all(n in expressions for n in ONE_EYE):
            continue
        ours = EXPRESSIONS.get(name) or dict.fromkeys(filter(None, [_common_name(name)]), 1.0)
        if taken & set(ours):
            continue
        out += [
            ShapeDriver(ours_name, shape, round(share * weight, 6))
            for shape, weight in binds if shape in shapes and shape not in named
            for ours_name, share in ours.items()
        ]  # fmt: skip
    return sorted(out, key=lambda d: FACE_SHAPES.index(d.shape))


def _common_name(name):
    """The common shape that a name says, or None."""
    words, side = words_of(name)
    return _COMMON.get(("".join(words), side)) or _run_together(name)


def _run_together(name):
    """The common name that the letters of a name end with, sides at either end, or None: "HEROEYEBLINKLEFT", "l_eyeblink"."""
    letters = re.sub(r"[\W_]+", "", name).lower()
    for stem in _LONGEST:
        for side, marks in (("left", ("left", "l")), ("right", ("right", "r")), ("", ("",))):
            common = _COMMON.get((stem, side))
            if common and any(
                letters.endswith(stem + m) or (side and letters.startswith(m + stem) and letters == m + stem)
                for m in marks
            ):
                return common
    return None


def drivers_from(document, shapes, where, expressions=None):
    """[ShapeDriver] of a map sheet's `shapes`, or those proposed where it has none. Raises InputError naming the place."""
    rows = document.get("shapes")
    if rows is None:
        return propose_shapes(shapes, expressions)
    out = []
    for i, row in enumerate(rows if isinstance(rows, list) else [None]):
        if not isinstance(row, dict) or row.get("shape") not in FACE_SHAPES:
            raise InputError(f"{where}: shapes[{i}]: expected a shape, one of the 52, and a target.")
        if row.get("target") not in shapes:
            raise InputError(f"{where}: shapes[{i}]: the character has no shape '{str(row.get('target'))[:80]}'.")
        numbers = [row.get(k, d) for k, d in (("gain", 1.0), ("offset", 0.0), ("low", 0.0), ("high", 1.0))]
        if not all(isinstance(v, (int, float)) and np.isfinite(v) for v in numbers):
            raise InputError(f"{where}: shapes[{i}]: gain, offset, low and high must be numbers.")
        if numbers[2] > numbers[3]:
            raise InputError(f"{where}: shapes[{i}]: low {numbers[2]:g} lies over high {numbers[3]:g}.")
        out.append(ShapeDriver(row["shape"], row["target"], *map(float, numbers)))
    return out


def face_at(times_s, values, at_s):
    """Values (N, S) of a face track (T, S) at times_s (T,) at the moments at_s (N,); carried across where the face was lost."""
    out = np.zeros((len(at_s), values.shape[1]))
    for s, column in enumerate(values.T):
        good = np.isfinite(column)
        if good.any():
            out[:, s] = np.interp(at_s, times_s[good], column[good])
    return out


def driven_values(drivers, times_s, values, names, at_s):
    """{target: values (N,)} at times at_s (N,) of a face track values (T, S) of shapes `names` at times_s (T,).

    Several drivers of one target add up before its limits. Where the face was lost, values are carried across in a straight line.
    """
    out, at_moments = {}, face_at(times_s, values, at_s)
    for target in dict.fromkeys(d.target for d in drivers):
        own = [d for d in drivers if d.target == target and d.shape in names]
        if not own:
            continue
        total = np.zeros(len(at_s))
        for d in own:
            total += d.offset + d.gain * at_moments[:, names.index(d.shape)]
        out[target] = np.clip(total, min(d.low for d in own), max(d.high for d in own))
    return out
