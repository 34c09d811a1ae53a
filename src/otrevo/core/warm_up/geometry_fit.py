"""Bone lengths and marker positions from named markers in motion.

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

from dataclasses import dataclass

import numpy as np
from numba import njit

from otrevo.core.body.compiled_rotations import forearm_angles, log_rotation, log_slope
from otrevo.core.body.tree_solver import LIMIT_WEIGHT, Expected, Observed, place_markers, pose_joints, refine_pose
from otrevo.core.warm_up.elimination import columns_below, eliminate, rotation_variance, take_off
from otrevo.core.warm_up.normal_equations import normal_equations

SIGMA_M = 0.006
STRAY_M = 0.05
INDEPENDENT = 1 / 3  # neighbouring frames show much the same pose: how many of them count as evidence of their own
STEADY_M, STEADY_SAMPLES = 0.002, 10  # a marker's own spread before it is seen, and how many samples that counts as
STEADY_SHARE = 0.15  # of the samples count: skin moves slowly
TOGETHER = 32  # frames gone through at once: what is kept of them stays in the processor's cache
USUAL_FRAMES = 10  # what is known of how far people turn their joints, counted in frames
PRIOR_ALONG = 0.08  # share of the bone's length
PRIOR_ACROSS_M = 0.010
PRIOR_MIRROR_M = 0.004

PRIOR_MARKER_M = 0.012


@dataclass(frozen=True)
class GeometryFit:
    """model: the fitted body; root_m (F, 3), local (F, B, 3, 3): its poses; residual_m (F, M), NaN where unseen;
    evidence: twice the log marginal likelihood of the points, but for a constant, by Laplace's approximation: the
    cost left of residuals and priors, and the logarithm of how sharply the points determine poses and geometry;
    information (G, G): inverse covariance of the geometry, joint offsets of bones 1..B-1 and then marker offsets, by
    the points, of which INDEPENDENT counts, and the prior."""

    model: object
    root_m: np.ndarray
    local: np.ndarray
    residual_m: np.ndarray
    evidence: float
    information: object = None


@njit(cache=True, error_model="numpy")
def refine_many(body, positions_m, weight, scale_m, root, local, iterations, world, joint, x):
    """Refine every frame on its own, positions_m (F, M, 3); world (F, B, 3, 3), joint (F, B, 3), x (F, M, 3) receive it."""
    zero = np.zeros(body.parents.shape[0])
    residual = np.empty(body.marker_bone.shape[0])
    for f in range(positions_m.shape[0]):
        expected = Expected(local[f], zero, local[f], zero, np.empty((0, 6)))
        observed = Observed(positions_m[f], weight, scale_m)
        refine_pose(body, observed, expected, root[f], local[f], iterations, 1e-3, residual)
        pose_joints(body, root[f], local[f], world[f], joint[f])
        place_markers(body, world[f], joint[f], x[f])


@njit(cache=True, error_model="numpy")
def pull_to_rest(body, world, local, rest_share, limit_share, hpp, gp):
    """Add to the normal equations of every frame's pose what holds joints near rest, rest_share (F, B, 3) of it, and within their limits.

    world, local (F, B, 3, 3); hpp (F, P, P), gp (F, P).
    """
    theta, stiff, pull, slope, by_world = np.empty(3), np.empty(3), np.empty(3), np.empty((3, 3)), np.empty((3, 3))
    for f in range(local.shape[0]):
        for b in range(body.parents.shape[0]):
            if body.rolls[b]:
                forearm_angles(local[f, b], theta, by_world)
                for k in range(3):
                    for i in range(3):
                        slope[k, i] = by_world[i, k]
            else:
                log_rotation(local[f, b], theta)
                log_slope(theta, slope)
            for k in range(3):
                rest = rest_share[f, b, k] / body.sigma[b, k] ** 2
                stiff[k], pull[k] = rest, -rest * theta[k]
                beyond = min(body.high[b, k] - theta[k], 0.0) + max(body.low[b, k] - theta[k], 0.0)
                if beyond != 0.0:
                    stiff[k] += limit_share * LIMIT_WEIGHT
                    pull[k] += limit_share * LIMIT_WEIGHT * beyond
            axes = world[f, body.parents[b]] if body.parents[b] >= 0 else np.eye(3)
            by_world[:] = 0.0
            for k in range(3):
                for i in range(3):
                    for j in range(3):
                        by_world[k, i] += slope[k, j] * axes[i, j]
            at = 3 * (len(body.parents) - 1 - b)
            for i in range(3):
                for k in range(3):
                    gp[f, at + i] += by_world[k, i] * pull[k]
                    for j in range(3):
                        hpp[f, at + i, at + j] += by_world[k, i] * stiff[k] * by_world[k, j]


@njit(cache=True, error_model="numpy")
def turns_of_joints(local, rolls):
    """How every joint is turned (F, B, 3), rad, by local rotations (F, B, 3, 3), as its stiffness is measured."""
    out, axes = np.empty(local.shape[:3]), np.empty((3, 3))
    for f in range(local.shape[0]):
        for b in range(local.shape[1]):
            if rolls[b]:
                forearm_angles(local[f, b], out[f, b], axes)
            else:
                log_rotation(local[f, b], out[f, b])
    return out


def pose_all(model, root, local):
    """World rotations (F, B, 3, 3) and joints (F, B, 3) of a BodyModel in many poses."""
    world, joint = np.empty(local.shape), np.empty(local.shape[:3])
    _pose_each(model.arrays, root, np.ascontiguousarray(local), world, joint)
    return world, joint


@njit(cache=True, error_model="numpy")
def _pose_each(body, root, local, world, joint):
    for f in range(len(root)):
        pose_joints(body, root[f], local[f], world[f], joint[f])


def _prior(model, names, marker_information=None, across_m=PRIOR_ACROSS_M, length_told=1.0):
    """Normal matrix and targets of the geometry prior: matrix (G, G), mean (G,)."""
    bones, markers = len(names), len(model.marker_names)
    size = 3 * (bones - 1) + 3 * markers
    across_m, length_told = (np.broadcast_to(v, bones - 1) for v in (across_m, length_told))
    matrix = np.zeros((size, size))
    offsets = model.skeleton.rest_offset_m[1:]
    for b in range(bones - 1):
        length = np.linalg.norm(offsets[b])
        u = offsets[b] / length
        across = 1.0 / across_m[b] ** 2
        along = 1.0 / (PRIOR_ALONG * length + 0.004) ** 2 / length_told[b]
        matrix[3 * b : 3 * b + 3, 3 * b : 3 * b + 3] = across * np.eye(3) + (along - across) * np.outer(u, u)
    markers_from = 3 * (bones - 1)
    if marker_information is None:
        marker_information = np.eye(3 * markers) / PRIOR_MARKER_M**2
    matrix[markers_from:, markers_from:] = marker_information
    mean = np.concatenate([offsets.ravel(), model.marker_offset_m.ravel()])
    pairs = np.zeros_like(matrix)
    for b in range(1, bones):
        if names[b].startswith("left") and "right" + names[b][4:] in names:
            r = names.index("right" + names[b][4:])
            for axis, mirror in enumerate((-1.0, 1.0, 1.0)):
                i, j = 3 * (b - 1) + axis, 3 * (r - 1) + axis
                pairs[[i, j], [i, j]] += 1 / PRIOR_MIRROR_M**2
                pairs[[i, j], [j, i]] -= mirror / PRIOR_MIRROR_M**2
    return matrix, pairs, mean


class _Growth:
    """Where the markers of a BodyModel come to lie when its limbs grow.

    Along a limb, markers sit at shares of its length; hands and toes, whose length is not known, follow what they hang on.
    """

    def __init__(self, model):
        skeleton, self.positions = model.skeleton, model.marker_offset_m
        length = np.linalg.norm(skeleton.rest_offset_m, axis=1)
        self.child = np.zeros(len(self.positions), dtype=np.int64)  # of each marker: the joint at the end of its limb
        self.along = np.zeros((len(self.positions), 3))  # times the growth of that limb: by how much the marker moves
        self.unit = np.zeros((len(self.positions), 3))  # by which an offset of that joint is measured
        for b, name in enumerate(skeleton.names):
            if not name.endswith(("UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg", "Foot", "Toes")):
                continue
            below = np.flatnonzero(skeleton.parents == b)
            child = below[0] if len(below) == 1 else b
            if skeleton.parents[child] < 0:  # the root of a limb looked at on its own
                continue
            u = skeleton.rest_offset_m[child] / length[child]
            mine = model.marker_bone == b
            self.child[mine], self.unit[mine] = child, u / length[child]
            self.along[mine] = np.outer(self.positions[mine] @ u, u)

    def positions_with(self, offsets):
        """Marker positions (M, 3) when the limbs have the lengths of joint `offsets` (B, 3)."""
        growth = (offsets[self.child] * self.unit).sum(axis=1) - 1.0
        return self.positions + growth[:, None] * self.along


def fit_geometry(
    model,
    observed,
    root,
    local,
    iterations=8,
    prior_model=None,
    rest_share=1.0,
    marker_information=None,
    limit_share=1.0,
    across_m=PRIOR_ACROSS_M,
    sigma_m=SIGMA_M,
    length_told=None,
):
    """Fit bone lengths and marker offsets to named markers in motion.

    Parameters
    ----------
    model : BodyModel
        The body to start from.
    observed : ndarray (F, M, 3)
        Metres, NaN where unseen.
    root : ndarray (F, 3)
        Starting root positions.
    local : ndarray (F, B, 3, 3)
        Starting local rotations.
    iterations : int
        Of Gauss-Newton.
    prior_model : BodyModel, optional
        The geometry to stay near; `model` where not given.
    rest_share : float or ndarray (F, B, 3)
        How much of a frame's pull towards rest the geometry feels. All of it keeps names apart that the points leave
        open. But a warm-up squats and reaches, so its mean pose is not the rest, and hundreds of frames alike would
        turn feet, hands and spine until it was.
    limit_share : float
        The same of its pull back from the limits of joints.
    marker_information : ndarray (3 M, 3 M), optional
        Inverse covariance of the markers' places about those of the prior model, 1/m²; PRIOR_MARKER_M for each where not given. Where it is, markers do not move along when limbs grow.
    across_m : float or ndarray (B - 1,)
        How far a joint may lie beside the line on which the prior model has it, as seen from the joint before it.
    sigma_m : float or ndarray (M,)
        How far points are off, as much as each of them in every frame counts.
    length_told : ndarray (B - 1,), optional
        How much counts of what points say of bones' lengths, 0 to 1; all of it where not given.

    Returns
    -------
    GeometryFit
        The fitted body with its poses and residuals.

    Notes
    -----
    See the head of this file for the method.
    """
    prior_model = prior_model or model
    names = model.skeleton.names
    bones, markers, frames = len(names), len(model.marker_names), len(observed)
    observed = np.ascontiguousarray(observed)  # loops are compiled once for each layout
    seen = np.isfinite(observed[..., 0])
    weight = 1.0 / np.broadcast_to(np.asarray(sigma_m, dtype=float), markers) ** 2
    offsets, positions = model.skeleton.rest_offset_m.copy(), model.marker_offset_m.copy()
    usual, pairs, mean = _prior(prior_model, names, marker_information, across_m)
    prior = usual if length_told is None else _prior(prior_model, names, marker_information, across_m, length_told)[0]
    known = prior + pairs
    root, local = root.copy(), local.copy()
    world = np.empty((frames, bones, 3, 3))
    joint = np.empty((frames, bones, 3))
    x = np.empty((frames, markers, 3))
    parents, share = model.skeleton.parents, np.broadcast_to(rest_share, (frames, bones, 3))
    pose_size, bone_size = 3 + 3 * bones, 3 * (bones - 1)
    growth = _Growth(prior_model) if marker_information is None else None
    columns, column_count = columns_below(parents.tobytes(), model.marker_bone.tobytes())
    scales = 0.06 * (1 / 3) ** np.linspace(0, 1, iterations)
    parts = np.array_split(np.arange(frames), max(1, -(-frames // TOGETHER)))
    room = [np.empty((len(parts[0]), *shape)) for shape in ((pose_size,) * 2, (pose_size, len(mean)), (pose_size,))]
    for iteration in range(iterations + 1):
        scale = scales[min(iteration, iterations - 1)]
        body = model.arrays._replace(rest_offset_m=offsets, marker_offset_m=positions)
        refine_many(body, observed, weight, float(scale), root, local, 3, world, joint, x)
        r = np.where(seen[..., None], observed - x, 0.0)
        if iteration == iterations:
            break
        robust = np.where(seen, 1.0 / (1.0 + (r**2).sum(-1) / scale**2) ** 2, 0.0) * weight
        if growth:
            mean[bone_size:] = growth.positions_with(offsets).ravel()
        normal_gg, gradient = (
            known.copy(),
            prior @ (mean - _stack(offsets, positions)) - pairs @ _stack(offsets, positions),
        )
        sharpness, spread = 0.0, np.zeros((bones, 3))
        for part in parts:
            f = len(part)
            hpp, hpg, gp = (a[:f] for a in room)
            hpp[:], hpg[:], gp[:] = 1e-3 * np.eye(pose_size), 0.0, 0.0
            normal_equations(
                parents, model.marker_bone, world[part], joint[part], x[part], r[part], robust[part],
                hpp, hpg, gp, normal_gg, gradient,
            )  # fmt: skip
            pull_to_rest(body, world[part], local[part], share[part], float(limit_share), hpp, gp)
            eliminate(parents, columns, column_count, hpp, hpg, gp)
            if iteration == iterations - 1:
                sharpness += 2 * INDEPENDENT * np.log(np.einsum("fpp->fp", hpp)).sum()
                rotation_variance(hpp, world[part], parents, spread)
            take_off(columns, column_count, hpg, gp, normal_gg, gradient)
        step = np.linalg.solve(normal_gg + 1e-6 * np.eye(len(gradient)), gradient)
        offsets[1:] += step[:bone_size].reshape(-1, 3)
        positions += step[bone_size:].reshape(-1, 3)
    sharpness += np.linalg.slogdet(normal_gg)[1]
    by_points = INDEPENDENT * (normal_gg - known)
    if length_told is not None:
        counts = np.concatenate([np.repeat(np.sqrt(length_told), 3), np.ones(len(mean) - bone_size)])
        by_points *= np.outer(counts, counts)
    information = usual + pairs + by_points
    distance2 = (r**2).sum(-1)
    theta = turns_of_joints(local, model.arrays.rolls)
    g = _stack(offsets, positions)
    if growth:
        mean[bone_size:] = growth.positions_with(offsets).ravel()
    # a sample that the fit has let go must still weigh against it
    cost = _marker_cost((distance2 / (1 + distance2 / STRAY_M**2)).sum(axis=0), seen.sum(axis=0))
    cost += _pose_cost(theta, spread, model.sigma)
    cost += (g - mean) @ prior @ (g - mean) + g @ pairs @ g
    residual = np.where(seen, np.sqrt(distance2), np.nan)
    return GeometryFit(
        model.with_geometry(offsets, positions), root, local, residual, -float(cost + sharpness), information
    )


def _marker_cost(squared, samples):
    """What the markers' residuals cost: as SIGMA_M expects them, and less where a marker proves to be steadier than that.

    squared (M,) sums of squared residuals, m2; samples (M,) how many. How much skin moves under a marker is not known before,
    so its own variance is estimated, near STEADY_M**2 while it was seen little: a marker that sits still on one bone and
    would tremble on the other has to be told apart, and SIGMA_M, wide enough for a thigh, would not.
    """
    own = STEADY_SHARE * np.array([squared, 3 * samples]) + STEADY_SAMPLES * np.array([[STEADY_M**2], [1.0]])
    share = np.minimum(own[0] / own[1] / SIGMA_M**2, 1.0)
    return squared.sum() / SIGMA_M**2 + (STEADY_SHARE * 3 * samples * (np.log(share) + 1 - share)).sum()


def _pose_cost(theta, spread, sigma):
    """What the poses cost: joints of somebody whose own way of moving is not known, only its usual size `sigma`.

    theta (F, B, 3) turns, spread (B, 3) the sum of their variances. Without the performer's own size in it, whatever
    turns a joint further for the same points, like a marker named nearer to the joint than it is, would come cheap.
    """
    frames = len(theta)
    usual = (theta**2).sum(axis=0) + spread + USUAL_FRAMES * sigma**2
    return INDEPENDENT * (frames + USUAL_FRAMES) * np.log(usual / (frames + USUAL_FRAMES) / sigma**2).sum()


def _stack(offsets, positions):
    return np.concatenate([offsets[1:].ravel(), positions.ravel()])
