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
    from otrevo.core.body.compiled_kinematics import forward  # slow to load; readers of files do without

    local = np.asarray(rotation_local, dtype=float)
    bones = len(skeleton.parents)
    root = np.array(np.broadcast_to(root_position_m, (*local.shape[:-2], 3)), dtype=float, order="C")
    position, rotation = np.empty((*local.shape[:-1], 3)), np.empty(local.shape)
    forward(
        np.asarray(skeleton.parents), np.ascontiguousarray(skeleton.rest_offset_m, dtype=float),
        root.reshape(-1, 3), np.ascontiguousarray(local).reshape(-1, bones, 4),
        position.reshape(-1, bones, 3), rotation.reshape(-1, bones, 4),
    )  # fmt: skip
    return position, rotation


def motion_joints(motion):
    """World joints (T, B, 3) and rotations (T, B, 4) of a motion."""
    return forward_kinematics(motion.skeleton, motion.root_position_m, motion.rotation_local)


def bone_in_motion(motion, bone):
    """World joint (T, 3) and rotation (T, 4) of one bone, by number, in a motion: without those it does not hang on."""
    parent = motion.skeleton.parents[bone]
    local = motion.rotation_local[:, bone]
    if parent < 0:
        return motion.root_position_m, local
    joint, world = bone_in_motion(motion, parent)
    joint = joint + quaternion_rotate(world, motion.skeleton.rest_offset_m[bone])
    return joint, quaternion_multiply(world, local)
