"""Skin that turns less than the bone under it.

When a limb turns about its own line, what is strapped to it comes along in part only (A. G. Cutti et al., Soft tissue artefact
assessment in humeral axial rotation, Gait & Posture 21, 2005).
"""

import numpy as np

from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    within_half_a_turn,
)
from otrevo.core.inertial.poses import plain, sensor_above

# limbs whose skin turns less than they, and their line in the T-pose
SKIN = {
    "UpperArm": np.array([1.0, 0.0, 0.0]),
    "LowerArm": np.array([1.0, 0.0, 0.0]),
    "UpperLeg": np.array([0.0, -1.0, 0.0]),
}
MISSED = 0.2  # by skin, of what is seen of a turn about the limb's line; one sigma
# Cosine of half the angle between a limb and its line in the T-pose: below the one turning about it means nothing, above the other all.
NO_TURN, ALL_TURN = 0.2, 0.5


def turned_about_line(limb, above, world):
    """How far a limb is turned about its line against the bone above (T,), rad, by rotations above and world (T, 4).

    Less where it points the other way, as that means little there, and straight on where a sensor is lost.
    """
    line = SKIN[plain(limb)]
    q = quaternion_multiply(quaternion_conjugate(above), world)
    along = q[:, :3] @ line
    angle = within_half_a_turn(2 * np.arctan2(along, q[:, 3]))
    angle *= np.clip((np.hypot(along, q[:, 3]) - NO_TURN) / (ALL_TURN - NO_TURN), 0.0, 1.0)
    known = np.flatnonzero(np.isfinite(angle))
    return np.interp(np.arange(len(angle)), known, angle[known]) if len(known) else np.zeros(len(angle))


def with_whole_turn(limb, world, turned, share):
    """World rotations (T, 4) of a limb, turned further about its line by a share of how far it is seen to be turned (T,)."""
    return quaternion_multiply(world, quaternion_from_rotvec(share * turned[:, None] * SKIN[plain(limb)]))


def with_whole_turns(names, world, skin):
    """World rotations (T, S, 4) of bones with what their skin missed of their turns about their lines; skin: {limb: share of the whole}."""
    world = world.copy()
    for name, missed in skin.items():
        s, above = names.index(name), names.index(sensor_above(name, names))
        turned = turned_about_line(name, world[:, above], world[:, s])
        world[:, s] = with_whole_turn(name, world[:, s], turned, missed / (1 - missed))
    return world
