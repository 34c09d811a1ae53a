"""Bending a limb of two bones so that its end comes to a place: closed form, all frames at once.

The lower bone is turned about an axis n until the end is as far from the root as the place is, then the whole limb is swung there by
the shortest rotation. With u, l the two bones, |u + R(n, a) l| is wanted: u.R l = A + B cos a + C sin a gives the angle a, and of its two
solutions the one on which the limb bends as a knee or an elbow does. n is the normal of the plane in which the limb is bent,
mixed with the hinge's own axis, which alone is left when the limb is straight. Near full stretch the distance asked for is
softened, so that the joint's speed stays finite, unless the performer's own limb is stretched as far. A limb folds no further than
an elbow or a knee can, unless it did so before. World axes, metres.
"""

import numpy as np

from otrevo.core.conventions import quaternion_multiply, quaternion_rotate

SOFT = 0.975
STRETCHED = 0.9945  # what a limb comes closest to when it has to reach
HINGE = 0.15
FOLDED_DEG = 28.0  # between the two bones of a limb that is folded as far as it goes


def softened(distance, length, free):
    """The distance (T,) that a limb of `length` takes when `distance` is asked for; up to `free` (T,) it is taken as it is."""
    soft = np.maximum(SOFT * length, free)
    room = np.maximum(STRETCHED * length - soft, 1e-4 * length)
    over = np.maximum(distance - soft, 0.0)
    return np.minimum(distance, soft) + room * (1 - np.exp(-over / room))


def bend(root, joint, end, target, hinge):
    """(upper turn (T, 4), lower turn (T, 4)): rotations of the world for both bones that bring the end to `target`, as near as it goes.

    root, joint, end, target (T, 3): where the limb begins, bends, ends and is to end; hinge (T, 3): the axis about which it bends.
    """
    upper, lower = joint - root, end - joint
    a, b = np.linalg.norm(upper, axis=1), np.linalg.norm(lower, axis=1)
    axis = unit(np.cross(upper, lower) / (a * b)[:, None] + HINGE * hinge)
    wanted = target - root
    now = np.linalg.norm(end - root, axis=1)
    folded = np.sqrt(a * a + b * b - 2 * a * b * np.cos(np.radians(FOLDED_DEG)))
    least = np.maximum(np.abs(a - b) + 1e-4, np.minimum(now, folded))
    distance = np.maximum(softened(np.linalg.norm(wanted, axis=1), a + b, np.minimum(now, a + b)), least)
    along = (upper * axis).sum(axis=1) * (lower * axis).sum(axis=1)
    flat = lower - (lower * axis).sum(axis=1)[:, None] * axis
    cosine = (upper * flat).sum(axis=1)
    sine = (upper * np.cross(axis, flat)).sum(axis=1)
    size = np.maximum(np.hypot(cosine, sine), 1e-12)
    need = (distance**2 - a**2 - b**2) / 2 - along
    straight, corner = np.arctan2(sine, cosine), np.arccos(np.clip(need / size, -1, 1))
    # a joint that is bent a little the wrong way stays so while nothing more is asked of it; asked for more, it bends the right way
    wrong = np.clip((corner / np.maximum(straight, 1e-9) - 1.2) / 1.8, 0, 1)
    angle = straight + corner * np.where(straight > 0, 2 * wrong - 1, 1.0)
    bent = about(axis, angle)
    reached = upper + quaternion_rotate(bent, lower)
    swing = shortest(unit(reached), unit(wanted))
    return swing, quaternion_multiply(swing, bent)


def about(axis, angle):
    """Rotations (T, 4) about unit axes (T, 3) by angles (T,)."""
    return np.concatenate([axis * np.sin(angle / 2)[:, None], np.cos(angle / 2)[:, None]], axis=1)


def unit(v):
    return v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-12)


def shortest(a, b):
    """The shortest rotations (T, 4) that take unit vectors a (T, 3) to b."""
    w = 1 + (a * b).sum(axis=1)
    axis = np.cross(a, b)
    q = np.concatenate([axis, w[:, None]], axis=1)
    back = w < 1e-9
    if back.any():
        other = np.cross(a[back], np.where(np.abs(a[back][:, :1]) < 0.9, [[1.0, 0, 0]], [[0, 1.0, 0]]))
        q[back] = np.concatenate([other, np.zeros((back.sum(), 1))], axis=1)
    return unit(q)
