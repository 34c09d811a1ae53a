"""A suit's calibration as part of a `performer/1` document: `suit`, a row for each sensor.

`rotation_xyzw`: from the sensor's to the bone's axes; `residual_deg`; `sd_deg` and, about each of the
bone's axes, `axes_sd_deg`, and `joint_sd_deg` against the sensor of the bone above; `heading_rad` of its filter at `at_s` of the device's
clock and `drift_rad_s`; `t_pose_xyzw`: the bone's rotation in the T-pose as it was held; `joints_m`: where joints lie as seen from the
sensor; `exchanged_with`: the sensor that was worn in its place; `clock_ppm`: by how much the suit's clock ran fast of the cameras' and
one sigma of it, where their recordings told.
"""

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.inertial.calibration import SuitCalibration, sure_apart
from otrevo.core.inertial.exchanged import pairs_of, worn_as
from otrevo.core.inertial.joints import links_of


def suit_to_document(calibration):
    """{bone: row} of a SuitCalibration."""

    def numbers(values, digits=6):
        return [round(float(v), digits) for v in values]

    rows = {
        name: {
            "rotation_xyzw": numbers(calibration.mount[s]), "residual_deg": round(float(calibration.residual_deg[s]), 3),
            "sd_deg": round(float(calibration.sd_deg[s]), 3), "axes_sd_deg": numbers(calibration.seat_sd_deg[s], 3),
            "joint_sd_deg": numbers(calibration.joint_sd_deg[s], 3),
            "heading_rad": round(float(calibration.heading_rad[s]), 6),
            "drift_rad_s": round(float(calibration.drift_rad_s[s]), 9), "at_s": calibration.zero_s, "joints_m": {},
        }
        for s, name in enumerate(calibration.names)
    }  # fmt: skip
    for name, held in zip(calibration.names, () if calibration.t_pose is None else calibration.t_pose, strict=False):
        if np.isfinite(held).all():
            rows[name]["t_pose_xyzw"] = numbers(held)
    for above, below, joint, places in calibration.places_of(calibration.names):
        for bone, place in zip((above, below), places, strict=True):
            rows[bone]["joints_m"][joint] = numbers(place)
    for bone, said in worn_as(calibration.exchanged).items():
        rows[bone]["exchanged_with"] = said
    return rows


def clock_of(rows, where="performer"):
    """`clock_ppm` of a suit's rows, two floats, or None where they have none. Raises InputError."""
    said = next((row["clock_ppm"] for row in rows.values() if "clock_ppm" in row), None)
    if said is None:
        return None
    try:
        drift, sd = (float(v) for v in said)
    except (TypeError, ValueError):
        drift = sd = np.nan
    if not (np.isfinite(drift) and np.isfinite(sd) and sd >= 0):
        raise InputError(f"{where}: suit: clock_ppm is {said!r}; expected a drift and one sigma of it, both in ppm.")
    return drift, sd


def exchanged_of(rows, where="performer"):
    """[(sensor, sensor)] that are worn in each other's place, by a suit's rows. Raises InputError where rows contradict each other."""
    try:
        return pairs_of({n: str(row["exchanged_with"]) for n, row in rows.items() if "exchanged_with" in row})
    except ValueError as error:
        raise InputError(
            f"{where}: suit: {error}; expected whoever sits in another sensor's place to have one in theirs."
        ) from None


def suit_from_document(devices, where="performer"):
    """The SuitCalibration in the devices of a PerformerCalibration. Raises InputError where there is none."""
    try:
        rows = devices["suit"]
        names = tuple(rows)
        columns = {k: np.array([rows[n][k] for n in names], dtype=float)
                   for k in ("rotation_xyzw", "residual_deg", "sd_deg", "heading_rad", "drift_rad_s")}  # fmt: skip
        told = all("axes_sd_deg" in rows[n] for n in names)  # calibrations of before say one number for all axes
        axes, joint = (
            (
                np.array([rows[n][key] for n in names], dtype=float).reshape(-1, 3)
                for key in ("axes_sd_deg", "joint_sd_deg")
            )
            if told
            else sure_apart(names, columns["sd_deg"])
        )
        held = [rows[n].get("t_pose_xyzw", np.full(4, np.nan)) for n in names]
        held = np.array(held, dtype=float).reshape(-1, 4) if any("t_pose_xyzw" in rows[n] for n in names) else None
        joints = {n: {j: np.array(v, dtype=float) for j, v in rows[n]["joints_m"].items()} for n in names}
        zero = float(rows[names[0]]["at_s"]) if names else 0.0
    except (KeyError, TypeError, ValueError) as error:
        raise InputError(
            f"{where}: {error!s} is missing or malformed; expected a performer that was calibrated with a suit."
        ) from None
    mount = columns["rotation_xyzw"]
    known = np.empty((0, 4)) if held is None else held[~np.isnan(held).all(axis=1)]
    if mount.shape != (len(names), 4) or not all(
        (np.abs(np.linalg.norm(q, axis=1) - 1) < 0.01).all() for q in (mount, known)
    ):
        raise InputError(f"{where}: suit: expected a unit rotation for every sensor.")
    if any(v.shape != (len(names), 3) or not (np.isfinite(v) & (v >= 0)).all() for v in (axes, joint)):
        raise InputError(
            f"{where}: suit: expected how sure every seat is as three numbers that are not negative, in degrees."
        )
    places = {j: (joints[a][j], joints[b][j]) for a, b, j in links_of(names) if j in joints[a] and j in joints[b]}
    if any(p.shape != (3,) or not np.isfinite(p).all() for both in places.values() for p in both):
        raise InputError(f"{where}: suit: expected three finite numbers in metres for every joint.")
    return SuitCalibration(
        names,
        mount,
        columns["heading_rad"],
        columns["drift_rad_s"],
        zero,
        columns["residual_deg"],
        axes,
        joint,
        places,
        exchanged=tuple(exchanged_of(rows, where)),
        t_pose=held,
    )
