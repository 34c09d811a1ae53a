"""Stretches of names that were exchanged come right, strangers lose their name, and what is right stays."""

import unittest

import numpy as np

from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.warm_up.exchanged import _middle, sort_out
from otrevo.core.warm_up.geometry_fit import pose_all
from tests.core.stage import RATE, rolled, true_model

CHART = shipped_chart()


def followed(frames=slice(600, 1500)):
    """points (T, M, 3) of a body whose markers sit where its model says but for 3 mm, model, root, local."""
    performer, performance, _ = rolled("semaphore", 84)
    model = true_model(performer)
    root = performance.motion.root_position_m[frames].copy()
    local = np.ascontiguousarray(
        matrix_from_quaternion(performance.motion.rotation_local[frames, : len(model.skeleton.names)])
    )
    world, joint = pose_all(model, root, local)
    places = joint[:, model.marker_bone] + np.einsum("tmij,mj->tmi", world[:, model.marker_bone], model.marker_offset_m)
    return places + np.random.default_rng(3).normal(0, 0.003, places.shape), model, root, local


class Exchanged(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.points, cls.model, cls.root, cls.local = followed()
        cls.right = np.tile(np.arange(len(CHART.names)), (len(cls.points), 1))

    def sorted_out(self, labels, points=None):
        return sort_out(self.points if points is None else points, labels, self.model, self.root, self.local, RATE)

    def test_names_that_are_right_stay(self):
        np.testing.assert_array_equal(self.sorted_out(self.right), self.right)

    def test_two_names_exchanged_for_some_time_come_right(self):
        for one, two in (
            ("wrist outer left", "hand outer left"),
            ("toe big right", "toe small right"),
            ("nape left", "nape right"),
        ):
            p, q = CHART.names.index(one), CHART.names.index(two)
            labels = self.right.copy()
            labels[300:600, [p, q]] = labels[300:600, [q, p]]
            np.testing.assert_array_equal(self.sorted_out(labels), self.right, f"{one} and {two}")

    def test_a_stretch_goes_over_only_where_the_other_name_is_free(self):
        p, q = CHART.names.index("wrist inner left"), CHART.names.index("wrist outer left")
        labels = self.right.copy()
        labels[300:500, q] = p  # the inner one was hidden, and the outer one took its name
        labels[300:500, p] = -1
        np.testing.assert_array_equal(self.sorted_out(labels)[:, q], q)
        double = np.concatenate([self.points, self.points[:, [q]]], axis=1)  # a column beside it that shows the same
        twice = np.concatenate([self.right, np.full((len(self.right), 1), -1)], axis=1)
        twice[300:500, -1], twice[300:500, p] = p, -1
        found = self.sorted_out(twice, double)
        np.testing.assert_array_equal(found[300:500, -1], -1, "that name has a point there already")
        np.testing.assert_array_equal(found[:, q], q)

    def test_a_stranger_loses_the_name(self):
        m = CHART.names.index("forearm right")
        points, labels = self.points.copy(), self.right
        world, _ = pose_all(self.model, self.root, self.local)
        points[100:250, m] += 0.06 * world[100:250, self.model.marker_bone[m], :, 1]  # off the bone, towards nobody
        points[99], points[250] = np.nan, np.nan
        labels = np.where(np.isnan(points[..., 0]), -1, labels)
        found = self.sorted_out(labels, points)
        np.testing.assert_array_equal(found[100:250, m], -1)
        np.testing.assert_array_equal(found[260:, m], m)

    def test_the_middle_is_where_most_of_the_time_was_spent(self):
        places = np.array([[0.0, 0, 0], [1.0, 1, 1], [0.02, 0, 0]])
        np.testing.assert_array_equal(_middle(places, np.array([10, 100, 10])), [1, 1, 1])
        np.testing.assert_array_equal(_middle(places, np.array([60, 30, 60])), [0.02, 0, 0])
