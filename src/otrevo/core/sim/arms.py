"""Arms of made-up performers whose hands hold on to something: elbows and frames that follow from the shoulders and hands."""

import numpy as np

from otrevo.core.body.kinematics import forward_kinematics
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_matrix,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.sim.legs import tilt, two_bone, way_done


def reaches(keys, times, side):
    """Where a hand is held (T, 3), metres from the floor below the performer, and how much it is held there (T,), 0 to 1.

    keys.reaches holds (start, end, side, target or None, way): from start to end the hand goes to a target (3,), by way of
    a bow of `way` (3,) metres; with None it lets go, and the keyed pose has the arm again.
    """
    position, held = np.zeros((len(times), 3)), np.zeros(len(times))
    now = None
    for start, end, which, target, way in sorted(keys.reaches, key=lambda r: r[0]):
        if which != side:
            continue
        s = way_done(times, start, end)[:, None]
        if target is None:
            held -= s[:, 0]
            now = None
            continue
        target = np.asarray(target, float)
        after = times >= start
        if now is None:
            held += s[:, 0]
            position[after] = target
        else:
            position[after] = (now + (target - now) * s + 4 * s * (1 - s) * np.asarray(way, float))[after]
        now = target
    return position, np.clip(held, 0.0, 1.0)


def hold(skeleton, keys, times, pelvis_m, local):
    """Turn the arms (in place) so that held hands are where they hold on to; local (T, B, 4), pelvis_m (T, 3)."""
    joint, world = forward_kinematics(skeleton, pelvis_m, local)
    for side, sign in (("left", 1.0), ("right", -1.0)):
        target, held = reaches(keys, times, side)
        if not held.any():
            continue
        above, upper, lower, hand = (skeleton.index(side + n) for n in ("Shoulder", "UpperArm", "LowerArm", "Hand"))
        rest = skeleton.rest_offset_m
        lengths = np.linalg.norm(rest[lower]), np.linalg.norm(rest[hand])
        # elbows hang down, out and back
        pole = quaternion_rotate(world[:, skeleton.index("upperChest")], np.array([0.6 * sign, -0.6, -0.6]))
        elbow, wrist = two_bone(joint[:, upper], target, *lengths, pole)
        first, second = (elbow - joint[:, upper]) / lengths[0], (wrist - elbow) / lengths[1]
        hinge = -sign * np.cross(first, second)  # an elbow bends about its own +Y: forwards, from a T-pose
        upper_world = _along(sign * first, hinge, sign * rest[lower])
        lower_world = _along(sign * second, hinge, sign * rest[hand])
        for b, parent, wanted in ((upper, world[:, above], upper_world), (lower, upper_world, lower_world)):
            own = quaternion_multiply(quaternion_conjugate(parent), wanted)
            away = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(local[:, b]), own))
            local[:, b] = quaternion_multiply(local[:, b], quaternion_from_rotvec(held[:, None] * away))


def _along(direction, hinge, rest):
    """World rotations (T, 4) that bring a bone, at rest along `rest` (3,) near +X, to directions (T, 3), with +Y to hinges (T, 3)."""
    y = hinge - np.sum(hinge * direction, axis=1, keepdims=True) * direction
    y /= np.maximum(np.linalg.norm(y, axis=1, keepdims=True), 1e-9)
    turned = quaternion_from_matrix(np.stack([direction, y, np.cross(direction, y)], axis=-1))
    return quaternion_multiply(turned, tilt(rest, (1.0, 0.0, 0.0)))
