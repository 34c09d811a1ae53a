"""What may touch the ground, and when it seems to: by what sensors feel and where a pose has them. World axes, metres."""

from dataclasses import dataclass

import numpy as np
import scipy

from otrevo.core.conventions import (
    find_runs,
    join_runs,
    make_continuous,
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
    slerp,
)
from otrevo.core.inertial.joints import heading_matrix
from otrevo.core.inertial.poses import plain
from otrevo.core.inertial.recording import GRAVITY_MS2
from otrevo.core.inertial.stills import turn_speed
from otrevo.core.zero_phase import low_pass

BAND_HZ = 12.0
QUIET_MS2, QUIET_S = 1.6, 0.06  # what a point feels besides gravity while it stands
PLACE_M = 0.03  # how well it is known where on the limb the point is
TURNING_RAD_S = np.radians(50.0)
LIFT_M, FOOT_LIFT_M = 0.12, 0.5  # so far over the lowest point of the body something may still be on the ground
SHORTEST_S, BREAK_S, FLAT_S, PIVOT_S = 0.08, 0.05, 0.06, 0.2
PIVOTS = ("Toes", "LowerLeg")  # which may stand while their limbs go on turning about them
KNEE_M = 0.04  # feet that are so much higher than a knee that stands do not stand
FLIGHT_MS2, FLIGHT_S = 4.0, 0.1  # a body that feels less flies
# Shares of the body's mass that go with a sensor (D. A. Winter, Biomechanics and Motor Control of Human Movement, table 4.1)
MASSES = {
    "hips": 0.142, "chest": 0.319, "head": 0.081, "Shoulder": 0.018, "UpperArm": 0.028, "LowerArm": 0.016, "Hand": 0.006, "UpperLeg": 0.1,
    "LowerLeg": 0.0465, "Foot": 0.0145,
}  # fmt: skip


@dataclass(frozen=True)
class Contact:
    """point: "hips" (seat or back), "leftFoot" (heel), "leftToes" (ball), "leftLowerLeg" (knee) or "leftHand"; frames [start, end);
    level_m of its ground."""

    point: str
    start: int
    end: int
    level_m: float


# what can touch the ground: the point, and the bone whose sensor carries it
_POINTS = (("Foot", "Foot"), ("Toes", "Foot"), ("LowerLeg", "LowerLeg"), ("Hand", "Hand"))


def find_carried(sensed, rate):
    """Whether (T,) something carries the body: a body that flies feels nothing, whatever its limbs do to each other."""
    force = sum(_mass(bone) * force for bone, (force, _) in sensed.items()) / sum(map(_mass, sensed))
    force = scipy.ndimage.uniform_filter1d(force, max(1, int(FLIGHT_S * rate)), axis=0)
    return np.linalg.norm(force, axis=1) > FLIGHT_MS2


def _mass(bone):
    return MASSES[plain(bone)]


@dataclass(frozen=True)
class Point:
    end: str
    offset: np.ndarray  # (T, 3) from the end's joint
    relative: np.ndarray  # (T, 3) from the hips
    felt: np.ndarray  # (T, 3) acceleration, m/s²
    turning: np.ndarray  # (T,) how fast its limb turns, rad/s
    bending: np.ndarray  # (T,) how much that changes, 1/s²
    height_m: float  # of the point over the ground it stands on


@dataclass(frozen=True)
class Ends:
    order: dict  # {bone: number in the system, from 1}; the hips are 0
    relative: np.ndarray  # (T, E, 3) joints as seen from the hips
    felt: np.ndarray  # (T, E, 3) accelerations

    def number(self, bone):
        return self.order.get(bone, 0)


def felt_in_world(recording, calibration, headings):
    """{bone: (specific force (T, 3), second derivative of the sensor's rotation (T, 3, 3))} in the body's world."""
    rate, times = recording.rate_hz, recording.times_s
    slow = min(BAND_HZ, 0.4 * rate)
    angle, out = headings.at(times), {}
    for s, name in enumerate(recording.names):
        ok = np.isfinite(recording.rotation[:, s, 0])
        if ok.sum() < 10:
            continue
        q = slerp(times[ok], make_continuous(recording.rotation[ok, s]), np.clip(times, times[ok][0], times[ok][-1]))
        turn = heading_matrix(-angle[:, s]) @ matrix_from_quaternion(q)
        own = np.stack([np.interp(times, times[ok], recording.force_ms2[ok, s, k]) for k in range(3)], axis=1)
        force = low_pass(np.einsum("tij,tj->ti", turn, own), rate, slow)
        smooth = low_pass(turn, rate, slow)
        out[name] = force, np.gradient(np.gradient(smooth, 1 / rate, axis=0), 1 / rate, axis=0)
    return out


def accelerations(sensed, bone, place, gravity):
    force, bend_ = sensed[bone]
    out = force + bend_ @ place
    out[:, 1] -= gravity
    return out


def joint_place(calibration, bone, skeleton):
    """Where a bone's own joint lies in its sensor's axes, metres; the hips' joint by the hip joints."""
    if bone == "hips":
        found = [calibration.places[j][0] for j in ("leftUpperLeg", "rightUpperLeg") if j in calibration.places]
        mount = calibration.mount[calibration.names.index("hips")]
        up = -skeleton.rest_offset_m[skeleton.index("leftUpperLeg")] * [0, 1, 1]
        return np.mean(found, axis=0) + quaternion_rotate(quaternion_conjugate(mount), up) if found else np.zeros(3)
    return calibration.places[bone][1] if bone in calibration.places else np.zeros(3)


def find_ends(recording, skeleton, joint, world, calibration, sensed):
    order, relative, felts, points = {}, [], [], {}
    turning = np.nan_to_num(turn_speed(recording), nan=np.inf)
    root = joint[:, 0]
    for side in ("left", "right"):
        for point, carrier in _POINTS:
            bone = side + carrier
            if bone not in recording.names or bone not in sensed:
                continue
            b, s = skeleton.index(bone), calibration.names.index(bone)
            place = joint_place(calibration, bone, skeleton)
            own, height = accelerations(sensed, bone, place, GRAVITY_MS2), _height(side + point, skeleton)
            if bone not in order:
                order[bone] = len(order) + 1
                relative.append(joint[:, b] - root)
                felts.append(own)
            if point == "Toes":
                out = skeleton.rest_offset_m[skeleton.index(side + "Toes")]
                at = place + quaternion_rotate(quaternion_conjugate(calibration.mount[s]), out)
                offset, own = (
                    joint[:, skeleton.index(side + "Toes")] - joint[:, b],
                    accelerations(sensed, bone, at, GRAVITY_MS2),
                )
            elif point == "LowerLeg":
                offset = _rolling(world[:, b], height)
            else:
                offset = np.zeros_like(root)
            points[side + point] = Point(
                bone, offset, joint[:, b] - root + offset, own, turning[:, s], _bending(sensed, bone), height
            )
    if not order:
        return Ends({}, np.zeros((len(root), 0, 3)), np.zeros((len(root), 0, 3))), {}
    points["hips"] = _seat(recording, skeleton, world, calibration, sensed, turning)
    return Ends(order, np.stack(relative, axis=1), np.stack(felts, axis=1)), points


def _seat(recording, skeleton, world, calibration, sensed, turning):
    """The Point on which the hips sit or lie."""
    height = _height("hips", skeleton)
    offset = _rolling(world[:, 0], height)
    return Point(
        "hips", offset, offset, accelerations(sensed, "hips", joint_place(calibration, "hips", skeleton), GRAVITY_MS2),
        turning[:, calibration.names.index("hips")], _bending(sensed, "hips"), height,
    )  # fmt: skip


def _rolling(world, height_m):
    """From a joint that rolls on the ground below it to what stays there (T, 3), by its bone's rotations world (T, 4)."""
    turned = quaternion_multiply(world[1:], quaternion_conjugate(world[:-1]))
    rolled = np.cross(rotvec_from_quaternion(turned), [0.0, height_m, 0.0])
    return -np.concatenate([np.zeros((1, 3)), np.cumsum(rolled, axis=0)])


def _bending(sensed, bone):
    return np.linalg.norm(sensed[bone][1], axis=(1, 2)) / np.sqrt(2)


def _height(point, skeleton):
    """How high a point lies over the ground it stands on, metres."""
    scale = skeleton.rest_offset_m[0, 1] / 0.93
    if point.endswith("Foot"):
        side = point.removesuffix("Foot")
        return 0.02 * scale - skeleton.rest_offset_m[skeleton.index(side + "Toes"), 1]
    return {"hips": 0.09, "Toes": 0.02, "LowerLeg": 0.055, "Hand": 0.04}[plain(point)] * scale


def find_touches(points, rate, blurred_s):
    """[Contact] without levels: a point stands while its limb hardly turns and it feels gravity alone, low down on the body.

    A foot that stands flat may go on standing on its ball while it turns, and come down on it; whoever crawls turns the shin
    about the knee. On steps and rungs a foot stands while the other goes below it.
    """
    if not points:
        return []
    low = np.stack([p.relative[:, 1] - p.height_m for p in points.values()], axis=1)
    low = low - low.min(axis=1, keepdims=True)
    width = max(1, int(QUIET_S * rate))
    felt = scipy.ndimage.uniform_filter1d(
        np.stack([(p.felt**2).sum(axis=1) for p in points.values()], axis=1), width, axis=0
    )
    bending = np.stack([p.bending for p in points.values()], axis=1)
    quiet = np.sqrt(np.maximum(felt, 0.0)) < QUIET_MS2 + PLACE_M * bending
    foot = np.array([name.endswith(("Foot", "Toes")) for name in points])
    quiet &= low < np.where(foot, FOOT_LIFT_M, LIFT_M)
    knees = [k for k, name in enumerate(points) if name.endswith("LowerLeg")]
    if knees:  # whoever goes on the knees drags the feet, which feel as still
        knee = np.where(quiet[:, knees], low[:, knees], np.inf).min(axis=1, keepdims=True)
        quiet &= ~(foot & (low - knee > KNEE_M))
    out, blurred = [], int(blurred_s * rate)
    for (name, p), at in zip(points.items(), quiet.T, strict=True):
        flat = at & (p.turning < TURNING_RAD_S)
        pivots = name.endswith(PIVOTS)
        for a, b in join_runs(find_runs(at if pivots else flat), BREAK_S * rate):
            if b - a >= SHORTEST_S * rate and (
                flat[a:b].sum() >= FLAT_S * rate or (pivots and b - a >= PIVOT_S * rate)
            ):
                out.append(Contact(name, max(0, int(a) - blurred), min(len(at), int(b) + blurred), 0.0))
    return sorted(out, key=lambda c: c.start)
