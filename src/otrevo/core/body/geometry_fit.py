"""Bone lengths and marker places from named markers in motion.

Unknowns: for every sampled frame f the pose (root translation and one world-axis turn per bone), and once for all
frames the joint offsets o_b (every bone but the root) and the marker offsets a_m. Residuals: observed - predicted place
of every seen marker over `sigma_m`, Geman-McClure weighted; priors: o_b near the generic body (loose along the bone,
tighter across it), left near the mirror image of right, a_m near the chart, joints near rest as in core.body.joints.

Method: Gauss-Newton with variable projection. Poses are first brought to their optimum by the tree solver; the pose
part of every frame is then eliminated from the normal equations (Schur complement), which leaves one dense system in
the geometry: S = sum_f (H_gg - H_gp H_pp^-1 H_pg). This keeps what alternation loses: how a joint centre and the pose
trade against each other (G. Golub, V. Pereyra, Separable nonlinear least squares, Inverse Problems 19, 2003).
World axes, metres, radians.
"""

import numpy as np
from numba import njit
from scipy.spatial.transform import Rotation

from otrevo.core.body.tree_solver import LIMIT_WEIGHT, place_markers, pose_joints, refine_pose

SIGMA_M = 0.006
PRIOR_ALONG = 0.08  # share of the bone's length
PRIOR_ACROSS_M = 0.010
PRIOR_MIRROR_M = 0.004
PRIOR_MARKER_M = 0.015


@njit(cache=True, error_model="numpy")
def refine_many(
    parents, chain, offsets, marker_bone, marker_offset, sigma, low, high, observed, weight, scale_m, root, local,
    iterations, world, joint, x,
):  # fmt: skip
    """Refine every frame on its own; world (F, B, 3, 3), joint (F, B, 3), x (F, M, 3) receive the result."""
    zero = np.zeros(parents.shape[0])
    residual = np.empty(marker_bone.shape[0])
    for f in range(observed.shape[0]):
        refine_pose(
            parents, chain, offsets, marker_bone, marker_offset, observed[f], weight, scale_m,
            sigma, low, high, local[f], zero, local[f], zero, root[f], local[f], iterations, 1e-3, residual,
        )  # fmt: skip
        pose_joints(parents, offsets, root[f], local[f], world[f], joint[f])
        place_markers(marker_bone, marker_offset, world[f], joint[f], x[f])


def _skew(v):
    """Cross-product matrices (..., 3, 3) of vectors (..., 3)."""
    out = np.zeros(v.shape + (3,))
    out[..., 0, 1], out[..., 0, 2] = -v[..., 2], v[..., 1]
    out[..., 1, 0], out[..., 1, 2] = v[..., 2], -v[..., 0]
    out[..., 2, 0], out[..., 2, 1] = -v[..., 1], v[..., 0]
    return out


def _ancestry(parents):
    """(B, B) true where column is the bone of the row or an ancestor of it."""
    out = np.eye(len(parents), dtype=bool)
    for b, p in enumerate(parents):
        if p >= 0:
            out[b] |= out[p]
    return out


def _prior(model, names):
    """Normal matrix and targets of the geometry prior: matrix (G, G), mean (G,)."""
    bones, markers = len(names), len(model.marker_names)
    size = 3 * (bones - 1) + 3 * markers
    matrix = np.zeros((size, size))
    offsets = model.skeleton.rest_offset_m[1:]
    for b in range(bones - 1):
        length = np.linalg.norm(offsets[b])
        u = offsets[b] / length
        across = 1.0 / PRIOR_ACROSS_M**2
        along = 1.0 / (PRIOR_ALONG * length + 0.004) ** 2
        matrix[3 * b : 3 * b + 3, 3 * b : 3 * b + 3] = across * np.eye(3) + (along - across) * np.outer(u, u)
    markers_from = 3 * (bones - 1)
    i = np.arange(markers_from, size)
    matrix[i, i] = 1.0 / PRIOR_MARKER_M**2
    mean = np.concatenate([offsets.ravel(), model.marker_offset_m.ravel()])
    mirror = np.array([-1.0, 1.0, 1.0])
    pairs = np.zeros_like(matrix)
    for b in range(1, bones):
        if names[b].startswith("left"):
            r = names.index("right" + names[b][4:])
            for axis in range(3):
                row = np.zeros(size)
                row[3 * (b - 1) + axis], row[3 * (r - 1) + axis] = 1.0, -mirror[axis]
                pairs += np.outer(row, row) / PRIOR_MIRROR_M**2
    return matrix, pairs, mean


def fit_geometry(model, observed, root, local, iterations=8, progress=None, prior_model=None):
    """Fit bone and marker offsets.

    observed (F, M, 3), NaN where unseen; root (F, 3), local (F, B, 3, 3): starting poses. Returns the fitted model,
    root, local and the residual distances (F, M) in metres.
    """
    prior_model = prior_model or model
    names = model.skeleton.names
    bones, markers, frames = len(names), len(model.marker_names), len(observed)
    ancestry = _ancestry(model.skeleton.parents)
    rides = ancestry[model.marker_bone]  # (M, B): bones that move the marker
    seen = np.isfinite(observed[..., 0])
    weight = np.full(markers, 1.0 / SIGMA_M**2)
    offsets, places = model.skeleton.rest_offset_m.copy(), model.marker_offset_m.copy()
    prior, pairs, mean = _prior(prior_model, names)
    root, local = root.copy(), local.copy()
    world = np.empty((frames, bones, 3, 3))
    joint = np.empty((frames, bones, 3))
    x = np.empty((frames, markers, 3))
    parents = model.skeleton.parents
    pose_size, bone_size = 3 + 3 * bones, 3 * (bones - 1)
    scales = np.geomspace(0.06, 0.02, iterations)
    for iteration in range(iterations + 1):
        scale = scales[min(iteration, iterations - 1)]
        refine_many(
            parents, model.chain, offsets, model.marker_bone, places, model.sigma, model.low, model.high,
            observed, weight, scale, root, local, 3, world, joint, x,
        )  # fmt: skip
        r = np.where(seen[..., None], observed - x, 0.0)
        if iteration == iterations:
            break
        robust = np.where(seen, 1.0 / (1.0 + (r**2).sum(-1) / scale**2) ** 2, 0.0) / SIGMA_M**2
        normal_gg, gradient = prior + pairs, prior @ (mean - _stack(offsets, places)) - pairs @ _stack(offsets, places)
        for part in np.array_split(np.arange(frames), max(1, frames // 48)):  # bounded memory
            f = len(part)
            jp = np.zeros((f, markers, 3, pose_size))
            jp[..., :3] = np.eye(3)
            lever = -_skew(x[part][:, :, None] - joint[part][:, None]) * rides[None, :, :, None, None]
            jp[..., 3:] = lever.transpose(0, 1, 3, 2, 4).reshape(f, markers, 3, 3 * bones)
            jg = np.zeros((f, markers, 3, bone_size + 3 * markers))
            turned = world[part][:, parents[1:]]  # (f, B-1, 3, 3)
            bone_part = turned[:, None] * rides[None, :, 1:, None, None]
            jg[..., :bone_size] = bone_part.transpose(0, 1, 3, 2, 4).reshape(f, markers, 3, bone_size)
            own = world[part][:, model.marker_bone]
            for m in range(markers):
                at = bone_size + 3 * m
                jg[:, m, :, at : at + 3] = own[:, m]
            root_w = np.sqrt(robust[part])[:, :, None, None]
            jp = (jp * root_w).reshape(f, 3 * markers, -1)
            jg = (jg * root_w).reshape(f, 3 * markers, -1)
            e = (r[part] * root_w[..., 0]).reshape(f, 3 * markers, 1)
            jpt = jp.transpose(0, 2, 1)
            hpp = jpt @ jp + 1e-3 * np.eye(pose_size)
            gp = jpt @ e
            theta = Rotation.from_matrix(local[part].reshape(-1, 3, 3)).as_rotvec().reshape(f, bones, 3)
            beyond = np.where(
                theta < model.low, model.low - theta, np.where(theta > model.high, model.high - theta, 0.0)
            )
            stiff = 1.0 / model.sigma**2 + LIMIT_WEIGHT * (beyond != 0)
            pull = -theta / model.sigma**2 + LIMIT_WEIGHT * beyond
            for b in range(bones):
                u = world[part][:, parents[b]] if parents[b] >= 0 else np.tile(np.eye(3), (f, 1, 1))
                at = slice(3 + 3 * b, 6 + 3 * b)
                hpp[:, at, at] += np.einsum("fij,fj,fkj->fik", u, stiff[:, b], u)
                gp[:, at, 0] += np.einsum("fij,fj->fi", u, pull[:, b])
            hpg = jpt @ jg
            eliminated = np.linalg.solve(hpp, np.concatenate([hpg, gp], axis=2))
            flat = jg.reshape(-1, jg.shape[2])
            normal_gg = normal_gg + flat.T @ flat
            gradient = gradient + flat.T @ e.reshape(-1)
            hgp = hpg.transpose(0, 2, 1)
            normal_gg -= np.sum(hgp @ eliminated[:, :, :-1], axis=0)
            gradient -= np.sum(hgp @ eliminated[:, :, -1:], axis=0)[:, 0]
        step = np.linalg.solve(normal_gg + 1e-6 * np.eye(len(gradient)), gradient)
        offsets[1:] += step[:bone_size].reshape(-1, 3)
        places += step[bone_size:].reshape(-1, 3)
        if progress:
            progress((iteration + 1) / iterations)
    residual = np.where(seen, np.linalg.norm(r, axis=-1), np.nan)
    return model.with_geometry(offsets, places), root, local, residual


def _stack(offsets, places):
    return np.concatenate([offsets[1:].ravel(), places.ravel()])
