"""How sure the solve is of every joint, over time.

Unknowns of a frame are those of core.body.tree_solver: the root's translation and, for every bone a, a small rotation
w_a about world axes through its joint p_a. With J the derivatives of what is measured, W its weights and P the prior,

    H = J^T W J + P,     Cov = H^-1,     sd_j^2 = trace(D_j Cov D_j^T),     D_j = d p_j / d unknowns,

the usual propagation of variance through least squares at its minimum. Markers weigh by skin and triangulation, and
by the Geman-McClure factor of their residual; a suit sensor counts where it leads. The prior of a bone is its stiffness.
Where its joints are not held by what is seen in that frame, time helps: the motion is bridged from the frames before and
after in which they are. Between two ends at which angle and speed are known, T seconds apart, an angle driven by white
acceleration of density q strays by

    var(s) = q / 3 * (s (T - s) / T)^3

after s seconds (the bridge of an integrated Wiener process). q is measured for every bone in the same take, from its
second differences over LAG_S: var(second difference) = 2/3 q lag^3. At open ends var(s) = q s^3 / 3. However long it is
hidden, a bone strays no further than it does at all in the take: the variance of its rotation, twice (between two
moments that know nothing of each other), bounds the above.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.body.kinematics import forward_kinematics
from otrevo.core.body.tree_solver import chains
from otrevo.core.conventions import (  # fmt: skip
    find_runs,
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_multiply,
    rotvec_from_quaternion,
)

SAMPLE_S = 0.1
FIRM_M = 0.010  # a bone whose joints are known to within this needs no help from the frames around it
LAG_S = 0.2
LEAST_DENSITY = 0.05  # rad^2 / s^3: a bone that lay still all the time may still move while it is hidden
PIECE = 48


@dataclass(frozen=True)
class BodyUncertainty:
    """frames (F,): of the take; sd_m (F, B): standard deviation of the joints' positions, three axes together;
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


@dataclass(frozen=True)
class _Frames:
    """Poses of some frames: rotation (F, B, 3, 3) of bones in the world, joint (F, B, 3), marker (F, M, 3) on the body."""

    rotation: np.ndarray
    joint: np.ndarray
    marker: np.ndarray


def _ancestry(parents):
    """(B, B): whether bone a is b or above it, at [b, a]."""
    table = chains(parents)[1:]
    out = np.zeros((len(parents), len(parents)), dtype=bool)
    for b, row in enumerate(table):
        out[b, row[row > 0] - 1] = True
    return out


def _skew(v):
    """[v]x of vectors (..., 3), so that [v]x w = v x w."""
    out = np.zeros((*v.shape, 3))
    out[..., 0, 1], out[..., 0, 2], out[..., 1, 2] = -v[..., 2], v[..., 1], -v[..., 0]
    out[..., 1, 0], out[..., 2, 0], out[..., 2, 1] = v[..., 2], -v[..., 1], v[..., 0]
    return out


def _derivatives(points, joint, turning):
    """d points / d unknowns, (F, K, 3, 3 + 3 B): turning (K, B) says which bones carry a point."""
    arm = _skew(joint[:, None] - points[:, :, None]) * turning[None, :, :, None, None]  # w x (x - p) = [p - x]x w
    frames, count, bones = arm.shape[:3]
    out = np.empty((frames, count, 3, 3 + 3 * bones))
    out[..., :3] = np.eye(3)
    out[..., 3:] = arm.transpose(0, 1, 3, 2, 4).reshape(frames, count, 3, 3 * bones)
    return out


def _information(model, pose, weight, target_weight, bridge, above):
    """H of frames, (F, n, n)."""
    bones = len(model.skeleton.names)
    d = _derivatives(pose.marker, pose.joint, above[model.marker_bone])
    flat = (d * np.sqrt(weight)[:, :, None, None]).reshape(len(d), -1, d.shape[-1])
    h = flat.transpose(0, 2, 1) @ flat
    parent = model.skeleton.parents
    frame_of = np.where((parent >= 0)[None, :, None, None], pose.rotation[:, parent], np.eye(3))
    stiff = np.einsum("fbij,bj,fbkj->fbik", frame_of, 1.0 / model.sigma**2, frame_of)
    stiff += bridge[:, :, None, None] * np.eye(3)
    for b in range(bones):
        at = slice(3 + 3 * b, 6 + 3 * b)
        h[:, at, at] += stiff[:, b]
    for b in np.flatnonzero((target_weight > 0).any(axis=0)):  # a sensor feels every rotation above its bone
        carriers = np.flatnonzero(above[b])
        for one in carriers:
            for other in carriers:
                h[:, 3 + 3 * one : 6 + 3 * one, 3 + 3 * other : 6 + 3 * other] += target_weight[
                    :, b, None, None
                ] * np.eye(3)
    h[:, np.arange(3), np.arange(3)] += 1e-6
    return h


def _joint_sd(pose, covariance, carried):
    """(F, B) standard deviations of the joints' positions."""
    d = _derivatives(pose.joint, pose.joint, carried)
    return np.sqrt(np.einsum("fjin,fjin->fj", d @ covariance[:, None], d))


def _density(rotation_local, measured, rate):
    """q (B,) of every bone in rad^2 / s^3, from the frames in which it was measured."""
    lag = max(1, round(LAG_S * rate))
    out = np.full(rotation_local.shape[1], LEAST_DENSITY)
    if len(rotation_local) <= 2 * lag:
        return out
    steps = rotvec_from_quaternion(
        quaternion_multiply(quaternion_conjugate(rotation_local[:-lag]), rotation_local[lag:])
    )
    second = np.sum((steps[lag:] - steps[:-lag]) ** 2, axis=-1) / 3
    good = measured[: -2 * lag] & measured[lag:-lag] & measured[2 * lag :]
    for b in range(len(out)):
        if good[:, b].any():
            out[b] = max(LEAST_DENSITY, 1.5 * second[good[:, b], b].mean() / (lag / rate) ** 3)
    return out


def _spread(rotation_local, measured):
    """Variance (B,) of every bone's rotation about each axis, rad^2, over the frames in which it was measured."""
    out = np.full(rotation_local.shape[1], np.inf)
    for b in range(len(out)):
        mine = rotation_local[measured[:, b], b]
        if len(mine) > 1:
            out[b] = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(mine[:1]), mine)).var(axis=0).max()
    return np.maximum(out, 1e-4)


def _bridged(firm, frames, rate, density, spread):
    """Information (F, B) that frames around give a bone where it is not firm; none where it is."""
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
            out[s:e, b] = 3.0 / (density[b] * np.maximum(reach, 0.5 / rate) ** 3) + 0.5 / spread[b]
    return out


def body_uncertainty(model, root_m, rotation_local, seen, weight, target_weight, rate):
    """A BodyUncertainty of a solved take.

    model: BodyModel; root_m (T, 3), rotation_local (T, B, 4) over the model's bones; seen (T, M): markers that were
    measured (filled ones were not); weight (T, M): 1 / variance with the robust factor in it, 1/m^2; target_weight
    (T, B): 1/rad^2 of suit sensors that lead; rate Hz.
    """
    step = max(1, round(SAMPLE_S * rate))
    frames = np.arange(0, len(root_m), step)
    above = _ancestry(model.skeleton.parents)
    carried = above & ~np.eye(len(above), dtype=bool)  # a joint is not moved by its own bone's rotation
    measured = np.zeros((len(frames), len(above)), dtype=bool)
    for m, b in enumerate(model.marker_bone):
        measured |= above[b][None] & seen[frames, m][:, None]
    weight = np.where(seen, weight, 0.0)[frames]
    target_weight = target_weight[frames]
    poses = _poses(model, root_m[frames], rotation_local[frames])
    density = _density(rotation_local, np.repeat(measured, step, axis=0)[: len(root_m)], rate)
    alone = _pieces(model, poses, weight, target_weight, np.zeros(measured.shape), above, carried)
    firm = np.ones_like(measured)
    for b in range(len(above)):  # a bone is held when the joints at its end are
        ends = np.flatnonzero(model.skeleton.parents == b)
        firm[:, b] = (alone[:, ends] < FIRM_M).all(axis=1) if len(ends) else measured[:, b]
    spread = _spread(rotation_local[frames], measured)
    bridge = _bridged(firm, frames.astype(float), rate, density, spread)
    sd, loose = alone, (bridge > 0).any(axis=1)  # where frames around give nothing, nothing changes
    some = _Frames(poses.rotation[loose], poses.joint[loose], poses.marker[loose])
    sd[loose] = _pieces(model, some, weight[loose], target_weight[loose], bridge[loose], above, carried)
    whole = firm.all(axis=1)
    usual = np.median(sd[whole] if whole.any() else sd, axis=0)
    return BodyUncertainty(frames, sd, usual, model.skeleton.names)


def _poses(model, root_m, rotation_local):
    joint, world = forward_kinematics(model.skeleton, root_m, rotation_local)
    rotation = matrix_from_quaternion(world)
    bone = model.marker_bone
    marker = joint[:, bone] + np.einsum("fmij,mj->fmi", rotation[:, bone], model.marker_offset_m)
    return _Frames(rotation, joint, marker)


def _pieces(model, poses, weight, target_weight, bridge, above, carried):
    """(F, B) standard deviations, a few frames at a time: memory does not grow with the take."""
    out = np.empty(poses.joint.shape[:2])
    for s in range(0, len(out), PIECE):
        e = s + PIECE
        pose = _Frames(poses.rotation[s:e], poses.joint[s:e], poses.marker[s:e])
        h = _information(model, pose, weight[s:e], target_weight[s:e], bridge[s:e], above)
        out[s:e] = _joint_sd(pose, np.linalg.inv(h), carried)
    return out


def influence(model, root_m, rotation_local, weight, target_weight, marker, offset_m):
    """How far each joint moves (B,), metres, when one marker of one frame is off by offset_m (3,).

    root_m (3,), rotation_local (B, 4), weight (M,), target_weight (B,) of that frame: the first-order answer of the
    least squares, D Cov J_m^T W_m offset.
    """
    above = _ancestry(model.skeleton.parents)
    carried = above & ~np.eye(len(above), dtype=bool)
    pose = _poses(model, root_m[None], rotation_local[None])
    h = _information(model, pose, weight[None], target_weight[None], np.zeros((1, len(above))), above)[0]
    pull = _derivatives(pose.marker[:, marker : marker + 1], pose.joint, above[model.marker_bone[marker]][None])[0, 0]
    change = np.linalg.solve(h, weight[marker] * (pull.T @ offset_m))
    return np.linalg.norm(_derivatives(pose.joint, pose.joint, carried)[0] @ change, axis=1)
