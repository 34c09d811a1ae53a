"""The performer's calibration: their own skeleton, where their markers sit on it, and what each device they wear needs."""

from dataclasses import dataclass, field

import numpy as np

from otrevo.core.body.model import body_model
from otrevo.core.body.skeleton import BONE_INDEX, BONE_NAMES, Skeleton, generic_skeleton
from otrevo.core.errors import InputError

_OWN = ("otrevo", "height_m", "chart", "bones", "markers", "figures")  # the rest of a document is about devices


@dataclass(frozen=True)
class PerformerCalibration:
    """height_m; skeleton with fingers (52 bones); markers with bone and offset (M, 3) m in T-pose axes; figures of the
    warm-up; devices: by a device's id, what its `calibrate` gave (core.devices).
    """

    height_m: float
    skeleton: Skeleton
    chart_name: str
    marker_names: tuple[str, ...]
    marker_bones: tuple[str, ...]
    marker_offset_m: np.ndarray
    figures: dict = field(default_factory=dict)
    devices: dict = field(default_factory=dict)

    def model(self):
        """What the label and solve passes work with."""
        return body_model(self.skeleton, self.marker_names, self.marker_bones, self.marker_offset_m)

    def to_document(self):
        def numbers(values):
            return [round(float(v), 6) for v in values]

        return {
            "otrevo": "performer/1",
            "height_m": self.height_m,
            "chart": self.chart_name,
            "bones": [
                {"name": n, "offset_m": numbers(o)}
                for n, o in zip(self.skeleton.names, self.skeleton.rest_offset_m, strict=True)
            ],
            "markers": [
                {"name": n, "bone": b, "offset_m": numbers(o)}
                for n, b, o in zip(self.marker_names, self.marker_bones, self.marker_offset_m, strict=True)
            ],
            "figures": self.figures,
        } | self.devices


def performer_from_document(document, where="performer"):
    """A checked PerformerCalibration from a `performer/1` document. Raises InputError."""
    try:
        bones = {row["name"]: np.array(row["offset_m"], dtype=float) for row in document["bones"]}
        offsets = np.array([bones[n] for n in BONE_NAMES])
        markers = document["markers"]
        positions = np.array([row["offset_m"] for row in markers], dtype=float).reshape(-1, 3)
        names = tuple(row["name"] for row in markers)
        rides = tuple(row["bone"] for row in markers)
        height = float(document["height_m"])
    except (KeyError, TypeError, ValueError) as error:
        raise InputError(
            f"{where}: {error!s} is missing or malformed; expected a performer/1 document with height_m, "
            f"{len(BONE_NAMES)} bones and markers."
        ) from None
    if offsets.shape != (len(BONE_NAMES), 3) or not (np.isfinite(offsets).all() and np.isfinite(positions).all()):
        raise InputError(f"{where}: offsets must be three finite numbers in metres for each bone and marker.")
    for i, bone in enumerate(rides):
        if bone not in BONE_INDEX:
            raise InputError(f"{where}: markers[{i}] rides on '{bone}', which is not a bone.")
    return PerformerCalibration(
        height,
        generic_skeleton().with_offsets(offsets),
        str(document.get("chart", "")),
        names,
        rides,
        positions,
        document.get("figures", {}),
        {name: value for name, value in document.items() if name not in _OWN and isinstance(value, dict) and value},
    )
