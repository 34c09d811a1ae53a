"""Face tracks: 52 named shapes, a performer's neutral and ranges, values 0..1."""

import numpy as np

from otrevo.core.errors import InputError

_PAIRED = (
    "browDown", "browOuterUp", "cheekSquint", "eyeBlink", "eyeLookDown", "eyeLookIn", "eyeLookOut", "eyeLookUp",
    "eyeSquint", "eyeWide", "jawSide", "mouthDimple", "mouthFrown", "mouthLowerDown", "mouthPress", "mouthSide",
    "mouthSmile", "mouthStretch", "mouthUpperUp", "noseSneer",
)  # fmt: skip
_SINGLE = (
    "browInnerUp", "cheekPuff", "jawForward", "jawOpen", "mouthClose", "mouthFunnel", "mouthPucker", "mouthRollLower",
    "mouthRollUpper", "mouthShrugLower", "mouthShrugUpper", "tongueOut",
)  # fmt: skip


def _name(stem, side):
    return stem.replace("Side", "") + side if stem.endswith("Side") else stem + side


FACE_SHAPES = tuple(sorted([*_SINGLE, *(_name(s, side) for s in _PAIRED for side in ("Left", "Right"))]))
LEAST_RANGE = 0.12


def calibrate_face(raw):
    """Find the neutral face and the reach of every shape from a warm-up.

    Parameters
    ----------
    raw : ndarray (T, 52)
        Shape values as the camera gives them, NaN where it lost the face.

    Returns
    -------
    dict
        "neutral" (52,), "range" (52,), and "weak", the names of shapes that hardly moved.

    Notes
    -----
    Neutral is the lower quartile, because faces are at rest most of the time. The range reaches to the 99th percentile.
    A shape that was hardly shown keeps a range of 1 and is named as weak; stretching it would only show noise.
    """
    seen = np.isfinite(raw).all(axis=1)
    if seen.sum() < 60:
        raise InputError(f"The face camera saw the face in {int(seen.sum())} frames; at least 60 are needed.")
    neutral = np.percentile(raw[seen], 25, axis=0)
    span = np.percentile(raw[seen], 99, axis=0) - neutral
    weak = span < LEAST_RANGE
    span = np.where(weak, 1.0, span)
    return {
        "neutral": neutral.tolist(),
        "range": span.tolist(),
        "weak": [n for n, w in zip(FACE_SHAPES, weak, strict=True) if w],
    }


def face_values(raw, calibration):
    """Turn raw shape values into calibrated ones.

    Parameters
    ----------
    raw : ndarray (T, 52)
        Values as the camera gives them, NaN where it lost the face.
    calibration : dict
        As calibrate_face gives it.

    Returns
    -------
    ndarray (T, 52)
        Values from 0 to 1, NaN where the face was lost.
    """
    return np.clip((raw - np.array(calibration["neutral"])) / np.array(calibration["range"]), 0.0, 1.0)
