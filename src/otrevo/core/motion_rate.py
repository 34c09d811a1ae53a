"""Motions at another rate: low-pass before thinning out, shortest-arc slerp between samples."""

from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.conventions import make_continuous, slerp
from otrevo.core.zero_phase import low_pass


def frames_at(frames, source_rate, rate):
    """How many frames a motion of `frames` at `source_rate` has at another exact rate: as many as cover the same time."""
    return int((frames - 1) * Fraction(rate) / Fraction(source_rate)) + 1


def at_rate(motion, rate):
    """The motion sampled at another exact rate from the same first frame; covers the same time."""
    rate = Fraction(rate)
    if rate == motion.rate:
        return motion
    source = float(motion.rate)
    root, rotation = motion.root_position_m, make_continuous(motion.rotation_local)
    if rate < motion.rate and len(motion) > 30:
        slow = 0.45 * float(rate)
        root = low_pass(root, source, slow, order=4)
        rotation = low_pass(rotation, source, slow, order=4)  # continuous signs make this a small-angle average
        rotation /= np.linalg.norm(rotation, axis=-1, keepdims=True)
    count = frames_at(len(motion), motion.rate, rate)
    at = np.arange(count) / float(rate)
    times = np.arange(len(motion)) / source
    new_root = np.stack([np.interp(at, times, root[:, i]) for i in range(3)], axis=1)
    return Motion(motion.skeleton, rate, new_root, slerp(times, rotation, at))
