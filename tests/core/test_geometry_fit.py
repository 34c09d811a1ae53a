"""The geometry fit's derivatives against differences, its prior, and what it finds on exact data."""

import unittest

import numpy as np

from otrevo.core.body.model import generic_body
from otrevo.core.body.tree_solver import place_markers
from otrevo.core.conventions import matrix_from_quaternion, quaternion_from_rotvec
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.warm_up.elimination import columns_below, eliminate, rotation_variance
from otrevo.core.warm_up.geometry_fit import (
    _Growth,
    _pose_cost,
    _prior,
    _stack,
    fit_geometry,
    pose_all,
    refine_many,
)
from otrevo.core.warm_up.geometry_sure import geometry_variance
from otrevo.core.warm_up.normal_equations import normal_equations
from otrevo.core.warm_up.rest import share_of_rest

CHART = shipped_chart()


def posed(model, seed, frames=3, size=0.3):
    """Random poses that joints can take: root (F, 3), local (F, B, 3, 3)."""
    rng = np.random.default_rng(seed)
    rotvec = np.clip(rng.normal(0, size, (frames, len(model.skeleton.names), 3)), 0.9 * model.low, 0.9 * model.high)
    turns = quaternion_from_rotvec(rotvec)
    return rng.normal(0, 0.5, (frames, 3)), np.ascontiguousarray(matrix_from_quaternion(turns))


def places(model, root, local):
    world, joint = pose_all(model, root, local)
    x = np.empty((len(root), len(model.marker_bone), 3))
    for f in range(len(root)):
        place_markers(model.arrays, world[f], joint[f], x[f])
    return world, joint, x


class Rest(unittest.TestCase):
    def test_the_t_pose_is_the_rest_and_a_warm_up_is_not(self):
        model = generic_body(CHART, 1.72)
        held = np.arange(50) == 7
        share = share_of_rest(model, held, 0.1, {"UpperLeg": 0.02, "Foot": (0.02, 0.5, 0.5)})
        number = model.skeleton.index
        np.testing.assert_allclose(share[~held, number("leftUpperLeg")], 0.02)
        np.testing.assert_allclose(share[~held, number("rightFoot")], [[0.02, 0.5, 0.5]] * 49)
        np.testing.assert_allclose(share[~held, number("chest")], 0.1)
        self.assertGreater(share[0, number("leftLowerLeg"), 1], 0.1, "a knee hardly twists, whatever the frame")
        self.assertEqual(share[0, number("leftLowerLeg"), 0], 0.1, "but bends")
        strength = share[held][0] / model.sigma**2  # as people hold it, however stiff the joint is
        np.testing.assert_allclose(strength[number("leftShoulder")], 1 / np.radians(4.0) ** 2)


class Derivatives(unittest.TestCase):
    def setUp(self):
        self.model = generic_body(CHART, 1.72)
        self.root, self.local = posed(self.model, 1)
        self.world, self.joint, self.x = places(self.model, self.root, self.local)
        rng = np.random.default_rng(2)
        self.r = rng.normal(0, 0.01, self.x.shape)
        self.weight = rng.uniform(0.5, 2.0, self.x.shape[:2])
        self.bones, self.markers = len(self.model.skeleton.names), len(CHART.names)
        size, pose = 3 * (self.bones - 1) + 3 * self.markers, 3 + 3 * self.bones
        self.hpp, self.hpg = np.zeros((3, pose, pose)), np.zeros((3, pose, size))
        self.gp, self.hgg, self.gg = np.zeros((3, pose)), np.zeros((size, size)), np.zeros(size)
        normal_equations(
            self.model.skeleton.parents, self.model.marker_bone, self.world, self.joint, self.x, self.r, self.weight,
            self.hpp, self.hpg, self.gp, self.hgg, self.gg,
        )  # fmt: skip

    def cost(self, model, root, local):
        """Half the weighted square of (observed - place), observed = place at the start + r."""
        _, _, x = places(model, root, local)
        return 0.5 * np.sum(self.weight[..., None] * (self.x + self.r - x) ** 2)

    def test_geometry_gradient_against_differences(self):
        h = 1e-6
        for at in (0, 5, 3 * (self.bones - 1) - 1, 3 * (self.bones - 1), 3 * (self.bones - 1) + 40, len(self.gg) - 1):
            values = []
            for sign in (1, -1):
                flat = _stack(self.model.skeleton.rest_offset_m, self.model.marker_offset_m)
                flat[at] += sign * h
                offsets = self.model.skeleton.rest_offset_m.copy()
                offsets[1:] = flat[: 3 * (self.bones - 1)].reshape(-1, 3)
                moved = self.model.with_geometry(offsets, flat[3 * (self.bones - 1) :].reshape(-1, 3))
                values.append(self.cost(moved, self.root, self.local))
            self.assertAlmostEqual(-(values[0] - values[1]) / (2 * h), self.gg[at], places=5)

    def test_pose_gradient_against_differences(self):
        h = 1e-6
        for f, bone, axis in ((0, None, 1), (1, 0, 0), (2, 4, 2), (1, self.bones - 1, 0)):
            values = []
            for sign in (1, -1):
                root, local = self.root.copy(), self.local.copy()
                if bone is None:
                    root[f, axis] += sign * h
                else:  # a small turn about a world axis, brought into the bone's parent
                    turn = np.zeros(3)
                    turn[axis] = sign * h
                    small = matrix_from_quaternion(quaternion_from_rotvec(turn))
                    p = self.model.skeleton.parents[bone]
                    parent = self.world[f, p] if p >= 0 else np.eye(3)
                    local[f, bone] = parent.T @ small @ parent @ local[f, bone]
                values.append(self.cost(self.model, root, local))
            column = 3 * (self.bones - 1 - (-1 if bone is None else bone)) + axis
            self.assertAlmostEqual(-(values[0] - values[1]) / (2 * h), self.gp[f, column], places=5)

    def whole(self, f):
        """The pose's normal matrix of a frame, of which the lower triangle is filled in."""
        return np.tril(self.hpp[f]) + np.tril(self.hpp[f], -1).T

    def test_the_matrices_belong_together(self):
        np.testing.assert_allclose(self.hgg, self.hgg.T, atol=1e-9)
        for f in range(3):
            whole = np.block([[self.whole(f), self.hpg[f]], [self.hpg[f].T, self.hgg]])
            self.assertGreater(np.linalg.eigvalsh(whole).min(), -1e-8, "a sum of squares has no negative direction")

    def test_poses_eliminated_bone_by_bone_are_those_eliminated_at_once(self):
        self.hpp += np.eye(self.hpp.shape[1])
        factor = [np.linalg.cholesky(self.whole(f)) for f in range(3)]
        half = [np.linalg.solve(c, g) for c, g in zip(factor, self.hpg, strict=True)]
        pull = [np.linalg.solve(c, g) for c, g in zip(factor, self.gp, strict=True)]
        columns, count = columns_below(self.model.skeleton.parents.tobytes(), self.model.marker_bone.tobytes())
        eliminate(self.model.skeleton.parents, columns, count, self.hpp, self.hpg, self.gp)
        np.testing.assert_allclose(np.tril(self.hpp), factor, rtol=1e-7, atol=1e-6)
        np.testing.assert_allclose(self.hpg, half, rtol=1e-7, atol=1e-6)
        np.testing.assert_allclose(self.gp, pull, rtol=1e-7, atol=1e-6)
        for block, mine in enumerate(count):
            left_out = np.setdiff1d(np.arange(len(self.gg)), columns[block, :mine])
            self.assertEqual(np.abs(self.hpg[:, 3 * block : 3 * block + 3][..., left_out]).sum(), 0)

    def test_variances_are_those_of_the_inverse(self):
        self.hpp += np.eye(self.hpp.shape[1])
        expected = np.zeros((self.bones, 3))
        for f in range(3):
            covariance = np.linalg.inv(self.whole(f))
            for b, p in enumerate(self.model.skeleton.parents):
                at = slice(3 * (self.bones - 1 - b), 3 * (self.bones - b))
                axes = self.world[f, p] if p >= 0 else np.eye(3)
                expected[b] += np.diag(axes.T @ covariance[at, at] @ axes)
        found = np.zeros_like(expected)
        eliminate(
            self.model.skeleton.parents,
            *columns_below(self.model.skeleton.parents.tobytes(), self.model.marker_bone.tobytes()),
            self.hpp,
            self.hpg,
            self.gp,
        )
        rotation_variance(self.hpp, self.world, self.model.skeleton.parents, found)
        np.testing.assert_allclose(found, expected, rtol=1e-6)

    def test_unseen_markers_add_nothing(self):
        hpp, hpg = np.zeros_like(self.hpp), np.zeros_like(self.hpg)
        gp, hgg, gg = np.zeros_like(self.gp), np.zeros_like(self.hgg), np.zeros_like(self.gg)
        normal_equations(
            self.model.skeleton.parents, self.model.marker_bone, self.world, self.joint, self.x, self.r,
            np.zeros_like(self.weight), hpp, hpg, gp, hgg, gg,
        )  # fmt: skip
        self.assertEqual(
            np.abs(hpp).max() + np.abs(hpg).max() + np.abs(gp).max() + np.abs(hgg).max() + np.abs(gg).max(), 0
        )


class Prior(unittest.TestCase):
    def test_is_nought_at_the_chart_and_mirrored(self):
        model = generic_body(CHART, 1.8)
        matrix, pairs, mean = _prior(model, model.skeleton.names)
        g = _stack(model.skeleton.rest_offset_m, model.marker_offset_m)
        np.testing.assert_allclose(g, mean)
        self.assertLess(g @ pairs @ g, 1e-12, "the generic body is its own mirror image")
        for m in (matrix, pairs):
            np.testing.assert_allclose(m, m.T)
            self.assertGreater(np.linalg.eigvalsh(m).min(), -1e-6)

    def test_a_longer_left_thigh_alone_costs(self):
        model = generic_body(CHART, 1.8)
        _, pairs, _ = _prior(model, model.skeleton.names)
        offsets = model.skeleton.rest_offset_m.copy()
        offsets[model.skeleton.index("leftLowerLeg"), 1] -= 0.01
        one = _stack(offsets, model.marker_offset_m)
        offsets[model.skeleton.index("rightLowerLeg"), 1] -= 0.01
        both = _stack(offsets, model.marker_offset_m)
        self.assertGreater(one @ pairs @ one, 1.0)
        self.assertLess(both @ pairs @ both, 1e-9)


class GrownMarkers(unittest.TestCase):
    def test_markers_move_along_with_the_limb_they_ride_on_and_not_across(self):
        model = generic_body(CHART, 1.8)
        offsets = model.skeleton.rest_offset_m.copy()
        wrist, elbow = model.marker_names.index("wrist inner left"), model.marker_names.index("elbow inner left")
        for factor in (0.9, 1.0, 1.1):
            offsets[model.skeleton.index("leftHand")] = (
                factor * model.skeleton.rest_offset_m[model.skeleton.index("leftHand")]
            )
            moved = _Growth(model).positions_with(offsets)
            expected = model.marker_offset_m[wrist] * [factor, 1, 1]  # the left arm lies along +X
            np.testing.assert_allclose(moved[wrist], expected, atol=0.002)
            self.assertEqual(model.skeleton.names[model.marker_bone[elbow]], "leftUpperArm")
            np.testing.assert_allclose(moved[elbow], model.marker_offset_m[elbow])

    def test_the_trunk_stays_as_it_is(self):
        model = generic_body(CHART, 1.8)
        trunk = [m for m, b in enumerate(model.marker_bone) if model.skeleton.names[b] in ("hips", "chest", "head")]
        np.testing.assert_array_equal(
            _Growth(model).positions_with(1.1 * model.skeleton.rest_offset_m)[trunk], model.marker_offset_m[trunk]
        )


class PoseCost(unittest.TestCase):
    def test_a_joint_that_turns_further_costs_more_and_one_that_nothing_measures_costs_nothing(self):
        rng = np.random.default_rng(3)
        sigma = np.full((2, 3), 0.6)
        turned = rng.normal(0, 0.2, (80, 2, 3))
        none = np.zeros((2, 3))
        self.assertGreater(_pose_cost(2 * turned, none, sigma), _pose_cost(turned, none, sigma) + 20)
        unmeasured = _pose_cost(0 * turned, 80 * sigma**2, sigma)  # as uncertain after as before
        self.assertAlmostEqual(unmeasured, 0.0, places=9)


class ExactData(unittest.TestCase):
    def test_a_body_of_other_lengths_is_found_from_its_motion(self):
        truth = generic_body(CHART, 1.72)
        offsets = truth.skeleton.rest_offset_m.copy()
        for bone, factor in (("LowerArm", 1.05), ("Hand", 1.05), ("LowerLeg", 0.96), ("Foot", 0.97)):
            for side in ("left", "right"):
                offsets[truth.skeleton.index(side + bone)] *= factor
        rng = np.random.default_rng(4)
        grown = _Growth(truth).positions_with(offsets)  # a wrist marker is put on the wrist, however long the forearm
        truth = truth.with_geometry(offsets, grown + rng.normal(0, 0.008, grown.shape))
        root, local = posed(truth, 5, frames=60, size=0.35)
        _, _, x = places(truth, root, local)
        fit = fit_geometry(generic_body(CHART, 1.72), x, root, local, 8)
        self.assertLess(1000 * np.sqrt(np.nanmean(fit.residual_m**2)), 4)
        for bone in ("leftHand", "rightHand", "leftFoot", "rightFoot", "leftLowerArm", "rightLowerLeg"):
            b = truth.skeleton.index(bone)
            found, true = (np.linalg.norm(m.skeleton.rest_offset_m[b]) for m in (fit.model, truth))
            self.assertLess(abs(found - true), 0.006, bone)

    def test_one_wild_sample_changes_little(self):
        truth = generic_body(CHART, 1.72)
        root, local = posed(truth, 6, frames=30, size=0.4)
        _, _, x = places(truth, root, local)
        clean = fit_geometry(truth, x, root, local, 4)
        wild = x.copy()
        wild[10, 20] += [0.5, 0, 0]
        fit = fit_geometry(truth, wild, root, local, 4)
        apart = np.abs(fit.model.marker_offset_m - clean.model.marker_offset_m)
        self.assertLess(apart.max(), 0.002)
        self.assertGreater(fit.residual_m[10, 20], 0.4)
        self.assertLess(fit.evidence, clean.evidence)


class Sure(unittest.TestCase):
    def test_a_geometry_that_is_off_moves_joints_as_far_as_is_said(self):
        model = generic_body(CHART, 1.72)
        root, local = posed(model, 7, frames=4, size=0.1)
        seen, weight = np.ones((4, len(CHART.names)), dtype=bool), np.full(len(CHART.names), 1 / 0.006**2)
        seen[:, [m for m, bone in enumerate(model.marker_bone) if model.skeleton.names[bone] == "leftFoot"]] = False
        x = np.where(seen[..., None], places(model, root, local)[2], np.nan)

        def settled(body, root, local):
            root, local = root.copy(), local.copy()
            world, joint, at = np.empty(local.shape), np.empty(local.shape[:3]), np.empty(x.shape)
            refine_many(body.arrays, x, weight, -1.0, root, local, 60, world, joint, at)
            return root, local, joint

        root, local, joint = settled(model, root, local)
        bones = len(model.skeleton.names)
        for seed in range(3):
            off = np.random.default_rng(seed).normal(0, 0.00005, 3 * (bones - 1 + len(CHART.names)))
            offsets, positions = model.skeleton.rest_offset_m.copy(), model.marker_offset_m.copy()
            offsets[1:] += off[: 3 * (bones - 1)].reshape(-1, 3)
            positions += off[3 * (bones - 1) :].reshape(-1, 3)
            moved = np.linalg.norm(settled(model.with_geometry(offsets, positions), root, local)[2] - joint, axis=2)
            covariance = np.outer(off, off) + 1e-12 * np.eye(len(off))
            said = geometry_variance(model, np.linalg.inv(covariance), root, local, seen, np.tile(weight, (4, 1)))
            np.testing.assert_allclose(np.sqrt(said[..., 0]), moved, rtol=0.1, atol=5e-6)
            np.testing.assert_allclose(said[..., 1], said[..., 0] ** 2, rtol=0.05)  # off along one line only
