"""How a suit's sensors sit, from a warm-up in which markers show the body: no pose is needed, and takes without markers can follow."""

import numpy as np

from otrevo.core.conventions import quaternion_conjugate, quaternion_from_rotvec, quaternion_multiply
from otrevo.core.inertial.calibration import SuitCalibration, sure_apart
from otrevo.core.inertial.felt import felt
from otrevo.core.inertial.joints import find_links
from otrevo.core.solve.suit import calibrate_suit, yaw_of

SURE_DEG = 0.7  # markers on skin do not tell how a bone lies better than this
ALIKE_S = 1.0  # what is off stays so for about as long
UP = np.array([0.0, 1.0, 0.0])


def calibrate_beside_markers(recording, bone_world):
    """Find how a suit's sensors sit on bones that markers show.

    Parameters
    ----------
    recording : SuitRecording
        Of a warm-up.
    bone_world : ndarray (T, S, 4)
        World rotations of the bones under its sensors at its samples, NaN where markers do not show them.

    Returns
    -------
    SuitCalibration
        Of the sensors that told enough; headings against the stage.

    Raises
    ------
    InputError
        When no sensor told enough.
    """
    rotation, times = recording.rotation, recording.times_s
    zero = float(times.mean())
    drift = np.zeros(len(recording.names))
    for _ in range(2):  # once more with what the headings drifted in the meantime taken off
        steady = quaternion_multiply(
            quaternion_from_rotvec(-np.multiply.outer(times - zero, drift)[..., None] * UP), rotation
        )
        rows = calibrate_suit(steady, bone_world, recording.names)
        heading = np.zeros(len(recording.names))
        for s, name in enumerate(recording.names):
            if name not in rows:
                continue
            mount = np.array(rows[name]["rotation_xyzw"])
            known = np.isfinite(steady[:, s, 0]) & np.isfinite(bone_world[:, s, 0])
            left = quaternion_multiply(
                steady[known, s], quaternion_conjugate(quaternion_multiply(bone_world[known, s], mount))
            )
            slope, heading[s] = np.polyfit(times[known] - zero, np.unwrap(yaw_of(left)), 1)
            drift[s] += slope
    names = [n for n in recording.names if n in rows]
    at = [recording.names.index(n) for n in names]
    residual = np.array([rows[n]["residual_deg"] for n in names])
    seconds = np.isfinite(bone_world[:, at, 0]).sum(axis=0) / recording.rate_hz
    places = {link.joint: (link.above_m, link.below_m) for link in find_links(felt(recording.only(names)))}
    sure = sure_apart(names, np.hypot(SURE_DEG, residual / np.sqrt(np.maximum(seconds / ALIKE_S, 1.0))))
    return SuitCalibration(
        tuple(names), np.array([rows[n]["rotation_xyzw"] for n in names]), heading[at], drift[at], zero, residual, *sure, places,
    )  # fmt: skip
