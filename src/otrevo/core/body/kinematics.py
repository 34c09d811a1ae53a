"""Forward kinematics: from local rotations and the root's place to world rotations and joints. World axes, metres. Compiled."""

from dataclasses import dataclass

import numpy as np
from numba import njit

from otrevo.core.body.skeleton import Skeleton


@dataclass(frozen=True)
class Motion:
    """A skeleton over time.

    rate: exact frames per second; root_position_m (T, 3) world place of the root joint;
    rotation_local (T, B, 4) quaternions x y z w, local to parent; notes: what was odd about the file it came from.
    """

    skeleton: Skeleton
    rate: object
    root_position_m: np.ndarray
    rotation_local: np.ndarray
    notes: tuple[str, ...] = ()

    def __len__(self):
        return len(self.root_position_m)

    def window(self, start, end):
        """Frames [start, end) of this motion."""
        return Motion(self.skeleton, self.rate, self.root_position_m[start:end], self.rotation_local[start:end])


@njit(cache=True, error_model="numpy")
def _forward(parents, offsets, root, local, position, rotation):
    """Joints and world rotations of poses (T), into position (T, B, 3) and rotation (T, B, 4)."""
    for t in range(local.shape[0]):
        for b in range(parents.shape[0]):
            p = parents[b]
            x, y, z, w = local[t, b, 0], local[t, b, 1], local[t, b, 2], local[t, b, 3]
            if p < 0:
                position[t, b] = root[t]
                rotation[t, b] = local[t, b]
                continue
            px, py, pz, pw = rotation[t, p, 0], rotation[t, p, 1], rotation[t, p, 2], rotation[t, p, 3]
            rotation[t, b, 0] = pw * x + px * w + py * z - pz * y
            rotation[t, b, 1] = pw * y - px * z + py * w + pz * x
            rotation[t, b, 2] = pw * z + px * y - py * x + pz * w
            rotation[t, b, 3] = pw * w - px * x - py * y - pz * z
            ox, oy, oz = offsets[b, 0], offsets[b, 1], offsets[b, 2]
            tx, ty, tz = 2 * (py * oz - pz * oy), 2 * (pz * ox - px * oz), 2 * (px * oy - py * ox)
            position[t, b, 0] = position[t, p, 0] + ox + pw * tx + py * tz - pz * ty
            position[t, b, 1] = position[t, p, 1] + oy + pw * ty + pz * tx - px * tz
            position[t, b, 2] = position[t, p, 2] + oz + pw * tz + px * ty - py * tx


def forward_kinematics(skeleton, root_position_m, rotation_local):
    """World joints and rotations of a pose or a whole motion.

    root_position_m (..., 3), rotation_local (..., B, 4). Returns position_m (..., B, 3), rotation_world (..., B, 4).
    """
    local = np.asarray(rotation_local, dtype=float)
    bones = len(skeleton.parents)
    root = np.broadcast_to(np.asarray(root_position_m, dtype=float), (*local.shape[:-2], 3))
    position, rotation = np.empty((*local.shape[:-1], 3)), np.empty(local.shape)
    _forward(
        np.asarray(skeleton.parents), np.ascontiguousarray(skeleton.rest_offset_m, dtype=float),
        np.ascontiguousarray(root).reshape(-1, 3), np.ascontiguousarray(local).reshape(-1, bones, 4),
        position.reshape(-1, bones, 3), rotation.reshape(-1, bones, 4),
    )  # fmt: skip
    return position, rotation


def motion_joints(motion):
    """World joints (T, B, 3) and rotations (T, B, 4) of a motion."""
    return forward_kinematics(motion.skeleton, motion.root_position_m, motion.rotation_local)
