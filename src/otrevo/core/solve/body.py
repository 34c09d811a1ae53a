"""Solve: named markers, suit, gloves to one body motion per performer.

Every frame is a damped Gauss-Newton fit on the skeleton (core.body.tree_solver), started from the frame before it.
Where a bone has no marker below it for a while, a suit sensor's orientation leads if there is one; otherwise its local
rotation is carried across by a cubic between the two ends, unless a sensor tells of those below, and the stretch is marked as lost.
"""

from dataclasses import dataclass, field

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.conventions import (
    find_runs,
    make_continuous,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.solve.after_change import solve_changed
from otrevo.core.solve.frames import MARKER_SIGMA_M, ROBUST_SCALE_M, Frames, measure_poses, solve_all, solve_before
from otrevo.core.solve.lingering import lingering_pulls

SUIT_SIGMA_ALONE_RAD = 0.013
SUIT_LEADS_AFTER_S = 0.05
HOLDING_MARKERS = 2  # with fewer of its own in sight a sensor helps to turn a bone
SPEED_FRAMES = 4  # beside a gap, by which its ends' speeds are told
SPEED_TELLS_S = 1.5  # in a gap this long they count half


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


def measured_bones(model, seen, sensed=None):
    """(T, B): whether any marker on the bone or on a bone below it is seen, or `sensed` (T, B) says so of one of them."""
    out = np.zeros((len(seen), len(model.skeleton.names)), dtype=bool) if sensed is None else sensed.copy()
    for m, b in enumerate(model.marker_bone):
        out[:, b] |= seen[:, m]
    for b in range(len(model.skeleton.names) - 1, 0, -1):
        out[:, model.skeleton.parents[b]] |= out[:, b]
    return out


def held_bones(model, seen):
    """(T, B): whether markers hold a bone's rotation: enough of its own are seen, or, of a bone with few, any of the bones below it.

    A collar bone with one marker is not held by that alone once its arm is out of sight.
    """
    own = np.zeros((len(seen), len(model.skeleton.names)), dtype=int)
    for m, b in enumerate(model.marker_bone):
        own[:, b] += seen[:, m]
    few = np.bincount(model.marker_bone, minlength=own.shape[1]) < HOLDING_MARKERS
    below, last = _measured_below(model, seen), ~_measured_below(model, np.ones_like(seen[:1]))
    return (own >= HOLDING_MARKERS) | (few & (below | (last & (own > 0))))


def _measured_below(model, seen):
    """(T, B): whether any marker on a bone below is seen."""
    measured = measured_bones(model, seen)
    out = np.zeros_like(measured)
    for b, parent in enumerate(model.skeleton.parents):
        if parent >= 0:
            out[:, parent] |= measured[:, b]
    return out


def solve_take(
    labelled_m,
    rate,
    performer,
    suit_world=None,
    progress=None,
    sd_m=None,
    earlier=None,
    model=None,
    scale_m=ROBUST_SCALE_M,
):
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
    scale_m : of the weights by which points that do not fit the body lose their hold, metres.

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
    weight = 1.0 / variance
    told = measured_bones(model, seen, target_weight > 0)
    pull = np.empty((count, 0, 6))
    if earlier is not None and (target_weight > 0).any():
        led = target_weight > 0
        pull = lingering_pulls(model, labelled_m, weight, scale_m, earlier.motion, led, float(rate))
    frames = Frames(labelled_m, weight, target, target_weight, told, pull, scale_m)
    lost = ~measured & (target_weight == 0)
    # Where a sensor tells of a bone below, the solver shares what both ends say; a bone bridged for itself would take the others along.
    untold = ~frames.told
    if earlier is None:
        poses = solve_all(model, frames, first, progress)
        solved = np.ones(count, dtype=bool)
    else:
        guided = np.zeros_like(target_weight)
        if earlier.seen is not None:
            _, guided = _suit_targets(model, suit_world, held_bones(model, earlier.seen), float(rate), count)
        changed = earlier.changed | ((guided > 0) != (target_weight > 0)).any(axis=1)
        poses, solved = solve_changed(model, frames, rate, first, earlier.motion, changed, progress)
    if solved[:first].any() and target_weight[:first].any():
        solve_before(model, frames, first, poses)
    rotation = bridge_lost(make_continuous(poses.rotation), untold, float(rate), None if earlier is None else solved)
    root, rotation = _as_stored(poses.root_m), _as_stored(rotation)
    residual, marker = np.empty((count, markers)), np.empty((count, markers, 3))
    measure_poses(model.arrays, labelled_m, root, rotation, residual, marker)
    residual[:first] = np.nan
    motion = _with_fingers(performer.skeleton, model.skeleton, rate, root, rotation)
    counted = frames.weight / (1 + (np.nan_to_num(residual) / scale_m) ** 2) ** 2
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
        Where nothing tells of the bone or of those below it.
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
    local = np.empty((len(root), len(whole.names), 4))
    local[:] = 0.0, 0.0, 0.0, 1.0
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
        "residual_p95_mm": float(1000 * np.percentile(residual[seen], 95)) if rms is not None else None,
        "worst_marker": model.marker_names[worst] if worst is not None else None,
        "worst_marker_mm": float(by_marker[worst]) if worst is not None else None,
        "lost_s": limbs,
    }
