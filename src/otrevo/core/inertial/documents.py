"""A suit's calibration as part of a `performer/1` document: `suit`, a row for each sensor, and `suit_joints`."""

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.inertial.calibration import SuitCalibration


def suit_to_document(calibration):
    """{"suit": {bone: row}, "suit_joints": {...}} of a SuitCalibration."""

    def numbers(values, digits=6):
        return [round(float(v), digits) for v in values]

    rows = {
        name: {
            "rotation_xyzw": numbers(calibration.mount[s]), "residual_deg": round(float(calibration.residual_deg[s]), 3),
            "sd_deg": round(float(calibration.sd_deg[s]), 3), "heading_rad": round(float(calibration.heading_rad[s]), 6),
            "drift_rad_s": round(float(calibration.drift_rad_s[s]), 9),
        }
        for s, name in enumerate(calibration.names)
    }  # fmt: skip
    places = {j: {"above_m": numbers(a), "below_m": numbers(b)} for j, (a, b) in calibration.places.items()}
    return {
        "suit": rows,
        "suit_joints": {
            "zero_s": calibration.zero_s,
            "places": places,
            "exchanged": [list(p) for p in calibration.exchanged],
        },
    }


def suit_from_document(devices, where="performer"):
    """The SuitCalibration in the devices of a PerformerCalibration. Raises InputError where there is none made from the suit alone."""
    try:
        rows, joints = devices["suit"], devices["suit_joints"]
        names = tuple(rows)
        places = {
            j: (np.array(p["above_m"], dtype=float), np.array(p["below_m"], dtype=float))
            for j, p in joints["places"].items()
        }
        columns = {k: np.array([rows[n][k] for n in names], dtype=float)
                   for k in ("rotation_xyzw", "residual_deg", "sd_deg", "heading_rad", "drift_rad_s")}  # fmt: skip
        zero = float(joints["zero_s"])
        exchanged = tuple((str(a), str(b)) for a, b in joints.get("exchanged", ()))
    except (KeyError, TypeError, ValueError) as error:
        raise InputError(
            f"{where}: {error!s} is missing or malformed; expected a performer that was calibrated with a suit."
        ) from None
    mount = columns["rotation_xyzw"]
    if (
        mount.shape != (len(names), 4)
        or not np.isfinite(mount).all()
        or (np.abs(np.linalg.norm(mount, axis=1) - 1) > 0.01).any()
    ):
        raise InputError(f"{where}: suit: expected a unit rotation for every sensor.")
    return SuitCalibration(
        names,
        mount,
        columns["heading_rad"],
        columns["drift_rad_s"],
        zero,
        columns["residual_deg"],
        columns["sd_deg"],
        places,
        exchanged=exchanged,
    )
