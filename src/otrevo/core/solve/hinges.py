"""Knees and elbows that nothing measures, bent the right way. Compiled.

Where a hand or foot is seen and neither bone above it, a knee fits its foot as well bent backwards as forwards. From a leg that is
straight, chance decides, and from frame to frame the solver cannot find back through the straight leg.
"""

import numpy as np

from otrevo.core.body.compiled_rotations import (
    copy_rotations,
    exp_rotation,
    forearm_angles,
    log_rotation,
    multiply,
)
from otrevo.core.body.compiled_vectors import jit
from otrevo.core.body.tree_solver import LIMIT_WEIGHT, Expected, refine_pose
from otrevo.core.solve.regain import robust_cost, take_over

HINGE_RAD = 1.5  # a joint that bends this far to one side
NO_HINGE_RAD = 0.2  # and not this far to the other one
BEYOND_RAD = 0.1  # so far beyond its limit it is bent the wrong way
STEPS = np.int64(8)
AGAIN_FRAMES = 3  # between two tries that fail


@jit
def bent_back(body, local, position_m, sensed):
    """(B,) hinges that are bent beyond their limit, of which neither they nor the bone above are seen or sensed.

    body: BodyArrays; local (B, 3, 3); position_m (M, 3), NaN where unseen; sensed (B,): weight of sensors.
    """
    bones = body.parents.shape[0]
    told, out, v = sensed > 0.0, np.zeros(bones, dtype=np.bool_), np.empty(3)
    for m in range(body.marker_bone.shape[0]):
        if not np.isnan(position_m[m, 0]):
            told[body.marker_bone[m]] = True
    for b in range(1, bones):
        if told[b] or told[body.parents[b]]:
            continue
        log_rotation(local[b], v)
        for axis in range(3):
            low, high = body.low[b, axis], body.high[b, axis]
            if high > HINGE_RAD and low > -NO_HINGE_RAD and v[axis] < low - BEYOND_RAD:
                out[b] = True
            if low < -HINGE_RAD and high < NO_HINGE_RAD and v[axis] > high + BEYOND_RAD:
                out[b] = True
    return out


@jit
def _beyond_limits(body, local):
    """What the soft limits of a pose's joints cost."""
    cost, v, axes = 0.0, np.empty(3), np.empty((3, 3))
    for b in range(body.parents.shape[0]):
        if body.rolls[b]:
            forearm_angles(local[b], v, axes)
        else:
            log_rotation(local[b], v)
        for axis in range(3):
            off = min(body.high[b, axis] - v[axis], 0.0) + max(body.low[b, axis] - v[axis], 0.0)
            cost += LIMIT_WEIGHT * off * off
    return cost


@jit
def _length(offset):
    return np.sqrt(offset[0] * offset[0] + offset[1] * offset[1] + offset[2] * offset[2])


@jit
def _mirror(body, hinge, local, held):
    """Bend a hinge as far to the other side, with the bones above and below turned so that its end stays where it is.

    local (B, 3, 3) changes in place. The predicted pose no longer holds these bones: held (B,) becomes 0.
    """
    parents = body.parents
    above, upper, lower = parents[hinge], _length(body.rest_offset_m[hinge]), 1e-9
    for b in range(hinge + 1, parents.shape[0]):
        if parents[b] == hinge:
            lower = max(lower, _length(body.rest_offset_m[b]))
    v, part, turn, product = np.empty(3), np.empty(3), np.empty((3, 3)), np.empty((1, 3, 3))
    log_rotation(local[hinge], v)
    for i in range(3):
        part[i] = 2.0 * lower / (upper + lower) * v[i]
    exp_rotation(part, turn)
    multiply(local[above], turn, product[0])
    copy_rotations(product, local[above : above + 1])
    held[above] = 0.0
    for i in range(3):
        part[i] = 2.0 * upper / (upper + lower) * v[i]
    exp_rotation(part, turn)
    for b in range(hinge + 1, parents.shape[0]):
        if parents[b] == hinge:
            multiply(turn, local[b], product[0])
            copy_rotations(product, local[b : b + 1])
            held[b] = 0.0
    for i in range(3):
        part[i] = -v[i]
    exp_rotation(part, local[hinge])
    held[hinge] = 0.0


@jit
def bend_forward(body, observed, expected, root, local, back, residual_m):
    """Bend hinges the other way where `back` (B,) says so; root (3,), local (B, 3, 3) and residual_m (M,) change in place.

    The other arguments are those of refine_pose. Returns whether the pose is better for it, by its markers and its limits.
    """
    trial_root, trial_local, trial_residual = root.copy(), local.copy(), np.empty_like(residual_m)
    held = expected.weight.copy()
    for b in range(back.shape[0]):
        if back[b]:
            _mirror(body, b, trial_local, held)
    loose = Expected(expected.local, held, expected.world, expected.world_weight, expected.pull)
    refine_pose(body, observed, loose, trial_root, trial_local, STEPS, 1e-3, trial_residual)
    weight, scale = observed.weight, observed.scale_m
    cost = robust_cost(trial_residual, weight, scale) + _beyond_limits(body, trial_local)
    if cost >= robust_cost(residual_m, weight, scale) + _beyond_limits(body, local):
        return False
    take_over(trial_root, trial_local, trial_residual, root, local, residual_m)
    return True
