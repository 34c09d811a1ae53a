"""Vectors (3) as tuples and matrices (3, 3) as tuples of their rows, in compiled loops.

A compiler keeps them in registers. Arrays it must read again after every store, and that takes twice as long.
"""

from numba import njit

# sums may be taken in another order and products fused; NaN and infinity keep their meaning, which markers rely on
jit = njit(cache=True, error_model="numpy", fastmath={"contract", "reassoc", "nsz", "arcp"})


@jit
def row(m, i):
    """Row i of an array (N, 3) as a vector."""
    return m[i, 0], m[i, 1], m[i, 2]


@jit
def set_row(m, i, v):
    """Write vector v into row i of an array (N, 3)."""
    m[i, 0], m[i, 1], m[i, 2] = v


@jit
def matrix(m):
    """An array (3, 3) as a matrix."""
    return row(m, 0), row(m, 1), row(m, 2)


@jit
def set_matrix(m, rows):
    """Write a matrix into an array (3, 3)."""
    set_row(m, 0, rows[0])
    set_row(m, 1, rows[1])
    set_row(m, 2, rows[2])


@jit
def transposed(m):
    """The transpose of a matrix."""
    return (m[0][0], m[1][0], m[2][0]), (m[0][1], m[1][1], m[2][1]), (m[0][2], m[1][2], m[2][2])


@jit
def plus(a, b):
    """a + b of vectors."""
    return a[0] + b[0], a[1] + b[1], a[2] + b[2]


@jit
def minus(a, b):
    """a - b of vectors."""
    return a[0] - b[0], a[1] - b[1], a[2] - b[2]


@jit
def dot(a, b):
    """The inner product of two vectors."""
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@jit
def cross(a, b):
    """a x b of vectors."""
    return a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]


@jit
def times(m, v):
    """m v of a matrix and a vector."""
    return dot(m[0], v), dot(m[1], v), dot(m[2], v)


@jit
def rows_crossed(m, v):
    """Every row of a matrix crossed with a vector: m [v]x."""
    return cross(m[0], v), cross(m[1], v), cross(m[2], v)


@jit
def total(a, b):
    """a + b of matrices."""
    return plus(a[0], b[0]), plus(a[1], b[1]), plus(a[2], b[2])


@jit
def product(a, b):
    """a b of matrices."""
    columns = transposed(b)
    return times(columns, a[0]), times(columns, a[1]), times(columns, a[2])


@jit
def less_product(a, b, c):
    """a - b c^T of matrices."""
    return minus(a[0], times(c, b[0])), minus(a[1], times(c, b[1])), minus(a[2], times(c, b[2]))
