"""Held props go along: a prop in a performer's hand is in the character's hand, at the performer's size or the character's.

How far a hand holds a prop follows from how near its palm is to the prop, smooth in time; where both are near, the one in which the
prop lies still holds it. In a hand, the prop keeps the way it
is gripped: its offset from the palm times its size, and its rotation in the world, as the hand has. In no hand it goes where it is in
the room, times the scale of the path. World axes, metres.
"""

import numpy as np
import scipy

from otrevo.core.conventions import quaternion_conjugate, quaternion_rotate
from otrevo.core.retarget.feet import sole_height

HELD_M, FREE_M = 0.14, 0.32  # a palm nearer than the first holds the prop, one beyond the second does not
SETTLED_S = 0.2
TOUCHED = 0.98  # nearer than this a palm touches the prop
# A hand in which the prop moves by much more than this within the window does not grip it.
WINDOW_S, FIRM_M = 1.0, 0.012
PALM = 0.5  # of the way from the wrist to the middle finger


def prop_on_character(positions, plan, motion, joint, rotation, pose, points, path, size):
    """The pose (T, 7), position and rotation, of a prop with a character.

    positions (T, B, 3): the character's; joint (T, S, 3), rotation (T, S, 4): the performer's; pose (T, 7): the prop's with the performer; points (K, 3): of the prop about its origin;
    path: the scale of ways in the room; size: of the prop.
    """
    names, rate = motion.skeleton.names, float(motion.rate)
    places, holds, grips = [], [], []
    for side in ("left", "right"):
        own = palm(names.index, side, names, joint)
        theirs = palm(plan.joints.get, side, plan.joints, positions)
        if own is None or theirs is None:
            continue
        holds.append(nearness(own, pose, points, rate))
        places.append(theirs + size * (pose[:, :3] - own))
        inside = quaternion_rotate(quaternion_conjugate(rotation[:, names.index(side + "Hand")]), pose[:, :3] - own)
        n = max(3, int(WINDOW_S * rate))
        moved = np.linalg.norm(inside - scipy.ndimage.uniform_filter1d(inside, n, axis=0, mode="nearest"), axis=1)
        grips.append(np.exp(-scipy.ndimage.uniform_filter1d(moved, n, mode="nearest") / FIRM_M))
    out = pose.copy()
    out[:, :3] = path * pose[:, :3] + [0.0, sole_height(plan.character), 0.0]
    if holds:
        holds = np.array(holds)
        firm = (holds * np.array(grips)) ** 3 + 1e-12 * holds
        held = (firm[..., None] * np.array(places)).sum(axis=0) / np.maximum(firm.sum(axis=0), 1e-15)[:, None]
        share = holds.max(axis=0)[:, None]
        out[:, :3] = share * held + (1 - share) * out[:, :3]
    return out


def hands_off_props(positions, plan, motion, joint, rotation, props, carried, size):
    """{(hand, prop): how far the character's palm is from where the performer's touches the prop (T,), 0 where they do not touch it}.

    props: {name: (pose (T, 7), points (K, 3))} with the performer; carried: {name: pose (T, 7)} with the character.
    """
    names, out = motion.skeleton.names, {}
    for side in ("left", "right"):
        own = palm(names.index, side, names, joint)
        theirs = palm(plan.joints.get, side, plan.joints, positions)
        if own is None or theirs is None:
            continue
        for name, (pose, points) in props.items():
            touches = nearness(own, pose, points, float(motion.rate)) > TOUCHED
            apart = (theirs - carried[name][:, :3]) - size * (own - pose[:, :3])
            out[side + "Hand", name] = np.where(touches, np.linalg.norm(apart, axis=1), 0.0)
    return out


def nearness(own, pose, points, rate):
    """How near a palm (T, 3) is to a prop (T,), from 0, too far to touch it, to 1, smooth in time."""
    there = pose[:, None, :3] + quaternion_rotate(pose[:, None, 3:], np.vstack([np.zeros(3), points])[None])
    away = np.linalg.norm(there - own[:, None], axis=2).min(axis=1)
    near = np.clip((FREE_M - away) / (FREE_M - HELD_M), 0, 1)
    return scipy.ndimage.uniform_filter1d(near * near * (3 - 2 * near), max(1, int(SETTLED_S * rate)), mode="nearest")


def palm(number, side, known, positions):
    """The palm (T, 3) of a side, or None where there is no hand."""
    hand, finger = side + "Hand", side + "MiddleProximal"
    if hand not in known:
        return None
    wrist = positions[:, number(hand)]
    if finger not in known:
        return wrist
    return wrist + PALM * (positions[:, number(finger)] - wrist)
