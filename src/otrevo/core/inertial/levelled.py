"""Take the tilts out of a suit's filters.

Filters lean on the specific force of the moment, so whatever moves to and fro tilts them by degrees, and whoever turns or stops quickly.

Of a suit alone nobody knows how the body goes. Over some seconds a limb is accelerated by little more than the body that it belongs to: what
one sensor feels aside and the others do not is its tilt. What all of them feel is the body's way as well, and is only believed over a longer time.

Beside markers it is known how the body goes, and limbs are no longer than they are: over a second, whatever else a sensor feels aside is its tilt.
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy

from otrevo.core.conventions import quaternion_from_rotvec, quaternion_multiply, quaternion_rotate
from otrevo.core.inertial.joints import heading_matrix
from otrevo.core.inertial.recording import GRAVITY_MS2

OWN_S, COMMON_S = 3.0, 15.0  # over which what one sensor feels and what all of them feel is averaged, one sigma
BESIDE_MARKERS_S = 0.8  # the same where markers tell how the body goes
STEP_S = 0.1


@dataclass(frozen=True)
class Felt:
    """What S sensors of a suit feel beside markers, in K steps. frame (K,): the middles of steps; force_ms2 (K, S, 3): mean specific force in
    the filters' worlds, NaN where nothing was heard; joint_m (K, S, 3): where markers show the joints of their bones; rest_m, seat_m (S, 3): the
    joints in the T-pose, and from them to the sensors; step_s: how long a step is.
    """

    frame: np.ndarray
    force_ms2: np.ndarray
    joint_m: np.ndarray
    rest_m: np.ndarray
    seat_m: np.ndarray
    step_s: float


def felt_in_steps(own_s, samples, times_s, rate_hz, joint_m, rest_m, seat_m):
    """The Felt of sensors' samples (N, S, 7) at take times own_s (N,), beside joints (T, S, 3) at times_s (T,), rate_hz of them a second; rest_m and
    seat_m (S, 3) as there.
    """
    step = _step(rate_hz)
    first = np.arange(0, len(times_s), step)
    edges = np.searchsorted(own_s, np.r_[times_s[first], times_s[-1] + 1 / rate_hz])
    force = _means(quaternion_rotate(samples[..., :4], samples[..., 4:]), edges)
    middle = np.minimum(first + step // 2, len(times_s) - 1)
    return Felt(middle, force, joint_m[middle], rest_m, seat_m, step / rate_hz)


def levelled(recording, headings):
    """A SuitRecording with the tilt of every sensor's filter taken out of its rotations; headings: its Headings, of the same sensors.

    What the sensors feel in their filters' worlds is another matter: the hips' own way is part of it.
    """
    step = _step(recording.rate_hz)
    first = np.arange(0, len(recording), step)
    middle = first + (np.diff(np.r_[first, len(recording)]) - 1) / 2
    force = _means(quaternion_rotate(recording.rotation, recording.force_ms2), np.r_[first, len(recording)])
    known = np.isfinite(force[..., 0])
    to_common = heading_matrix(-headings.at(recording.start_s + middle / recording.rate_hz))
    aside = np.einsum("ksij,ksj->ksi", to_common, force)[..., [0, 2]]
    common, some = np.zeros((len(aside), 1, 2)), known.any(axis=1)
    common[some, 0] = np.nanmedian(aside[some], axis=1)
    own = np.nan_to_num(aside - common)
    weight = known.astype(float)[..., None]
    each_s = step / recording.rate_hz
    own, common = _mean_about(own, weight, OWN_S / each_s), _mean_about(common, some[:, None, None], COMMON_S / each_s)
    tilt = np.einsum("ksji,ksj->ksi", to_common, _tilt(own + common))
    tilt = at_frames(tilt, middle, np.arange(len(recording)))
    return replace(recording, rotation=quaternion_multiply(quaternion_from_rotvec(tilt), recording.rotation))


def tilt_beside_markers(force_ms2, heading_rad, place_m, step_s):
    """How far a filter leans, by what its sensor feels and where that goes.

    Parameters
    ----------
    force_ms2 : ndarray (K, 3)
        Mean specific force in steps, in the filter's world, NaN where nothing was heard.
    heading_rad : ndarray (K,)
        Of the filter against the stage.
    place_m : ndarray (K, 3)
        Of the sensor on the stage, about, NaN where nothing shows where the body is.
    step_s : float
        How long a step is.

    Returns
    -------
    ndarray (K, 3)
        Rotation vectors on the stage that set the filter's world upright; 0 where nothing tells.
    """
    way = np.full(place_m.shape, np.nan)
    way[1:-1] = (place_m[2:] - 2 * place_m[1:-1] + place_m[:-2]) / step_s**2
    x, z = force_ms2[:, 0], force_ms2[:, 2]
    cosine, sine = np.cos(heading_rad), np.sin(heading_rad)
    aside = np.stack([cosine * x - sine * z, sine * x + cosine * z], axis=1) - way[:, [0, 2]]
    known = np.isfinite(aside[:, :1])
    return _tilt(_mean_about(np.nan_to_num(aside), known, BESIDE_MARKERS_S / step_s))


def _means(values, edges):
    """Means (K, S, 3) of values (N, S, 3), NaN where not known, from each of the edges (K + 1,) to the next; NaN where nothing is."""
    values = values[: edges[-1]]
    if not len(values):
        return np.full((len(edges) - 1, *values.shape[1:]), np.nan)
    known, first = np.isfinite(values[..., :1]), np.minimum(edges[:-1], len(values) - 1)
    total, count = (np.add.reduceat(v, first, axis=0) for v in (np.where(known, values, 0.0), known.astype(float)))
    count[edges[:-1] == edges[1:]] = 0.0
    return np.where(count > 0, total / np.maximum(count, 1.0), np.nan)


def _step(rate_hz):
    return max(1, round(STEP_S * rate_hz))


def _tilt(aside_ms2):
    """The rotation vectors (..., 3) that set upright what feels gravity aside (..., 2), along X and Z."""
    x, z = aside_ms2[..., 0] / GRAVITY_MS2, aside_ms2[..., 1] / GRAVITY_MS2
    return np.stack([-z, np.zeros(x.shape), x], axis=-1)


def at_frames(values, middle, frames):
    """Values (K, ...) at the middles of steps (K,), frames, at other frames (N,): (N, ...)."""
    if len(middle) == 1:
        return np.repeat(values, len(frames), axis=0)
    frames = np.clip(frames, middle[0], middle[-1])
    after = np.clip(np.searchsorted(middle, frames), 1, len(middle) - 1)
    share = ((frames - middle[after - 1]) / (middle[after] - middle[after - 1])).reshape(-1, *[1] * (values.ndim - 1))
    return (1 - share) * values[after - 1] + share * values[after]


def _mean_about(values, weight, over):
    """Means of values (K, ...) about every step, weighted by how many steps away they are (one sigma: over) and by weight (K, ...)."""
    total, whole = (
        scipy.ndimage.gaussian_filter1d(v, over, axis=0, mode="constant")
        for v in (values * weight, weight.astype(float))
    )
    return total / np.maximum(whole, 1e-9)
