"""How sure the solve is of every joint, over time.

Unknowns of a frame are those of core.body.tree_solver: the root's translation and, for every bone a, a small rotation
w_a about world axes through its joint p_a. With J the derivatives of what is measured, W its weights and P the prior,

    H = J^T W J + P,     Cov = H^-1,     C_j = D_j Cov D_j^T,     D_j = d p_j / d unknowns,

the usual propagation of variance through least squares at its minimum. What is said of a joint is one number: half the
distance within which it is 95 times in 100. A joint that may be off along one line only is within two standard deviations
of it as often; one that may be off in all directions alike is within two of three axes together in 99 of 100, and that
would be too careful. The distance is that of a chi-square of as many degrees of freedom as C_j has directions,
trace(C)^2 / trace(C^2), between 1 and 3 (F. E. Satterthwaite, An approximate distribution of estimates of variance
components, 1946). How far markers are off is measured in the take: by what the fit leaves of them within a second (the
variance of unit weight), and by what a calibration does not know: SEAT_M of a marker, JOINT_M of a joint. Markers weigh by
skin and triangulation, and by the Geman-McClure factor of their residual; a suit sensor counts where it leads. The prior of a bone is its stiffness.
Where its joints are not held by what is seen in that frame, time helps: the motion is bridged from the frames before and
after in which they are. Between two ends at which angle and speed are known, T seconds apart, an angle driven by white
acceleration of density q strays by

    var(s) = q / 3 * (s (T - s) / T)^3

after s seconds (the bridge of an integrated Wiener process). q is measured for every bone in the same take, from its
second differences over LAG_S: var(second difference) = 2/3 q lag^3. At open ends var(s) = q s^3 / 3. However long it is
hidden, a bone strays no further than it does at all in the take: the variance of its rotation, twice (between two
moments that know nothing of each other), bounds the above. The place of a body that no marker shows is bridged in the same way, q
being that of its path, or, where a sensor carries it (core.solve.carried_root), of what is felt wrongly.
"""

from dataclasses import dataclass

import numpy as np
import scipy

from otrevo.core.body.kinematics import forward_kinematics
from otrevo.core.conventions import (  # fmt: skip
    find_runs,
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.solve.body import measured_bones
from otrevo.core.solve.carried_root import out_of_sight
from otrevo.core.solve.frames import MARKER_SIGMA_M
from otrevo.core.solve.joint_variances import Frames, joint_variances, moved_joints

SAMPLE_S = 0.1
FIRM_M = 0.010  # a bone whose joints are known to within this needs no help from the frames around it
LAG_S = 0.2
SEAT_M, JOINT_M = 0.004, 0.0018  # how far a marker and a joint may be from where the calibration has them, each axis
# Along the trunk bodies are shaped differently, and markers hardly tell where joints are that bend little, nor where along its axis a knee is,
# and no movement tells where in the pelvis its own joint lies.
LESS_TOLD_M = dict.fromkeys(
    ("hips", "spine", "neck", "leftShoulder", "rightShoulder", "leftLowerLeg", "rightLowerLeg"), 0.0045
)
SKIN_S = 1.0  # of the take in which it is measured how skin moves
WITHIN_TWO = 0.9545  # of the values of a normal distribution lie within two standard deviations
LEAST_DENSITY = 0.05  # rad^2 / s^3: a bone that lay still all the time may still move while it is hidden


@dataclass(frozen=True)
class BodyUncertainty:
    """frames (F,): of the take; sd_m (F, B): half of how far off the joints' positions are at most in 95 of 100 cases;
    usual_m (B,): its median over the frames in which nothing is missing around the joint; bones: names (B).
    """

    frames: np.ndarray
    sd_m: np.ndarray
    usual_m: np.ndarray
    bones: tuple[str, ...]

    def beyond_usual_m(self):
        """By how much more than usual the joints may be off (F, B): what is missing adds to what always is."""
        return np.sqrt(np.maximum(self.sd_m**2 - self.usual_m**2, 0.0))


@dataclass(frozen=True)
class SolvedMarkers:
    """A solved take over its BodyModel: observed_m and predicted_m (T, M, 3), root_m (T, 3), rotation_local (T, B, 4),
    weight (T, M) and target_weight (T, B) as they counted.
    """

    model: object
    observed_m: np.ndarray
    predicted_m: np.ndarray
    root_m: np.ndarray
    rotation_local: np.ndarray
    weight: np.ndarray
    target_weight: np.ndarray


def _density(root_m, rotation_local, known, rate):
    """q (1 + B,) of the root's place, m^2 / s^3, and of every bone's rotation, rad^2 / s^3, from the frames in which they are known."""
    lag = max(1, round(LAG_S * rate))
    out = np.full(known.shape[1], LEAST_DENSITY)
    if len(rotation_local) <= 2 * lag:
        return out
    turns = rotvec_from_quaternion(
        quaternion_multiply(quaternion_conjugate(rotation_local[:-lag]), rotation_local[lag:])
    )
    steps = np.concatenate([(root_m[lag:] - root_m[:-lag])[:, None], turns], axis=1)
    second = np.sum((steps[lag:] - steps[:-lag]) ** 2, axis=-1) / 3
    good = known[: -2 * lag] & known[lag:-lag] & known[2 * lag :]
    for b in range(len(out)):
        if good[:, b].any():
            out[b] = max(LEAST_DENSITY, 1.5 * second[good[:, b], b].mean() / (lag / rate) ** 3)
    return out


def _spread(root_m, rotation_local, known):
    """Variance (1 + B,) about each axis, over the frames in which it is known, of the root's place, m^2, and of rotations, rad^2."""
    out = np.full(known.shape[1], np.inf)
    if known[:, 0].any():
        out[0] = root_m[known[:, 0]].var(axis=0).max()
    for b in range(1, len(out)):
        mine = rotation_local[known[:, b], b - 1]
        if len(mine) > 1:
            out[b] = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(mine[:1]), mine)).var(axis=0).max()
    return np.maximum(out, 1e-4)


def _bridged(firm, frames, rate, density, spread):
    """Information (F, 1 + B) that frames around give the root's place, or a bone, where it is not firm; none where it is.

    density (F, 1 + B).
    """
    out = np.zeros(firm.shape)
    seconds = frames / rate
    for b in range(firm.shape[1]):
        for s, e in find_runs(~firm[:, b]):
            if s == 0 and e == len(firm):
                continue
            t = seconds[s:e]
            before = t - seconds[s - 1] if s > 0 else np.full(e - s, np.inf)
            after = seconds[e] - t if e < len(firm) else np.full(e - s, np.inf)
            with np.errstate(invalid="ignore"):
                reach = np.where(
                    np.isinf(before), after, np.where(np.isinf(after), before, before * after / (before + after))
                )
            out[s:e, b] = 3.0 / (density[s:e, b] * np.maximum(reach, 0.5 / rate) ** 3) + 0.5 / spread[b]
    return out


def sampled(count, rate):
    """Frames of a take of `count`, every SAMPLE_S seconds."""
    return np.arange(0, count, _step(rate))


def _step(rate):
    return max(1, round(SAMPLE_S * rate))


def body_uncertainty(
    model, root_m, rotation_local, seen, weight, target_weight, rate, geometry=None, sensor_density=None
):
    """Estimate how sure a solve is of every joint.

    Parameters
    ----------
    model : BodyModel
        The performer's body.
    root_m : ndarray (T, 3)
        Solved root positions, metres.
    rotation_local : ndarray (T, B, 4)
        Solved local rotations over the model's bones.
    seen : ndarray (T, M) of bool
        Markers that were measured; filled ones were not.
    weight : ndarray (T, M)
        1 / variance of the markers with the robust factor in it, 1/m^2.
    target_weight : ndarray (T, B)
        Of suit sensors that lead, 1/rad^2.
    rate : float
        Frames a second.
    geometry : ndarray (F, B, 2), optional
        What joints may be off by as the body's geometry is not known, of frames as `sampled` has them: trace(C) and
        trace(C^2) of their covariances. JOINT_M about each axis where not given.
    sensor_density : ndarray (T,), optional
        m^2/s^3, how far the root's place strays where a sensor carries it and no marker shows it; NaN where none does.

    Returns
    -------
    BodyUncertainty
        How sure every joint is, every SAMPLE_S seconds.

    Notes
    -----
    See the head of this file for the method.
    """
    frames, body = sampled(len(root_m), rate), model.arrays
    measured = measured_bones(model, seen[frames])
    weight = np.where(seen[frames], weight[frames], 0.0)
    target_weight = target_weight[frames]
    poses = _poses(model, root_m[frames], rotation_local[frames])
    known = np.column_stack([~out_of_sight(seen[frames]), measured])
    density = _density(root_m, rotation_local, np.repeat(known, _step(rate), axis=0)[: len(root_m)], rate)
    density = np.tile(density, (len(frames), 1))
    if sensor_density is not None:
        felt = np.isfinite(sensor_density[frames])
        density[felt, 0] = sensor_density[frames][felt]
    variance = np.empty((*measured.shape, 2))
    joint_variances(body, poses, weight, target_weight, np.zeros(known.shape), variance)
    firm = known.copy()
    for b in range(measured.shape[1]):  # a bone is held when the joints at its end are
        ends = np.flatnonzero(model.skeleton.parents == b)
        if len(ends):
            firm[:, 1 + b] = (variance[:, ends, 0] < FIRM_M**2).all(axis=1)
    spread = _spread(root_m[frames], rotation_local[frames], known)
    bridge = _bridged(firm, frames.astype(float), rate, density, spread)
    loose = (bridge > 0).any(axis=1)  # where frames around give nothing, nothing changes
    bridged = np.empty((loose.sum(), *variance.shape[1:]))
    some = Frames(*(np.ascontiguousarray(a[loose]) for a in poses))
    joint_variances(body, some, weight[loose], target_weight[loose], bridge[loose], bridged)
    variance[loose] = bridged
    if geometry is None:
        joint_m = np.array([LESS_TOLD_M.get(name, JOINT_M) for name in model.skeleton.names])
        geometry = np.stack([3 * joint_m**2, 3 * joint_m**4], axis=-1)
    variance[..., 1] += 2 / 3 * geometry[..., 0] * variance[..., 0] + geometry[..., 1]
    variance[..., 0] += geometry[..., 0]
    sd, whole = half_of_95(variance[..., 0], variance[..., 1]), firm.all(axis=1)
    usual = np.median(sd[whole] if whole.any() else sd, axis=0)
    return BodyUncertainty(frames, sd, usual, model.skeleton.names)


def as_measured(weight, residual_m, bones, rate):
    """Weights (T, M) of markers, 1/m^2, by how far they are off in this take and not by what is usual.

    residual_m (T, M): how far the fit leaves each of them, metres, NaN where it was not seen; bones: how many the body has. A
    fit takes three numbers a bone for itself, and leaves that much less.
    """
    seen = np.isfinite(residual_m)
    window = max(1, round(SKIN_S * rate))
    square, count, frames = (
        scipy.ndimage.uniform_filter1d(v.astype(float), window, mode="constant")
        for v in (np.nansum(residual_m**2, axis=1), seen.sum(axis=1), seen.any(axis=1))
    )
    told = 3 * count - 3 * (bones + 1) * frames
    variance = SEAT_M**2 + square / np.maximum(np.maximum(told, count), 1e-9)  # few markers leave a third of it or more
    return weight * (MARKER_SIGMA_M**2 / variance)[:, None]


def half_of_95(variance, squared):
    """Half the distance within which places are 95 times in 100, by trace(C) and trace(C^2) of their covariances C (3, 3)."""
    freedom = variance**2 / squared
    return 0.5 * np.sqrt(squared / variance * 2 * scipy.special.gammaincinv(freedom / 2, WITHIN_TWO))


def _poses(model, root_m, rotation_local):
    joint, world = forward_kinematics(model.skeleton, root_m, rotation_local)
    rotation = matrix_from_quaternion(world)
    bone = model.marker_bone
    marker = joint[:, bone] + np.einsum("fmij,mj->fmi", rotation[:, bone], model.marker_offset_m)
    return Frames(*(np.ascontiguousarray(a) for a in (rotation, joint, marker)))


def influence(model, root_m, rotation_local, weight, target_weight, marker, offset_m):
    """Find how far the joints move when one marker of one frame is off.

    Parameters
    ----------
    model : BodyModel
        The performer's body.
    root_m : ndarray (3,)
        Of that frame, metres.
    rotation_local : ndarray (B, 4)
        Of that frame.
    weight : ndarray (M,)
        1/m^2.
    target_weight : ndarray (B,)
        1/rad^2.
    marker : int
        Which one is off.
    offset_m : ndarray (3,)
        By how much, world axes.

    Returns
    -------
    ndarray (B,)
        Distances in metres: the first-order answer of the least squares, D Cov J^T W offset.
    """
    poses = _poses(model, root_m[None], rotation_local[None])
    pose = Frames(poses.rotation[0], poses.joint[0], poses.marker[0])
    out = np.empty(len(model.skeleton.names))
    moved_joints(
        model.arrays, pose, np.array(weight), np.array(target_weight), marker, np.array(offset_m, dtype=float), out
    )
    return out
