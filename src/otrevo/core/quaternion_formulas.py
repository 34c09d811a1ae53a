"""What is done with one quaternion (x, y, z, w), written once: for NumPy on the columns of arrays, and for compiled loops on numbers.

No formula branches, so that both can use it, and NaN stays NaN.
"""

import numpy as np

SMALL = 1e-30  # added to what divides and may be nothing; to all else it adds nothing


def product(ax, ay, az, aw, bx, by, bz, bw):
    """Hamilton product: first rotate by b, then by a."""
    return (
        aw * bx + ax * bw + ay * bz - az * by,
        aw * by - ax * bz + ay * bw + az * bx,
        aw * bz + ax * by - ay * bx + az * bw,
        aw * bw - ax * bx - ay * by - az * bz,
    )


def rotated(x, y, z, w, a, b, c):
    """The vector (a, b, c), rotated by a unit quaternion."""
    tx, ty, tz = 2.0 * (y * c - z * b), 2.0 * (z * a - x * c), 2.0 * (x * b - y * a)
    return a + w * tx + y * tz - z * ty, b + w * ty + z * tx - x * tz, c + w * tz + x * ty - y * tx


def from_vector(x, y, z):
    """The unit quaternion of a rotation vector in radians (exponential map)."""
    angle = np.sqrt(x * x + y * y + z * z) + SMALL
    factor = np.sin(0.5 * angle) / angle
    return factor * x, factor * y, factor * z, np.cos(0.5 * angle)


def to_vector(x, y, z, w):
    """The rotation vector of a unit quaternion, radians, by the shortest arc."""
    sine = np.sqrt(x * x + y * y + z * z) + SMALL
    factor = np.copysign(2.0, w) * np.arctan2(sine, np.abs(w)) / sine
    return factor * x, factor * y, factor * z


def to_matrix(x, y, z, w):
    """The nine numbers of the rotation matrix of a unit quaternion, row by row."""
    return (
        1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w),
        2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w),
        2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y),
    )  # fmt: skip


def between(ax, ay, az, aw, bx, by, bz, bw, share):
    """What lies a share (0 to 1) of the shortest arc behind a, on the way to b."""
    side = np.copysign(1.0, ax * bx + ay * by + az * bz + aw * bw)  # b and -b are the same rotation: the nearer one
    bx, by, bz, bw = side * bx, side * by, side * bz, side * bw
    difference = np.sqrt((ax - bx) ** 2 + (ay - by) ** 2 + (az - bz) ** 2 + (aw - bw) ** 2)
    total = np.sqrt((ax + bx) ** 2 + (ay + by) ** 2 + (az + bz) ** 2 + (aw + bw) ** 2)
    half = 2.0 * np.arctan2(difference, total) + SMALL
    from_a, from_b = np.sin((1.0 - share) * half) / np.sin(half), np.sin(share * half) / np.sin(half)
    return from_a * ax + from_b * bx, from_a * ay + from_b * by, from_a * az + from_b * bz, from_a * aw + from_b * bw
