"""A carried prop: it stands where it will be taken, hangs from the right hand and swings, and stands again."""

import numpy as np
import scipy

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.conventions import matrix_from_quaternion, quaternion_from_rotvec, quaternion_multiply

GRAVITY, HANG_M, DAMPING_HZ, GRIP_S = 9.81, 0.2, 1.1, 0.25


def carry(performance, prop, seed):
    """The prop's true Motion: a damped pendulum whose grip follows the hand, turning with the arm.

    Where the performance holds nothing, the prop stands on the floor beside the performer.
    """
    rng = np.random.default_rng([seed, 53])
    motion = performance.motion
    hz = float(motion.rate)
    joints, world = motion_joints(motion)
    hand = motion.skeleton.index("rightHand")
    along = matrix_from_quaternion(world[:, hand])[..., 0]
    grip = joints[:, hand] - 0.08 * along
    if performance.held_s is None:
        position = joints[0, 0] * [1.0, 0.0, 1.0] + [0.6, -prop.offset_m[:, 1].min(), 0.4]
        rotation = quaternion_from_rotvec(np.tile([0.0, rng.uniform(-np.pi, np.pi), 0.0], (len(grip), 1)))
        return Motion(prop.skeleton, motion.rate, np.tile(position, (len(grip), 1)), rotation[:, None])
    start, end = (min(int(t * hz), len(grip) - 1) for t in performance.held_s)
    grip[:start], grip[end:] = grip[start], grip[end]
    times = np.arange(len(grip)) / hz
    acceleration = np.gradient(np.gradient(grip, times, axis=0), times, axis=0)
    natural = np.sqrt(GRAVITY / HANG_M)
    held = (times >= performance.held_s[0]) & (times <= performance.held_s[1])
    tilt = np.zeros((len(grip), 2))
    for axis, source in ((0, 2), (1, 0)):  # about x it swings along z, about z along x
        sign = 1.0 if axis == 0 else -1.0
        system = ([1.0], [1.0, 2 * np.pi * DAMPING_HZ * 0.3, natural**2])
        _, angle, _ = scipy.signal.lsim(system, sign * acceleration[:, source] / HANG_M, times)
        tilt[:, axis] = 0.9 * np.tanh(angle / 0.9)
    settle = np.clip((times - performance.held_s[0]) / GRIP_S, 0, 1) * np.clip(
        (performance.held_s[1] - times) / GRIP_S, 0, 1
    )
    tilt *= np.where(held, settle, 0.0)[:, None]
    heading = np.unwrap(np.arctan2(-along[:, 2], -along[:, 0]))
    heading[:start], heading[end:] = heading[start], heading[end]
    yaw = rng.uniform(-np.pi, np.pi) - 0.5 * (heading - heading[0])
    zero = np.zeros(len(grip))
    rotation = quaternion_multiply(
        quaternion_from_rotvec(np.stack([tilt[:, 0], zero, tilt[:, 1]], 1)),
        quaternion_from_rotvec(np.stack([zero, yaw, zero], 1)),
    )
    return Motion(prop.skeleton, motion.rate, grip, rotation[:, None])
