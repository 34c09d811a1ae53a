"""How far the joints of a pose may be off because a body's geometry is not known exactly.

A geometry that is off by d moves the joints of a pose that is fitted to the same points by

    (G - D H^-1 K) d,

with G and D the derivatives of a joint by geometry and pose, and H, K the blocks of the normal equations that a frame's points give
of its pose and between pose and geometry: the pose gives way as far as points and joints let it. The covariance of d is the inverse of
what a GeometryFit says of its information.
"""

import numpy as np

from otrevo.core.warm_up.geometry_fit import pose_all, pull_to_rest
from otrevo.core.warm_up.normal_equations import normal_equations

AT_ONCE = 50  # frames


def geometry_variance(model, information, root_m, local, seen, weight):
    """How far joints may be off by the geometry of a body.

    Parameters
    ----------
    model : BodyModel
    information : ndarray (G, G)
        Of a GeometryFit.
    root_m : ndarray (F, 3)
        Metres.
    local : ndarray (F, B, 3, 3)
        Local rotations.
    seen : ndarray (F, M) of bool
    weight : ndarray (F, M)
        1/m^2 of the points.

    Returns
    -------
    ndarray (F, B, 2)
        trace(C) and trace(C^2) of the covariance C (3, 3) of every joint, world axes, m^2 and m^4.
    """
    root, local = np.ascontiguousarray(root_m), np.ascontiguousarray(local)
    world, joint = pose_all(model, root, local)
    bone = model.marker_bone
    point = joint[:, bone] + np.einsum("fmij,mj->fmi", world[:, bone], model.marker_offset_m)
    weight = np.where(seen, weight, 0.0)
    spread = np.linalg.inv(np.linalg.cholesky(information)).T  # times itself, transposed: the covariance
    out = np.empty((*joint.shape[:2], 2))
    for at in np.array_split(np.arange(len(root)), max(1, len(root) // AT_ONCE)):
        given = _gives_way(model, world[at], joint[at], point[at], weight[at], local[at])
        for b in range(joint.shape[1]):
            by_pose, by_geometry = _derivatives(model.skeleton.parents, world[at], joint[at], b, given.shape[2])
            moved = (by_geometry - by_pose @ given) @ spread
            covariance = moved @ moved.swapaxes(1, 2)
            out[at, b, 0] = np.trace(covariance, axis1=1, axis2=2)
            out[at, b, 1] = (covariance**2).sum(axis=(1, 2))
    return out


def _gives_way(model, world, joint, point, weight, local):
    """H^-1 K of frames, (F, P, G): how the pose follows the geometry; columns as in normal_equations."""
    bones, frames = len(model.skeleton.names), len(point)
    poses, size = 3 + 3 * bones, 3 * (bones - 1) + 3 * point.shape[1]
    hpp, hpg, gp = (
        np.tile(1e-3 * np.eye(poses), (frames, 1, 1)),
        np.zeros((frames, poses, size)),
        np.zeros((frames, poses)),
    )
    normal_equations(
        model.skeleton.parents, model.marker_bone, world, joint, point, np.zeros_like(point), weight, hpp, hpg, gp,
        np.zeros((size, size)), np.zeros(size),
    )  # fmt: skip
    pull_to_rest(model.arrays, world, local, np.ones((frames, bones, 3)), 1.0, hpp, gp)
    lower = np.tril(hpp)
    return np.linalg.solve(lower + np.tril(hpp, -1).swapaxes(1, 2), hpg)


def _derivatives(parents, world, joint, b, size):
    """d joint b / d pose (F, 3, P) and / d geometry (F, 3, G), of `size` columns."""
    frames, bones = joint.shape[:2]
    by_pose, by_geometry = np.zeros((frames, 3, 3 + 3 * bones)), np.zeros((frames, 3, size))
    by_pose[:, :, 3 * bones :] = np.eye(3)
    child, above = b, parents[b]
    while above >= 0:
        at, lever = 3 * (bones - 1 - above), joint[:, b] - joint[:, above]
        by_pose[:, :, at : at + 3] = np.cross(np.eye(3), lever[:, None]).swapaxes(1, 2)
        by_geometry[:, :, 3 * (child - 1) : 3 * child] = world[:, above]
        child, above = above, parents[above]
    return by_pose, by_geometry
