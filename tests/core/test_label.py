import unittest

import numpy as np

from otrevo.core.conventions import matrix_from_quaternion, quaternion_from_rotvec
from otrevo.core.errors import InputError
from otrevo.core.markers.chart import chart_from_document, shipped_chart
from otrevo.core.markers.label import TOLERANCE_M, by_marker, follow_take, label_take, tracklets, vote
from otrevo.core.markers.matching import match_points
from otrevo.core.markers.start import find_start, find_t_pose, still_cloud
from tests.core.stage import RATE, label_shares, rolled, true_model


class Labelling(unittest.TestCase):
    def check(self, motion, seed, **how):
        performer, _, optical = rolled(motion, seed, **how)
        labels = label_take(optical.points_m, RATE, true_model(performer))
        right, wrong = label_shares(labels.labels, optical.truth)
        self.assertGreaterEqual(right, 0.995, f"{motion} seed {seed}")
        self.assertLessEqual(wrong, 0.001, f"{motion} seed {seed}")
        return labels, optical

    def test_takes_with_gaps_limb_losses_swaps_and_ghosts(self):
        for motion, seed in (("semaphore", 31), ("rope haul", 32), ("lantern", 33)):
            self.check(motion, seed)

    def test_ghosts_stay_nameless(self):
        labels, optical = self.check("rope haul", 32)
        ghosts = optical.truth == -1
        self.assertGreater(ghosts.sum(), 200)
        self.assertLess((labels.labels[ghosts] >= 0).mean(), 0.02)

    def test_one_name_is_given_once_a_frame(self):
        labels, _ = self.check("rope haul", 32)
        for row in labels.labels[::50]:
            named = row[row >= 0]
            self.assertEqual(len(named), len(set(named.tolist())))

    def test_same_take_same_labels(self):
        performer, _, optical = rolled("rope haul", 32)
        again = [label_take(optical.points_m, RATE, true_model(performer)).labels for _ in range(2)]
        np.testing.assert_array_equal(*again)

    def test_points_are_never_moved(self):
        labels, optical = self.check("rope haul", 32)
        t, c = np.nonzero(labels.labels >= 0)
        np.testing.assert_array_equal(labels.labelled_m[t, labels.labels[t, c]], optical.points_m[t, c])

    def test_a_point_that_is_too_unsure_gets_no_name(self):
        performer, _, optical = rolled("rope haul", 32)
        scatter = np.full(optical.points_m.shape[:2], 0.0002)
        scatter[np.isnan(optical.points_m[..., 0])] = np.nan
        scatter[400:460, ::3] = 0.05
        labels = label_take(optical.points_m, RATE, true_model(performer), sd_m=scatter)
        self.assertTrue((labels.labels[400:460, ::3] < 0).all())
        self.assertEqual(labels.figures["unsure_points"], (scatter > 0.01).sum())
        right, wrong = label_shares(labels.labels[500:], optical.truth[500:])
        self.assertGreater(right, 0.995)
        named = by_marker(labels.labels, scatter, labels.labelled_m.shape[1])
        np.testing.assert_array_equal(np.isfinite(named), np.isfinite(labels.labelled_m[..., 0]))

    def test_no_t_pose_is_refused_in_a_sentence(self):
        performer, _, optical = rolled("rope haul", 32)
        crouch = optical.points_m[: 2 * 120].copy()
        crouch[..., 1] *= 0.3
        with self.assertRaisesRegex(InputError, "T-pose"):
            label_take(crouch, RATE, true_model(performer))

    def test_empty_and_tiny_takes_are_refused(self):
        model = true_model(rolled("rope haul", 32)[0])
        for points in (np.zeros((0, 5, 3)), np.full((300, 40, 3), np.nan), np.zeros((1, 57, 3))):
            with self.assertRaises(InputError):
                label_take(points, RATE, model)


class ExchangedNames(unittest.TestCase):
    """Markers of a hand or foot that got each other's names, as where hands meet in a clap, get their own again."""

    def test_a_hand_or_foot_that_is_held_the_wrong_way_round_is_put_right(self):
        performer, performance, optical = rolled("rope haul", 32)
        model = true_model(performer)
        names = model.skeleton.names
        start, _ = find_start(model, optical.points_m, RATE)
        points, truth = np.ascontiguousarray(optical.points_m[:240]), optical.truth[:240]
        for bone, axis in (("leftHand", 0), ("rightHand", 0), ("leftFoot", 2), ("rightFoot", 2)):
            about = np.zeros(3)
            about[axis] = np.pi
            local = start.local.copy()
            local[names.index(bone)] = matrix_from_quaternion(quaternion_from_rotvec(about))
            below = [m for m, b in enumerate(model.marker_bone) if names[b] == bone or names[b] == bone[:-4] + "Toes"]
            labels = follow_take(points, RATE, model, (start.root_m, local), TOLERANCE_M)[0]
            theirs = np.isin(truth, below)
            wrong = (labels != truth) & theirs
            self.assertGreater(wrong[:8].sum(), 0, f"{bone}: nothing was exchanged to begin with")
            self.assertEqual(wrong[90:].sum(), 0, bone)

    def test_a_ghost_beside_a_hand_turns_no_names_round(self):
        performer, performance, optical = rolled("rope haul", 32)
        model = true_model(performer)
        start, _ = find_start(model, optical.points_m, RATE)
        points, truth = optical.points_m[:240].copy(), optical.truth[:240]
        knuckle = model.marker_names.index("knuckle index right")
        t, c = np.nonzero(truth == knuckle)
        keep = t > 60  # hidden from then on; a ghost 9 cm beside its place
        points[t[keep], c[keep]] += [0.0, 0.09, 0.0]
        labels = follow_take(np.ascontiguousarray(points), RATE, model, (start.root_m, start.local), TOLERANCE_M)[0]
        self.assertTrue((labels[t[keep], c[keep]] == -1).all())
        others = (truth >= 0) & (truth != knuckle)
        self.assertEqual(((labels != truth) & others).sum(), 0)


class Start(unittest.TestCase):
    def test_found_wherever_the_performer_stands_and_faces(self):
        performer, performance, optical = rolled("rope haul", 32)
        cloud = still_cloud(optical.points_m, RATE)
        for angle in np.radians([0, 77, 180, 290]):
            turn = np.array([[np.cos(angle), 0, np.sin(angle)], [0, 1, 0], [-np.sin(angle), 0, np.cos(angle)]])
            start = find_t_pose(true_model(performer), cloud @ turn.T + [1.2, 0, -2.0])
            true = turn @ performance.motion.root_position_m[10] + [1.2, 0, -2.0]
            self.assertLess(np.linalg.norm(start.root_m - true), 0.02)


class Matching(unittest.TestCase):
    def test_exchange_beats_greed(self):
        # greedy takes the 1 cm pair first and leaves 9 cm; the best sum gives both 4 and 5 cm
        predicted = np.array([[0.0, 0, 0], [0.05, 0, 0]])
        points = np.array([[0.04, 0, 0], [0.10, 0, 0]])
        marker_of, point_of = np.empty(2, dtype=np.int64), np.empty(2, dtype=np.int64)
        match_points(predicted, np.full(2, 0.2), points, np.full(2, -1, dtype=np.int64), 0.0, marker_of, point_of)
        np.testing.assert_array_equal(point_of, [0, 1])

    def test_outside_the_gate_nothing_matches(self):
        marker_of, point_of = np.empty(1, dtype=np.int64), np.empty(1, dtype=np.int64)
        match_points(
            np.zeros((1, 3)), np.array([0.03]), np.array([[0.04, 0, 0]]), np.array([-1]), 0.0, marker_of, point_of
        )
        self.assertEqual((marker_of[0], point_of[0]), (-1, -1))


class Voting(unittest.TestCase):
    def test_a_column_is_cut_where_it_jumps_or_breaks(self):
        path = np.zeros((60, 1, 3))
        path[:, 0, 0] = np.arange(60) * 0.01
        path[30:, 0, 1] = 0.06
        path[45:48] = np.nan
        self.assertEqual([r[1:] for r in tracklets(path)], [(0, 30), (30, 31), (31, 45), (48, 60)])

    def test_the_better_explained_reading_wins(self):
        points = np.zeros((50, 1, 3))
        a, b = np.zeros((50, 1), dtype=np.int64), np.ones((50, 1), dtype=np.int64)
        small, large = np.full((50, 2), 0.002), np.full((50, 2), 0.03)
        labels, support = vote(points, ((a, large), (b, small)), 2, 120)
        self.assertTrue((labels == 1).all())
        self.assertGreater(support[0, 0], 0.8)

    def test_a_column_that_goes_from_one_hand_to_the_other_where_they_meet_carries_two_names(self):
        """Columns 0 and 1 meet in frame 100, where 1 goes on with the marker of 0. Readings differ on which marker it held before."""
        frames, residual = 240, np.full((240, 4), 0.002)
        x = np.linspace(0, 1, frames)
        points = np.stack(
            [np.stack([x, 1 + 0 * x, 0 * x], 1), np.stack([0.4 * np.ones(frames), 1 + 0 * x, 0.01 + 0 * x], 1)], axis=1
        )
        points[100:, 0] = np.nan
        forward, backward = np.full((frames, 2), -1), np.full((frames, 2), -1)
        forward[:100, 1], backward[:100, 1] = 2, 3
        forward[:100, 0] = backward[:100, 0] = 0
        forward[100:, 1] = backward[100:, 1] = 0
        labels, _ = vote(points, ((forward, residual), (backward, residual)), 4, RATE)
        self.assertEqual(set(labels[:98, 0]), {0})
        self.assertEqual(set(labels[102:, 1]), {0})
        self.assertIn(labels[50, 1], (2, 3))
        self.assertTrue((labels == 0).sum(axis=1).max() <= 1, "one name is given once a frame")

    def test_one_reading_that_changes_its_mind_cuts_nothing(self):
        frames, residual = 240, np.full((240, 4), 0.002)
        x = np.linspace(0, 1, frames)
        points = np.stack([x, 1 + 0 * x, 0 * x], 1)[:, None]
        forward, backward = np.full((frames, 1), 1), np.full((frames, 1), 1)
        forward[:80] = 2
        labels, _ = vote(points, ((forward, residual), (backward, residual)), 4, RATE)
        self.assertEqual(set(labels[:, 0]), {1})
        backward[:80] = -1  # it has not seen it: nobody says that it is two
        labels, _ = vote(points, ((forward, residual), (backward, residual)), 4, RATE)
        self.assertEqual(set(labels[:, 0]), {1})


class Charts(unittest.TestCase):
    def test_shipped_chart_round_trips(self):
        chart = shipped_chart()
        again = chart_from_document(chart.to_document())
        self.assertEqual(again.names, chart.names)
        np.testing.assert_allclose(again.offset_m, chart.offset_m, atol=1e-5)
        self.assertTrue(50 <= len(chart.names) <= 60)

    def test_bad_charts_are_refused_with_the_place(self):
        good = {"name": "a", "bone": "head", "offset_m": [0, 0.1, 0]}
        for rows, words in (
            ([], "at least one"),
            ([good | {"bone": "skull"}], "skull"),
            ([good, good], "twice"),
            ([good | {"offset_m": [0, 100, 0]}], "metres"),
            ([good | {"offset_m": [0, None, 0]}], "finite"),
            ([good | {"offset_m": [0, 0]}], "three"),
            (["x"], "object"),
        ):
            with self.assertRaisesRegex(InputError, words):
                chart_from_document({"markers": rows})
