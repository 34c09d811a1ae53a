import unittest

import numpy as np
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from otrevo.core.body.compiled_rotations import exp_rotation, forearm_angles, log_rotation, log_slope
from otrevo.core.body.joints import joint_tables, rolling
from otrevo.core.body.skeleton import BODY_BONES, generic_skeleton
from otrevo.core.body.tree_solver import BodyArrays, Expected, Observed, place_markers, pose_joints, refine_pose
from otrevo.core.inertial.pose import fit_pose


class Rotations(unittest.TestCase):
    def test_exponential_and_logarithm_agree_with_scipy(self):
        out, back = np.empty((3, 3)), np.empty(3)
        rng = np.random.default_rng(0)
        for size in (1e-9, 1e-4, 0.0999, 0.1001, 0.5, 2.0, 3.1, np.pi):  # 0.1: where series end
            v = rng.normal(size=3)
            v *= size / np.linalg.norm(v)
            exp_rotation(v, out)
            np.testing.assert_allclose(out, Rotation.from_rotvec(v).as_matrix(), atol=1e-12)
            log_rotation(out, back)
            if size < 3.1:
                np.testing.assert_allclose(back, v, atol=1e-12)
            np.testing.assert_allclose(Rotation.from_rotvec(back).as_matrix(), out, atol=1e-6)

    def test_the_slope_of_the_logarithm_is_what_small_turns_make(self):
        slope, rng, small = np.empty((3, 3)), np.random.default_rng(1), 1e-6
        for size in (1e-9, 0.01, 1.0, 3.0):
            v = rng.normal(size=3)
            v *= size / np.linalg.norm(v)
            log_slope(v, slope)
            turned = Rotation.from_rotvec(small * np.eye(3)) * Rotation.from_rotvec(v)
            np.testing.assert_allclose(slope.T, (turned.as_rotvec() - v) / small, atol=1e-5)


class Forearms(unittest.TestCase):
    def test_roll_bend_and_sideways_and_the_axes_they_are_about(self):
        rng, angles, axes = np.random.default_rng(2), np.empty(3), np.empty((3, 3))
        for _ in range(20):
            roll, bend, aside = rng.uniform([-2.0, -2.5, -0.4], [2.0, 0.2, 0.4])
            local = Rotation.from_euler("YZX", [bend, aside, roll])
            forearm_angles(local.as_matrix(), angles, axes)
            np.testing.assert_allclose(angles, [roll, bend, aside], atol=1e-12)
            for k, turned in enumerate(np.eye(3) * 1e-6):
                more = Rotation.from_euler("YZX", np.array([bend, aside, roll]) + np.roll(turned, -1))
                np.testing.assert_allclose(axes[:, k], (more * local.inv()).as_rotvec() / 1e-6, atol=1e-5)

    def test_a_forearm_that_is_bent_and_rolled_is_not_turned_by_its_stiffness(self):
        """As a rotation vector it seems bent sideways by as much as it is rolled, and was pulled back by a third of that."""
        skeleton = generic_skeleton()
        for side, sign in (("left", 1.0), ("right", -1.0)):
            names = ["chest", side + "UpperArm", side + "LowerArm"]
            arm = Rotation.from_euler("z", -sign * 60.0, degrees=True)
            forearm = arm * Rotation.from_euler("YX", [-sign * 90.0, 70.0], degrees=True)
            world = np.stack([np.array([0.0, 0.0, 0.0, 1.0]), arm.as_quat(), forearm.as_quat()])
            local = fit_pose(skeleton, names, np.tile(world, (3, 1, 1)), 100.0)[-1]
            off = Rotation.from_quat(local[skeleton.index(names[2])]).inv() * (arm.inv() * forearm)
            self.assertLess(np.degrees(off.magnitude()), 3.0)


class Solver(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(7)
        self.skeleton = generic_skeleton().keep(BODY_BONES)
        self.bones = len(self.skeleton.names)
        self.marker_bone = np.repeat(np.arange(self.bones), 3).astype(np.int64)
        self.marker_offset = rng.normal(size=(len(self.marker_bone), 3)) * 0.07
        self.sigma, low, high = joint_tables(self.skeleton)
        self.low, self.high = low * 0 - 9, high * 0 + 9
        self.root = np.array([0.3, 0.9, -0.2])
        self.local = Rotation.from_rotvec(rng.normal(size=(self.bones, 3)) * 0.2).as_matrix()
        self.observed = self.markers(self.root, self.local)

    def body(self, sigma=None):
        return BodyArrays(
            self.skeleton.parents, self.skeleton.rest_offset_m, self.marker_bone, self.marker_offset,
            self.sigma if sigma is None else sigma, self.low, self.high, rolling(self.skeleton),
        )  # fmt: skip

    def markers(self, root, local):
        world, joint = np.empty((self.bones, 3, 3)), np.empty((self.bones, 3))
        out = np.empty((len(self.marker_bone), 3))
        pose_joints(self.body(), root, local, world, joint)
        place_markers(self.body(), world, joint, out)
        return out

    def refine(self, observed, iterations, weight=4e4, sigma=None, scale=0.0):
        root, local = np.array([0.0, 0.93, 0]), np.tile(np.eye(3), (self.bones, 1, 1))
        residual, none = np.empty(len(observed)), np.zeros(self.bones)
        seen = Observed(observed, np.full(len(observed), weight), scale)
        refine_pose(
            self.body(sigma),
            seen,
            Expected(local, none, local, none, np.empty((0, 6))),
            root,
            local,
            iterations,
            1e-6,
            residual,
        )
        return root, local, residual

    def test_recovers_a_pose_exactly_when_nothing_pulls(self):
        root, local, residual = self.refine(self.observed, 30, sigma=np.full((self.bones, 3), 1e4))
        self.assertLess(np.nanmax(residual), 1e-6)
        np.testing.assert_allclose(local, self.local, atol=1e-5)
        np.testing.assert_allclose(root, self.root, atol=1e-6)

    def test_finds_the_same_optimum_as_a_general_solver(self):
        observed = self.observed + np.random.default_rng(1).normal(0, 0.004, self.observed.shape)
        root, local, _ = self.refine(observed, 60)

        def cost(p):
            turns = p[3:].reshape(-1, 3)
            x = self.markers(p[:3], Rotation.from_rotvec(turns).as_matrix())
            return np.concatenate([(200 * (observed - x)).ravel(), (turns / self.sigma).ravel()])

        start = np.concatenate([root, Rotation.from_matrix(local).as_rotvec().ravel()])
        general = least_squares(cost, start, method="trf", x_scale="jac", max_nfev=60)
        ours = 0.5 * np.sum(cost(start) ** 2)
        # the stiffness is linearised, so its optimum is met nearly, the markers' exactly
        self.assertLess(ours, general.cost * 1.02)
        found = self.markers(general.x[:3], Rotation.from_rotvec(general.x[3:].reshape(-1, 3)).as_matrix())
        self.assertLess(np.linalg.norm(found - self.markers(root, local), axis=1).max(), 0.002)

    def test_a_wrong_label_does_not_bend_the_body(self):
        observed = self.observed.copy()
        observed[20] += [0.3, 0, 0]
        _, _, plain = self.refine(observed, 40)
        root, local, robust = self.refine(observed, 40, scale=0.03)
        good = np.arange(len(observed)) != 20
        self.assertLess(robust[good].max(), 0.5 * plain[good].max())
        self.assertGreater(plain[good].max(), 0.02)

    def test_unseen_markers_are_left_out_and_unmeasured_joints_stay_at_rest(self):
        observed = self.observed.copy()
        hand = self.skeleton.index("leftHand")
        observed[self.marker_bone == hand] = np.nan
        _, local, residual = self.refine(observed, 40)
        self.assertTrue(np.isnan(residual[self.marker_bone == hand]).all())
        self.assertLess(np.degrees(Rotation.from_matrix(local[hand]).magnitude()), 1.0)

    def test_an_orientation_target_leads_where_no_marker_is(self):
        target = np.tile(np.eye(3), (self.bones, 1, 1))
        weight = np.zeros(self.bones)
        arm = self.skeleton.index("leftLowerArm")
        target[arm] = Rotation.from_rotvec([0, -1.0, 0]).as_matrix()
        weight[arm] = 1 / 0.03**2
        root, local = np.array([0.0, 0.93, 0]), np.tile(np.eye(3), (self.bones, 1, 1))
        none, residual = np.zeros(self.bones), np.empty(len(self.observed))
        observed = np.full_like(self.observed, np.nan)
        seen = Observed(observed, np.ones(len(observed)), 0.0)
        refine_pose(
            self.body(), seen, Expected(local, none, target, weight, np.empty((0, 6))), root, local, 20, 1e-3, residual
        )
        world, joint = np.empty((self.bones, 3, 3)), np.empty((self.bones, 3))
        pose_joints(self.body(), root, local, world, joint)
        self.assertLess(Rotation.from_matrix(world[arm].T @ target[arm]).magnitude(), 0.02)
