"""Body suit: sensor orientations to bone orientations.

A sensor on bone b reads S(t) = H(t) R_b(t) M_b: R_b the bone's world rotation, M_b how the sensor sits on the limb
(fixed for the day), H(t) the suit's heading against the stage's (+Y), different and slowly drifting per sensor.
Calibration: from a warm-up solved optically; for the right heading H the product R_b^T H^T S is the same at all times,
so H is the turn about +Y that makes it spread least, and M_b its mean.
"""

import numpy as np
import scipy

from otrevo.core.conventions import (
    mean_rotation,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
)
from otrevo.core.errors import InputError
from otrevo.core.samples import on_grid

SUIT_BONES = (
    "hips", "chest", "head",
    "leftShoulder", "leftUpperArm", "leftLowerArm", "leftHand", "leftUpperLeg", "leftLowerLeg", "leftFoot",
    "rightShoulder", "rightUpperArm", "rightLowerArm", "rightHand", "rightUpperLeg", "rightLowerLeg", "rightFoot",
)  # fmt: skip
CALIBRATION_FRAMES = 800
LONGEST_LOSS_S = 0.08  # what is lost for longer is not known
UP = np.array([0.0, 1.0, 0.0])


def _mounted(yaw, reading, bone):
    """R_b^T H(yaw)^T S for every frame, (T, 4)."""
    back = quaternion_from_rotvec(np.array([0.0, -yaw, 0.0]))
    return quaternion_multiply(quaternion_conjugate(bone), quaternion_multiply(back, reading))


def _spread(yaw, reading, bone):
    """How far the mounting strays from its mean for a heading: 1 minus the share of the dominant eigenvalue."""
    q = _mounted(yaw, reading, bone)
    return 1.0 - np.linalg.eigvalsh(q.T @ q)[-1] / len(q)


def yaw_of(q):
    """Turn about +Y of each rotation (T, 4): the angle left over by its swing-twist split."""
    return 2 * np.arctan2(q[:, 1], q[:, 3])


def calibrate_suit(sensor, bone_world, names=SUIT_BONES):
    """Find how each sensor sits on its bone.

    Parameters
    ----------
    sensor : ndarray (T, S, 4)
        Rotations that the sensors read, x y z w, NaN where lost.
    bone_world : ndarray (T, S, 4)
        World rotations of their bones at the same times, NaN where markers do not show them.
    names : sequence of str
        The S bones.

    Returns
    -------
    dict
        By bone: "rotation_xyzw" and "residual_deg". Bones whose sensor is absent throughout are left out; half a kit is
        usual.

    Raises
    ------
    InputError
        When no sensor delivered enough.

    References
    ----------
    Mean rotations: F. L. Markley et al., Averaging Quaternions, 2007.
    """
    out = {}
    for s, name in enumerate(names):
        ok = np.isfinite(sensor[:, s, 0]) & np.isfinite(bone_world[:, s, 0])
        if ok.sum() < 100:
            continue
        at = np.flatnonzero(ok)
        at = at[np.linspace(0, len(at) - 1, min(len(at), CALIBRATION_FRAMES)).astype(int)]
        reading, bone = sensor[at, s], bone_world[at, s]
        grid = np.arange(-np.pi, np.pi, np.radians(10))
        coarse = grid[np.argmin([_spread(yaw, reading, bone) for yaw in grid])]
        bounds = (coarse - np.radians(12), coarse + np.radians(12))
        yaw = scipy.optimize.minimize_scalar(_spread, bounds=bounds, args=(reading, bone), method="bounded").x
        rest = _mounted(yaw, reading, bone)
        mount = mean_rotation(rest)
        angle = 2 * np.arccos(np.clip(np.abs(rest @ mount), 0, 1))
        out[name] = {
            "rotation_xyzw": [float(v) for v in mount],
            "residual_deg": float(np.degrees(np.sqrt(np.mean(angle**2)))),
        }
    if not out:
        raise InputError("No suit sensor delivered enough samples in the warm-up to be calibrated.")
    return out


def resample_sensor(own_times, quaternions, at):
    """Resample sensor rotations to other times.

    Parameters
    ----------
    own_times : ndarray (T,)
        Take times of the readings, seconds.
    quaternions : ndarray (T, S, 4)
        NaN where lost.
    at : ndarray (N,)
        The times that are wanted.

    Returns
    -------
    ndarray (N, S, 4)
        NaN in losses of more than LONGEST_LOSS_S, and before the first and after the last packet.
    """
    out, nothing = np.full((len(at), quaternions.shape[1], 4), np.nan), np.empty((len(quaternions), 0))
    for s in range(quaternions.shape[1]):
        known = np.flatnonzero(np.isfinite(quaternions[:, s, 0]))
        if len(known) < 2:
            continue
        out[:, s], _ = on_grid(own_times[known], quaternions[known, s], nothing[known], at, LONGEST_LOSS_S)
    return out
