"""A body from rigid bodies on its limbs: how each sits and how long the bones are, from all they did, and then every frame.

A rigid body is as good as four markers that never move against each other. So what fits a performer to named markers
(core.warm_up.geometry_fit) fits them to bodies as well: it starts from the T-pose, which nobody holds exactly, and lets joints tell, since
both bodies beside a joint go round it. Then the same solver as for markers solves the take.
"""

from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

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
from otrevo.core.inertial.poses import plain
from otrevo.core.rigid.assign import FEWEST, assign_bodies, turns_alike
from otrevo.core.solve.body import solve_take
from otrevo.core.solve.uncertainty import body_uncertainty
from otrevo.core.warm_up.geometry_fit import fit_geometry

LEVER_M = 0.25  # from a body's middle to the four points that stand for it
_CORNERS = LEVER_M / np.sqrt(3) * np.array([[1, 1, 1], [1, -1, -1], [-1, 1, -1], [-1, -1, 1]], dtype=float)
SEAT_SD_M, SEAT_SD_RAD = 0.05, np.radians(20.0)  # of a body on its limb, besides what the T-pose says
STIFF_SD_M = 0.001  # a rigid body is one
# how well people hold each joint in a T-pose, degrees
HELD_DEG = {"hips": 4.0, "spine": 3.0, "chest": 3.0, "upperChest": 3.0, "Shoulder": 4.0, "UpperArm": 7.0, "LowerArm": 5.0, "Hand": 6.0,
            "UpperLeg": 5.0, "LowerLeg": 4.0, "Foot": 5.0}  # fmt: skip
USUALLY_HELD_DEG = 5.0
LIMIT_SHARE = 0.003  # of what a frame beyond a joint's soft limits counts: a warm-up goes there on purpose
FIT_FRAMES, ROUNDS = 160, 2
REST_SHARE = 0.01


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
    points = _points(recording.position_m[:, at], recording.rotation[:, at])
    model = _in_t_pose(found, points, height_m, bodies)
    model = _stiff(model, stiffness or {})
    rate = Fraction(recording.rate_hz).limit_denominator(1001)
    held = int(found.frames[len(found.frames) // 2])
    picked = np.unique(np.append(_frames(points, recording.rate_hz), held))
    shown = points[picked]
    shown[picked == held] = np.nanmedian(points[found.frames], axis=0)
    rest_share = np.full((len(picked), len(model.skeleton.names)), REST_SHARE)
    degrees = np.array([HELD_DEG.get(plain(b), USUALLY_HELD_DEG) for b in model.skeleton.names])
    usual = (model.sigma.mean(axis=1) / np.radians(degrees)) ** 2
    rest_share[picked == held] = usual
    performer = _performer(model, height_m, bodies)
    for number in range(ROUNDS):
        first = solve_take(shown, rate, performer, model=_as_stiff(performer, model))
        local = matrix_from_quaternion(
            first.motion.rotation_local[:, [first.motion.skeleton.index(n) for n in model.skeleton.names]]
        )
        fit = fit_geometry(
            _as_stiff(performer, model), shown, first.motion.root_position_m.copy(), np.ascontiguousarray(local), 6, model,
            rest_share, _seats_information(model, bodies), LIMIT_SHARE,
        )  # fmt: skip
        performer = _performer(fit.model, height_m, bodies)
        progress(0.15 + 0.3 * (number + 1))
    fitted = _as_stiff(performer, model)
    solution = solve_take(points, rate, performer, progress=lambda s: progress(0.75 + 0.2 * s), model=fitted)
    motion = solution.motion
    sure = _sureness(solution, fitted, points, rate)
    residual = {n: round(1000 * float(np.sqrt(np.nanmean(np.square(solution.marker_residual_m[:, 4 * i : 4 * i + 4])))), 2)
                for i, n in enumerate(bodies)}  # fmt: skip
    notes = list(recording.notes)
    notes += [f"'{n}' is left out: {why}" for n, why in found.left_out.items()]
    if skeleton is not None:
        motion = _onto(motion, skeleton)
        notes.append("brought onto the skeleton that was given: angles as solved, the path scaled by the legs")
    figures = {
        "bodies": len(bodies), "frames": len(motion), "rate": str(rate),
        "residual_rms_mm": round(1000 * float(np.sqrt(np.nanmean(np.square(solution.marker_residual_m)))), 2),
        "t_pose_s": round(float(found.frames.mean()) / recording.rate_hz, 2), "facing_deg": round(float(np.degrees(found.facing_rad)), 1),
        "unit": recording.unit, "up": recording.up,
    }  # fmt: skip
    progress(1.0)
    return BodiesSolution(motion, found, residual, sure, _turned_deg(motion), figures, tuple(notes))


def _points(position_m, rotation):
    """Four points (T, 4 N, 3) for every body (T, N, ...)."""
    corners = quaternion_rotate(rotation[:, :, None], _CORNERS)
    return np.ascontiguousarray((position_m[:, :, None] + corners).reshape(len(position_m), -1, 3))


def _in_t_pose(found, points, height_m, bodies):
    """A BodyModel of the height whose points sit where the bodies are in the T-pose."""
    skeleton = generic_skeleton(height_m)
    joints = rest_joints(skeleton)
    held = np.nanmedian(points[found.frames], axis=0)
    back = quaternion_from_rotvec(np.array([0.0, -found.facing_rad, 0.0]))
    held = quaternion_rotate(back, held)
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
    if not np.isfinite(offsets).all():
        lost = bodies[int(np.flatnonzero(~np.isfinite(offsets).all(axis=1))[0]) // 4]
        raise InputError(f"'{lost}' is lost while the others hold the T-pose; expected all bodies in it.")
    return body_model(skeleton, names, bones, offsets)


def _seats_information(model, bodies):
    """Inverse covariance (12 N, 12 N), 1/m², of the bodies' points about where they are in the T-pose.

    A body is rigid and sits somewhere within SEAT_SD_M and SEAT_SD_RAD.
    """
    out = np.zeros((12 * len(bodies), 12 * len(bodies)))
    for i in range(len(bodies)):
        points = model.marker_offset_m[4 * i : 4 * i + 4]
        points = points - points.mean(axis=0)
        shift = np.tile(np.eye(3), (4, 1)) / 2.0
        turn = np.concatenate(
            [np.cross(np.eye(3), p).T for p in points]
        )  # d point / d rotation vector, columns of axes
        norm = np.linalg.norm(turn, axis=0)
        turn = np.linalg.qr(turn / norm)[0]
        rest = np.eye(12) - shift @ shift.T - turn @ turn.T
        at = slice(12 * i, 12 * i + 12)
        out[at, at] = (
            rest / STIFF_SD_M**2
            + shift @ shift.T / (2 * SEAT_SD_M) ** 2
            + turn @ turn.T / (SEAT_SD_RAD * norm.mean()) ** 2
        )
    return out


def _middle(skeleton, joints, bone):
    b = skeleton.index(bone)
    below = np.flatnonzero(skeleton.parents == b)
    return (joints[bone] + joints[skeleton.names[below[0]]]) / 2 if len(below) == 1 else joints[bone]


def _stiff(model, stiffness):
    """The BodyModel with joints that give less (towards 1) or more (towards 0) than usual."""
    sigma = model.sigma.copy()
    for bone, value in stiffness.items():
        if bone not in model.skeleton.names:
            raise InputError(f"There is no joint '{bone}' to stiffen; expected such as chest, leftShoulder.")
        if not 0.0 <= value <= 1.0:
            raise InputError(f"A stiffness of {value:g} for {bone}; expected 0 (loose) to 1 (hardly gives).")
        sigma[model.skeleton.index(bone)] *= 10.0 ** (1.0 - 2.0 * value)
    return replace(model, sigma=sigma)


def _frames(points, hz):
    """Frames spread over the recording in which most bodies are there, some in a row so that the solver can follow."""
    there = np.isfinite(points[..., 0]).mean(axis=1) > 0.7
    step = max(1, len(points) // FIT_FRAMES, round(hz / 30))
    return np.flatnonzero(there)[::step]


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


def _sureness(solution, model, points, rate):
    """The BodyUncertainty of a Solution."""
    index = [solution.motion.skeleton.index(b) for b in model.skeleton.names]
    return body_uncertainty(
        model, solution.motion.root_position_m, solution.motion.rotation_local[:, index], np.isfinite(points[..., 0]),
        solution.weight, solution.target_weight, float(rate),
    )  # fmt: skip


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
