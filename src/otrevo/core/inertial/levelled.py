"""Take the tilts out of a suit's filters.

Filters lean on the specific force of the moment, so whatever moves to and fro tilts them by degrees. Over some seconds a limb is accelerated by
little more than the body that it belongs to: what one sensor feels aside and the others do not is its tilt. What all of them feel is the body's
way as well, and is only believed over a longer time.
"""

from dataclasses import replace

import numpy as np
import scipy

from otrevo.core.conventions import quaternion_from_rotvec, quaternion_multiply, quaternion_rotate
from otrevo.core.inertial.joints import heading_matrix
from otrevo.core.inertial.recording import GRAVITY_MS2

OWN_S, COMMON_S = 3.0, 15.0  # over which what one sensor feels and what all of them feel is averaged, one sigma
STEP_S = 0.1


def levelled(recording, headings):
    """A SuitRecording with the tilt of every sensor's filter taken out of its rotations; headings: its Headings, of the same sensors.

    What the sensors feel in their filters' worlds is another matter: the hips' own way is part of it.
    """
    step = max(1, round(STEP_S * recording.rate_hz))
    first = np.arange(0, len(recording), step)
    middle = first + (np.diff(np.r_[first, len(recording)]) - 1) / 2
    force = quaternion_rotate(recording.rotation, recording.force_ms2)
    known = np.isfinite(force[..., 0])
    force = np.add.reduceat(np.where(known[..., None], force, 0.0), first, axis=0)
    known = np.add.reduceat(known.astype(float), first, axis=0)
    force /= np.maximum(known, 1.0)[..., None]
    to_common = heading_matrix(-headings.at(recording.start_s + middle / recording.rate_hz))
    aside = np.einsum("ksij,ksj->ksi", to_common, force)[..., [0, 2]]
    aside[known == 0] = np.nan
    common, some = np.zeros((len(aside), 1, 2)), known.any(axis=1)
    common[some, 0] = np.nanmedian(aside[some], axis=1)
    own = np.nan_to_num(aside - common)
    weight = (known > 0).astype(float)[..., None]
    each_s = step / recording.rate_hz
    own, common = _mean_about(own, weight, OWN_S / each_s), _mean_about(common, some[:, None, None], COMMON_S / each_s)
    aside = (own + common) / GRAVITY_MS2
    tilt = np.stack([-aside[..., 1], np.zeros(aside.shape[:2]), aside[..., 0]], axis=2)
    tilt = np.einsum("ksji,ksj->ksi", to_common, tilt)
    frames = np.clip(np.arange(len(recording)), middle[0], middle[-1])
    after = np.clip(np.searchsorted(middle, frames), 1, len(middle) - 1)
    share = ((frames - middle[after - 1]) / (middle[after] - middle[after - 1]))[:, None, None]
    tilt = (1 - share) * tilt[after - 1] + share * tilt[after]
    return replace(recording, rotation=quaternion_multiply(quaternion_from_rotvec(tilt), recording.rotation))


def _mean_about(values, weight, over):
    """Means of values (K, ...) about every step, weighted by how many steps away they are (one sigma: over) and by weight (K, ...)."""
    total, whole = (
        scipy.ndimage.gaussian_filter1d(v, over, axis=0, mode="constant")
        for v in (values * weight, weight.astype(float))
    )
    return total / np.maximum(whole, 1e-9)
