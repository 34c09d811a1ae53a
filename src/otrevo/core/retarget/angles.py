"""Angles first: every mapped limb of a character points where the performer's points. Compiled, one pass over the frames.

Bones are set in the world and from the root outward, so a character's own proportions decide where its joints come to lie. The
hips go where the performer's hip joints go, times the ratio of leg lengths; their height over the floor likewise.
"""

import numpy as np
from numba import njit


@njit(cache=True, error_model="numpy")
def _multiply(a, b, out):
    ax, ay, az, aw = a[0], a[1], a[2], a[3]
    bx, by, bz, bw = b[0], b[1], b[2], b[3]
    out[0] = aw * bx + ax * bw + ay * bz - az * by
    out[1] = aw * by - ax * bz + ay * bw + az * bx
    out[2] = aw * bz + ax * by - ay * bx + az * bw
    out[3] = aw * bw - ax * bx - ay * by - az * bz


@njit(cache=True, error_model="numpy")
def rotate_into(q, v, out):
    """out (3,) = the vector v (3,) rotated by the unit quaternion q (4,)."""
    x, y, z, w = q[0], q[1], q[2], q[3]
    a, b, c = v[0], v[1], v[2]
    tx, ty, tz = 2.0 * (y * c - z * b), 2.0 * (z * a - x * c), 2.0 * (x * b - y * a)
    out[0] = a + w * tx + y * tz - z * ty
    out[1] = b + w * ty + z * tx - x * tz
    out[2] = c + w * tz + x * ty - y * tx


@njit(cache=True, error_model="numpy")
def _between(a, b, f, out):
    """out (4,) = slerp from a to b, the short way."""
    dot = a[0] * b[0] + a[1] * b[1] + a[2] * b[2] + a[3] * b[3]
    sign = 1.0 if dot >= 0 else -1.0
    dot = min(abs(dot), 1.0)
    if dot > 0.99999:
        u, v = 1.0 - f, f
    else:
        angle = np.arccos(dot)
        u, v = np.sin((1 - f) * angle) / np.sin(angle), np.sin(f * angle) / np.sin(angle)
    n = 0.0
    for i in range(4):
        out[i] = u * a[i] + sign * v * b[i]
        n += out[i] * out[i]
    n = np.sqrt(n)
    for i in range(4):
        out[i] /= n


@njit(cache=True, error_model="numpy")
def pose_angles(plan, first, last, source, rotation):
    """World rotations of the driven bones of a character, from `source` (T, S, 4), into rotation (T, B, 4), frames [first, last).

    All other bones are left as they are; see `follow`.
    """
    mixed = np.empty(4)
    for t in range(first, last):
        for b in range(plan.parents.shape[0]):
            if plan.before[b] < 0:
                continue
            if plan.share[b] >= 1.0 or plan.before[b] == plan.after[b]:
                mixed[:] = source[t, plan.after[b]]
            else:
                _between(source[t, plan.before[b]], source[t, plan.after[b]], plan.share[b], mixed)
            _multiply(mixed, plan.change[b], rotation[t, b])


@njit(cache=True, error_model="numpy")
def follow(plan, first, last, rotation):
    """Let all bones that nobody drives follow the ones above them, and twist bones share the twist, frames [first, last)."""
    mixed, local, other, inverse = np.empty(4), np.empty(4), np.empty(4), np.empty(4)
    for t in range(first, last):
        for b in range(plan.parents.shape[0]):
            p = plan.parents[b]
            if plan.before[b] >= 0:
                continue
            if p >= 0:
                _multiply(rotation[t, p], plan.rest[b], rotation[t, b])
            else:
                rotation[t, b] = plan.rest[b]
        twist(plan, t, rotation, local, other, inverse, mixed)


@njit(cache=True, error_model="numpy")
def twist(plan, t, rotation, local, other, inverse, mixed):
    """Let twist bones of frame t take their share of what the next joint is twisted by, about the limb's own line."""
    axis = np.empty(3)
    for b in range(plan.parents.shape[0]):
        limb, following = plan.twist_of[b], plan.twist_next[b]
        if limb < 0:
            continue
        # how the next bone has left its rest, seen from the limb
        for i in range(3):
            inverse[i] = -rotation[t, limb, i]
        inverse[3] = rotation[t, limb, 3]
        _multiply(inverse, rotation[t, following], local)
        rest_in_limb(plan, limb, following, other)
        for i in range(3):
            other[i] = -other[i]
        _multiply(local, other, mixed)
        n = 0.0
        for i in range(3):
            axis[i] = plan.offset[following, i]
            n += axis[i] * axis[i]
        n = np.sqrt(n) + 1e-12
        along = (mixed[0] * axis[0] + mixed[1] * axis[1] + mixed[2] * axis[2]) / n
        angle = 2.0 * np.arctan2(along, mixed[3])
        if angle > np.pi:
            angle -= 2 * np.pi
        if angle < -np.pi:
            angle += 2 * np.pi
        half = 0.5 * plan.twist_share[b] * angle
        for i in range(3):
            mixed[i] = np.sin(half) * axis[i] / n
        mixed[3] = np.cos(half)
        p = plan.parents[b]
        _multiply(rotation[t, p], mixed, local)
        _multiply(local, plan.rest[b], rotation[t, b])


@njit(cache=True, error_model="numpy")
def rest_in_limb(plan, limb, bone, out):
    """out (4,): the rest rotation of a bone seen from a bone above it."""
    chain = np.empty(4)
    out[:] = plan.rest[bone]
    p = plan.parents[bone]
    while p >= 0 and p != limb:
        _multiply(plan.rest[p], out, chain)
        out[:] = chain
        p = plan.parents[p]


def hanging_on(bone, parents):
    """Numbers of all bones below one; parents (B,) come before their children."""
    out = [bone]
    for b in range(bone + 1, len(parents)):
        if parents[b] in out:
            out.append(b)
    return out[1:]


@njit(cache=True, error_model="numpy")
def place_joints(plan, first, last, root, at, rotation, position):
    """Joints (T, B, 3) of posed bones, frames [first, last): bone `root` lies at `at` (T, 3), bones above it at rest."""
    v = np.empty(3)
    for t in range(first, last):
        for b in range(plan.parents.shape[0]):
            p = plan.parents[b]
            if b == root:
                position[t, b] = at[t]
            elif p < 0:
                position[t, b] = plan.offset[b]
            else:
                rotate_into(rotation[t, p], plan.offset[b], v)
                for i in range(3):
                    position[t, b, i] = position[t, p, i] + v[i]
