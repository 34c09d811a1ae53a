"""Solve: named markers, suit, gloves to one body motion per performer.

Every frame is a damped Gauss-Newton fit on the skeleton (core.body.tree_solver), started from the frame before it.
Where a bone has no marker below it for a while, a suit sensor's orientation leads if there is one; otherwise its local
rotation is carried across by a cubic between the two ends, and the stretch is marked as lost.
"""

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from otrevo.core.body.compiled_rotations import (
    copy_rotations,
    exp_rotation,
    from_quaternion,
    jit,
    multiply,
    rotation_between,
    to_quaternion,
)
from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.body.tree_solver import Expected, Observed, distances, place_markers, pose_joints, refine_pose
from otrevo.core.conventions import (
    find_runs,
    make_continuous,
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rigid_move,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.solve.regain import LOST_AT, OFF_AT, RETRY_FRAMES, lost_bones, regain

MARKER_SIGMA_M = 0.006
ROBUST_SCALE_M = 0.03
SUIT_SIGMA_ALONE_RAD = 0.013
SUIT_LEADS_AFTER_S = 0.05
HOLDING_MARKERS = 2  # with fewer of its own in sight a sensor helps to turn a bone
SPEED_FRAMES = 4  # beside a gap, by which its ends' speeds are told
SPEED_TELLS_S = 3.0  # in a gap this long they count half
PROGRESS_FRAMES = 1200
FIRST_STEPS = 16
FASTEST_STEP_RAD = 0.3  # from frame to frame: what turns further has jumped, and has no speed
LEAD_S = 0.25  # solved before a change, so that the state has settled when it comes
MEETS_AGAIN_S = 0.25  # how often it is looked whether the pose is the earlier one again
SAME_M, SAME_RAD = 3e-6, 2e-5


@dataclass(frozen=True)
class Solution:
    """motion over the performer's 52 bones; marker_residual_m (T, M), NaN where hidden; predicted_m (T, M, 3): the
    markers on the solved body; lost (T, B) over the model's bones, true where neither marker nor suit measured a bone;
    weight (T, M), 1/m^2, of the markers, the robust factor in it, and target_weight (T, B), 1/rad^2, of suit sensors, as
    they counted in the end; solved (T,): frames that were worked through; figures in mm.
    """

    motion: Motion
    marker_residual_m: np.ndarray
    predicted_m: np.ndarray
    lost: np.ndarray
    bone_names: tuple[str, ...]
    weight: np.ndarray
    target_weight: np.ndarray
    solved: np.ndarray
    figures: dict = field(default_factory=dict)


@dataclass(frozen=True)
class Earlier:
    """A Motion that was solved before from the same markers but for some frames, changed (T,) bool.

    seen (T, M): the markers that were seen then, where sensors guided it by that; None where no sensor did.
    """

    motion: Motion
    changed: np.ndarray
    seen: np.ndarray | None = None


class Frames(NamedTuple):
    """What is known of all frames: position_m (T, M, 3), NaN where unseen; weight (T, M); target (T, B, 4) world
    rotations by sensors with target_weight (T, B); told (T, B): whether anything tells of a bone or of those below it.
    """

    position_m: np.ndarray
    weight: np.ndarray
    target: np.ndarray
    target_weight: np.ndarray
    told: np.ndarray


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
    tried, seen_then = -RETRY_FRAMES, 0
    for t in range(first, last):
        begun = settled or t > first
        before, residual = local.copy(), out.residual_m[t]
        _predict(frames.told[t], local, spin, predicted, smooth)
        observed = Observed(frames.position_m[t], frames.weight[t], ROBUST_SCALE_M)
        for b in range(bones):
            if frames.target_weight[t, b] > 0.0:
                from_quaternion(frames.target[t, b], target[b])
        expected = Expected(predicted, smooth, target, frames.target_weight[t])
        for attempt in range(
            2
        ):  # a pose that does not fit its markers yet gets more steps: a quick limb, or one seen again
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


def measured_bones(model, seen, sensed=None):
    """(T, B): whether any marker on the bone or on a bone below it is seen, or `sensed` (T, B) says so of one of them."""
    out = np.zeros((len(seen), len(model.skeleton.names)), dtype=bool) if sensed is None else sensed.copy()
    for m, b in enumerate(model.marker_bone):
        out[:, b] |= seen[:, m]
    for b in range(len(model.skeleton.names) - 1, 0, -1):
        out[:, model.skeleton.parents[b]] |= out[:, b]
    return out


def held_bones(model, seen):
    """(T, B): whether markers hold a bone's rotation: enough of its own are seen, or, of a bone with few, any on it or below."""
    own = np.zeros((len(seen), len(model.skeleton.names)), dtype=int)
    for m, b in enumerate(model.marker_bone):
        own[:, b] += seen[:, m]
    few = np.bincount(model.marker_bone, minlength=own.shape[1]) < HOLDING_MARKERS
    return (own >= HOLDING_MARKERS) | (measured_bones(model, seen) & few)


def solve_take(labelled_m, rate, performer, suit_world=None, progress=None, sd_m=None, earlier=None, model=None):
    """Solve one performer's take.

    Parameters
    ----------
    labelled_m : (T, M, 3) metres in the performer's marker order, NaN where hidden.
    rate : Fraction, frames a second.
    performer : PerformerCalibration.
    suit_world : mapping of bone name to (T, 4) world rotations, NaN where lost, or None.
    progress : called with the share that is done; may raise to stop.
    sd_m : (T, M), how far each point may be off by its triangulation, which adds to what skin moves over bone; NaN or
        None where not known.
    earlier : Earlier, or None to solve every frame. Frames are solved from shortly before each change until the pose is
        the earlier one again; all others stay as they are.
    model : BodyModel of the performer, where joints give otherwise than usual.

    Returns
    -------
    Solution

    Raises
    ------
    InputError
        When no frame shows enough markers, or not the calibration's markers are given.
    """
    model = model or performer.model()
    labelled_m = np.ascontiguousarray(labelled_m, dtype=float)
    count, markers = labelled_m.shape[:2]
    if markers != len(model.marker_names):
        raise InputError(f"{markers} named markers; the performer's calibration has {len(model.marker_names)}.")
    seen = np.isfinite(labelled_m[..., 0])
    enough = np.flatnonzero(seen.sum(1) >= max(6, 0.3 * markers))
    if len(enough) == 0:
        raise InputError("No frame shows enough named markers to solve a body; label the take first.")
    first = int(enough[0])
    measured = measured_bones(model, seen)
    target, target_weight = _suit_targets(model, suit_world, held_bones(model, seen), float(rate), count)
    variance = np.full((count, markers), MARKER_SIGMA_M**2)
    if sd_m is not None:
        variance += np.nan_to_num(np.asarray(sd_m, dtype=float)) ** 2
    frames = Frames(labelled_m, 1.0 / variance, target, target_weight, measured_bones(model, seen, target_weight > 0))
    lost = ~measured & (target_weight == 0)
    if earlier is None:
        poses = _solve_all(model, frames, rate, first, progress)
        solved = np.ones(count, dtype=bool)
        rotation = bridge_lost(make_continuous(poses.rotation), lost, float(rate))
    else:
        guided = np.zeros_like(target_weight)
        if earlier.seen is not None:
            _, guided = _suit_targets(model, suit_world, held_bones(model, earlier.seen), float(rate), count)
        changed = earlier.changed | ((guided > 0) != (target_weight > 0)).any(axis=1)
        poses, solved, rotation = _solve_changed(model, frames, rate, first, earlier.motion, changed, progress)
        rotation = bridge_lost(rotation, lost, float(rate), solved)
    root, rotation = _as_stored(poses.root_m), _as_stored(rotation)
    residual, marker = np.empty((count, markers)), np.empty((count, markers, 3))
    measure_poses(model.arrays, labelled_m, root, rotation, residual, marker)
    residual[:first] = np.nan
    motion = _with_fingers(performer.skeleton, model.skeleton, rate, root, rotation)
    counted = frames.weight / (1 + (np.nan_to_num(residual) / ROBUST_SCALE_M) ** 2) ** 2
    figures = _figures(model, residual, lost, float(rate))
    return Solution(motion, residual, marker, lost, model.skeleton.names, counted, target_weight, solved, figures)


def markers_on(performer, motion):
    """The markers (T, M, 3) of a performer on a solved Motion, metres."""
    joint, rotation = motion_joints(motion)
    bone = [motion.skeleton.index(b) for b in performer.marker_bones]
    return joint[:, bone] + quaternion_rotate(rotation[:, bone], performer.marker_offset_m)


def _as_stored(values):
    """Values as they are kept, in single precision: what is computed from them is the same whenever it is computed."""
    return values.astype(np.float32).astype(float)


def _solve_all(model, frames, rate, first, progress):
    """Poses of every frame, from the first one that shows enough markers on."""
    count = len(frames.position_m)
    root, local = _first_pose(model, frames.position_m, first)
    spin = np.zeros((len(model.skeleton.names), 3))
    poses = Poses(np.empty((count, 3)), np.empty((count, len(spin), 4)), np.empty(frames.weight.shape))
    for start in range(first, count, PROGRESS_FRAMES):  # in pieces, so that progress and cancelling come in between
        end = min(start + PROGRESS_FRAMES, count)
        solve_frames(model.arrays, frames, start, end, root, local, spin, start > first, poses)
        if progress:
            progress(end / count)
    poses.root_m[:first], poses.rotation[:first] = poses.root_m[first], poses.rotation[first]
    return poses


def _solve_changed(model, frames, rate, first, motion, changed, progress):
    """(Poses, solved (T,), rotation (T, B, 4)): the poses of a Motion, solved again around what changed (T,)."""
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
            root, local = _first_pose(model, frames.position_m, first)
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
    return poses, solved, make_continuous(poses.rotation)


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


def _first_pose(model, labelled_m, first):
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
        model.arrays, Observed(observed, np.full(len(seen), MARKER_SIGMA_M**-2), 0.0), Expected(rest, nothing, rest, nothing),
        root, local, FIRST_STEPS, 1e-3, np.empty(len(seen)),
    )  # fmt: skip
    return root, local


def _suit_targets(model, suit_world, held, rate, frames):
    bones = len(model.skeleton.names)
    target, weight = np.zeros((frames, bones, 4)), np.zeros((frames, bones))
    for name, rotation in (suit_world or {}).items():
        if name not in model.skeleton.names:
            continue
        b = model.skeleton.index(name)
        here = np.isfinite(rotation[:, 0])
        away = np.zeros(frames, dtype=bool)
        for s, e in find_runs(~held[:, b]):
            if (e - s) / rate > SUIT_LEADS_AFTER_S:
                away[s:e] = True
        target[:, b] = rotation
        weight[here & away, b] = 1.0 / SUIT_SIGMA_ALONE_RAD**2
    return target, weight


def bridge_lost(rotation, lost, rate, within=None):
    """Carry rotations across stretches in which nothing measured a bone.

    Parameters
    ----------
    rotation : ndarray (T, B, 4)
        Local quaternions x y z w.
    lost : ndarray (T, B) of bool
        Where nothing measured the bone.
    rate : float
        Frames a second.
    within : ndarray (T,) of bool, optional
        Only stretches that touch these frames are carried across; the others are so already.

    Returns
    -------
    ndarray (T, B, 4)
        With the stretches filled; held at open ends.

    Notes
    -----
    Between two ends goes a cubic (Hermite) that leaves and arrives as fast as the bone turned there. Over a gap of half
    a second it is off by two thirds of what an eased stop would be. The longer the gap, the less the speeds at its ends
    count.
    """
    frames = len(rotation)
    out = rotation.copy()
    for b in range(rotation.shape[1]):
        runs = find_runs(lost[:, b])
        for number, (s, e) in enumerate(runs):
            if s == 0 and e == frames:
                continue
            if within is not None and not within[max(0, s - SPEED_FRAMES) : e + SPEED_FRAMES].any():
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
    steps = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(ends[:-1]), ends[1:]))
    told = 1 / (1 + (gap / (SPEED_TELLS_S * rate)) ** 2)
    leaving, arriving = (told * (gap + 1) / max(n, 1) * step for n, step in ((before, steps[0]), (after, steps[2])))
    f = np.arange(1, gap + 1)[:, None] / (gap + 1)
    way = (f**3 - 2 * f**2 + f) * leaving + (3 * f**2 - 2 * f**3) * steps[1] + (f**3 - f**2) * arriving
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
