"""Units, axes and rotations: obeyed by everything in Otrevo.

World: right-handed, +Y up; a performer in T-pose at the origin faces +Z with the left arm along +X.
Lengths are metres in memory. Rotations are unit quaternions (x, y, z, w) that map local to parent coordinates.
Missing values are NaN. Rates are exact `Fraction`s. Time is seconds (float64) from the take's zero.
"""

from fractions import Fraction

import numpy as np

from otrevo.core import quaternion_formulas as formulas

MM_PER_M = 1000.0
CM_PER_M = 100.0
LONG = 4000  # numbers in an array that is long
RATES = tuple(
    Fraction(n, d)
    for n, d in (
        (24000, 1001), (24, 1), (25, 1), (30000, 1001), (30, 1), (48000, 1001), (48, 1), (50, 1), (60000, 1001), (60, 1),
    )
)  # fmt: skip


def _compiled(rows, *numbers):
    """The compiled loops where any of the arrays in `rows`, each with that many `numbers` in a row, is long; None where none is.

    To load them takes half a second, which is not worth it for a reader that turns one skeleton.
    """
    for each, many in zip(rows, numbers, strict=True):
        if each.shape[-1:] != (many,):
            raise ValueError(f"arrays of {many} numbers in a row were expected, not of shape {each.shape}")
    if max(each.size for each in rows) <= LONG:
        return None
    from otrevo.core import compiled_quaternions

    return compiled_quaternions


def _columns(rows):
    """The columns of an array (..., N)."""
    return tuple(rows[..., i] for i in range(rows.shape[-1]))


def _rows(columns):
    """An array (..., N) of its columns."""
    out = np.empty((*columns[0].shape, len(columns)), columns[0].dtype)
    for i, column in enumerate(columns):
        out[..., i] = column
    return out


def quaternion_multiply(a, b):
    """Hamilton product of (..., 4) quaternions (x, y, z, w): first rotate by `b`, then by `a`."""
    a, b = np.asarray(a), np.asarray(b)
    if compiled := _compiled((a, b), 4, 4):
        return compiled.multiply(a, b)
    return _rows(formulas.product(*_columns(a), *_columns(b)))


def quaternion_conjugate(q):
    """The inverse of unit quaternions (..., 4)."""
    return np.asarray(q) * np.array([-1.0, -1.0, -1.0, 1.0])


def quaternion_rotate(q, v):
    """Rotate vectors `v` (..., 3) by unit quaternions `q` (..., 4), broadcasting."""
    q, v = np.asarray(q), np.asarray(v)
    if compiled := _compiled((q, v), 4, 3):
        return compiled.rotate(q, v)
    return _rows(formulas.rotated(*_columns(q), *_columns(v)))


def quaternion_from_rotvec(rotvec):
    """Unit quaternions (..., 4) of rotation vectors (..., 3) in radians (exponential map)."""
    rotvec = np.asarray(rotvec, dtype=float)
    if compiled := _compiled((rotvec,), 3):
        return compiled.from_vectors(rotvec, compiled.FOUR)
    return _rows(formulas.from_vector(*_columns(rotvec)))


def rotvec_from_quaternion(q):
    """Rotation vectors (..., 3), radians, shortest arc, of unit quaternions (..., 4)."""
    q = np.asarray(q, dtype=float)
    if compiled := _compiled((q,), 4):
        return compiled.to_vectors(q, compiled.THREE)
    return _rows(formulas.to_vector(*_columns(q)))


def matrix_from_quaternion(q):
    """Rotation matrices (..., 3, 3) of unit quaternions (..., 4)."""
    q = np.asarray(q, dtype=float)
    if compiled := _compiled((q,), 4):
        return compiled.to_matrices(q, compiled.THREE)
    return _rows(formulas.to_matrix(*_columns(q))).reshape(*q.shape[:-1], 3, 3)


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
    f = f.reshape((-1,) + (1,) * (q.ndim - 2))
    before, after = q[i], q[i + 1]
    if compiled := _compiled((before, after), 4, 4):
        return compiled.interpolate(before, after, f)
    return _rows(formulas.between(*_columns(before), *_columns(after), f))


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
