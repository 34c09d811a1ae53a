"""Solving frames in order: each is a damped Gauss-Newton fit on the skeleton (core.body.tree_solver), started from the frame before it."""

from typing import NamedTuple

import numpy as np

from otrevo.core.body.compiled_rotations import (
    copy_rotations,
    exp_rotation,
    from_quaternion,
    multiply,
    rotation_between,
    to_quaternion,
)
from otrevo.core.body.compiled_vectors import jit
from otrevo.core.body.tree_solver import Expected, Observed, distances, place_markers, pose_joints, refine_pose
from otrevo.core.conventions import matrix_from_quaternion, rigid_move
from otrevo.core.solve.hinges import AGAIN_FRAMES, bend_forward, bent_back
from otrevo.core.solve.regain import LOST_AT, OFF_AT, RETRY_FRAMES, lost_bones, regain

MARKER_SIGMA_M = 0.006
ROBUST_SCALE_M = 0.03
PROGRESS_FRAMES = 1200
FIRST_STEPS = 16
FASTEST_STEP_RAD = 0.3  # from frame to frame: what turns further has jumped, and has no speed


class Frames(NamedTuple):
    """What is known of all frames: position_m (T, M, 3), NaN where unseen; weight (T, M); target (T, B, 4) world
    rotations by sensors with target_weight (T, B); told (T, B): whether anything tells of a bone or of those below it; pull (T, B, 6) or (T, 0, 6):
    as Expected has it; scale_m: of the Geman-McClure weights.
    """

    position_m: np.ndarray
    weight: np.ndarray
    target: np.ndarray
    target_weight: np.ndarray
    told: np.ndarray
    pull: np.ndarray
    scale_m: float = ROBUST_SCALE_M


class Poses(NamedTuple):
    """Solved poses: root_m (T, 3), local rotation (T, B, 4), residual_m (T, M)."""

    root_m: np.ndarray
    rotation: np.ndarray
    residual_m: np.ndarray


@jit
def _predict(told, local, spin, predicted, smooth):
    """The pose as it goes on at its speed, into predicted and local (B, 3, 3); how much that counts, into smooth (B,)."""
    a33 = np.empty((3, 3))
    for b in range(local.shape[0]):
        if not told[b]:
            for i in range(3):
                spin[b, i] *= 0.9
        exp_rotation(spin[b], a33)
        multiply(local[b], a33, predicted[b])
        smooth[b] = 4.0 if told[b] else 60.0
    copy_rotations(predicted, local)


@jit
def solve_frames(body, frames, first, last, root, local, spin, settled, out):
    """Solve frames [first, last) in order. root (3,), local (B, 3, 3), spin (B, 3) carry the state on to the next call.

    body: BodyArrays; frames: Frames; settled: whether the state is that of the frame before; out: Poses receives them.
    """
    bones = body.parents.shape[0]
    predicted, smooth, v = np.empty((bones, 3, 3)), np.empty(bones), np.empty(3)
    target = np.empty((bones, 3, 3))
    tried, seen_then, bent_then = -RETRY_FRAMES, 0, -AGAIN_FRAMES
    for t in range(first, last):
        begun = settled or t > first
        before, residual = local.copy(), out.residual_m[t]
        _predict(frames.told[t], local, spin, predicted, smooth)
        observed = Observed(frames.position_m[t], frames.weight[t], frames.scale_m)
        for b in range(bones):
            if frames.target_weight[t, b] > 0.0:
                from_quaternion(frames.target[t, b], target[b])
        expected = Expected(predicted, smooth, target, frames.target_weight[t], frames.pull[t])
        for attempt in range(2):
            # a pose that does not fit its markers yet gets more steps: a quick limb, or one seen again
            steps = 2 if begun and attempt == 0 else 8
            refine_pose(body, observed, expected, root, local, steps, 1e-3, residual)
            if not lost_bones(body.marker_bone, residual, OFF_AT * ROBUST_SCALE_M, bones).any():
                break
        lost = lost_bones(body.marker_bone, residual, LOST_AT * ROBUST_SCALE_M, bones)
        seen = (~np.isnan(residual)).sum()
        if lost.any() and (t - tried >= RETRY_FRAMES or seen != seen_then):
            found = regain(body, observed, expected, root, local, lost, residual)
            if not found:  # its markers are wrong, not the pose: ask again when others are seen, or after a while
                tried, seen_then = t, seen
        back = bent_back(body, local, frames.position_m[t], frames.target_weight[t])
        again = back.any() and t - bent_then >= AGAIN_FRAMES
        if again and not bend_forward(body, observed, expected, root, local, back, residual):
            bent_then = t
        for i in range(3):
            out.root_m[t, i] = root[i]
        for b in range(bones):
            to_quaternion(local[b], out.rotation[t, b])
            rotation_between(before[b], local[b], v)
            size = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
            known = begun and (frames.told[max(t - 1, 0), b] or not frames.told[t, b])
            for i in range(3):
                spin[b, i] = v[i] if size < FASTEST_STEP_RAD and known else 0.0


@jit
def measure_poses(body, position_m, root_m, rotation, residual_m, marker_m):
    """Of poses (T): the markers on the body, into marker_m (T, M, 3), and how far they are from position_m, into residual_m."""
    bones = body.parents.shape[0]
    local, world, joint = np.empty((bones, 3, 3)), np.empty((bones, 3, 3)), np.empty((bones, 3))
    ones = np.ones(body.marker_bone.shape[0])
    for t in range(root_m.shape[0]):
        for b in range(bones):
            from_quaternion(rotation[t, b], local[b])
        pose_joints(body, root_m[t], local, world, joint)
        place_markers(body, world, joint, marker_m[t])
        distances(Observed(position_m[t], ones, 0.0), marker_m[t], residual_m[t])


def first_pose(model, labelled_m, first):
    """(root (3,), local (B, 3, 3)) to start from: the T-pose moved to the named markers, and then each limb to its own."""
    rest = np.tile(np.eye(3), (len(model.skeleton.names), 1, 1))
    world, joint, marker = np.empty_like(rest), np.empty((len(rest), 3)), np.empty((len(model.marker_names), 3))
    pose_joints(model.arrays, np.zeros(3), rest, world, joint)
    place_markers(model.arrays, world, joint, marker)
    observed = labelled_m[first]
    seen = np.isfinite(observed[:, 0])
    rest[0], root = rigid_move(marker[seen], observed[seen])
    local, nothing = rest.copy(), np.zeros(len(rest))
    refine_pose(
        model.arrays, Observed(observed, np.full(len(seen), MARKER_SIGMA_M**-2), 0.0), Expected(rest, nothing, rest, nothing, np.empty((0, 6))),
        root, local, FIRST_STEPS, 1e-3, np.empty(len(seen)),
    )  # fmt: skip
    return root, local


def solve_all(model, frames, first, progress):
    """Poses of every frame, from the first one that shows enough markers on."""
    count = len(frames.position_m)
    root, local = first_pose(model, frames.position_m, first)
    spin = np.zeros((len(model.skeleton.names), 3))
    poses = Poses(np.empty((count, 3)), np.empty((count, len(spin), 4)), np.empty(frames.weight.shape))
    for start in range(first, count, PROGRESS_FRAMES):  # in pieces, so that progress and cancelling come in between
        end = min(start + PROGRESS_FRAMES, count)
        solve_frames(model.arrays, frames, start, end, root, local, spin, start > first, poses)
        if progress:
            progress(end / count)
    poses.root_m[:first], poses.rotation[:first] = poses.root_m[first], poses.rotation[first]
    return poses


def solve_before(model, frames, first, poses):
    """Poses of the frames before `first`, of which sensors tell though markers hardly do: solved backwards from it, into poses."""
    *parts, scale_m = frames
    back = Frames(*(np.ascontiguousarray(part[:first][::-1]) for part in parts), scale_m)
    out = Poses(*(np.empty_like(part[:first]) for part in poses))
    root, local = poses.root_m[first].copy(), matrix_from_quaternion(poses.rotation[first])
    solve_frames(model.arrays, back, 0, first, root, local, np.zeros((local.shape[0], 3)), True, out)
    poses.root_m[:first], poses.rotation[:first] = out.root_m[::-1], out.rotation[::-1]
