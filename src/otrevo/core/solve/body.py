"""Solve: named markers, suit, gloves to one body motion per performer.

Every frame is a damped Gauss-Newton fit on the skeleton (core.body.tree_solver), started from the frame before it.
Where a bone has no marker below it for a while, a suit sensor's orientation leads if there is one; otherwise its local
rotation is carried across by a cubic between the two ends, and the stretch is marked as lost.
"""

from dataclasses import dataclass, field

import numpy as np
from numba import njit

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.body.tree_solver import exp_rotation, log_rotation, multiply, place_markers, pose_joints, refine_pose
from otrevo.core.conventions import (
    find_runs,
    make_continuous,
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_from_matrix,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.markers.start import find_t_pose, still_cloud
from otrevo.core.solve.regain import LOST_AT, OFF_AT, RETRY_FRAMES, lost_bones, regain

MARKER_SIGMA_M = 0.006
ROBUST_SCALE_M = 0.03
SUIT_SIGMA_ALONE_RAD = 0.03
SUIT_LEADS_AFTER_S = 0.05
SPEED_FRAMES = 4  # beside a gap, by which its ends' speeds are told
SPEED_TELLS_S = 3.0  # in a gap this long they count half
PROGRESS_FRAMES = 1200


@dataclass(frozen=True)
class Solution:
    """motion over the performer's 52 bones; marker_residual_m (T, M), NaN where hidden; lost (T, B) over the model's
    bones, true where neither marker nor suit measured a bone; weight (T, M), 1/m^2, of the markers, the robust factor in
    it, and target_weight (T, B), 1/rad^2, of suit sensors, as they counted in the end; figures in mm.
    """

    motion: Motion
    marker_residual_m: np.ndarray
    predicted_m: np.ndarray
    lost: np.ndarray
    bone_names: tuple[str, ...]
    weight: np.ndarray
    target_weight: np.ndarray
    figures: dict = field(default_factory=dict)


@njit(cache=True, error_model="numpy")
def solve_frames(
    parents, chain, offsets, marker_bone, marker_offset, sigma, low, high, observed, weight, scale_m, target,
    target_weight, told, first, last, root, local, turn, settled, root_out, local_out, residual_out, x_out,
):  # fmt: skip
    """Solve frames [first, last) in order; told (T, B): whether anything tells of a bone or of those below it; root (3,), local (B, 3, 3), turn (B, 3) carry the state on to the next call."""
    bones = parents.shape[0]
    world = np.empty((bones, 3, 3))
    joint = np.empty((bones, 3))
    predicted = np.empty((bones, 3, 3))
    smooth = np.empty(bones)
    tried, seen_then = -RETRY_FRAMES, 0
    a33 = np.empty((3, 3))
    v = np.empty(3)
    for t in range(first, last):
        begun = settled or t > first
        before = local.copy()
        for b in range(bones):
            if not told[t, b]:
                for i in range(3):
                    turn[b, i] *= 0.9
            exp_rotation(turn[b], a33)
            multiply(local[b], a33, predicted[b])
            smooth[b] = 4.0 if told[t, b] else 60.0
            local[b] = predicted[b]
        for turn_of in range(
            2
        ):  # a pose that does not fit its markers yet gets more steps: a quick limb, or one seen again
            steps = 2 if begun and turn_of == 0 else 8
            refine_pose(
                parents, chain, offsets, marker_bone, marker_offset, observed[t], weight[t], scale_m,
                sigma, low, high, predicted, smooth, target[t], target_weight[t], root, local, steps, 1e-3, residual_out[t],
            )  # fmt: skip
            if not lost_bones(marker_bone, residual_out[t], OFF_AT * scale_m, bones).any():
                break
        lost = lost_bones(marker_bone, residual_out[t], LOST_AT * scale_m, bones)
        if lost.any():
            seen = (~np.isnan(residual_out[t])).sum()
            if t - tried >= RETRY_FRAMES or seen != seen_then:
                better = regain(
                    parents, chain, offsets, marker_bone, marker_offset, observed[t], weight[t], scale_m, sigma, low,
                    high, predicted, smooth, target[t], target_weight[t], root, local, lost, residual_out[t],
                )  # fmt: skip
                if not better:  # its markers are wrong, not the pose: ask again when others are seen, or after a while
                    tried, seen_then = t, seen
        pose_joints(parents, offsets, root, local, world, joint)
        place_markers(marker_bone, marker_offset, world, joint, x_out[t])
        root_out[t] = root
        for b in range(bones):
            local_out[t, b] = local[b]
            for i in range(3):
                for k in range(3):
                    a33[i, k] = (
                        before[b, 0, i] * local[b, 0, k]
                        + before[b, 1, i] * local[b, 1, k]
                        + before[b, 2, i] * local[b, 2, k]
                    )
            log_rotation(a33, v)
            size = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
            known = begun and (told[max(t - 1, 0), b] or not told[t, b])
            for i in range(3):
                turn[b, i] = v[i] if size < 0.3 and known else 0.0


def measured_bones(model, seen, sensed=None):
    """(T, B): whether any marker on the bone or on a bone below it is seen, or `sensed` (T, B) says so of one of them."""
    out = np.zeros((len(seen), len(model.skeleton.names)), dtype=bool) if sensed is None else sensed.copy()
    for m, b in enumerate(model.marker_bone):
        out[:, b] |= seen[:, m]
    for b in range(len(model.skeleton.names) - 1, 0, -1):
        out[:, model.skeleton.parents[b]] |= out[:, b]
    return out


def solve_take(labelled_m, rate, performer, suit_world=None, progress=None, sd_m=None):
    """Solve one performer's take.

    labelled_m (T, M, 3) in the performer's marker order, NaN where hidden; rate Fraction; suit_world: mapping of bone
    name to (T, 4) world rotations (NaN where lost) or None; sd_m (T, M): how far each point may be off by its triangulation,
    which adds to what skin moves over bone; NaN or None where not known. Raises InputError when no frame shows enough markers.
    """
    model = performer.model()
    labelled_m = np.ascontiguousarray(labelled_m, dtype=float)
    frames, markers = labelled_m.shape[:2]
    if markers != len(model.marker_names):
        raise InputError(f"{markers} named markers; the performer's calibration has {len(model.marker_names)}.")
    seen = np.isfinite(labelled_m[..., 0])
    enough = np.flatnonzero(seen.sum(1) >= max(6, 0.3 * markers))
    if len(enough) == 0:
        raise InputError("No frame shows enough named markers to solve a body; label the take first.")
    first = int(enough[0])
    bones = len(model.skeleton.names)
    measured = measured_bones(model, seen)
    target, target_weight = _suit_targets(model, suit_world, measured, float(rate), frames)
    told = measured_bones(model, seen, target_weight > 0)
    root, local = _first_pose(model, labelled_m, first, rate)
    turn = np.zeros((bones, 3))
    root_out, local_out = np.empty((frames, 3)), np.empty((frames, bones, 3, 3))
    residual, x = np.full((frames, markers), np.nan), np.empty((frames, markers, 3))
    variance = np.full((frames, markers), MARKER_SIGMA_M**2)
    if sd_m is not None:
        variance += np.nan_to_num(np.asarray(sd_m, dtype=float)) ** 2
    weight = 1.0 / variance
    for start in range(first, frames, PROGRESS_FRAMES):  # windows, so that progress and cancel come in between
        solve_frames(
            *model.structure, model.sigma, model.low, model.high, labelled_m, weight, ROBUST_SCALE_M, target,
            target_weight, told, start, min(start + PROGRESS_FRAMES, frames), root, local, turn, start > first,
            root_out, local_out, residual, x,
        )  # fmt: skip
        if progress:
            progress(min(start + PROGRESS_FRAMES, frames) / frames)
    root_out[:first], local_out[:first] = root_out[first], local_out[first]
    x[:first] = x[first]
    lost = ~measured & (target_weight == 0)
    rotation = make_continuous(quaternion_from_matrix(local_out))
    rotation = bridge_lost(rotation, lost, float(rate))
    motion = _with_fingers(performer.skeleton, model.skeleton, rate, root_out, rotation)
    counted = weight / (1 + (np.nan_to_num(residual) / ROBUST_SCALE_M) ** 2) ** 2
    figures = _figures(model, residual, lost, float(rate))
    return Solution(motion, residual, x, lost, model.skeleton.names, counted, target_weight, figures)


def _first_pose(model, labelled_m, first, rate):
    """The pose to start from: T-pose facing as the named markers say, by fitting the whole body loosely."""
    cloud = still_cloud(labelled_m, rate, first)
    try:
        start = find_t_pose(model, cloud)
        return start.root_m.copy(), np.ascontiguousarray(start.local)
    except InputError:  # not a T-pose: names are known, so a rigid fit of the trunk is enough to converge from
        rest = np.tile(np.eye(3), (len(model.skeleton.names), 1, 1))
        seen = np.isfinite(labelled_m[first, :, 0])
        world, joint = np.empty_like(rest), np.empty((len(rest), 3))
        x = np.empty((len(seen), 3))
        pose_joints(model.skeleton.parents, model.skeleton.rest_offset_m, np.zeros(3), rest, world, joint)
        place_markers(model.marker_bone, model.marker_offset_m, world, joint, x)
        a, b = x[seen], labelled_m[first, seen]
        u, _, v = np.linalg.svd((a - a.mean(0)).T @ (b - b.mean(0)))
        flip = np.diag([1.0, 1.0, np.sign(np.linalg.det(v.T @ u.T))])
        turn = v.T @ flip @ u.T
        rest[0] = turn
        return b.mean(0) - turn @ a.mean(0), rest


def _suit_targets(model, suit_world, measured, rate, frames):
    bones = len(model.skeleton.names)
    target = np.tile(np.eye(3), (frames, bones, 1, 1))
    weight = np.zeros((frames, bones))
    for name, rotation in (suit_world or {}).items():
        if name not in model.skeleton.names:
            continue
        b = model.skeleton.index(name)
        here = np.isfinite(rotation[:, 0])
        away = np.zeros(frames, dtype=bool)
        for s, e in find_runs(~measured[:, b]):
            if (e - s) / rate > SUIT_LEADS_AFTER_S:
                away[s:e] = True
        target[here, b] = matrix_from_quaternion(rotation[here])
        weight[here & away, b] = 1.0 / SUIT_SIGMA_ALONE_RAD**2
    return target, weight


def bridge_lost(rotation, lost, rate):
    """Carry local rotations (T, B, 4) across stretches where a bone was measured by nothing; held at open ends.

    Between two ends goes a cubic (Hermite) that leaves and arrives as fast as the bone turned there, which over a gap of
    half a second is off by two thirds of what an eased stop would be; the longer the gap, the less its ends' speeds say.
    """
    frames = len(rotation)
    out = rotation.copy()
    for b in range(rotation.shape[1]):
        runs = find_runs(lost[:, b])
        for number, (s, e) in enumerate(runs):
            if s == 0 and e == frames:
                continue
            if s == 0:
                out[:e, b] = rotation[e, b]
            elif e == frames:
                out[s:, b] = rotation[s - 1, b]
            else:
                before = max(s - 1 - SPEED_FRAMES, runs[number - 1][1] if number else 0)
                after = min(e + SPEED_FRAMES, (runs[number + 1][0] if number + 1 < len(runs) else frames) - 1)
                out[s:e, b] = _across(rotation[[before, s - 1, e, after], b], s - 1 - before, e - s, after - e, rate)
    return out


def _across(ends, before, gap, after, rate):
    """Rotations (gap, 4) between ends[1] and ends[2]; ends[0] was `before` frames earlier, ends[3] is `after` later."""
    turns = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(ends[:-1]), ends[1:]))
    told = 1 / (1 + (gap / (SPEED_TELLS_S * rate)) ** 2)
    leaving, arriving = (told * (gap + 1) / max(n, 1) * turn for n, turn in ((before, turns[0]), (after, turns[2])))
    f = np.arange(1, gap + 1)[:, None] / (gap + 1)
    way = (f**3 - 2 * f**2 + f) * leaving + (3 * f**2 - 2 * f**3) * turns[1] + (f**3 - f**2) * arriving
    return quaternion_multiply(ends[1], quaternion_from_rotvec(way))


def _with_fingers(whole, part, rate, root, rotation):
    local = np.tile([0.0, 0.0, 0.0, 1.0], (len(root), len(whole.names), 1))
    for b, name in enumerate(part.names):
        local[:, whole.index(name)] = rotation[:, b]
    return Motion(whole, rate, root, local)


def _figures(model, residual, lost, rate):
    seen = np.isfinite(residual)
    squared, times = np.where(seen, residual, 0.0) ** 2, seen.sum(axis=0)
    rms = 1000 * np.sqrt(squared.sum() / times.sum()) if seen.any() else None
    by_marker = 1000 * np.sqrt(squared.sum(axis=0) / np.maximum(times, 1))
    worst = int(by_marker.argmax()) if seen.any() else None
    limbs = {
        name: float(lost[:, b].sum() / rate)
        for b, name in enumerate(model.skeleton.names)
        if name in BODY_BONES and lost[:, b].any()
    }
    return {
        "residual_rms_mm": float(rms) if rms is not None else None,
        "residual_p95_mm": float(1000 * np.nanpercentile(residual, 95)) if rms is not None else None,
        "worst_marker": model.marker_names[worst] if worst is not None else None,
        "worst_marker_mm": float(by_marker[worst]) if worst is not None else None,
        "lost_s": limbs,
    }
