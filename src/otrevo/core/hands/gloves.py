"""Gloves: bend and spread sensors to finger joints.

Each finger has two bend sensors (first joint; the two outer joints together) and one spread sensor, each reading
offset + gain * angle + noise with unknown gain and offset. Two held hand poses settle them: the flat hand (all zero)
and the fist (angles below); both are found in the warm-up by themselves, as the stretch with the least and the most
bend in which nothing moves. Angles in radians; (T, 2 hands, 5 fingers, 3 sensors), left hand first, thumb first.
"""

import numpy as np
import scipy

from otrevo.core.conventions import quaternion_from_rotvec, quaternion_multiply
from otrevo.core.errors import InputError

FINGERS = ("Thumb", "Index", "Middle", "Ring", "Little")
FIST_RAD = np.radians([[35.0, 40.0, 10.0]] + [[72.0, 72.0, 0.0]] * 4)
SPREAD_GAIN_GUESS = 1.0


def calibrate_gloves(raw, rate_hz):
    """Find each sensor's offset and gain from a flat hand and a fist.

    Parameters
    ----------
    raw : ndarray (T, 2, 5, 3)
        Raw counts, left hand first and thumb first, NaN where lost.
    rate_hz : float
        Samples a second.

    Returns
    -------
    dict
        "offset" and "gain", both (2, 5, 3), and "flat_at_s" and "fist_at_s", seconds of the warm-up.

    Raises
    ------
    InputError
        When there is less than a second of data, or no fist is found.
    """
    if len(raw) < rate_hz or not np.isfinite(raw).any():
        raise InputError("The gloves delivered less than a second of data; a flat hand and a fist are needed.")
    filled = np.where(np.isfinite(raw), raw, np.nanmedian(raw, axis=0))
    window = max(3, int(0.35 * rate_hz))
    smooth = scipy.ndimage.uniform_filter1d(filled, window, axis=0)
    # the flat hand is the T-pose at the start; the fist is where every bend sensor is furthest from it
    flat = np.median(filled[: int(0.8 * rate_hz)], axis=0)
    away = np.abs(smooth - flat)[..., :2]
    span = np.percentile(away, 99.5, axis=0) + 1e-9
    closed = (away / span).mean(axis=(1, 2, 3))
    fist_at = int(np.argmax(closed))
    hold = slice(max(0, fist_at - window // 3), fist_at + window // 3 + 1)
    fist = np.median(filled[hold], axis=0)
    gain = np.ones_like(flat)
    gain[..., :2] = (fist - flat)[..., :2] / FIST_RAD[None, :, :2]
    gain[..., 2] = SPREAD_GAIN_GUESS
    if np.any(np.abs(gain[..., :2]) < 1e-3):
        hand, finger, _ = np.argwhere(np.abs(gain[..., :2]) < 1e-3)[0]
        raise InputError(
            f"{('left', 'right')[hand]} {FINGERS[finger].lower()}: the bend sensor did not change between flat hand and fist."
        )
    return {"offset": flat.tolist(), "gain": gain.tolist(), "flat_at_s": 0.4, "fist_at_s": fist_at / rate_hz}


def finger_angles(raw, calibration):
    """Turn raw counts into joint angles.

    Parameters
    ----------
    raw : ndarray (T, 2, 5, 3)
        Raw counts.
    calibration : dict
        As calibrate_gloves gives it.

    Returns
    -------
    ndarray (T, 2, 5, 3)
        Radians: first joint, outer joints, spread.
    """
    return (raw - np.array(calibration["offset"])) / np.array(calibration["gain"])


def finger_rotations(angles, skeleton):
    """Turn joint angles into local rotations of the finger bones.

    Parameters
    ----------
    angles : ndarray (T, 2, 5, 3)
        Radians, as finger_angles gives them.
    skeleton : Skeleton
        The one whose bones are named.

    Returns
    -------
    dict of str to ndarray (T, 4)
        Quaternions x y z w, local to the parent. Curl is about z and spread about y, mirrored on the right.
    """
    out = {}
    for hand, (side, sign) in enumerate((("left", 1.0), ("right", -1.0))):
        for f, finger in enumerate(FINGERS):
            first, outer, spread = (np.nan_to_num(angles[:, hand, f, k]) for k in range(3))
            zero = np.zeros_like(first)
            if finger == "Thumb":
                out[f"{side}ThumbProximal"] = quaternion_from_rotvec(
                    np.stack([zero, -sign * first, -sign * 0.43 * first], 1)
                )
                out[f"{side}ThumbDistal"] = quaternion_from_rotvec(
                    np.stack([zero, -sign * outer, -sign * 0.37 * outer], 1)
                )
                continue
            curl = quaternion_from_rotvec(np.stack([zero, zero, -sign * first], 1))
            fan = quaternion_from_rotvec(np.stack([zero, sign * spread, zero], 1))
            out[f"{side}{finger}Proximal"] = quaternion_multiply(fan, curl)
            for joint in ("Intermediate", "Distal"):
                out[f"{side}{finger}{joint}"] = quaternion_from_rotvec(np.stack([zero, zero, -sign * outer], 1))
    return {name: q for name, q in out.items() if name in skeleton.names}
