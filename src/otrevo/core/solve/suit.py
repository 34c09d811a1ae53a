"""Body suit: sensor orientations to bone orientations.

A sensor on bone b reads S(t) = H(t) R_b(t) M_b: R_b the bone's world rotation, M_b how the sensor sits on the limb
(fixed for the day), H(t) the suit's heading against the stage's (+Y), different and slowly drifting per sensor.
Calibration: from a warm-up solved optically; for the right heading H the product R_b^T H^T S is the same at all times,
so H is the turn about +Y that makes it spread least, and M_b its mean. In a take the heading is measured wherever
markers show the bone, and so is what else is off: by both, sensors meet the markers' solution before and after they stand in for it.
"""

import numpy as np
import scipy

from otrevo.core.conventions import (
    make_continuous,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
    slerp,
)
from otrevo.core.errors import InputError
from otrevo.core.solve.suit_faults import find_faults

SUIT_BONES = (
    "hips", "chest", "head",
    "leftShoulder", "leftUpperArm", "leftLowerArm", "leftHand", "leftUpperLeg", "leftLowerLeg", "leftFoot",
    "rightShoulder", "rightUpperArm", "rightLowerArm", "rightHand", "rightUpperLeg", "rightLowerLeg", "rightFoot",
)  # fmt: skip
HEADING_WINDOW_S = 4.0
LASTING_S, SETTLES_S = 0.6, 0.12
CALIBRATION_FRAMES = 800
UP = np.array([0.0, 1.0, 0.0])


def _mean_rotation(q):
    """Mean rotation of quaternions (T, 4) as the dominant eigenvector of their outer products (Markley 2007)."""
    return np.linalg.eigh(q.T @ q)[1][:, -1]


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
        mount = _mean_rotation(rest)
        angle = 2 * np.arccos(np.clip(np.abs(rest @ mount), 0, 1))
        out[name] = {
            "rotation_xyzw": [float(v) for v in mount],
            "residual_deg": float(np.degrees(np.sqrt(np.mean(angle**2)))),
        }
    if not out:
        raise InputError("No suit sensor delivered enough samples in the warm-up to be calibrated.")
    return out


def suit_to_world(sensor, calibration, bone_world, measured, rate_hz, names=SUIT_BONES):
    """Turn sensor readings into world rotations of the bones, aligned with the markers wherever these show a bone.

    Parameters
    ----------
    sensor : ndarray (T, S, 4)
        Rotations that the sensors read, NaN where lost.
    calibration : dict
        As calibrate_suit gives it.
    bone_world : ndarray (T, S, 4)
        The optical solution, from which headings come.
    measured : ndarray (T, S) of bool
        Where markers show the bone.
    rate_hz : float
        Frames a second.
    names : sequence of str
        The S bones.

    Returns
    -------
    tuple of dict of str to ndarray (T, 4), and list of SensorFault
        World rotations by bone, NaN where the sensor was lost, and the SensorFaults that were found. Where a bone goes out of sight and comes back they meet the optical
        solution; in between goes what the sensor said, and what it was off at both ends, eased from one to the other.
    """
    out, faults = {}, []
    for s, name in enumerate(names):
        if name not in calibration:
            continue
        mount = np.array(calibration[name]["rotation_xyzw"])
        unmounted = quaternion_multiply(sensor[:, s], quaternion_conjugate(mount))
        ok = measured[:, s] & np.isfinite(unmounted[:, 0])
        if ok.sum() < 10:
            continue
        at = np.flatnonzero(ok)
        yaw = np.unwrap(yaw_of(quaternion_multiply(unmounted[at], quaternion_conjugate(bone_world[at, s]))))
        steady = np.polyval(np.polyfit(at, yaw, 1), at)
        faults += find_faults(name, at, yaw, _off(unmounted[at], steady, bone_world[at, s]), len(sensor), rate_hz)
        window = max(3, int(min(HEADING_WINDOW_S * rate_hz, len(yaw))) | 1)
        yaw = np.interp(np.arange(len(sensor)), at, scipy.ndimage.uniform_filter1d(yaw, window, mode="nearest"))
        off = _off(unmounted[at], yaw[at], bone_world[at, s])
        rotation = quaternion_multiply(quaternion_from_rotvec(-yaw[:, None] * UP), unmounted)
        out[name] = quaternion_multiply(rotation, quaternion_from_rotvec(_carried(off, at, len(sensor), rate_hz)))
    return out, faults


def _off(unmounted, yaw, bone):
    """What sensors (K, 4), their headings (K,) taken off, are off their bones (K, 4): rotation vectors (K, 3) in the sensors' axes."""
    rotation = quaternion_multiply(quaternion_from_rotvec(-yaw[:, None] * UP), unmounted)
    return rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(rotation), bone))


def _carried(off, at, count, rate_hz):
    """What a sensor is off (K, 3), radians, known at frames `at` (K,), for every frame (count, 3).

    Lasting errors, as of skin that has slipped, go on from either end of a gap to the other. What it was off at the very end goes within
    SETTLES_S, as skin that swings does.
    """
    window = max(3, int(LASTING_S * rate_hz) | 1)
    apart = np.flatnonzero(np.diff(at) > window / 2) + 1  # either side of a long gap speaks for itself
    lasting = np.concatenate(
        [scipy.ndimage.uniform_filter1d(run, window, axis=0, mode="nearest") for run in np.split(off, apart)]
    )
    frames = np.arange(count)
    slow = np.stack([np.interp(frames, at, lasting[:, k]) for k in range(3)], axis=1)
    after = np.clip(np.searchsorted(at, frames), 0, len(at) - 1)
    before = np.clip(np.searchsorted(at, frames, "right") - 1, 0, len(at) - 1)
    here = at[before] == frames
    fades = [np.exp(-np.abs(frames - at[end]) / (SETTLES_S * rate_hz))[:, None] for end in (before, after)]
    rest = [(off - lasting)[end] for end in (before, after)]
    quick = np.where(here[:, None], rest[0], fades[0] * rest[0] + fades[1] * rest[1])
    return slow + quick


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
        NaN where the nearest packet was lost, and before the first and after the last one.
    """
    filled = quaternions.copy()
    lost = ~np.isfinite(filled[..., 0])
    for s in range(filled.shape[1]):  # hold the last packet inside short losses so that slerp has both ends
        good = np.flatnonzero(~lost[:, s])
        if len(good) == 0:
            filled[:, s] = [0, 0, 0, 1]
            continue
        filled[:, s] = filled[good[np.clip(np.searchsorted(good, np.arange(len(filled)), "right") - 1, 0, None)], s]
    out = slerp(own_times, make_continuous(filled), at)
    nearest = np.clip(np.searchsorted(own_times, at), 0, len(own_times) - 1)
    out[lost[nearest] | ((at < own_times[0]) | (at > own_times[-1]))[:, None]] = np.nan
    return out
