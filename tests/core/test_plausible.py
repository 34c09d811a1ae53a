"""Postures that a suit may show, and those that no body can."""

import unittest

import numpy as np

from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.conventions import quaternion_from_euler, quaternion_multiply
from otrevo.core.errors import InputError
from otrevo.core.inertial.plausible import impossible_joints
from otrevo.core.solve.suit import SUIT_BONES

DOWN = {"left": -70.0, "right": 70.0}


def held(bent_deg, rolled_deg):
    """World rotations (20, S, 4) of somebody who holds the arms down, forearms bent and rolled."""
    world = np.tile([0.0, 0.0, 0.0, 1.0], (20, len(SUIT_BONES), 1))
    for side, sign in (("left", 1.0), ("right", -1.0)):
        arm = quaternion_from_euler("Z", np.radians([[DOWN[side]]]))[0]
        forearm = quaternion_from_euler("YX", np.radians([[-sign * bent_deg, rolled_deg]]))[0]
        world[:, SUIT_BONES.index(f"{side}UpperArm")] = arm
        for bone in ("LowerArm", "Hand"):
            world[:, SUIT_BONES.index(side + bone)] = quaternion_multiply(arm, forearm)
    return world


class Plausible(unittest.TestCase):
    def test_whoever_types_or_holds_a_wheel_bends_no_joint_as_no_body_can(self):
        for rolled in (-75.0, 0.0, 75.0):
            self.assertEqual(impossible_joints(generic_skeleton(), SUIT_BONES, held(95.0, rolled)), {})

    def test_elbows_that_are_bent_backwards_are_said_and_any_posture_is_refused(self):
        found = impossible_joints(generic_skeleton(), SUIT_BONES, held(-40.0, 0.0))
        self.assertEqual(set(found), {"leftLowerArm", "rightLowerArm"})
        with self.assertRaisesRegex(InputError, "sits otherwise than in its warm-up"):
            rng = np.random.default_rng(1)
            world = rng.normal(size=(1, len(SUIT_BONES), 4))
            world = np.repeat(world / np.linalg.norm(world, axis=2, keepdims=True), 20, axis=0)
            impossible_joints(generic_skeleton(), SUIT_BONES, world)


if __name__ == "__main__":
    unittest.main()
