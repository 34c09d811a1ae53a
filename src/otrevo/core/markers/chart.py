"""Marker charts: where markers sit on the body, and the chart that ships with Otrevo.

A chart lists markers by name, the bone they ride on and their offset from that bone's joint, metres, in T-pose world
axes of a 1.75 m person (`chart/1` in docs/formats.md).
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.body.skeleton import BONE_INDEX, BONE_NAMES, GENERIC_HEIGHT_M
from otrevo.core.errors import InputError
from otrevo.core.markers.rows import read_rows


@dataclass(frozen=True)
class Chart:
    """names (M), bone (M) bone names, offset_m (M, 3) for a 1.75 m person."""

    name: str
    names: tuple[str, ...]
    bones: tuple[str, ...]
    offset_m: np.ndarray

    def bone_index(self, skeleton):
        """Index of every marker's bone in `skeleton`, (M,)."""
        return np.array([skeleton.index(b) for b in self.bones], dtype=np.int64)

    def scaled(self, height_m):
        """Offsets (M, 3) for a performer of `height_m`."""
        return self.offset_m * (height_m / GENERIC_HEIGHT_M)

    def to_document(self):
        markers = [
            {"name": n, "bone": b, "offset_m": [round(float(v), 5) for v in o]}
            for n, b, o in zip(self.names, self.bones, self.offset_m, strict=True)
        ]
        return {"otrevo": "chart/1", "name": self.name, "markers": markers}


def chart_from_document(document, where="chart"):
    """A checked Chart from a `chart/1` document. Raises InputError naming the place in it."""
    rows = document.get("markers")
    if not isinstance(rows, list) or not rows:
        raise InputError(f"{where}: 'markers' must be a list of at least one marker.")
    names, offsets = read_rows(rows, where, "a name, a bone and offset_m", 1.0, "joint", _check_bone)
    return Chart(str(document.get("name", "chart")), names, tuple(row["bone"] for row in rows), offsets)


def _check_bone(row, place):
    if not isinstance(row.get("bone"), str) or row["bone"] not in BONE_INDEX:
        raise InputError(f"{place}: '{row.get('bone')}' is not a bone; expected a VRM bone such as {BONE_NAMES[0]}.")


_MIDDLE = [
    ("crown", "head", (0.015, 0.205, 0.0)),
    ("brow left", "head", (0.07, 0.135, 0.08)),
    ("brow right", "head", (-0.07, 0.135, 0.08)),
    ("nape left", "head", (0.04, 0.10, -0.09)),
    ("nape right", "head", (-0.04, 0.10, -0.09)),
    ("collar back", "upperChest", (0.0, 0.14, -0.085)),
    ("breastbone", "upperChest", (0.0, 0.05, 0.115)),
    ("blade right", "upperChest", (-0.085, 0.03, -0.12)),
    ("belly", "chest", (0.02, 0.0, 0.125)),
]
_LEFT = [
    ("hip front", "hips", (0.125, 0.105, 0.10)),
    ("hip back", "hips", (0.05, 0.115, -0.125)),
    ("shoulder top", "Shoulder", (0.125, 0.055, -0.01)),
    ("upper arm front", "UpperArm", (0.11, 0.01, 0.055)),
    ("upper arm back", "UpperArm", (0.17, 0.015, -0.055)),
    ("elbow outer", "UpperArm", (0.277, 0.025, -0.03)),
    ("elbow inner", "UpperArm", (0.273, -0.03, 0.025)),
    ("forearm", "LowerArm", (0.12, 0.035, 0.01)),
    ("wrist inner", "LowerArm", (0.26, 0.005, 0.037)),
    ("wrist outer", "LowerArm", (0.26, 0.005, -0.035)),
    ("knuckle index", "Hand", (0.088, 0.016, 0.028)),
    ("hand outer", "Hand", (0.058, 0.014, -0.036)),
    ("thigh front", "UpperLeg", (0.015, -0.20, 0.085)),
    ("thigh side", "UpperLeg", (0.085, -0.27, -0.01)),
    ("knee outer", "UpperLeg", (0.06, -0.422, 0.005)),
    ("knee inner", "UpperLeg", (-0.052, -0.425, 0.005)),
    ("shin", "LowerLeg", (0.005, -0.17, 0.06)),
    ("calf", "LowerLeg", (0.055, -0.13, -0.045)),
    ("ankle outer", "LowerLeg", (0.045, -0.415, -0.015)),
    ("ankle inner", "LowerLeg", (-0.042, -0.405, -0.008)),
    ("heel", "Foot", (0.0, -0.045, -0.06)),
    ("foot outer", "Foot", (0.05, -0.055, 0.045)),
    ("toe big", "Toes", (-0.03, 0.005, 0.025)),
    ("toe small", "Toes", (0.035, 0.0, 0.01)),
]


def shipped_chart():
    """The chart *Keeper 57*: 57 markers, asymmetric across the back so that front and side can be told apart. Pairs of
    neighbours at the end of a limb differ in length or slant, and markers on two sides of a joint keep their distance from it,
    so that a marker that fell off does not lend its name to the next.
    """
    rows = list(_MIDDLE)
    for side, sign in (("left", 1.0), ("right", -1.0)):
        for name, bone, (x, y, z) in _LEFT:
            rows.append((f"{name} {side}", bone if bone == "hips" else side + bone, (sign * x, y, z)))
    return Chart("Keeper 57", tuple(r[0] for r in rows), tuple(r[1] for r in rows), np.array([r[2] for r in rows]))
