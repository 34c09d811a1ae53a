"""A carried prop: its document, finding it among the body's points, its motion against the truth, its files."""

import unittest
from fractions import Fraction

import numpy as np

from otrevo.core.conventions import (
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
)
from otrevo.core.errors import InputError
from otrevo.core.props.follow import find_prop, solve_prop, without
from otrevo.core.props.prop import SHIPPED, Prop, check_shape, lantern, prop_from_document
from otrevo.core.sim.carried import carry
from otrevo.core.sim.optical import PROP_TRUTH, see_prop
from otrevo.core.snags import prop_snags
from tests.core.stage import RATE, label_shares, rolled, true_model

LANTERN = lantern()


def staged(seed, hidden=0.08):
    """performer, true prop motion, optical take with the prop in it, and the prop's true names (T, N)."""
    performer, performance, optical = rolled("lantern", seed)
    motion = carry(performance, LANTERN, seed)
    take = see_prop(optical, motion, LANTERN, seed, hidden=hidden)
    return performer, motion, take, np.where(take.truth <= PROP_TRUTH, PROP_TRUTH - take.truth, -1)


def turned(frames=120, rate=120):
    """A prop's markers turning and moving smoothly, (T, K, 3), with its true root and turn."""
    t = np.arange(frames) / rate
    turn = quaternion_from_rotvec(np.stack([0.4 * np.sin(3 * t), 1.5 * t, 0.3 * np.cos(2 * t)], axis=1))
    root = np.stack([0.5 * t, 1 + 0.1 * np.sin(4 * t), -0.2 * t], axis=1)
    places = root[:, None] + np.einsum("tij,kj->tki", matrix_from_quaternion(turn), LANTERN.offset_m)
    return places, root, turn


def degrees_apart(a, b):
    q = quaternion_multiply(quaternion_conjugate(a), b)
    return np.degrees(2 * np.arctan2(np.linalg.norm(q[..., :3], axis=-1), np.abs(q[..., 3])))


class Documents(unittest.TestCase):
    def test_shipped_props_round_trip_and_can_be_told_from_every_side(self):
        for prop in SHIPPED.values():
            again = prop_from_document(prop.to_document())
            self.assertEqual((again.name, again.names), (prop.name, prop.names))
            np.testing.assert_allclose(again.offset_m, prop.offset_m, atol=1e-5)
            self.assertEqual(prop.marker_names[0], f"{prop.name} {prop.names[0]}")

    def test_bad_documents_are_refused_with_the_place(self):
        good = LANTERN.to_document()
        rows = good["markers"]
        for change, words in (
            ({"markers": rows[:3]}, "4 to 12"),
            ({"markers": None}, "4 to 12"),
            ({"name": " "}, "called"),
            ({"markers": [*rows, rows[0]]}, "twice"),
            ({"markers": [*rows[:4], {"name": "x", "offset_m": [0, 210, 0]}]}, "metres, not mm"),
            ({"markers": [*rows[:4], {"name": "x", "offset_m": [0, None, 0]}]}, "finite"),
            ({"markers": [*rows[:4], "x"]}, r"markers\[4\]"),
        ):
            with self.subTest(words), self.assertRaisesRegex(InputError, words):
                prop_from_document(good | change, "lamp.json")

    def test_markers_in_a_line_or_alike_are_refused(self):
        line = Prop("pole", ("a", "b", "c", "d"), np.outer([0, 0.1, 0.25, 0.6], [0, 1.0, 0]))
        with self.assertRaisesRegex(InputError, "one line"):
            check_shape(line)
        square = Prop("tray", tuple("abcd"), np.array([[0, 0, 0], [0.2, 0, 0], [0.2, 0, 0.2], [0, 0, 0.2]]))
        with self.assertRaisesRegex(InputError, "alike"):
            check_shape(square)


class Finding(unittest.TestCase):
    def test_named_right_among_a_body_ghosts_and_gaps(self):
        for seed in (71, 72):
            performer, _, take, truth = staged(seed)
            track = find_prop(take.points_m, RATE, LANTERN)
            visible = truth >= 0
            right = ((track.labels == truth) & visible).sum() / visible.sum()
            wrong = ((track.labels >= 0) & (track.labels != truth)).sum() / visible.sum()
            self.assertGreater(right, 0.99, seed)
            self.assertLess(wrong, 0.002, seed)

    def test_taken_out_it_leaves_the_body_to_the_labeller(self):
        from otrevo.core.markers.label import label_take

        performer, _, take, _ = staged(71)
        track = find_prop(take.points_m, RATE, LANTERN)
        rest = without(take.points_m, track.labels)
        self.assertTrue(np.isnan(rest[track.labels >= 0]).all())
        untouched = track.labels < 0
        np.testing.assert_array_equal(rest[untouched], take.points_m[untouched])
        right, wrong = label_shares(label_take(rest, RATE, true_model(performer)).labels, take.truth)
        self.assertGreater(right, 0.995)
        self.assertLess(wrong, 0.001)

    def test_a_take_without_it_has_none_of_it(self):
        _, _, optical = rolled("lantern", 71)
        track = find_prop(optical.points_m, RATE, LANTERN)
        self.assertLess((track.labels >= 0).mean(), 1e-4)
        with self.assertRaisesRegex(InputError, "never seen"):
            solve_prop(track.labelled_m, RATE, LANTERN)

    def test_its_mirror_image_is_not_taken_for_it(self):
        places, *_ = turned()
        track = find_prop(places * [-1.0, 1, 1], RATE, LANTERN)
        self.assertEqual((track.labels >= 0).sum(), 0)

    def test_any_order_of_columns_gives_the_same_names(self):
        places, *_ = turned()
        rng = np.random.default_rng(4)
        mixed, truth = places.copy(), np.tile(np.arange(5), (len(places), 1))
        for t in range(len(places)):
            order = rng.permutation(5)
            mixed[t], truth[t] = places[t, order], order
        np.testing.assert_array_equal(find_prop(mixed, RATE, LANTERN).labels, truth)

    def test_empty_takes_are_refused(self):
        with self.assertRaisesRegex(InputError, "no frames"):
            find_prop(np.zeros((0, 5, 3)), RATE, LANTERN)


class Solving(unittest.TestCase):
    def test_place_and_turn_against_the_truth(self):
        _, motion, take, _ = staged(72)
        solution = solve_prop(find_prop(take.points_m, RATE, LANTERN).labelled_m, RATE, LANTERN)
        seen = np.isfinite(solution.residual_m).sum(1) >= 3
        apart = np.linalg.norm(solution.motion.root_position_m - motion.root_position_m, axis=1)[seen]
        self.assertLess(1000 * np.sqrt(np.mean(apart**2)), 1.5)
        turn = degrees_apart(motion.rotation_local[:, 0], solution.motion.rotation_local[:, 0])[seen]
        self.assertLess(np.percentile(turn, 99), 1.0)
        self.assertLess(solution.figures["residual_rms_mm"], 1.0)

    def test_exact_markers_give_the_exact_pose(self):
        places, root, turn = turned()
        solution = solve_prop(places, RATE, LANTERN)
        np.testing.assert_allclose(solution.motion.root_position_m, root, atol=1e-9)
        self.assertLess(degrees_apart(turn, solution.motion.rotation_local[:, 0]).max(), 1e-5)
        self.assertFalse(solution.lost.any())

    def test_short_gaps_are_bridged_long_ones_held_and_told(self):
        places, root, _ = turned(360)
        places[50:80] = np.nan
        places[150:270, 1:] = np.nan  # two hundred and forty samples of one marker place nothing
        solution = solve_prop(places, RATE, LANTERN)
        self.assertFalse(solution.lost[50:80].any())
        self.assertLess(np.linalg.norm(solution.motion.root_position_m[50:80] - root[50:80], axis=1).max(), 0.02)
        self.assertTrue(solution.lost[150:270].all())
        held = solution.motion.root_position_m[150:270]
        np.testing.assert_array_equal(held, np.repeat(solution.motion.root_position_m[149:150], 120, axis=0))
        self.assertAlmostEqual(solution.figures["lost_s"], 1.0)
        snags = prop_snags("lantern", solution, 120.0)
        self.assertEqual([(s.kind, s.start_s, s.end_s) for s in snags], [("lost prop", 1.25, 2.25)])

    def test_a_marker_that_slipped_is_a_snag(self):
        places, *_ = turned()
        places[60:, 2] += [0.02, 0, 0]
        snags = prop_snags("lantern", solve_prop(places, RATE, LANTERN), 120.0)
        self.assertEqual([s.kind for s in snags], ["bent prop"])
        self.assertAlmostEqual(snags[0].start_s, 0.5)


class Carrying(unittest.TestCase):
    def test_stands_still_until_taken_and_after_it_is_put_down(self):
        _, performance, _ = rolled("lantern", 71)
        motion = carry(performance, LANTERN, 71)
        start, end = (int(t * float(RATE)) for t in performance.held_s)
        self.assertEqual(np.ptp(motion.root_position_m[:start], axis=0).max(), 0)
        self.assertEqual(np.ptp(motion.root_position_m[end:], axis=0).max(), 0)
        self.assertGreater(np.ptp(motion.root_position_m[start:end, 1]), 0.5)
        up = matrix_from_quaternion(motion.rotation_local[:, 0])[:, 1, 1]
        self.assertGreater(np.degrees(np.arccos(up[start:end].min())), 10, "it swings")
        np.testing.assert_allclose(up[:start], 1.0)

    def test_stands_beside_whoever_does_not_use_it(self):
        _, performance, _ = rolled("rope haul", 71)
        motion = carry(performance, LANTERN, 71)
        self.assertEqual(np.ptp(motion.root_position_m, axis=0).max(), 0)
        lowest = motion.root_position_m[0, 1] + LANTERN.offset_m[:, 1].min()
        self.assertAlmostEqual(lowest, 0.0, places=6)

    def test_a_rolled_take_keeps_its_truth_apart(self):
        from otrevo.core.sim.stage import roll
        from otrevo.core.timecode.labels import TimecodeFormat

        take = roll("lantern", 5, 9, 1.7, TimecodeFormat(Fraction(25)), 0, kit=("optical",), props=[LANTERN])
        self.assertEqual(set(take.props), {"lantern"})
        self.assertEqual(len(take.props["lantern"]), len(take.streams["optical"].data))
        self.assertGreater((take.optical.truth <= PROP_TRUTH).sum(), 4 * len(take.props["lantern"]))
