"""Rotations in compiled loops: matrices (3, 3) and rotation vectors (3,), radians, into arrays that are there already."""

import numpy as np

from otrevo.core.body.compiled_vectors import dot, jit, matrix, product, set_matrix, transposed

SMALL2 = 0.01  # the square of an angle below which series are used


@jit
def exp_rotation(v, out):
    """Rotation matrix of rotation vector v (3,) by Rodrigues' formula, into out (3, 3)."""
    x, y, z = v[0], v[1], v[2]
    a2 = x * x + y * y + z * z
    if a2 < SMALL2:  # most turns are: their series is quicker, and exact to the last digits
        s = 1.0 - a2 / 6.0 * (1.0 - a2 / 20.0 * (1.0 - a2 / 42.0))
        c = 0.5 * (1.0 - a2 / 12.0 * (1.0 - a2 / 30.0 * (1.0 - a2 / 56.0)))
        ca = 1.0 - c * a2
    else:
        a = np.sqrt(a2)
        s = np.sin(a) / a
        ca = np.cos(a)
        c = (1.0 - ca) / a2
    out[0, 0] = ca + c * x * x
    out[1, 1] = ca + c * y * y
    out[2, 2] = ca + c * z * z
    out[0, 1] = c * x * y - s * z
    out[1, 0] = c * x * y + s * z
    out[0, 2] = c * x * z + s * y
    out[2, 0] = c * x * z - s * y
    out[1, 2] = c * y * z - s * x
    out[2, 1] = c * y * z + s * x


@jit
def copy_rotations(rotations, out):
    """Copy rotations (B, 3, 3) into out. Assigning whole arrays would compile NumPy's error messages as well, for seconds."""
    for b in range(rotations.shape[0]):
        for i in range(3):
            for j in range(3):
                out[b, i, j] = rotations[b, i, j]


@jit
def log_rotation(m, out):
    """Rotation vector (3,) of rotation matrix m, into out; safe near 0 and pi."""
    x = m[2, 1] - m[1, 2]
    y = m[0, 2] - m[2, 0]
    z = m[1, 0] - m[0, 1]
    sin2 = 0.25 * (x * x + y * y + z * z)
    trace = m[0, 0] + m[1, 1] + m[2, 2]
    if sin2 < SMALL2 and trace > 1.0:  # the series of the arc sine
        f = 0.5 + sin2 / 12.0 * (1.0 + sin2 * 9.0 / 20.0 * (1.0 + sin2 * 25.0 / 42.0 * (1.0 + sin2 * 49.0 / 72.0)))
        out[0], out[1], out[2] = f * x, f * y, f * z
        return
    s2 = 2.0 * np.sqrt(sin2)
    angle = np.arctan2(s2, trace - 1.0)
    if s2 > 1e-6:
        f = angle / s2
        out[0], out[1], out[2] = f * x, f * y, f * z
    else:  # half a turn: the axis is the largest column of (R + I)
        k = 0
        for i in range(1, 3):
            if m[i, i] > m[k, k]:
                k = i
        n = 0.0
        for i in range(3):
            out[i] = m[i, k] + (1.0 if i == k else 0.0)
            n += out[i] * out[i]
        n = np.sqrt(n)
        for i in range(3):
            out[i] *= np.pi / n


@jit
def log_rotations(m):
    """Rotation vectors (F, B, 3) of rotation matrices m (F, B, 3, 3)."""
    out = np.empty(m.shape[:3])
    for f in range(m.shape[0]):
        for b in range(m.shape[1]):
            log_rotation(m[f, b], out[f, b])
    return out


@jit
def log_slope(v, out):
    """By how much the rotation vector v (3,) of a rotation R changes as R is turned about its parent's axes, d log(exp(w) R) / dw, into
    out (3, 3): the inverse of the left Jacobian, I - [v]x / 2 + c [v]x^2 (J. Sola et al., A micro Lie theory, 2018, eq. 146).
    """
    x, y, z = v[0], v[1], v[2]
    a2 = x * x + y * y + z * z
    c = 1.0 / 12.0
    if a2 > 1e-6:
        half = 0.5 * np.sqrt(a2)
        c = (1.0 - half / np.tan(half)) / a2
    out[0, 0] = 1.0 - c * (y * y + z * z)
    out[1, 1] = 1.0 - c * (x * x + z * z)
    out[2, 2] = 1.0 - c * (x * x + y * y)
    out[0, 1] = c * x * y + 0.5 * z
    out[1, 0] = c * x * y - 0.5 * z
    out[0, 2] = c * x * z - 0.5 * y
    out[2, 0] = c * x * z + 0.5 * y
    out[1, 2] = c * y * z + 0.5 * x
    out[2, 1] = c * y * z - 0.5 * x


@jit
def forearm_angles(m, out, axes):
    """How a forearm is turned against its upper arm by local rotation m: rolled about its own line, bent and bent sideways, into out (3,),
    and the three axes of these turns, in the upper arm's, into the columns of axes (3, 3).

    m = R_y(bend) R_z(sideways) R_x(roll). In a rotation vector a forearm that is bent and rolled seems bent sideways, by as much as it is
    rolled at a right angle.
    """
    ahead = np.sqrt(m[0, 0] * m[0, 0] + m[2, 0] * m[2, 0])
    out[0] = np.arctan2(-m[1, 2], m[1, 1])
    out[1] = np.arctan2(-m[2, 0], m[0, 0])
    out[2] = np.arctan2(m[1, 0], ahead)
    ahead = max(ahead, 1e-9)
    for i in range(3):
        axes[i, 0] = m[i, 0]
    axes[0, 1], axes[1, 1], axes[2, 1] = 0.0, 1.0, 0.0
    axes[0, 2], axes[1, 2], axes[2, 2] = -m[2, 0] / ahead, 0.0, m[0, 0] / ahead


def angles_of_forearms(local):
    """forearm_angles (..., 3) of local rotations (..., 3, 3)."""
    out = np.empty(local.shape[:-1])
    _each_forearm(np.ascontiguousarray(local).reshape(-1, 3, 3), out.reshape(-1, 3))
    return out


@jit
def _each_forearm(local, out):
    axes = np.empty((3, 3))
    for k in range(local.shape[0]):
        forearm_angles(local[k], out[k], axes)


@jit
def to_quaternion(m, out):
    """Unit quaternion (4,) of rotation matrix m, into out; by the best of four pivots (Shepperd 1978)."""
    trace = m[0, 0] + m[1, 1] + m[2, 2]
    pick, most = 3, trace
    for i in range(3):
        if m[i, i] > most:
            pick, most = i, m[i, i]
    if pick == 3:
        out[0], out[1], out[2] = m[2, 1] - m[1, 2], m[0, 2] - m[2, 0], m[1, 0] - m[0, 1]
        out[3] = 1.0 + trace
    else:
        i, j, k = pick, (pick + 1) % 3, (pick + 2) % 3
        out[i] = 1.0 + 2.0 * m[i, i] - trace
        out[j], out[k] = m[j, i] + m[i, j], m[k, i] + m[i, k]
        out[3] = m[k, j] - m[j, k]
    f = 1.0 / np.sqrt(out[0] * out[0] + out[1] * out[1] + out[2] * out[2] + out[3] * out[3])
    for i in range(4):
        out[i] *= f


@jit
def from_quaternion(q, out):
    """Rotation matrix of a unit quaternion (4,), into out (3, 3)."""
    x, y, z, w = q[0], q[1], q[2], q[3]
    out[0, 0], out[1, 1], out[2, 2] = (
        1.0 - 2.0 * (y * y + z * z), 1.0 - 2.0 * (x * x + z * z), 1.0 - 2.0 * (x * x + y * y),
    )  # fmt: skip
    out[0, 1], out[0, 2] = 2.0 * (x * y - z * w), 2.0 * (x * z + y * w)
    out[1, 0], out[1, 2] = 2.0 * (x * y + z * w), 2.0 * (y * z - x * w)
    out[2, 0], out[2, 1] = 2.0 * (x * z - y * w), 2.0 * (y * z + x * w)


@jit
def multiply(a, b, out):
    """out = a b for 3x3 matrices; out may be one of them."""
    set_matrix(out, product(matrix(a), matrix(b)))


@jit
def rotation_between(before, after, out):
    """Rotation vector from one local rotation (3, 3) to another, about the bone's own axes: log(before^T after)."""
    a = np.empty((3, 3))
    for i in range(3):
        for k in range(3):
            a[i, k] = before[0, i] * after[0, k] + before[1, i] * after[1, k] + before[2, i] * after[2, k]
    log_rotation(a, out)


@jit
def orthonormalise(m):
    """One Newton step towards the nearest rotation, in place: keeps products of many small turns clean."""
    rows = matrix(m)
    x, y, z = transposed(rows)
    xy, xz, yz = -0.5 * dot(x, y), -0.5 * dot(x, z), -0.5 * dot(y, z)
    nearer = (1.5 - 0.5 * dot(x, x), xy, xz), (xy, 1.5 - 0.5 * dot(y, y), yz), (xz, yz, 1.5 - 0.5 * dot(z, z))
    set_matrix(m, product(rows, nearer))


@jit
def invert3(a, out):
    """Inverse of a symmetric positive 3x3 matrix by cofactors."""
    c00 = a[1, 1] * a[2, 2] - a[1, 2] * a[2, 1]
    c01 = a[1, 2] * a[2, 0] - a[1, 0] * a[2, 2]
    c02 = a[1, 0] * a[2, 1] - a[1, 1] * a[2, 0]
    d = 1.0 / (a[0, 0] * c00 + a[0, 1] * c01 + a[0, 2] * c02)
    out[0, 0] = c00 * d
    out[1, 0] = c01 * d
    out[2, 0] = c02 * d
    out[0, 1] = (a[0, 2] * a[2, 1] - a[0, 1] * a[2, 2]) * d
    out[1, 1] = (a[0, 0] * a[2, 2] - a[0, 2] * a[2, 0]) * d
    out[2, 1] = (a[0, 1] * a[2, 0] - a[0, 0] * a[2, 1]) * d
    out[0, 2] = (a[0, 1] * a[1, 2] - a[0, 2] * a[1, 1]) * d
    out[1, 2] = (a[0, 2] * a[1, 0] - a[0, 0] * a[1, 2]) * d
    out[2, 2] = (a[0, 0] * a[1, 1] - a[0, 1] * a[1, 0]) * d


@jit
def rotation_to(wanted, rotation, a, out):
    """Rotation vector, into out (3,), that turns `rotation` into `wanted`, both (3, 3): log(wanted rotation^T). a: scratch."""
    for i in range(3):
        for j in range(3):
            a[i, j] = wanted[i, 0] * rotation[j, 0] + wanted[i, 1] * rotation[j, 1] + wanted[i, 2] * rotation[j, 2]
    log_rotation(a, out)
