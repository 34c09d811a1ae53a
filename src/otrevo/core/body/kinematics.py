"""Forward kinematics: from local rotations and the root's place to world rotations and joints. World axes, metres."""

from dataclasses import dataclass

import numpy as np

from otrevo.core.body.skeleton import Skeleton
from otrevo.core.conventions import quaternion_multiply, quaternion_rotate


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


def forward_kinematics(skeleton, root_position_m, rotation_local):
    """World joints and rotations of a pose or a whole motion.

    root_position_m (..., 3), rotation_local (..., B, 4). Returns position_m (..., B, 3), rotation_world (..., B, 4).
    """
    rotation_local = np.asarray(rotation_local, dtype=float)
    position = np.empty(rotation_local.shape[:-1] + (3,))
    rotation = np.empty_like(rotation_local)
    for b, parent in enumerate(skeleton.parents):  # one step per bone, all frames at once
        if parent < 0:
            position[..., b, :] = root_position_m
            rotation[..., b, :] = rotation_local[..., b, :]
        else:
            turned = quaternion_rotate(rotation[..., parent, :], skeleton.rest_offset_m[b])
            position[..., b, :] = position[..., parent, :] + turned
            rotation[..., b, :] = quaternion_multiply(rotation[..., parent, :], rotation_local[..., b, :])
    return position, rotation


def motion_joints(motion):
    """World joints (T, B, 3) and rotations (T, B, 4) of a motion."""
    return forward_kinematics(motion.skeleton, motion.root_position_m, motion.rotation_local)
