"""Calibrations and blinds as documents: `calibration/1` and `blinds/1` (docs/formats.md)."""

import math

from otrevo.core.errors import InputError
from otrevo.core.optics.blinds import Blind
from otrevo.core.optics.camera import camera_from_document, camera_to_document

WORLDS = ("free", "levelled")


def blinds_to_document(blinds, names):
    return {"otrevo": "blinds/1", "blinds": [b.to_document(names) for b in blinds]}


def blinds_from_rows(rows, names, where):
    """Blinds from the rows of a document. Raises InputError naming the row."""
    if not isinstance(rows, list):
        raise InputError(f"{where}: blinds: expected a list.")
    blinds = []
    for i, row in enumerate(rows):
        place = f"{where}: blinds[{i}]"
        if not isinstance(row, dict) or row.get("camera") not in names:
            raise InputError(f"{place}: expected an object whose camera is one of the rig's.")
        values = [row.get(k) for k in ("x", "y", "radius")]
        if (
            not all(isinstance(v, (int, float)) and not isinstance(v, bool) and math.isfinite(v) for v in values)
            or values[2] <= 0
        ):
            raise InputError(f"{place}: expected x, y and a radius above 0, in pixels.")
        share = row.get("share", 1.0)
        blinds.append(Blind(names.index(row["camera"]), (values[0], values[1]), values[2], share))
    return blinds


def calibration_to_document(cameras, wand_rms_mm, world, blinds, rows=(), rate=None):
    """cameras: solved Cameras; blinds: Blinds numbered over `cameras`; rows: figures by camera, from a SweepCalibration;
    rate: frames per second of the rig, so that nobody has to say it again."""
    by_name = {r["id"]: r for r in rows}
    return {
        "otrevo": "calibration/1",
        "rate": None if rate is None else str(rate),
        "cameras": [
            camera_to_document(
                c, by_name.get(c.name, {}).get("reprojection_rms_px"), by_name.get(c.name, {}).get("samples")
            )
            for c in cameras
        ],
        "wand_rms_mm": wand_rms_mm,
        "world": world,
        "blinds": [b.to_document([c.name for c in cameras]) for b in blinds],
    }


def calibration_from_document(document, where="calibration"):
    """(cameras, blinds) of a calibration/1 document. Raises InputError naming the place in it."""
    rows = document.get("cameras")
    if not isinstance(rows, list) or len(rows) < 2:
        raise InputError(f"{where}: cameras: expected a list of at least two cameras.")
    cameras = []
    for i, row in enumerate(rows):
        if not isinstance(row, dict) or not isinstance(row.get("id"), str) or not row["id"]:
            raise InputError(f"{where}: cameras[{i}]: expected an object with an id.")
        if row["id"] in [c.name for c in cameras]:
            raise InputError(f"{where}: cameras[{i}]: the id '{row['id']}' is used twice.")
        cameras.append(camera_from_document(row, f"{where}: cameras[{i}]"))
    if document.get("world") not in WORLDS:
        raise InputError(f"{where}: world: expected one of {', '.join(WORLDS)}.")
    return tuple(cameras), blinds_from_rows(document.get("blinds", []), [c.name for c in cameras], where)
