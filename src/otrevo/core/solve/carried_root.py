"""Where a body goes while all of it is out of sight: what the pelvis' sensor feels, between two ends that markers show.

Twice integrated, accelerations drift: tilts err by parts of a degree and sensors have a bias. Place and speed are known at both ends, so what
the integral misses at the far one is an error of the acceleration that was constant or grew steadily; it is taken off as the cubic that
brings both back.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.conventions import find_runs, quaternion_rotate

FEWEST_MARKERS = 3  # with fewer the place of the body is not known
SPEED_S = 0.12  # beside a gap, over which its speed is measured
LONGEST_S = 20.0


@dataclass(frozen=True)
class FeltAt:
    """What a sensor on a bone feels: lever_m (3,) from the bone's joint in T-pose axes; acceleration_ms2 (T, 3) in the world, gravity
    taken off, NaN where it is not known.
    """

    bone: str
    lever_m: np.ndarray
    acceleration_ms2: np.ndarray


def carry_root(motion, seen, felt):
    """The Motion with its root carried through stretches without markers, and how many frames that were.

    motion (T frames); seen (T, M) of bool: the markers that were there; felt: FeltAt, at the same frames.
    """
    hz = float(motion.rate)
    root, frames = motion.root_position_m.copy(), 0
    joint, world = motion_joints(motion)
    b = motion.skeleton.index(felt.bone)
    lever = joint[:, b] + quaternion_rotate(world[:, b], felt.lever_m) - root
    place = root + lever
    reach = max(1, round(SPEED_S * hz))
    for start, end in find_runs(seen.sum(axis=1) < FEWEST_MARKERS):
        around = slice(max(0, start - 1 - reach), end + reach + 1)
        if start <= reach or end + reach >= len(root) or (end - start) / hz > LONGEST_S:
            continue
        if not np.isfinite(felt.acceleration_ms2[around]).all():
            continue
        acceleration = felt.acceleration_ms2[start - 1 : end + 1]
        leaving = _speed_at_end(place[start - 1 - reach : start], felt.acceleration_ms2[start - 1 - reach : start], hz)
        arriving = -_speed_at_end(
            place[end : end + reach + 1][::-1], felt.acceleration_ms2[end : end + reach + 1][::-1], hz
        )
        middle = (acceleration[1:] + acceleration[:-1]) / 2
        speed = leaving + np.concatenate([np.zeros((1, 3)), np.cumsum(middle, axis=0) / hz])
        path = place[start - 1] + np.concatenate(
            [np.zeros((1, 3)), np.cumsum(speed[:-1] / hz + middle / (2 * hz**2), axis=0)]
        )
        seconds = np.arange(len(path))[:, None] / hz
        total = seconds[-1]
        missed, too_slow = place[end] - path[-1], arriving - speed[-1]
        square = (3 * missed - too_slow * total) / total**2
        cube = (too_slow * total - 2 * missed) / total**3
        path = path + square * seconds**2 + cube * seconds**3
        root[start:end] = path[1:-1] - lever[start:end]
        frames += end - start
    return Motion(motion.skeleton, motion.rate, root, motion.rotation_local), frames


def _speed_at_end(place, acceleration, hz):
    """Velocity (3,) at the last of places (K, 3): the line through them once what the acceleration (K, 3) bends is taken off."""
    back, seconds = acceleration[::-1], -np.arange(len(place))[:, None] / hz
    middle = (back[1:] + back[:-1]) / 2
    speed = np.concatenate([np.zeros((1, 3)), -np.cumsum(middle, axis=0) / hz])
    bent = np.concatenate([np.zeros((1, 3)), np.cumsum(-(speed[1:] + speed[:-1]) / 2 / hz, axis=0)])
    straight = place[::-1] - bent
    return np.polyfit(seconds[:, 0], straight, 1)[0]
