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

    def pulled(bone, mine, frames):
        """(6,) the mean pull of markers at a bone in those of the frames in which it is settled."""
        frames = frames[(frames >= 0) & (frames < len(led))]
        frames = frames[~led[frames, bone]]
        own = model.marker_bone[mine]
        place = joint[frames][:, own] + quaternion_rotate(world[frames][:, own], model.marker_offset_m[mine])
        off = labelled_m[frames][:, mine] - place
        seen, off = np.isfinite(off[..., 0]), np.nan_to_num(off)
        square = (off**2).sum(axis=2)
        settled = square.sum(axis=1) < SETTLED_M**2 * seen.sum(axis=1)
        if not settled.any():
            return np.zeros(6)
        force = (weight[frames][:, mine] / (1 + square / scale_m**2) ** 2)[..., None] * off
        inverse = quaternion_conjugate(world[frames, bone])[:, None]
        force, arm = (quaternion_rotate(inverse, v)[settled] for v in (force, place - joint[frames, bone][:, None]))
        return np.concatenate([force, np.cross(arm, force)], axis=2).sum(axis=1).mean(axis=0)

    for bone in np.unique(carrier):
        mine = np.flatnonzero(carrier[model.marker_bone] == bone)
        for start, end in find_runs(led[:, bone]):
            gone = mine[np.isnan(labelled_m[start:end, mine, 0]).mean(axis=0) > 0.5]  # the others pull themselves
            before = pulled(bone, gone, np.arange(start - told, start))
            after = pulled(bone, gone, end + SETTLES_FRAMES + np.arange(told))
            fade = np.exp(-np.arange(1, end - start + 1) / (FADES_S * rate_hz))[:, None]
            out[start:end, bone] = fade * before + fade[::-1] * after
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
