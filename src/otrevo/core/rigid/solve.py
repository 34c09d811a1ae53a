"""A body from rigid bodies on its limbs: how each sits and how long the bones are, from all they did, and then every frame.

A rigid body is as good as four markers that never move against each other. So what fits a performer to named markers
(core.warm_up.geometry_fit) fits them to bodies as well: it starts from the T-pose, which nobody holds exactly, and lets joints tell, since
both bodies beside a joint go round it. Then the same solver as for markers solves the take.
"""

from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np
import scipy

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.model import body_model
from otrevo.core.body.performer import PerformerCalibration
from otrevo.core.body.skeleton import BODY_BONES, generic_skeleton, rest_joints
from otrevo.core.conventions import (
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.inertial.poses import LIMBS, T_POSE_SD, plain
from otrevo.core.rigid.assign import FEWEST, assign_bodies, turns_alike
from otrevo.core.rigid.skin_turns import missed_by_skin, turned_further
from otrevo.core.solve.body import solve_take
from otrevo.core.solve.uncertainty import body_uncertainty, sampled
from otrevo.core.warm_up.geometry_fit import PRIOR_ACROSS_M, fit_geometry, turns_of_joints
from otrevo.core.warm_up.geometry_sure import geometry_variance
from otrevo.core.warm_up.rest import share_of_rest

LEVER_M = 0.25  # from a body's middle to the four points that stand for it
_CORNERS = LEVER_M / np.sqrt(3) * np.array([[1, 1, 1], [1, -1, -1], [-1, 1, -1], [-1, -1, 1]], dtype=float)
SEAT_SD_M = 0.05  # of a body on its limb, besides what the T-pose says
USUALLY_TURNED_DEG = (6.0, 8.0, 6.0)
# Bodies slide with the skin of an arm that stays bent, as a boxer's does, and that looks like another shoulder. The T-pose counts for more
# there: by this share of how far people may hold it wrongly.
ARMS_HELD = 0.6
STIFF_SD_M = 0.02  # a body is rigid, as its points say; the prior is right for small turns only and must not hold it
LIMB_ACROSS_M = 0.003  # a limb's axis is the line from joint to joint
LIMIT_SHARE = 0.003  # of what a frame beyond a joint's soft limits counts: a warm-up goes there on purpose
FIT_FRAMES, ROUNDS = 160, 3
# within which a point holds on to the body in each round: before its lengths are known a limb is off by centimetres, and would be given up
SCALES_M = 0.3, 0.1, 0.03
# How far skin carries bodies: before that is known, and at least; and for how long it carries them one way. Where points count for more than
# they tell, joints are drawn to where skin moves least.
STRAYS_M, LEAST_STRAYS_M, SWAYS_S = 0.006, 0.001, 0.3
# Spine, neck and collar bones carry few bodies or none. How a turn is shared along them is told by places alone, which skin blurs:
# these joints stray this much of what they may beside markers, so that neighbours bend together.
SPINE = "spine", "chest", "upperChest", "neck", "head"
TRUNK = *SPINE, "leftShoulder", "rightShoulder"
TRUNK_GIVES = 0.22
# A take's mean pose is no rest: somebody may box or look aside all through it. It counts as so many frames at rest, by axis; feet
# do point where shins do.
MEAN_FRAMES, FEET_MEAN_FRAMES = 1.0, (1.0, 8.0, 8.0)
SPINE_MEAN_FRAMES = MEAN_FRAMES * TRUNK_GIVES**2  # stiff only among themselves: a boxer's back is bent all the while
SKIN_TURNS_RAD = np.radians(2.5)  # by which skin lets two bodies beside a joint seem to turn against each other
LEAST_TOLD = 0.1  # the least of a joint's turning that is taken to be its own
MISFIT_MM = 60.0  # RMS; skin carries bodies by 10 to 20
SURE_FRAMES = 200  # of a take, in which it is looked how far joints may be off as geometry is not known


@dataclass(frozen=True)
class BodiesSolution:
    """motion over 52 bones, frame 0 at the recording's first sample; assignment; residual_mm: {body: RMS}; sure: the
    BodyUncertainty; turned_deg: {bone of the body: how far its joint turns about its mean, RMS}; figures; notes.
    """

    motion: Motion
    assignment: object
    residual_mm: dict
    sure: object
    turned_deg: dict
    figures: dict
    notes: tuple[str, ...]


def solve_bodies(recording, height_m, given=None, skeleton=None, stiffness=None, progress=lambda share: None, of=""):
    """Solve one performer from a BodiesRecording.

    Parameters
    ----------
    recording : BodiesRecording
    height_m : float
    given : dict, optional
        {body: bone}; proposed where not given.
    skeleton : Skeleton, optional
        One that the motion is brought onto: angles stay, the path is scaled by the legs. The performer's own where not given.
    stiffness : dict, optional
        {bone: 0 to 1} of joints; 0.5 is usual, 1 hardly gives, 0 is loose.
    progress : callable
        Called with the share that is done; may raise to stop.
    of : str
        Whose bodies they are, where they are of several performers.

    Returns
    -------
    BodiesSolution

    Raises
    ------
    InputError
        When the bodies cannot be put on limbs, never stand still, or are too few.
    """
    if not 0.8 <= height_m <= 2.3:
        raise InputError(f"A height of {height_m:g} m is not a person's; expected metres between 0.8 and 2.3.")
    found = assign_bodies(recording, height_m, given, of)
    alike = turns_alike(recording, list(found.bones))
    if alike:
        a, b = alike[0]
        raise InputError(
            f"'{a}' and '{b}' never move against each other: they are one body under two names; expected a map with one of them."
        )
    bodies = list(found.bones)
    if len(bodies) < FEWEST:
        raise InputError(f"{len(bodies)} bodies are on limbs; expected {FEWEST} at least.")
    at = [recording.names.index(n) for n in bodies]
    # rest faces +Z, and the T-pose is held at rest
    forward = _about_up(-found.facing_rad)
    position_m = quaternion_rotate(forward, recording.position_m[:, at])
    rotation = quaternion_multiply(forward, recording.rotation[:, at])
    points = _points(position_m, rotation)
    in_t_pose = _rigid(np.nanmedian(points[found.frames], axis=0))
    model = _in_t_pose(found, in_t_pose, height_m, bodies)
    model = _stiff(model, stiffness or {})
    rate = Fraction(recording.rate_hz).limit_denominator(1001)
    held = int(found.frames[len(found.frames) // 2])
    picked = np.unique(np.append(_frames(points, recording.rate_hz), held))
    rest_share = share_of_rest(
        model, picked == held, MEAN_FRAMES / len(picked),
        {"Foot": np.array(FEET_MEAN_FRAMES) / len(picked)} | dict.fromkeys(SPINE, SPINE_MEAN_FRAMES / len(picked)),
    )  # fmt: skip
    across_m = [LIMB_ACROSS_M if plain(b) in LIMBS.values() else PRIOR_ACROSS_M for b in model.skeleton.names[1:]]
    performer, seats = _performer(model, height_m, bodies), model
    bones, missed = [found.bones[n] for n in bodies], {}
    information = _seats_information(model.marker_offset_m - _middles(model), bones)
    length_told = None
    counted, strays_m = _counted(picked, recording.rate_hz), np.full(len(model.marker_names), STRAYS_M)
    for number in range(ROUNDS):
        shown = points[picked]
        shown[picked == held] = in_t_pose  # in which no limb is turned, and skin misses nothing
        first = solve_take(shown, rate, performer, model=_as_stiff(performer, model), scale_m=SCALES_M[number])
        local = matrix_from_quaternion(
            first.motion.rotation_local[:, [first.motion.skeleton.index(n) for n in model.skeleton.names]]
        )
        if number:
            strays_m = _strays_m(first.marker_residual_m)
        fit = fit_geometry(
            _as_stiff(performer, model), shown, first.motion.root_position_m.copy(), np.ascontiguousarray(local), 6, seats,
            rest_share, information, LIMIT_SHARE, across_m, counted * strays_m, length_told,
        )  # fmt: skip
        length_told = _told_by_turns(model, fit.local[picked != held], bones)
        turns = _turns(model, fit.model)
        turned = _turned(model, turns)
        performer = _performer(replace(fit.model, marker_offset_m=turned + _middles(fit.model)), height_m, bodies)
        information = _seats_information(turned, bones)
        # from where they are now, on straight lines to where the T-pose has them
        back = np.cross(np.repeat(turns.as_rotvec(), 4, axis=0), turned)
        seats = replace(model, marker_offset_m=turned - back + _middles(model))
        points, missed = _further(bones, position_m, rotation, performer, recording.rate_hz)
        progress(0.15 + 0.6 * (number + 1) / ROUNDS)
    fitted = _as_stiff(performer, model)
    solution = solve_take(points, rate, performer, progress=lambda s: progress(0.75 + 0.2 * s), model=fitted)
    sure = _sureness(solution, fitted, points, rate, fit.information)
    motion = _facing(solution.motion, found.facing_rad)
    residual = {n: round(1000 * float(np.sqrt(np.nanmean(np.square(solution.marker_residual_m[:, 4 * i : 4 * i + 4])))), 2)
                for i, n in enumerate(bodies)}  # fmt: skip
    notes = [*recording.notes, *found.notes]
    notes += [f"'{n}' is left out: {why}" for n, why in found.left_out.items()]
    notes += said_of_misfits(residual).values()
    if skeleton is not None:
        motion = _onto(motion, skeleton)
        notes.append("brought onto the skeleton that was given: angles as solved, the path scaled by the legs")
    figures = {
        "bodies": len(bodies), "frames": len(motion), "rate": str(rate),
        "residual_rms_mm": round(1000 * float(np.sqrt(np.nanmean(np.square(solution.marker_residual_m)))), 2),
        "t_pose_s": round(float(found.frames.mean()) / recording.rate_hz, 2), "facing_deg": round(float(np.degrees(found.facing_rad)), 1),
        "unit": recording.unit, "up": recording.up, "skin_missed": {limb: round(share / (1 + share), 2) for limb, share in missed.items()},
    }  # fmt: skip
    progress(1.0)
    return BodiesSolution(motion, found, residual, sure, _turned_deg(motion), figures, tuple(notes))


def _told_by_turns(model, local, bones):
    """How much counts of what points say of bones' lengths (B - 1,), by how joints are turned in frames, local (F, B, 3, 3).

    bones: those that have a body. Where a joint hardly turns, it is skin that says how far along the bone above it lies.
    """
    names, out = model.skeleton.names, np.ones(len(model.skeleton.names))
    spread = turns_of_joints(local, model.arrays.rolls).var(axis=0)
    for b, name in enumerate(names):
        if name in bones and names[model.skeleton.parents[b]] in bones:
            along = np.argmax(np.abs(model.skeleton.rest_offset_m[b]))
            across = np.delete(spread[b], along).mean()
            out[b] = max(1.0 - SKIN_TURNS_RAD**2 / across, LEAST_TOLD) ** 2
    return out[1:]


def said_of_misfits(residual_mm):
    """{body: sentence} of those that are further from where the solved body has them than any skin moves; residual_mm: {body: RMS}."""
    return {
        n: f"'{n}' is {mm:.0f} mm from where its limb has it; is it on that limb, and is the height right?"
        for n, mm in residual_mm.items()
        if mm > MISFIT_MM
    }


def _points(position_m, rotation):
    """Four points (T, 4 N, 3) for every body (T, N, ...)."""
    corners = quaternion_rotate(rotation[:, :, None], _CORNERS)
    return np.ascontiguousarray((position_m[:, :, None] + corners).reshape(len(position_m), -1, 3))


def _further(bones, position_m, rotation, performer, hz):
    """(points (T, 4 N, 3) of bodies as they would be had skin come along with their limbs, what it missed as from missed_by_skin)."""
    offsets = performer.marker_offset_m.reshape(-1, 4, 3)
    seat_m = offsets.mean(axis=1)
    mount = np.array([_aligned(o - s, _CORNERS).as_quat() for o, s in zip(offsets, seat_m, strict=True)])
    world = quaternion_multiply(rotation, quaternion_conjugate(mount))
    missed = missed_by_skin(bones, world, np.arange(len(world)) / hz)
    world, position_m = turned_further(bones, world, position_m, seat_m, missed)
    return _points(position_m, quaternion_multiply(world, mount)), missed


def _about_up(angle_rad):
    return quaternion_from_rotvec(np.array([0.0, angle_rad, 0.0]))


def _facing(motion, angle_rad):
    """The Motion turned about the vertical through the origin."""
    turn, local = _about_up(angle_rad), motion.rotation_local.copy()
    local[:, 0] = quaternion_multiply(turn, local[:, 0])
    return replace(motion, root_position_m=quaternion_rotate(turn, motion.root_position_m), rotation_local=local)


def _rigid(points):
    """The points (4 N, 3) of bodies as these really are: medians over frames in which a body turns are out of shape."""
    out = points.copy()
    for body in out.reshape(-1, 4, 3):
        if np.isfinite(body).all():
            middle = body.mean(axis=0)
            body[:] = middle + _aligned(body - middle, _CORNERS).apply(_CORNERS)
    return out


def _in_t_pose(found, held, height_m, bodies):
    """A BodyModel of the height whose points sit where the bodies' (4 N, 3) are in the T-pose, which faces +Z."""
    skeleton = generic_skeleton(height_m)
    joints = rest_joints(skeleton)
    middle = held.reshape(len(bodies), 4, 3).mean(axis=1)
    expected = np.array([_middle(skeleton, joints, found.bones[n]) for n in bodies])
    shift = np.median(middle - expected, axis=0)
    # left and right tell where the middle is, wherever on a limb the bodies sit; the floor is the floor
    pairs = [(i, bodies.index(o)) for i, n in enumerate(bodies) if found.bones[n].startswith("left")
             for o in bodies if found.bones[o] == "right" + found.bones[n][4:]]  # fmt: skip
    if pairs:
        shift[0] = np.median([(middle[i, 0] + middle[j, 0]) / 2 for i, j in pairs])
    shift[1] = 0.0
    names = [f"{n} {k + 1}" for n in bodies for k in range(4)]
    bones = [found.bones[n] for n in bodies for _ in range(4)]
    offsets = held - shift - np.array([joints[b] for b in bones])
    return body_model(skeleton, names, bones, offsets)


def _middles(model):
    """The middles of the bodies (4 N, 3) that a BodyModel's points stand for, once for each point."""
    return np.repeat(model.marker_offset_m.reshape(-1, 4, 3).mean(axis=1), 4, axis=0)


def _turns(model, fitted):
    """The Rotation (N) of every body of a BodyModel about its middle to where the fitted one has it."""
    before, now = ((m.marker_offset_m - _middles(m)).reshape(-1, 4, 3) for m in (model, fitted))
    return scipy.spatial.transform.Rotation.concatenate([_aligned(n, b) for b, n in zip(before, now, strict=True)])


def _aligned(points, with_points):
    """The Rotation of points (K, 3) about their middle from others (K, 3)."""
    return scipy.spatial.transform.Rotation.align_vectors(points, with_points)[0]


def _turned(model, turns):
    """The points (4 N, 3) of a BodyModel about the middles of their bodies, turned by a Rotation (N)."""
    before = (model.marker_offset_m - _middles(model)).reshape(-1, 4, 3)
    return np.concatenate([turn.apply(points) for turn, points in zip(turns, before, strict=True)])


def _seats_information(points, bones):
    """Inverse covariance (12 N, 12 N), 1/m², of the bodies' points (4 N, 3) about where the T-pose has them.

    points are about the middles of their bodies, turned as far as is known. A body sits somewhere within SEAT_SD_M, and is turned
    as people hold their limbs.
    """
    out = np.zeros((len(points) * 3,) * 2)
    for i, bone in enumerate(bones):
        shift = np.tile(np.eye(3), (4, 1)) / 2.0
        # d point / d rotation vector, columns of axes
        turn = np.concatenate([np.cross(np.eye(3), p).T for p in points[4 * i : 4 * i + 4]])
        norm = np.linalg.norm(turn, axis=0)
        turn = np.linalg.qr(turn / norm)[0]
        rest = np.eye(12) - shift @ shift.T - turn @ turn.T
        sd = np.radians(T_POSE_SD.get(plain(bone), USUALLY_TURNED_DEG)) * (ARMS_HELD if "Arm" in bone else 1.0)
        at = slice(12 * i, 12 * i + 12)
        out[at, at] = (
            rest / STIFF_SD_M**2
            + shift @ shift.T / (2 * SEAT_SD_M) ** 2
            + turn @ np.diag(1 / (sd * norm.mean()) ** 2) @ turn.T
        )
    return out


def _middle(skeleton, joints, bone):
    b = skeleton.index(bone)
    below = np.flatnonzero(skeleton.parents == b)
    return (joints[bone] + joints[skeleton.names[below[0]]]) / 2 if len(below) == 1 else joints[bone]


def _stiff(model, stiffness):
    """The BodyModel with joints that give less (towards 1) or more (towards 0) than is usual on bodies."""
    sigma = model.sigma.copy()
    sigma[[model.skeleton.index(bone) for bone in TRUNK]] *= TRUNK_GIVES
    for bone, value in stiffness.items():
        if bone not in model.skeleton.names:
            raise InputError(f"There is no joint '{bone}' to stiffen; expected one such as chest, leftShoulder.")
        if not 0.0 <= value <= 1.0:
            raise InputError(f"A stiffness of {value:g} for {bone}; expected 0 (loose) to 1 (hardly gives).")
        sigma[model.skeleton.index(bone)] *= 10.0 ** (1.0 - 2.0 * value)
    return replace(model, sigma=sigma)


def _frames(points, hz):
    """Frames spread over the recording in which most bodies are there, some in a row so that the solver can follow."""
    there = np.isfinite(points[..., 0]).mean(axis=1) > 0.7
    step = max(1, len(points) // FIT_FRAMES, round(hz / 30))
    return np.flatnonzero(there)[::step]


def _counted(picked, hz):
    """By how much further points count as being off than they stray: all four of a body do so alike, and for as long as skin sways one way."""
    each_s = np.ptp(picked) / hz / max(1, len(picked) - 1)
    return float(np.sqrt(4.0 * max(1.0, SWAYS_S / max(each_s, 1e-6))))


def _strays_m(residual_m):
    """How far points stray (M,), metres, the same of all four of a body, by what a fit leaves of them (F, M)."""
    squared = residual_m.reshape(len(residual_m), -1, 4) ** 2
    own = np.sqrt(np.nan_to_num(np.nanmean(squared, axis=(0, 2))))
    return np.repeat(np.maximum(own, LEAST_STRAYS_M), 4)


def _performer(model, height_m, bodies):
    """A PerformerCalibration with the bodies' points as markers."""
    whole = generic_skeleton(height_m)
    offsets = whole.rest_offset_m.copy()
    for b, name in enumerate(model.skeleton.names):
        offsets[whole.index(name)] = model.skeleton.rest_offset_m[b]
    bones = tuple(model.skeleton.names[b] for b in model.marker_bone)
    return PerformerCalibration(
        height_m, whole.with_offsets(offsets), "", model.marker_names, bones, model.marker_offset_m
    )


def _as_stiff(performer, like):
    """The performer's BodyModel with the joint stiffness of another one."""
    return replace(performer.model(), sigma=like.sigma)


def _sureness(solution, model, points, rate, information):
    """The BodyUncertainty of a Solution; information: of the GeometryFit that found the model."""
    index = [solution.motion.skeleton.index(b) for b in model.skeleton.names]
    root, local, seen = (
        solution.motion.root_position_m,
        solution.motion.rotation_local[:, index],
        np.isfinite(points[..., 0]),
    )
    frames = sampled(len(points), float(rate))
    some = frames[np.unique(np.linspace(0, len(frames) - 1, min(len(frames), SURE_FRAMES)).astype(int))]
    variance = geometry_variance(
        model, information, root[some], matrix_from_quaternion(local[some]), seen[some], solution.weight[some]
    )
    everywhere = scipy.interpolate.make_interp_spline(some, variance, k=1)(frames)
    return body_uncertainty(model, root, local, seen, solution.weight, solution.target_weight, float(rate), everywhere)


def _turned_deg(motion):
    """{bone of the body: how far its joint turns about its mean, RMS over the take, degrees}."""
    index = [motion.skeleton.index(b) for b in BODY_BONES]
    local = motion.rotation_local[:, index]
    mean = local * np.sign(np.einsum("tbi,bi->tb", local, local[0]))[..., None]
    mean = mean.mean(axis=0)
    mean /= np.linalg.norm(mean, axis=-1, keepdims=True)
    off = np.linalg.norm(rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(mean), local)), axis=-1)
    return {b: round(float(np.degrees(np.sqrt(np.mean(off[:, i] ** 2)))), 1) for i, b in enumerate(BODY_BONES)}


def _onto(motion, skeleton):
    """The Motion on another Skeleton of the same bones: angles as they are, the path scaled by how high the hips stand."""
    own, theirs = (_leg(s) for s in (motion.skeleton, skeleton))
    root = motion.root_position_m * (theirs / own)
    return Motion(skeleton, motion.rate, root, motion.rotation_local)


def _leg(skeleton):
    return sum(np.linalg.norm(skeleton.rest_offset_m[skeleton.index("left" + b)]) for b in ("LowerLeg", "Foot"))
