"""What differs between two versions of a map sheet, in words."""

import numpy as np

from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply

SAME_DEG = 0.05  # rest poses nearer than this are the same


def map_differences(before, after):
    """[(subject, before, after)] in words, between two `map/1` documents of one character; empty where they say the same."""
    return [*_pairs(before, after), *_rest(before, after), *_named(before, after), *_shapes(before, after)]


def _pairs(before, after):
    old, new = ({p["bone"]: p for p in d["pairs"]} for d in (before, after))
    out = []
    for bone in dict.fromkeys([*old, *new]):
        a, b = old.get(bone, {}), new.get(bone, {})
        if a.get("target") != b.get("target"):
            out.append((bone, _targets(a), _targets(b)))
        elif (a.get("shares") or []) != (b.get("shares") or []):
            out.append((f"{bone}, shares", _numbers(a.get("shares")), _numbers(b.get("shares"))))
    return out


def _targets(pair):
    return " · ".join(pair.get("target") or []) or "nothing"


def _numbers(values):
    return ", ".join(f"{100 * v:.0f} %" for v in values or []) or "by their number"


def _rest(before, after):
    old, new = ({r["bone"]: r for r in d.get("rest_pose") or []} for d in (before, after))
    out = []
    for bone in old.keys() & new.keys():
        a, b = (np.array(d[bone]["rotation_xyzw"], dtype=float) for d in (old, new))
        apart = quaternion_multiply(b, quaternion_conjugate(a))
        degrees = float(np.degrees(2 * np.arctan2(np.linalg.norm(apart[:3]), abs(apart[3]))))
        if degrees > SAME_DEG:
            words = ["by hand" if d[bone].get("by_hand") else "as matched" for d in (old, new)]
            out.append((f"{bone}, at rest", words[0], f"{words[1]}, {degrees:.0f}° from there"))
    return sorted(out)


def _named(before, after):
    old, new = ({e["effector"]: e["target"] for e in d.get("effectors") or []} for d in (before, after))
    return [(f"{e}, effector", old.get(e, "not named"), new.get(e, "not named"))
            for e in dict.fromkeys([*old, *new]) if old.get(e) != new.get(e)]  # fmt: skip


def _shapes(before, after):
    old, new = ({(s["target"], s["shape"]): s for s in d.get("shapes") or []} for d in (before, after))
    out = []
    for key in dict.fromkeys([*old, *new]):
        a, b = (_driver(d.get(key)) for d in (old, new))
        if a != b:
            out.append((f"{key[0]} by {key[1]}", a, b))
    return out


def _driver(row):
    if row is None:
        return "not moved"
    out = f"×{row.get('gain', 1.0):.2f}"
    if row.get("offset"):
        out += f", offset {row['offset']:g}"
    limits = row.get("low", 0.0), row.get("high", 1.0)
    return out if limits == (0.0, 1.0) else f"{out}, {limits[0]:g} to {limits[1]:g}"
