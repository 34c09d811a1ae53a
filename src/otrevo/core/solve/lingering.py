"""What markers pulled at a limb, for a while after it went out of sight and before it is seen again.

Markers of a limb and markers of the trunk never agree wholly on where a hip or a shoulder is: skin lies differently, and a
calibration is off by millimetres. While both are seen the solve settles between them. When a limb goes, its share would be gone from
one frame to the next, and the body would leap. So its pull lingers, as a force and a moment in the axes of each bone that a sensor leads
meanwhile, and fades. Where the pull was in balance, no joint moves as markers go.
"""

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.conventions import find_runs, quaternion_conjugate, quaternion_rotate

FADES_S = 0.2
TOLD_S = 0.04  # beside a gap, over which a pull is averaged
SETTLES_FRAMES = 2  # after a limb has come back
SETTLED_M = 0.015  # markers further off, RMS, do not tell of a limb yet
MOST_PER_M = 400.0  # of all pulls together: sensors hold a leg against it to within a few degrees
MOST_M = 0.002  # by which they may move what is still seen of the body: of nothing, they move nothing


def lingering_pulls(model, labelled_m, weight, scale_m, motion, led, rate_hz):
    """How markers pull at bones that sensors lead, near the frames in which these markers are seen.

    Parameters
    ----------
    model : BodyModel
        Of B bones and M markers.
    labelled_m : ndarray (T, M, 3)
        Metres, NaN where hidden.
    weight : ndarray (T, M)
        1 / variance of the markers, 1/m^2.
    scale_m : float
        Of the Geman-McClure weights.
    motion : Motion
        As solved by markers alone, or before.
    led : ndarray (T, B) of bool
        Where a sensor leads a bone in place of its markers.
    rate_hz : float
        Frames a second.

    Returns
    -------
    ndarray (T, B, 6)
        Force, 1/m, and moment about the bone's joint, in the bone's axes.
    """
    index = [motion.skeleton.index(b) for b in model.skeleton.names]
    joint, world = (values[:, index] for values in motion_joints(motion))
    carrier, out = _carriers(model, led.any(axis=0)), np.zeros((*led.shape, 6))
    told = max(1, round(TOLD_S * rate_hz))

    def pulled(bone, mine, gone, frames):
        """(R, 6) the mean pull at a bone of its markers, those of each row that are gone (R, K), over the frames of a row (R, F) in which it is settled."""
        within = (frames >= 0) & (frames < len(led))
        frames = np.clip(frames, 0, len(led) - 1)
        at, own = frames[..., None], model.marker_bone[mine]
        place = joint[at, own] + quaternion_rotate(world[at, own], model.marker_offset_m[mine])
        off = labelled_m[at, mine] - place
        seen = np.isfinite(off[..., 0]) & gone[:, None]
        off = np.where(seen[..., None], off, 0.0)
        square = np.einsum("rfki,rfki->rfk", off, off)
        settled = square.sum(axis=2) < SETTLED_M**2 * seen.sum(axis=2)
        counted = (within & settled & ~led[frames, bone])[..., None]
        share = counted / np.maximum(1, counted.sum(axis=1, keepdims=True))
        force = (share * weight[at, mine] / (1 + square / scale_m**2) ** 2)[..., None] * off
        inverse = quaternion_conjugate(world[frames, bone])[:, :, None]
        force, arm = (
            quaternion_rotate(inverse, force),
            quaternion_rotate(inverse, place - joint[frames, bone][:, :, None]),
        )
        return np.concatenate([force, np.cross(arm, force)], axis=3).sum(axis=(1, 2))

    for bone in np.unique(carrier):
        mine, runs = np.flatnonzero(carrier[model.marker_bone] == bone), find_runs(led[:, bone])
        if not (len(mine) and len(runs)):
            continue
        hidden = np.isnan(labelled_m[:, mine, 0])
        # markers that are still seen pull by themselves
        gone = np.array([hidden[start:end].mean(axis=0) > 0.5 for start, end in runs])
        before = pulled(bone, mine, gone, runs[:, :1] - 1 - np.arange(told))
        after = pulled(bone, mine, gone, runs[:, 1:] + SETTLES_FRAMES + np.arange(told))
        for (start, end), first, last in zip(runs, before, after, strict=True):
            fade = np.exp(-np.arange(1, end - start + 1) / (FADES_S * rate_hz))[:, None]
            out[start:end, bone] = fade * first + fade[::-1] * last
    frames = np.flatnonzero(led.any(axis=1))
    together = quaternion_rotate(world[frames], out[frames, :, :3]).sum(axis=1)
    held = np.where(np.isfinite(labelled_m[frames, :, 0]), weight[frames], 0.0).sum(axis=1)
    most = np.minimum(MOST_PER_M, MOST_M * held)
    out[frames] *= np.minimum(1.0, most / np.maximum(np.linalg.norm(together, axis=1), 1e-9))[:, None, None]
    return out


def _carriers(model, ever):
    """(B,) for each bone, the nearest that a sensor ever (B,) leads, itself or above; toes go with their foot."""
    out = np.arange(len(ever))
    for b, parent in enumerate(model.skeleton.parents):
        if parent >= 0 and not ever[b]:
            out[b] = out[parent]
    return out
