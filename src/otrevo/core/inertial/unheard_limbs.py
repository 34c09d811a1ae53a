"""Limbs whose own sensor is not heard for a while: how they go with the others, as the rest of the take shows.

A thigh between hips and a shin that are heard may be anywhere about the knee's axis. Limbs go together, though: whoever crawls moves the thigh as
shins and arms go. How a limb is turned against the one above it is told by a ridge regression on the turns of all others, learned where it is heard.
How strongly that is held back is chosen by how well it foretells parts of the take that it was not learned from, so what tells nothing leaves
the limb as it is held on average. A. E. Hoerl, R. W. Kennard, Ridge regression: biased estimation for nonorthogonal problems, Technometrics 12, 1970.
"""

import numpy as np

from otrevo.core.conventions import (
    find_runs,
    mean_rotation,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.inertial.poses import sensor_above

LEARNED_HZ = 25.0
LEAST_S = 8.0  # of the limb heard, to learn from
PARTS = 5  # of it, each foretold by the others
HELD_BACK = 10.0 ** np.arange(-1, 4.1, 0.5)
SPEED_S = 0.2  # by how many seconds of their speed the others' turns tell as well
STRAYS_S = 0.7  # for so long a limb goes on beside what is likely as it did when it was last heard
HEARD = 0.95  # of a loss: others that are heard for so much of it tell of it
LEAST_SD_RAD = np.radians(4.0)


def likely_turns(names, world, rate_hz):
    """(world rotations (T, S, 4) of bones that are not heard, as they are likely to be, else NaN; how well they are known (S,), one sigma, rad).

    names, world (T, S, 4): of bones with sensors, NaN where they are not heard.
    """
    out, sd = np.full(world.shape, np.nan), np.full(len(names), LEAST_SD_RAD)
    known = np.isfinite(world[..., 0])
    if known.all():
        return out, sd
    hips = names.index("hips")
    against_hips = quaternion_multiply(quaternion_conjugate(world[:, [hips]]), world)
    signs = _about_mean(against_hips)  # (T, S, 6) with their speeds: what there is to tell by
    signs = np.concatenate([signs, SPEED_S * _speed(signs, rate_hz)], axis=2)
    for s, name in enumerate(names):
        above = sensor_above(name, names)
        if above is None:
            continue
        above = names.index(above)
        upper = np.where(known[:, above, None], world[:, above], out[:, above])
        turned = quaternion_multiply(quaternion_conjugate(upper), world[:, s])
        heard = known[:, s] & known[:, above] & known[:, hips]
        if heard.sum() < LEAST_S * rate_hz:
            continue
        middle = mean_rotation(turned[heard])
        own = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(middle), np.nan_to_num(turned, nan=0.5)))
        doubts = []
        for a, b in find_runs(~known[:, s]):
            tells = known[a:b].mean(axis=0) > HEARD
            tells[[s, hips]] = False
            if not tells.any() or not known[a:b, hips].all() or np.isnan(upper[a:b]).any():
                continue
            columns = np.nan_to_num(signs[:, tells]).reshape(len(world), -1)
            likely, doubt = _foretold(columns, own, np.flatnonzero(heard), (a, b), rate_hz)
            doubts.append(doubt)
            out[a:b, s] = quaternion_multiply(upper[a:b], quaternion_multiply(middle, quaternion_from_rotvec(likely)))
        sd[s] = max(doubts, default=LEAST_SD_RAD)
    return out, np.maximum(sd, LEAST_SD_RAD)


def _foretold(columns, own, heard, loss, rate_hz):
    """(turns (K, 3) in a loss (first, end), how far off, one sigma rad), by columns (T, N) and turns own (T, 3) in the frames `heard`."""
    a, b = loss
    learned = heard[:: max(1, round(rate_hz / LEARNED_HZ))]
    x, y = columns[learned], own[learned]
    shift, scale = x.mean(axis=0), x.std() + 1e-6
    x = np.column_stack([(x - shift) / scale, np.full(len(x), 1e3)])  # the last one, hardly held back, is what is usual
    parts = np.array_split(np.arange(len(x)), PARTS)
    errors = np.zeros(len(HELD_BACK))
    for part in parts:
        rest = np.delete(np.arange(len(x)), part)
        for k, weights in enumerate(_ridges(x[rest], y[rest])):
            errors[k] += ((x[part] @ weights - y[part]) ** 2).sum()
    best = int(errors.argmin())
    weights = _ridges(x, y)[best]
    at = np.arange(max(a - 1, 0), min(b + 1, len(columns)))
    likely = np.column_stack([(columns[at] - shift) / scale, np.full(len(at), 1e3)]) @ weights
    since = np.arange(a, b)
    off = np.zeros((b - a, 3))
    for k, end in ((a - 1, 0), (b, -1)):
        if k in heard:
            off += np.exp(-np.abs(since - k) / (STRAYS_S * rate_hz))[:, None] * (own[k] - likely[end])
    inside = likely[a - at[0] : b - at[0]]
    return inside + off, float(np.sqrt(errors[best] / len(x) / 3))


def _ridges(x, y):
    """Weights (N, 3) for each of HELD_BACK."""
    value, vector = np.linalg.eigh(x.T @ x)
    aim = vector.T @ (x.T @ y)
    return [vector @ (aim / (np.maximum(value, 0.0) + held)[:, None]) for held in HELD_BACK]


def _about_mean(rotation):
    """Rotation vectors (T, S, 3) of rotations (T, S, 4) against the mean of each."""
    out = np.full((*rotation.shape[:2], 3), np.nan)
    for s in range(rotation.shape[1]):
        known = np.isfinite(rotation[:, s, 0])
        if known.any():
            q = rotation[known, s]
            out[known, s] = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(mean_rotation(q)), q))
    return out


def _speed(values, rate_hz):
    """How fast values (T, ...) change a second, over about a tenth of one."""
    k = max(1, round(rate_hz / 20))
    out = np.zeros(values.shape)
    out[k:-k] = (values[2 * k :] - values[: -2 * k]) * rate_hz / (2 * k)
    return out
