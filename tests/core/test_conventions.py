import unittest
from itertools import permutations

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.conventions import (
    euler_from_quaternion,
    find_runs,
    make_continuous,
    matrix_from_quaternion,
    quaternion_from_euler,
    quaternion_from_matrix,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
    slerp,
)


class Quaternions(unittest.TestCase):
    def setUp(self):
        self.q = Rotation.random(200, random_state=4).as_quat()
        self.p = Rotation.random(200, random_state=5).as_quat()

    def test_product_and_rotation_agree_with_scipy(self):
        product = Rotation.from_quat(quaternion_multiply(self.q, self.p))
        self.assertLess(
            (product * (Rotation.from_quat(self.q) * Rotation.from_quat(self.p)).inv()).magnitude().max(), 1e-7
        )
        v = np.random.default_rng(1).normal(size=(200, 3))
        np.testing.assert_allclose(quaternion_rotate(self.q, v), Rotation.from_quat(self.q).apply(v), atol=1e-12)

    def test_matrix_and_rotation_vector_round_trips(self):
        again = quaternion_from_matrix(matrix_from_quaternion(self.q))
        np.testing.assert_allclose(np.abs(np.sum(again * self.q, axis=1)), 1, atol=1e-12)
        again = quaternion_from_rotvec(rotvec_from_quaternion(self.q))
        np.testing.assert_allclose(np.abs(np.sum(again * self.q, axis=1)), 1, atol=1e-12)

    def test_angles_about_axes_agree_with_scipy(self):
        for axes in map("".join, permutations("XYZ")):
            angles = euler_from_quaternion(axes, self.q.reshape(20, 10, 4))
            np.testing.assert_allclose(angles.reshape(-1, 3), Rotation.from_quat(self.q).as_euler(axes), atol=1e-9)

    def test_angles_about_axes_where_two_of_them_fall_together(self):
        for axes in map("".join, permutations("XYZ")):
            q = quaternion_from_euler(axes, np.radians([[30.0, 90, 20], [-170, -90, 60]]))
            angles = euler_from_quaternion(axes, q)
            np.testing.assert_allclose(np.degrees(angles[:, 1:]), [[90, 0], [-90, 0]], atol=1e-5)
            again = quaternion_from_euler(axes, angles)
            np.testing.assert_allclose(np.abs(np.sum(again * q, axis=1)), 1, atol=1e-12)

    def test_tiny_and_half_turns_are_safe(self):
        np.testing.assert_allclose(
            rotvec_from_quaternion(quaternion_from_rotvec([0.0, 1e-12, 0])), [0, 1e-12, 0], atol=1e-15
        )
        half = rotvec_from_quaternion(np.array([0.0, 1.0, 0.0, 0.0]))
        np.testing.assert_allclose(np.abs(half), [0, np.pi, 0], atol=1e-12)

    def test_slerp_takes_the_short_way_and_holds_its_ends(self):
        q = np.array([[0, 0, 0, 1.0], [0, 0, -np.sin(0.2), -np.cos(0.2)]])
        middle = slerp(np.array([0.0, 1.0]), q, np.array([0.5, -3.0, 9.0]))
        self.assertAlmostEqual(abs(middle[0] @ [0, 0, np.sin(0.1), np.cos(0.1)]), 1, places=12)
        self.assertAlmostEqual(abs(middle[1] @ q[0]), 1, places=12)
        self.assertAlmostEqual(abs(middle[2] @ q[1]), 1, places=12)

    def test_long_arrays_come_out_as_short_ones_do(self):
        """They go through compiled loops; in pieces of 500 they do not. What is missing stays so, and only that."""
        rng = np.random.default_rng(6)
        q, p = Rotation.random(6000, random_state=6).as_quat(), Rotation.random(6000, random_state=7).as_quat()
        v, times, at = rng.normal(size=(6000, 3)), np.arange(6000) / 100, np.linspace(-1.0, 61.0, 6000)
        q[3], v[5], p[7], q[9:13], v[11] = np.nan, np.nan, np.nan, [0.0, 0.0, 0.0, -1.0], 0.0
        q[21] = -q[20]
        for what, arrays in (
            (quaternion_multiply, (q, p)), (quaternion_rotate, (q, v)), (quaternion_from_rotvec, (v,)),
            (rotvec_from_quaternion, (q,)), (matrix_from_quaternion, (q,)),
        ):  # fmt: skip
            with self.subTest(what=what.__name__):
                pieces = [what(*(a[k : k + 500] for a in arrays)) for k in range(0, 6000, 500)]
                whole = what(*arrays)
                np.testing.assert_allclose(whole, np.concatenate(pieces), atol=1e-14)
                missing = np.isnan(np.concatenate([a.reshape(6000, -1) for a in arrays], axis=1)).any(axis=1)
                np.testing.assert_array_equal(np.isnan(whole).reshape(6000, -1).any(axis=1), missing)
        pieces = [slerp(times, q, at[k : k + 500]) for k in range(0, 6000, 500)]
        np.testing.assert_allclose(slerp(times, q, at), np.concatenate(pieces), atol=1e-14)
        many = quaternion_rotate(q[:3000, None], np.eye(3))  # one with several
        np.testing.assert_allclose(many, matrix_from_quaternion(q[:3000]).swapaxes(1, 2), atol=1e-14)
        with self.assertRaisesRegex(ValueError, "3 numbers in a row"):
            quaternion_rotate(q, q)

    def test_signs_are_made_continuous(self):
        q = np.tile([0.0, 0, 0, 1], (6, 1)) * np.array([1, -1, -1, 1, -1, 1])[:, None]
        self.assertTrue((np.sum(make_continuous(q)[1:] * make_continuous(q)[:-1], axis=1) > 0).all())


class RestPose(unittest.TestCase):
    def test_straight_limbs_are_at_zero_degrees(self):
        """Thighs and shins point down, upper arms and forearms aside, so that joints between them turn by nothing when a limb is straight."""
        skeleton = generic_skeleton(1.81)
        for side, sign in (("left", 1.0), ("right", -1.0)):
            for bone, way in (
                ("LowerLeg", (0, -1, 0)),
                ("Foot", (0, -1, 0)),
                ("LowerArm", (sign, 0, 0)),
                ("Hand", (sign, 0, 0)),
            ):
                offset = skeleton.rest_offset_m[skeleton.index(side + bone)]
                np.testing.assert_allclose(offset / np.linalg.norm(offset), way, atol=1e-12)


class Runs(unittest.TestCase):
    def test_runs_at_both_ends_and_none(self):
        np.testing.assert_array_equal(find_runs([1, 1, 0, 1]), [[0, 2], [3, 4]])
        self.assertEqual(find_runs([0, 0]).shape, (0, 2))
