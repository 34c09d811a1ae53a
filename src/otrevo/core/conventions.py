"""Units, axes and rotations: obeyed by everything in Otrevo.

World: right-handed, +Y up; a performer in T-pose at the origin faces +Z with the left arm along +X.
Lengths are metres in memory. Rotations are unit quaternions (x, y, z, w) that map local to parent coordinates.
Missing values are NaN. Rates are exact `Fraction`s. Time is seconds (float64) from the take's zero.
"""

from fractions import Fraction

import numpy as np

MM_PER_M = 1000.0
CM_PER_M = 100.0
RATES = tuple(
    Fraction(n, d)
    for n, d in (
        (24000, 1001), (24, 1), (25, 1), (30000, 1001), (30, 1), (48000, 1001), (48, 1), (50, 1), (60000, 1001), (60, 1),
    )
)  # fmt: skip


def quaternion_multiply(a, b):
    """Hamilton product of (..., 4) quaternions (x, y, z, w): first rotate by `b`, then by `a`."""
    a, b = np.asarray(a), np.asarray(b)
    ax, ay, az, aw = a[..., 0], a[..., 1], a[..., 2], a[..., 3]
    bx, by, bz, bw = b[..., 0], b[..., 1], b[..., 2], b[..., 3]
    x = aw * bx + ax * bw + ay * bz - az * by
    out = np.empty((*x.shape, 4), x.dtype)
    out[..., 0] = x
    out[..., 1] = aw * by - ax * bz + ay * bw + az * bx
    out[..., 2] = aw * bz + ax * by - ay * bx + az * bw
    out[..., 3] = aw * bw - ax * bx - ay * by - az * bz
    return out


def quaternion_conjugate(q):
    """The inverse of unit quaternions (..., 4)."""
    return np.asarray(q) * np.array([-1.0, -1.0, -1.0, 1.0])


def quaternion_rotate(q, v):
    """Rotate vectors `v` (..., 3) by unit quaternions `q` (..., 4), broadcasting."""
    q, v = np.asarray(q), np.asarray(v)
    x, y, z, w = q[..., 0], q[..., 1], q[..., 2], q[..., 3]
    a, b, c = v[..., 0], v[..., 1], v[..., 2]
    tx, ty, tz = 2.0 * (y * c - z * b), 2.0 * (z * a - x * c), 2.0 * (x * b - y * a)
    first = a + w * tx + y * tz - z * ty
    out = np.empty((*first.shape, 3), first.dtype)
    out[..., 0] = first
    out[..., 1] = b + w * ty + z * tx - x * tz
    out[..., 2] = c + w * tz + x * ty - y * tx
    return out


def quaternion_from_rotvec(rotvec):
    """Unit quaternions (..., 4) of rotation vectors (..., 3) in radians (exponential map)."""
    rotvec = np.asarray(rotvec, dtype=float)
    x, y, z = rotvec[..., 0], rotvec[..., 1], rotvec[..., 2]
    angle = np.sqrt(x * x + y * y + z * z)
    # sinc keeps the limit at zero angle: sin(a/2)/a = 0.5 sinc(a / 2pi)
    factor = 0.5 * np.sinc(angle / (2 * np.pi))
    out = np.empty((*angle.shape, 4))
    out[..., 0], out[..., 1], out[..., 2], out[..., 3] = factor * x, factor * y, factor * z, np.cos(angle / 2)
    return out


def rotvec_from_quaternion(q):
    """Rotation vectors (..., 3), radians, shortest arc, of unit quaternions (..., 4)."""
    q = np.asarray(q, dtype=float)
    x, y, z, w = q[..., 0], q[..., 1], q[..., 2], q[..., 3]
    s = np.sqrt(x * x + y * y + z * z)
    factor = np.where(s > 1e-9, 2.0 * np.arctan2(s, np.abs(w)) / np.where(s > 1e-9, s, 1.0), 2.0)
    factor = np.where(w < 0, -factor, factor)
    out = np.empty((*s.shape, 3))
    out[..., 0], out[..., 1], out[..., 2] = factor * x, factor * y, factor * z
    return out


def matrix_from_quaternion(q):
    """Rotation matrices (..., 3, 3) of unit quaternions (..., 4)."""
    q = np.asarray(q, dtype=float)
    x, y, z, w = q[..., 0], q[..., 1], q[..., 2], q[..., 3]
    out = np.empty((*x.shape, 3, 3))
    out[..., 0, 0], out[..., 1, 1], out[..., 2, 2] = (
        1 - 2 * (y * y + z * z), 1 - 2 * (x * x + z * z), 1 - 2 * (x * x + y * y),
    )  # fmt: skip
    out[..., 0, 1], out[..., 0, 2] = 2 * (x * y - z * w), 2 * (x * z + y * w)
    out[..., 1, 0], out[..., 1, 2] = 2 * (x * y + z * w), 2 * (y * z - x * w)
    out[..., 2, 0], out[..., 2, 1] = 2 * (x * z - y * w), 2 * (y * z + x * w)
    return out


def quaternion_from_matrix(m):
    """Unit quaternions (..., 4) of rotation matrices (..., 3, 3); the best of four pivots (Shepperd 1978)."""
    m = np.asarray(m, dtype=float)
    d0, d1, d2 = m[..., 0, 0], m[..., 1, 1], m[..., 2, 2]
    choices = np.stack([d0, d1, d2, d0 + d1 + d2], -1)
    pick = np.argmax(choices, -1)
    s01, s02, s12 = m[..., 1, 0] + m[..., 0, 1], m[..., 0, 2] + m[..., 2, 0], m[..., 2, 1] + m[..., 1, 2]
    a, b, c = m[..., 2, 1] - m[..., 1, 2], m[..., 0, 2] - m[..., 2, 0], m[..., 1, 0] - m[..., 0, 1]
    q = np.stack(
        [
            np.stack([1 + d0 - d1 - d2, s01, s02, a], -1),
            np.stack([s01, 1 - d0 + d1 - d2, s12, b], -1),
            np.stack([s02, s12, 1 - d0 - d1 + d2, c], -1),
            np.stack([a, b, c, 1 + d0 + d1 + d2], -1),
        ],
        -2,
    )
    q = np.take_along_axis(q, pick[..., None, None], axis=-2)[..., 0, :]
    return q / np.linalg.norm(q, axis=-1, keepdims=True)


def quaternion_from_euler(axes, angles):
    """Unit quaternions (T, 4) of angles (T, N), radians, about axes such as "ZXY", each turned with those before it (intrinsic)."""
    q = np.zeros((4, len(angles)))
    q[3] = 1.0
    for axis, angle in zip(axes, np.asarray(angles, dtype=float).T, strict=True):
        i = "XYZ".index(axis)
        j, k = (i + 1) % 3, (i + 2) % 3
        s, c = np.sin(0.5 * angle), np.cos(0.5 * angle)
        q[i], q[j], q[k], q[3] = q[i] * c + q[3] * s, q[j] * c + q[k] * s, q[k] * c - q[j] * s, q[3] * c - q[i] * s
    return q.T


def euler_from_quaternion(axes, q):
    """Angles (..., 3), radians, about three different axes such as "ZXY" (intrinsic) of quaternions (..., 4); the middle one is
    between -90 and 90 degrees, and at either of these the last one is 0.
    """
    a, b, c = ("XYZ".index(axis) for axis in axes)
    sense = 1.0 if (b - a) % 3 == 1 else -1.0
    m = matrix_from_quaternion(q)
    upright = np.hypot(m[..., a, a], m[..., a, b])
    free = upright > 1e-7
    first = np.where(
        free, np.arctan2(-sense * m[..., b, c], m[..., c, c]), np.arctan2(sense * m[..., c, b], m[..., b, b])
    )
    last = np.where(free, np.arctan2(-sense * m[..., a, b], m[..., a, a]), 0.0)
    return np.stack([first, np.arctan2(sense * m[..., a, c], upright), last], axis=-1)


def make_continuous(q):
    """Flip signs along the first axis so that neighbouring quaternions (T, ..., 4) lie on the same half-sphere."""
    q = np.array(q, dtype=float)
    flips = np.where(np.einsum("...i,...i->...", q[1:], q[:-1]) < 0, -1.0, 1.0)
    if flips.min(initial=1.0) < 0:
        q[1:] *= np.cumprod(flips, axis=0)[..., None]
    return q


def mean_rotation(q):
    """Mean (4,) of rotations (T, 4), NaN left out, by their outer products (Markley 2007); NaN where there is none."""
    q = q[np.isfinite(q[:, 0])]
    return np.linalg.eigh(q.T @ q)[1][:, -1] if len(q) else np.full(4, np.nan)


def within_half_a_turn(angle_rad):
    """Angles brought between minus and plus half a turn, radians."""
    return (angle_rad + np.pi) % (2 * np.pi) - np.pi


def slerp(times, q, at):
    """Shortest-arc spherical interpolation of quaternions.

    `times` (T,) increasing seconds, `q` (T, ..., 4), `at` (N,) seconds, held at the ends. Returns (N, ..., 4).
    """
    times, at = np.asarray(times, float), np.asarray(at, float)
    if len(times) == 1:
        return np.repeat(q, len(at), axis=0)
    i = np.clip(np.searchsorted(times, at, side="right") - 1, 0, len(times) - 2)
    f = np.clip((at - times[i]) / (times[i + 1] - times[i]), 0.0, 1.0)
    f = f.reshape((-1,) + (1,) * (q.ndim - 1))
    before, after = q[i], q[i + 1]
    alike = np.einsum("...i,...i->...", before, after)[..., None]
    half = np.arccos(np.minimum(np.abs(alike), 1.0))
    whole = np.sin(half)
    apart = whole > 1e-6  # nearer to each other, the arc is a straight line
    whole = np.where(apart, whole, 1.0)
    from_before = np.where(apart, np.sin((1.0 - f) * half) / whole, 1.0 - f)
    from_after = np.where(apart, np.sin(f * half) / whole, f)
    return from_before * before + np.copysign(from_after, alike) * after


def rigid_move(a, b, weight=None):
    """Rotation (..., 3, 3) and shift (..., 3) that take points a (..., K, 3) nearest to b, weighted by (..., K)."""
    if weight is None:
        weight = np.full(a.shape[:-1], 1.0 / a.shape[-2])
    else:
        weight = weight / weight.sum(-1, keepdims=True)
    middle_a, middle_b = (weight[..., None] * a).sum(-2), (weight[..., None] * b).sum(-2)
    product = np.swapaxes((a - middle_a[..., None, :]) * weight[..., None], -1, -2) @ (b - middle_b[..., None, :])
    u, _, vt = np.linalg.svd(product)
    vt[..., 2, :] *= np.sign(np.linalg.det(u @ vt))[..., None]
    rotation = np.swapaxes(u @ vt, -1, -2)
    return rotation, middle_b - np.einsum("...ij,...j->...i", rotation, middle_a)


def find_runs(mask):
    """Intervals [start, end) in which the boolean vector `mask` (T,) is true, as an (N, 2) integer array."""
    mask = np.asarray(mask, dtype=bool)
    edges = np.flatnonzero(mask[1:] != mask[:-1]) + 1
    if len(mask) and mask[0]:
        edges = np.concatenate([[0], edges])
    if len(edges) % 2:
        edges = np.concatenate([edges, [len(mask)]])
    return edges.reshape(-1, 2)


def join_runs(runs, gap):
    """[[start, end)] of runs in order, those that follow one another by fewer than `gap` as one."""
    out = []
    for start, end in runs:
        if out and start - out[-1][1] < gap:
            out[-1][1] = end
        else:
            out.append([start, end])
    return out
