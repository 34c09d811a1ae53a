"""Find a limb again whose markers are seen but which the solver has lost. Compiled.

A limb that was hidden while it moved comes back far from where it was carried to. Geman-McClure weights redescend: at
ten times their scale a marker weighs 1/10000 of what it should, so the solver sees every marker of the limb as an
outlier and never moves. Here the pose is fitted anew by graduated non-convexity (Blake and Zisserman 1987; for
Geman-McClure Yang et al. 2020): first by plain least squares, which pull from any distance, then with the scale brought
down step by step, so that true outliers lose their hold again. Because least squares on a chain of joints has wrong
minima of its own (a knee bent the wrong way), it starts twice: from the pose as it is, and with the limb at rest.
The best pose by the robust cost is kept, and only when it is better than the one there was, so a limb whose markers
are really wrong stays where it is.
"""

import numpy as np

from otrevo.core.body.compiled_rotations import copy_rotations
from otrevo.core.body.compiled_vectors import jit
from otrevo.core.body.tree_solver import Expected, Observed, refine_pose

OFF_AT = 0.5  # times the robust scale: the pose has not settled
LOST_AT = 2.0  # times the robust scale: a marker further off pulls with 1/25 of its weight or less
RETRY_FRAMES = 12  # between two tries at a limb of which the same markers are seen
SCALES = np.array([-1.0, 0.3, 0.1])  # metres; below 0 is plain least squares
STEPS = np.array([14, 6, 4])


@jit
def lost_bones(marker_bone, residual_m, far_m, bones):
    """(bones,) whether most of a bone's seen markers are further than far_m from where the pose has them."""
    seen = np.zeros(bones)
    far = np.zeros(bones)
    for m in range(marker_bone.shape[0]):
        if not np.isnan(residual_m[m]):
            seen[marker_bone[m]] += 1.0
            if residual_m[m] > far_m:
                far[marker_bone[m]] += 1.0
    return (far > 0.0) & (2.0 * far >= seen)


@jit
def limb_of(parents, lost):
    """(bones,) the limbs that hold a lost bone: from where the limb leaves the trunk, or another branch, down."""
    bones = parents.shape[0]
    children = np.zeros(bones)
    for b in range(1, bones):
        children[parents[b]] += 1.0
    out = np.zeros(bones, dtype=np.bool_)
    for b in range(1, bones):
        if lost[b]:
            top = b
            while parents[top] > 0 and children[parents[top]] == 1.0:
                top = parents[top]
            out[top] = True
    for b in range(1, bones):
        if out[parents[b]]:
            out[b] = True
    return out


@jit
def robust_cost(residual_m, weight, scale_m):
    """Geman-McClure cost of the markers seen: the sum of W r^2 / (1 + r^2 / c^2)."""
    cost = 0.0
    for m in range(residual_m.shape[0]):
        if not np.isnan(residual_m[m]):
            r2 = residual_m[m] * residual_m[m]
            cost += weight[m] * r2 / (1.0 + r2 / (scale_m * scale_m))
    return cost


@jit
def take_over(trial_root, trial_local, trial_residual_m, root, local, residual_m):
    """Put a pose that was tried, and its residuals, in the place of another one."""
    for i in range(3):
        root[i] = trial_root[i]
    for m in range(residual_m.shape[0]):
        residual_m[m] = trial_residual_m[m]
    copy_rotations(trial_local, local)


@jit
def regain(body, observed, expected, root, local, lost, residual_m):
    """Fit the pose anew where `lost` (bones,) says so; root (3,), local (B, 3, 3) and residual_m (M,) change in place.

    The other arguments are those of refine_pose. Returns whether a better pose was found.
    """
    limb = limb_of(body.parents, lost)
    best = robust_cost(residual_m, observed.weight, observed.scale_m)
    found = False
    trial_residual = np.empty_like(residual_m)
    held = expected.weight.copy()
    for b in range(limb.shape[0]):
        if limb[b]:
            held[b] = 0.0
    loose = Expected(expected.local, held, expected.world, expected.world_weight, expected.pull)
    start_root, start_local = root.copy(), local.copy()
    for start in range(2):
        trial_root, trial_local = start_root.copy(), start_local.copy()
        if start == 1:
            for b in range(limb.shape[0]):
                if limb[b]:
                    for i in range(3):
                        for j in range(3):
                            trial_local[b, i, j] = 1.0 if i == j else 0.0
        for stage in range(SCALES.shape[0] + 1):
            scale = SCALES[stage] if stage < SCALES.shape[0] else observed.scale_m
            steps = STEPS[stage] if stage < SCALES.shape[0] else 6
            seen = Observed(observed.position_m, observed.weight, scale)
            refine_pose(body, seen, loose, trial_root, trial_local, steps, 1e-3, trial_residual)
        cost = robust_cost(trial_residual, observed.weight, observed.scale_m)
        if cost < best:
            best = cost
            found = True
            take_over(trial_root, trial_local, trial_residual, root, local, residual_m)
    return found
