"""The line from the hips to the neck: a character's spine leans so that its whole line points as the performer's does.

Every bone of the spine takes the rotation of ours that the map sheet gives it. Where the character has other bones than we have, their
sum still points elsewhere by a degree or two. The lower bones of the spine make up for it; the last one, which carries the
shoulders, keeps its rotation. World axes, metres, quaternions x y z w.
"""

import numpy as np

from otrevo.core.body.skeleton import rest_joints
from otrevo.core.characters.rest_pose import shortest_rotation
from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply, quaternion_rotate
from otrevo.core.retarget.angles import follow, pose_angles
from otrevo.core.retarget.plan import UPRIGHT

MOST_RAD = np.radians(15)  # what the lower back is turned by at most


def lean_spine(plan, joint, rotation, rotations, stance):
    """Turn the lower bones of the character's spine, in place.

    Parameters
    ----------
    plan : Plan
    joint, rotation : ndarray (T, S, 3), (T, S, 4)
        The performer's joints and world rotations.
    rotations : ndarray (T, B, 4)
        The character's world rotations as the angles give them; changed.
    stance : str
        With "performer" the line points exactly as theirs; with "character" what the two lines are apart in a T-pose stays.
    """
    names = plan.source.names
    line = _line(plan)
    if len(line) < 2 or not {"hips", "neck"} <= set(names):
        return
    moved, kept = line[:-1], line[-1:]
    ours = joint[:, names.index("neck")] - joint[:, names.index("hips")]
    ours /= np.linalg.norm(ours, axis=1, keepdims=True)
    if stance == "character":
        ours = _as_at_rest(plan, line, ours, rotation)
    swinging, fixed = _reaches(plan, rotations, moved, kept)
    along = (ours * fixed).sum(1)
    room = along**2 - (fixed**2).sum(1) + (swinging**2).sum(1)
    wanted = (along + np.sqrt(np.maximum(room, 0.0)))[:, None] * ours - fixed
    turn = _swings(swinging, wanted)
    for b in moved:
        rotations[:, b] = quaternion_multiply(turn, rotations[:, b])


def _line(plan):
    """The driven bones of the character's spine that lead to its neck, from the hips up."""
    out, b = [], plan.joints.get("neck", -1)
    while b >= 0 and b != plan.root:
        b = plan.arrays.parents[b]
        if b >= 0 and plan.trunk[b]:
            out.append(b)
    return out[::-1] if b == plan.root else []


def _reaches(plan, rotations, moved, kept):
    """(what the moved bones add to the way from the hips to the neck (T, 3), what all others add)."""
    swinging, fixed = (np.zeros((len(rotations), 3)) for _ in range(2))
    b = plan.joints["neck"]
    while b != plan.root:
        carrier = plan.arrays.parents[b]
        above = carrier  # what nobody drives follows the bone above it
        while above not in moved and above not in kept and above != plan.root:
            above = plan.arrays.parents[above]
        part = quaternion_rotate(rotations[:, carrier], plan.arrays.offset[b])
        (swinging if above in moved else fixed)[:] += part
        b = carrier
    return swinging, fixed


def _as_at_rest(plan, line, ours, rotation):
    """The performer's line (T, 3), turned by what the character's line is away from it in a T-pose."""
    upright = np.tile([0.0, 0.0, 0.0, 1.0], (1, len(plan.source.names), 1))
    posed = np.empty((1, len(plan.arrays.parents), 4))
    pose_angles(plan.arrays, 0, 1, upright, posed)
    follow(plan.arrays, 0, 1, posed)
    theirs = sum(_reaches(plan, posed, line[:-1], line[-1:]))[0]
    rest = rest_joints(plan.source)
    own = rest["neck"] - rest["hips"]
    turn = shortest_rotation(own / np.linalg.norm(own), theirs / max(np.linalg.norm(theirs), 1e-9))
    chest = rotation[:, plan.source.names.index("chest" if "chest" in plan.source.names else "hips")]
    return quaternion_rotate(
        quaternion_multiply(chest, quaternion_multiply(np.broadcast_to(turn, chest.shape), quaternion_conjugate(chest))), ours
    )  # fmt: skip


def _swings(a, b):
    """Shortest rotations (T, 4) from vectors a to b (T, 3), none further than MOST_RAD."""
    axis = np.cross(a, b)
    sine = np.linalg.norm(axis, axis=1)
    angle = np.minimum(np.arctan2(sine, (a * b).sum(1)), MOST_RAD)
    axis /= np.maximum(sine, 1e-12)[:, None]
    out = np.concatenate([axis * np.sin(angle / 2)[:, None], np.cos(angle / 2)[:, None]], axis=1)
    out[sine < 1e-12] = UPRIGHT
    return out
