"""Solving a take again after a change: from shortly before it until the pose is the earlier one again; all other frames stay."""

from dataclasses import dataclass

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.conventions import (
    find_runs,
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.solve.frames import FASTEST_STEP_RAD, Poses, first_pose, solve_frames

LEAD_S = 0.25  # solved before a change, so that the state has settled when it comes
MEETS_AGAIN_S = 0.25  # how often it is looked whether the pose is the earlier one again
SAME_M, SAME_RAD = 3e-6, 2e-5


@dataclass(frozen=True)
class Earlier:
    """A Motion that was solved before from the same markers but for some frames, changed (T,) bool.

    seen (T, M): the markers that were seen then, where sensors guided it by that; None where no sensor did.
    """

    motion: Motion
    changed: np.ndarray
    seen: np.ndarray | None = None


def solve_changed(model, frames, rate, first, motion, changed, progress):
    """(Poses, solved (T,)): the poses of a Motion, solved again around what changed (T,)."""
    count = len(frames.position_m)
    index = [motion.skeleton.index(b) for b in model.skeleton.names]
    before = Poses(motion.root_position_m, motion.rotation_local[:, index], np.empty(frames.weight.shape))
    poses = Poses(before.root_m.copy(), before.rotation.copy(), before.residual_m)
    solved = np.zeros(count, dtype=bool)
    lead, piece = max(2, round(LEAD_S * float(rate))), max(1, round(MEETS_AGAIN_S * float(rate)))
    at = first
    for s, e in find_runs(changed):
        if e <= at and solved.any():
            continue
        settled = s >= first + 2
        if settled:
            at = max(_sure_before(frames.told, s - lead), at, first + 2)
            root, local, spin = _state_before(poses, at)
        else:  # the take begins otherwise now
            root, local = first_pose(model, frames.position_m, first)
            spin = np.zeros((len(index), 3))
        while at < count:
            end = min(count, at + piece)
            solve_frames(model.arrays, frames, at, end, root, local, spin, settled, poses)
            solved[at:end] = True
            at, settled = end, True
            if progress:
                progress(end / count)
            if end >= e and _meets(poses, before, frames.told, end - 1):
                break
    if solved[first]:
        poses.root_m[:first], poses.rotation[:first], solved[:first] = poses.root_m[first], poses.rotation[first], True
    return poses, solved


def _sure_before(told, frame):
    """The last frame up to `frame` before which, in two frames, every bone is told of that ever was until then."""
    told = told[: max(frame, 0)]
    whole = told[:, told.any(axis=0)].all(axis=1)
    sure = np.flatnonzero(whole[1:] & whole[:-1])
    return int(sure[-1]) + 2 if len(sure) else 0


def _state_before(poses, frame):
    """(root (3,), local (B, 3, 3), spin (B, 3)) of the solver when it comes to a frame."""
    before, last = poses.rotation[frame - 2 : frame]
    spin = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(before), last))
    spin[np.linalg.norm(spin, axis=1) >= FASTEST_STEP_RAD] = 0.0
    return poses.root_m[frame - 1].copy(), matrix_from_quaternion(last), spin


def _meets(poses, before, told, frame):
    """Whether the pose of a frame is the earlier one again, in all bones of which anything tells."""
    turned = quaternion_multiply(quaternion_conjugate(before.rotation[frame]), poses.rotation[frame])
    near = np.linalg.norm(rotvec_from_quaternion(turned), axis=1) < SAME_RAD
    return np.linalg.norm(poses.root_m[frame] - before.root_m[frame]) < SAME_M and (near | ~told[frame]).all()
