"""Legs of made-up performers: feet that stand exactly still between steps, knees and frames that follow from pelvis and feet."""

import numpy as np

from otrevo.core.conventions import quaternion_from_matrix, quaternion_from_rotvec


def way_done(times, start, end):
    """Share (T,) of a way that is done, from rest at start to rest at end."""
    f = np.clip((times - start) / (end - start), 0, 1)
    return f * f * f * (f * (6 * f - 15) + 10)


def feet(keys, times, side, rest):
    """World position of one ankle (T, 3) and its lift (T,): stands exactly still between steps."""
    position = np.tile(rest, (len(times), 1))
    lift = np.zeros(len(times))
    now = np.zeros(3)
    for start, end, which, target, height, back in sorted(keys.steps):
        if which != side:
            continue
        s = way_done(times, start, end)
        if back:  # out and back within one step
            swing = np.sin(np.pi * s) ** 2
            position[:, 0] += target[0] * swing
            position[:, 2] += target[1] * swing
        else:
            swing = 4 * s * (1 - s)
            position[:, 0] += (target[0] - now[0]) * s
            position[:, 2] += (target[1] - now[1]) * s
            there = np.array([*target, 0.0][:3])
            # onto a step the foot goes up first, off it it comes down last, or it would go through the edge
            rise, early = there[2] - now[2], 1 - (1 - s) ** 3
            position[:, 1] += rise * (early if rise > 0 else s**3)
            now = there
        lift += height * swing
    position[:, 1] += lift
    return position, lift


def two_bone(hip, ankle, thigh, shin, forward):
    """Knee (T, 3) of a leg from hip to ankle that bends towards `forward`; the ankle is pulled in when out of reach."""
    reach = ankle - hip
    distance = np.linalg.norm(reach, axis=1, keepdims=True)
    limit = (thigh + shin) * 0.9995
    reach = np.where(distance > limit, reach * limit / distance, reach)
    distance = np.minimum(distance, limit)
    u = reach / distance
    along = (thigh**2 - shin**2 + distance**2) / (2 * distance)
    out = np.sqrt(np.maximum(thigh**2 - along**2, 1e-9))
    bend = forward - np.sum(forward * u, axis=1, keepdims=True) * u
    bend /= np.linalg.norm(bend, axis=1, keepdims=True)
    return hip + along * u + out * bend, hip + reach


def frame_to(down_axis, across):
    """World rotation (T, 4) whose -Y points along `down_axis` (unit) and whose +X leans to `across` (T, 3).

    The hinge's own axis is used and not the way forward: a thigh that points forward, seated, would have no frame.
    """
    y = -down_axis
    x = across - np.sum(across * y, axis=1, keepdims=True) * y
    x /= np.linalg.norm(x, axis=1, keepdims=True)
    return quaternion_from_matrix(np.stack([x, y, np.cross(x, y)], axis=-1))


def tilt(offset, onto=(0.0, -1.0, 0.0)):
    """The rotation that takes the bone's rest direction onto -Y or another axis of length 1, (4,)."""
    u = offset / np.linalg.norm(offset)
    axis = np.cross(u, onto)
    s = np.linalg.norm(axis)
    return quaternion_from_rotvec(axis / s * np.arctan2(s, u @ onto)) if s > 1e-9 else np.array([0.0, 0, 0, 1.0])
