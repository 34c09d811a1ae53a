"""Names judged by the chart: what was misnamed comes right, what was right stays."""

import unittest
from functools import cache

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.body.model import generic_body
from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.warm_up.geometry_fit import fit_geometry
from otrevo.core.warm_up.name_trials import (
    _readings,
    chart_distances,
    joined,
    limb_of,
    telling_frames,
    try_names,
    united,
)
from tests.core.stage import rolled, truly_labelled

CHART = shipped_chart()


@cache
def fitted(seed, wrong=(), gone=()):
    """A fit of a warm-up whose names were given wrong: `wrong` pairs trade names, `gone` markers fell off."""
    performer, performance, optical = rolled("warm-up", seed, missing=0.0, sloppiness=5.0)
    model = generic_body(CHART, performer.height_m)
    observed = truly_labelled(optical, len(CHART.names))
    for name in gone:
        observed[:, CHART.names.index(name)] = np.nan
    order = np.arange(len(CHART.names))
    for a, b in wrong:
        i, j = CHART.names.index(a), CHART.names.index(b)
        order[[i, j]] = order[[j, i]]
    picked = np.linspace(0, len(observed) - 1, 50).astype(int)
    root = performance.motion.root_position_m[picked].copy()
    local = matrix_from_quaternion(performance.motion.rotation_local[picked, : len(model.skeleton.names)])
    given = observed[picked][:, order]
    return model, given, fit_geometry(model, given, root, np.ascontiguousarray(local), 4), order


class Trials(unittest.TestCase):
    def named(self, order, given_order):
        """Whose points every name has in the end."""
        return given_order[order]

    def check(self, seed, wrong, gone):
        model, given, fit, given_order = fitted(seed, wrong, gone)
        order, better, some = try_names(fit, given, model)
        own = self.named(order, given_order)
        seen = [i for i, n in enumerate(CHART.names) if n not in gone]
        wrong_still = [CHART.names[i] for i in seen if own[i] != i]
        self.assertEqual(wrong_still, [], f"seed {seed}")
        self.assertEqual(len(better.root_m), len(some))
        self.assertTrue((np.diff(some) > 0).all())

    def test_right_names_stay(self):
        self.check(81, (), ())
        self.check(82, (), ("knuckle index left", "brow right", "heel right"))

    def test_a_name_lent_to_the_neighbour_comes_back(self):
        self.check(81, (("wrist outer right", "hand outer right"),), ("hand outer right",))
        self.check(82, (("crown", "brow left"),), ("crown",))

    def test_names_that_went_wrong_together_come_right(self):
        wrist = (("wrist inner left", "knuckle index left"), ("wrist outer left", "hand outer left"))
        self.check(81, wrist, ())
        self.check(83, (("brow left", "nape left"), ("brow right", "nape right")), ())

    def test_evidence_falls_with_a_wrong_name(self):
        _, _, right, _ = fitted(81)
        _, _, wrong, _ = fitted(81, (("forearm left", "wrist outer left"),))
        self.assertGreater(right.evidence, wrong.evidence + 20)


class TwoNames(unittest.TestCase):
    """One marker under two names in turn, the name of its own and that of a neighbour that fell off."""

    def setUp(self):
        self.model, self.given, self.right, _ = fitted(81, (), ("wrist outer right",))
        self.own, self.lent = CHART.names.index("forearm right"), CHART.names.index("wrist outer right")

    def test_halves_of_one_marker_come_together_under_the_nearer_name(self):
        split = self.given.copy()
        split[16:, self.lent], split[16:, self.own] = split[16:, self.own], np.nan
        fit = fit_geometry(self.right.model, split, self.right.root_m, self.right.local, 4, self.model)
        np.testing.assert_array_equal(united(fit, split, self.model), self.given)
        order, better, _ = try_names(fit, split, self.model)
        self.assertTrue(np.isnan(better.residual_m[:, self.lent]).all(), "nobody is given the name of what fell off")
        self.assertLess(
            np.linalg.norm(better.model.marker_offset_m[self.own] - self.right.model.marker_offset_m[self.own]), 0.01
        )

    def test_markers_that_are_two_stay_two(self):
        np.testing.assert_array_equal(united(self.right, self.given, self.model), self.given)
        apart, inner = self.given.copy(), CHART.names.index("wrist inner right")
        apart[:25, self.own], apart[25:, inner] = np.nan, np.nan  # never seen at one time, but elsewhere on the arm
        np.testing.assert_array_equal(united(self.right, apart, self.model), apart)


class Halves(unittest.TestCase):
    """A head of which every name has gone on to the next marker, and one marker has no name, in two halves."""

    def setUp(self):
        seen = {"nape left": "crown", "brow left": "brow right", "nape right": "nape right"}
        self.model, observed, right, _ = fitted(81, (), ("brow left",))
        head = [CHART.names.index(n) for n in ("crown", "brow left", "brow right", "nape left", "nape right")]
        self.given = observed.copy()
        self.given[:, head] = np.nan
        for name, whose in seen.items():
            self.given[:, CHART.names.index(name)] = observed[:, CHART.names.index(whose)]
        self.nape = observed[:, CHART.names.index("nape left")]
        self.halves = np.stack([self.nape, self.nape], axis=1)
        self.halves[20:, 0] = self.halves[:20, 1] = np.nan
        self.fit = fit_geometry(self.model, self.given, right.root_m, right.local, 4)

    def test_halves_without_a_name_are_one_marker(self):
        np.testing.assert_array_equal(joined(self.fit, self.halves), self.nape[:, None])

    def test_two_that_are_seen_at_one_time_or_elsewhere_stay_two(self):
        both, apart = np.stack([self.nape, self.nape], axis=1), self.halves.copy()
        apart[:, 1] += [0.0, 0.06, 0.0]
        for two in (both, apart):
            self.assertEqual(joined(self.fit, two).shape[1], 2)
        self.assertEqual(joined(self.fit, self.halves[:, :0]).shape[1], 0)

    def test_the_head_gets_its_names_back(self):
        order, *_ = try_names(self.fit, self.given, self.model, self.halves)
        found = {n: int(order[CHART.names.index(n)]) for n in ("crown", "brow right", "nape left", "nape right")}
        whole = len(CHART.names)
        told = {n: CHART.names.index(n) for n in ("nape left", "brow left", "nape right")}
        self.assertEqual(
            found,
            {
                "crown": told["nape left"],
                "brow right": told["brow left"],
                "nape left": whole,
                "nape right": told["nape right"],
            },
        )


class Parts(unittest.TestCase):
    def test_a_limb_keeps_its_bones_markers_and_places(self):
        model = generic_body(CHART, 1.7)
        part, bones, markers = limb_of(model, ("hips", "leftUpperLeg", "leftLowerLeg", "leftFoot", "leftToes"))
        self.assertEqual(part.skeleton.names[0], "hips")
        self.assertEqual([model.skeleton.names[b] for b in bones], list(part.skeleton.names))
        self.assertEqual(part.marker_names, tuple(model.marker_names[m] for m in markers))
        np.testing.assert_array_equal(part.marker_offset_m, model.marker_offset_m[markers])
        for m, b in enumerate(part.marker_bone):
            self.assertEqual(part.skeleton.names[b], model.skeleton.names[model.marker_bone[markers[m]]])
        self.assertEqual(part.skeleton.parents[0], -1)

    def test_frames_in_which_a_joint_does_something_rare_are_among_those_looked_at(self):
        turn = np.zeros((200, 2, 3))
        turn[:, 0, 0] = np.linspace(0, 0.3, 200)
        turn[93:96, 1, 2] = [0.6, 0.9, 0.7]  # a wrist that bends for a moment
        local = Rotation.from_rotvec(turn.reshape(-1, 3)).as_matrix().reshape(200, 2, 3, 3)
        chosen = telling_frames(local, 20, 8)
        self.assertEqual(len(set(chosen)), 20)
        self.assertTrue({93, 94, 95} <= set(chosen))
        self.assertTrue({0, 199} <= set(chosen), "and the whole is covered")
        np.testing.assert_array_equal(telling_frames(local[:15], 20, 8), np.arange(15))

    def test_distances_are_nought_where_the_chart_is_right(self):
        model, given, fit, _ = fitted(81)
        distance = chart_distances(fit, given, fit.model)
        self.assertLess(np.nanmedian(np.diag(distance)), 0.004)
        self.assertGreater(np.median(distance[~np.eye(len(distance), dtype=bool)]), 0.2)

    def test_cycles_lead_to_absent_names_also_through_a_second_one(self):
        distance = np.full((3, 3), 0.5)
        distance[0] = [0.08, 0.01, 0.5]
        distance[1] = [0.5, 0.07, 0.02]
        cycles = [tuple(int(i) for i in c) for c in _readings(distance, np.array([True, True, False]))]
        self.assertIn((0, 1, 2), cycles)
        self.assertIn((1, 2), cycles)
        self.assertEqual(cycles[0], (0, 1, 2), "the one that explains most comes first")
