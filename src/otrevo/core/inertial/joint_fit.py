"""The least squares of core.inertial.joints for where two sensors meet, compiled."""

import numpy as np
from numba import njit

DRIFT_RAD_S = np.radians(3.0) / 60
ROBUST = 2.5  # of the noise
TREMBLE_KNOWN = 0.2  # how well it is known how much bends tremble, as a share
PLACE_M = 0.2  # how far from its sensor a joint usually is


@njit(cache=True, error_model="numpy")
def _positive(normal):
    """Whether a symmetric matrix (N, N) is positive definite: whether it has a Cholesky factor."""
    factor = np.zeros(normal.shape)
    for i in range(len(normal)):
        for j in range(i + 1):
            left = normal[i, j]
            for k in range(j):
                left -= factor[i, k] * factor[j, k]
            if i != j:
                factor[i, j] = left / factor[j, j]
            elif left > 0.0:
                factor[i, i] = np.sqrt(left)
            else:
                return False
    return True


@njit(cache=True, error_model="numpy")
def _cleaned(normal):
    """A normal matrix (N, N) without what is negative in it."""
    if _positive(normal):
        return normal
    value, vector = np.linalg.eigh(normal)
    out = np.zeros(normal.shape)
    for k in range(len(value)):
        for i in range(len(normal)):
            for j in range(len(normal)):
                out[i, j] += max(value[k], 0.0) * vector[i, k] * vector[j, k]
    return out


@njit(cache=True, error_model="numpy")
def _less(matrix, diagonal):
    """The upper left part (N, N) of a matrix less a diagonal (N,), as an array of its own."""
    count = len(diagonal)
    out = np.empty((count, count))
    for i in range(count):
        for j in range(count):
            out[i, j] = matrix[i, j]
        out[i, i] -= diagonal[i]
    return out


@njit(cache=True, error_model="numpy")
def _show_places(columns, psi, drift, times, force_u, bend_u, force_l, bend_l):
    """Fill in of the columns (9, 3 K), over axes and samples, what the joint's place above explains (0 to 2), what its place below does
    (3 to 5), and what is to be explained (8).

    psi, drift: the heading between the filters; times (K,); force (K, 3) and bend (K, 3, 3) of both sides.
    """
    count = len(times)
    for k in range(count):
        c, s = np.cos(psi + drift * times[k]), np.sin(psi + drift * times[k])
        x, y, z = k, count + k, 2 * count + k
        for a in range(3):
            columns[a, x], columns[a, y], columns[a, z] = bend_u[k, 0, a], bend_u[k, 1, a], bend_u[k, 2, a]
            columns[3 + a, x] = -c * bend_l[k, 0, a] - s * bend_l[k, 2, a]
            columns[3 + a, y] = -bend_l[k, 1, a]
            columns[3 + a, z] = s * bend_l[k, 0, a] - c * bend_l[k, 2, a]
        columns[8, x] = c * force_l[k, 0] + s * force_l[k, 2] - force_u[k, 0]
        columns[8, y] = force_l[k, 1] - force_u[k, 1]
        columns[8, z] = c * force_l[k, 2] - s * force_l[k, 0] - force_u[k, 2]


@njit(cache=True, error_model="numpy")
def _show_heading(columns, places, times, force_u):
    """Fill in of the columns (9, 3 K) what the heading explains (6), and its drift (7), where the joint is at places (6,)."""
    count = len(times)
    for k in range(count):
        x, z = k, 2 * count + k
        felt_x, felt_z = columns[8, x] + force_u[k, 0], columns[8, z] + force_u[k, 2]  # at the joint, of the side below
        for a in range(3):
            felt_x -= columns[3 + a, x] * places[3 + a]
            felt_z -= columns[3 + a, z] * places[3 + a]
        columns[6, x], columns[6, count + k], columns[6, z] = -felt_z, 0.0, felt_x
        columns[7, x], columns[7, count + k], columns[7, z] = -felt_z * times[k], 0.0, felt_x * times[k]


@njit(cache=True, error_model="numpy")
def products_of(columns, weight):
    """Products (9, 9) of the columns (9, 3 K) with each other, samples weighted (K,)."""
    scaled, count = np.empty(columns.shape), len(weight)
    for c in range(9):
        for axis in range(3):
            for k in range(count):
                scaled[c, axis * count + k] = columns[c, axis * count + k] * weight[k]
    return scaled @ columns.T


@njit(cache=True, error_model="numpy")
def left_over(columns, places):
    """What places (6,) leave of what is to be explained (3 K,), by the columns (9, 3 K)."""
    out = columns[8].copy()
    for a in range(6):
        for k in range(len(out)):
            out[k] -= columns[a, k] * places[a]
    return out


@njit(cache=True, error_model="numpy")
def _weigh(columns, places, calm, usual_noise, weight):
    """The noise by what places (6,) leave, usual_noise at least, and into weight (K,) how much samples count then; the rest as in fit_from."""
    left, count = left_over(columns, places), len(weight)
    noise = usual_noise
    for k in range(count):
        left[k] = left[k] ** 2 + left[count + k] ** 2 + left[2 * count + k] ** 2
    left2 = left[:count]
    if count:
        noise = max(usual_noise, np.sqrt(np.median(calm * left2) / 2.37))
    for k in range(count):
        weight[k] = calm[k] / (1 + left2[k] / (3 * ROBUST * noise) ** 2) ** 2
    return noise


@njit(cache=True, error_model="numpy")
def believe(normal, trembled, skin):
    """(normal matrix (6, 6) of places without what trembling adds to it, how much of its rows and of the aim's is believed (6, 6)).

    Bends are measured too. Where they tremble they add trembled (6,) to the diagonal, and a joint would seem to lie at its sensor; that is taken
    off as well as it is known. Skin swings just as the limb feels: what it adds, up to skin (6,), looks like a joint elsewhere. So what
    the movement says in a direction counts for as much as it exceeds both.
    """
    believed, astray = _cleaned(_less(normal, trembled)), np.empty(len(trembled))
    for i in range(len(trembled)):  # variance of the aim, besides that of the noise
        astray[i] = PLACE_M**2 * ((TREMBLE_KNOWN * trembled[i]) ** 2 + skin[i] ** 2)
    return believed, np.linalg.solve(_less(believed, -astray - 1e-6), believed).T


@njit(cache=True, error_model="numpy")
def _take_share(share, believed, aim, normal, told):
    """Into the normal matrix and aim `told` comes the share (6, 6) of those that are believed: believed (6, 6), aim (6,)."""
    for i in range(6):
        told[i] = 0.0
        for k in range(6):
            told[i] += share[i, k] * aim[k]
        for j in range(6):
            normal[i, j] = 0.0
            for k in range(6):
                normal[i, j] += share[i, k] * believed[k, j]


@njit(cache=True, error_model="numpy")
def _hold_near(normal, aim, usual_m, arm_m):
    """Add to a normal matrix and its aim that the places (6,) are near the usual ones."""
    for i in range(6):
        normal[i, i] += 1.0 / arm_m**2
        aim[i] += usual_m[i] / arm_m**2


@njit(cache=True, error_model="numpy")
def places_of(normal, aim, trembled, skin, usual_m, arm_m):
    """Places (H, 6) of a joint by each of some normal matrices (H, 6, 6) with their aims (H, 6); the rest as in believe and core.inertial.joints."""
    out, told, wanted = np.empty(aim.shape), np.empty((6, 6)), np.empty(6)
    for h in range(len(aim)):
        believed, share = believe(normal[h], trembled, skin)
        _take_share(share, believed, aim[h], told, wanted)
        _hold_near(told, wanted, usual_m, arm_m)
        found = np.linalg.solve(told, wanted)
        for i in range(6):
            out[h, i] = found[i]
    return out


@njit(cache=True, error_model="numpy")
def _told(products, noise, firm, trembles, skins, near, usual_m, arm_m):
    """(normal matrix (8, 8), aim (8,)) of what products_of gives, both with the prior; with doubts where nothing else keeps the places near.

    firm: the samples' weights over the noise's square; trembles, skins (6,): what both add for each of that.
    """
    normal, aim, trembled, skin = np.empty((8, 8)), np.empty(8), np.empty(6), np.empty(6)
    for i in range(8):
        aim[i] = products[i, 8] / noise**2
        for j in range(8):
            normal[i, j] = products[i, j] / noise**2
    for i in range(6):
        trembled[i], skin[i] = firm * trembles[i], firm * skins[i]
    if near:
        cleaned = _cleaned(_less(normal, trembled))
        for i in range(6):
            for j in range(6):
                normal[i, j] = cleaned[i, j]
    else:
        believed, share = believe(normal, trembled, skin)
        for j in range(6, 8):
            for i in range(6):
                normal[i, j] = 0.0
                for k in range(6):
                    normal[i, j] += share[i, k] * normal[j, k]  # the other triangle still says what it was
        for j in range(6, 8):
            for i in range(6):
                normal[j, i] = normal[i, j]
        _take_share(share, believed, aim.copy(), normal, aim)
    _hold_near(normal, aim, usual_m, arm_m)
    return normal, aim


@njit(cache=True, error_model="numpy")
def fit_from(
    force_u, bend_u, force_l, bend_l, times, calm, trembles, skins, near, usual_m, arm_m, usual_noise, psi, usual_drift
):
    """(heading psi, drift, places (6,), normal matrix (8, 8), columns (9, 3 K), weights (K,), noise) of a joint, by
    Gauss-Newton from a heading on. calm (K,): how much each sample counts at best; the rest as in products_of, _told and core.inertial.joints.
    """
    drift, noise, weight = usual_drift, usual_noise, calm.copy()
    columns = np.zeros((9, 3 * len(times)))
    for _ in range(12):
        _show_places(columns, psi, drift, times, force_u, bend_u, force_l, bend_l)
        products = products_of(columns, weight)
        normal, aim = _told(products, noise, weight.sum() / noise**2, trembles, skins, near, usual_m, arm_m)
        r = np.linalg.solve(_less(normal, np.zeros(6)), aim[:6])
        noise = _weigh(columns, r, calm, usual_noise, weight)
        _show_heading(columns, r, times, force_u)
        products = products_of(columns, weight)
        normal, _ = _told(products, noise, weight.sum() / noise**2, trembles, skins, near, usual_m, arm_m)
        normal[6, 6] += 1 / np.pi**2  # nothing may tell of it: a body that does not move at all
        normal[7, 7] += 1 / (0.3 * DRIFT_RAD_S) ** 2
        gradient = np.zeros(8)  # the places are at their best already
        for i in (6, 7):
            gradient[i] = -products[i, 8] / noise**2
            for a in range(6):
                gradient[i] += products[i, a] * r[a] / noise**2
        gradient[7] += (drift - usual_drift) / (0.3 * DRIFT_RAD_S) ** 2
        step = np.linalg.solve(normal, gradient)
        psi, drift = psi - step[6], drift - step[7]
        if abs(step[6]) < 1e-5:
            break
    return psi, drift, r, normal, columns, weight, noise
