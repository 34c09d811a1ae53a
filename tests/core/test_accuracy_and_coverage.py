"""What a calibrated volume is good for, against chance drawn many times; how far a sweep has come, against the truth."""

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from otrevo.core.conventions import rigid_move
from otrevo.core.optics.accuracy import expected_sd, moved_covariance, picture_positions, seen_by
from otrevo.core.optics.blinds import Blind
from otrevo.core.optics.bootstrap import place_cameras
from otrevo.core.optics.bundle import SIZE
from otrevo.core.optics.camera import packed, project_all
from otrevo.core.optics.coverage import CELLS, COVERED_ENOUGH, READINGS_ENOUGH, SweepCoverage
from otrevo.core.optics.rig import rig_from_document
from otrevo.core.optics.wand import keeper_corner, keeper_line
from otrevo.core.sim.rig import Faults, film, make_rig, make_room, project
from otrevo.core.sim.scenes import FLOOR, scene

RATE = 120.0


def triangulated(cameras, seen, xy, start):
    """The point that fits xy (C, 2) best, by a general solver."""

    def off(x):
        return (project_all(packed(cameras), x[None])[0][:, 0] - xy)[seen].ravel()

    return least_squares(off, start).x


class Accuracy(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.cameras = make_rig(71, 6)
        cls.rng = np.random.default_rng(72)

    def test_a_place_is_seen_by_the_cameras_that_have_it_in_their_picture(self):
        points = self.rng.uniform([-3.5, 0, -3], [3.5, 2.5, 3], (400, 3))
        seen = seen_by(self.cameras, points)
        for c, camera in enumerate(self.cameras):
            places, _ = project(camera, points)  # the simulator's own formula
            inside = np.isfinite(places[:, 0])
            ahead = (points - camera.position_m) @ camera.rotation.T
            fair = (ahead[:, :2] ** 2).sum(axis=1) < 1.45 * ahead[
                :, 2
            ] ** 2  # further out the simulator's cameras are blind
            self.assertGreater((seen[c] == inside)[fair].mean(), 0.99)  # half a pixel at the edge may differ
            np.testing.assert_allclose(picture_positions([camera], points)[0][inside], places[inside], atol=1e-6)
        self.assertTrue(0 < seen.mean() < 1)
        self.assertFalse(seen_by(self.cameras, [[0, 50.0, 0]]).any())

    def test_what_lies_in_a_blind_is_not_seen(self):
        point = np.array([[0.1, 1.0, 0.2]])
        at = picture_positions(self.cameras, point)[2, 0]
        before = seen_by(self.cameras, point)
        after = seen_by(self.cameras, point, [Blind(2, tuple(at + 3), 10.0, 1.0)])
        self.assertTrue(before[2, 0])
        self.assertEqual([2], np.flatnonzero(before[:, 0] != after[:, 0]).tolist())

    def test_expected_scatter_is_what_noise_does_to_a_point(self):
        for point in ([0.0, 1.0, 0.0], [1.2, 0.3, -0.8]):
            point = np.array(point)
            seen = seen_by(self.cameras, point[None])[:, 0]
            exact = project_all(packed(self.cameras), point[None])[0][:, 0]
            found = [
                triangulated(self.cameras, seen, exact + self.rng.normal(0, 0.2, exact.shape), point)
                for _ in range(400)
            ]
            scatter = np.sqrt(np.mean(np.sum((np.array(found) - point) ** 2, axis=1)))
            self.assertAlmostEqual(expected_sd(self.cameras, point[None], 0.2)[0] / scatter, 1.0, delta=0.1)

    def test_what_is_not_known_of_the_cameras_adds_to_it(self):
        point = np.array([0.3, 0.9, 0.4])
        root = self.rng.normal(0, 1, (SIZE * len(self.cameras),) * 2) * 0.03
        size = np.tile([2e-4] * 3 + [4e-4] * 3 + [0.3, 0.3, 0.2, 0.2, 1e-4, 1e-4, 1e-5, 1e-5, 1e-4], len(self.cameras))
        root = (np.eye(len(size)) + root) * size[:, None]
        seen = seen_by(self.cameras, point[None])[:, 0]
        found = []
        for _ in range(400):
            step = (root @ self.rng.normal(0, 1, len(size))).reshape(-1, SIZE)
            true = [
                replace(c, rotation=Rotation.from_rotvec(s[:3]).as_matrix() @ c.rotation,
                        position_m=c.position_m + s[3:6], lens=c.lens + s[6:])
                for c, s in zip(self.cameras, step, strict=True)
            ]  # fmt: skip
            xy = project_all(packed(true), point[None])[0][:, 0]
            found.append(triangulated(self.cameras, seen, xy, point))
        scatter = np.sqrt(np.mean(np.sum((np.array(found) - point) ** 2, axis=1)))
        expected = expected_sd(self.cameras, point[None], 1e-6, root @ root.T)[0]
        self.assertAlmostEqual(expected / scatter, 1.0, delta=0.12)

    def test_turning_the_world_changes_no_accuracy(self):
        points = self.rng.uniform(-1, 1, (20, 3)) + [0, 1, 0]
        root = self.rng.normal(0, 1e-4, (SIZE * len(self.cameras),) * 2)
        turn = Rotation.from_rotvec([0.3, -1.1, 0.4]).as_matrix()
        moved = [c.moved(turn, np.array([1.0, 2, 3])) for c in self.cameras]
        before = expected_sd(self.cameras, points, 0.1, root @ root.T)
        after = expected_sd(moved, points @ turn.T + [1, 2, 3], 0.1, moved_covariance(root @ root.T, turn))
        np.testing.assert_allclose(after, before, rtol=1e-6)

    def test_fewer_than_two_cameras_give_no_accuracy(self):
        self.assertTrue(np.isnan(expected_sd(self.cameras, [[0, 80.0, 0]], 0.1)[0]))
        self.assertTrue(np.isnan(expected_sd(self.cameras[:1], [[0, 1.0, 0]], 0.1)[0]))


class Coverage(unittest.TestCase):
    """Cameras, a wand and a sweep of which the truth is known."""

    def swept(self, seed, places, wand, cameras=(), faults=None):
        room = make_room(seed, 6)
        rig, rate = rig_from_document(room.rig_document(seed))
        coverage = SweepCoverage(rig, wand, rate, cameras=cameras)
        centroids, truth = film(room.cameras, places, seed, faults or Faults(), lamps=room.lamps)
        for first in range(0, len(places), 60):
            part = (centroids.frame >= first) & (centroids.frame < first + 60)
            piece = centroids.only(part)
            coverage.add(type(piece)(piece.frame - first, piece.camera, piece.xy, piece.radius))
        return room, coverage, centroids, truth

    def test_cells_are_those_where_the_wand_was(self):
        wand = keeper_corner()
        places = scene("sweep", 5, 6.0, RATE, wand)
        room, coverage, centroids, truth = self.swept(5, places, wand, faults=Faults(0.1, 0, 0, 0, 0))
        state = coverage.state()
        for c, row in enumerate(state.cameras):
            mine = (centroids.camera == c) & (truth >= 0) & (centroids.frame % 6 == 0)
            x, y = np.floor(centroids.xy[mine] / [2048, 1536] * CELLS).astype(int).T
            was = np.zeros(CELLS[::-1], dtype=int)
            np.add.at(was, (y, x), 1)
            self.assertTrue((row.cells <= was).all(), "nothing is counted where the wand was not")
            self.assertGreater(row.cells.sum(), 0.6 * was.sum())
            self.assertEqual(row.cells.sum(), row.readings * len(wand.markers_m))

    def test_nobody_has_seen_a_wand_that_is_not_there(self):
        _, coverage, _, _ = self.swept(6, scene("still", 6, 2.0), keeper_line())
        state = coverage.state()
        self.assertFalse(state.good_enough)
        self.assertEqual(state.share, 0)
        self.assertIn("have not seen it yet", state.sentence)
        self.assertIn("2 more", state.sentence)
        self.assertIsNone(state.go_to_m)
        self.assertIsNone(coverage.to_place())

    def test_one_corner_is_never_good_enough_and_the_way_leads_out_of_it(self):
        wand, rng = keeper_corner(), np.random.default_rng(7)
        turns = Rotation.from_rotvec(np.cumsum(rng.normal(0, 0.06, (int(40 * RATE), 3)), axis=0)).as_matrix()
        places = np.array([1.2, 0.8, 1.0]) + np.einsum("tij,mj->tmi", turns, wand.markers_m)
        room, coverage, _, _ = self.swept(7, places, wand, make_room(7, 6).cameras)
        state = coverage.state()
        self.assertGreater(max(r.readings for r in state.cameras), READINGS_ENOUGH)
        self.assertFalse(state.good_enough)
        self.assertGreater(np.hypot(state.go_to_m[0] - 1.2, state.go_to_m[2] - 1.0), 1.0)
        self.assertRegex(state.sentence, r"Go to where c\d\d and c\d\d hang, .*lack")
        self.assertTrue(all("of its picture" in r.lacks for r in state.cameras if r.readings > READINGS_ENOUGH))

    def test_cameras_are_placed_roughly_by_the_sweep_itself(self):
        wand = keeper_corner()
        room, coverage, _, _ = self.swept(8, scene("sweep", 8, 20.0, RATE, wand), wand)
        before = coverage.state()
        self.assertTrue(np.isnan(before.positions_m).all())
        poses, _ = place_cameras(coverage.to_place(), np.random.default_rng(1))
        self.assertTrue(coverage.place(poses))
        self.assertIsNone(coverage.to_place(), "everybody is placed")
        state = coverage.state()
        true = np.array([c.position_m for c in room.cameras])
        turn, shift = rigid_move(state.positions_m, true)
        self.assertLess(np.linalg.norm(state.positions_m @ turn.T + shift - true, axis=1).max(), 0.6)
        self.assertGreater(turn[1, 1], 0.97, "and the room stands up")
        been = state.been_m @ turn.T + shift
        self.assertLess(abs(np.median(been[:, 1]) - 1.15), 0.4)
        self.assertLess(sum(r.looks.sum() for r in state.cameras), 6 * CELLS[0] * CELLS[1])

    def test_a_whole_sweep_is_good_enough_and_never_before_its_figures_say(self):
        wand = keeper_line()
        room = make_room(9, 6)
        rig, rate = rig_from_document(room.rig_document(9))
        coverage = SweepCoverage(rig, wand, rate, cameras=room.cameras)
        centroids, _ = film(room.cameras, scene("sweep", 9, 90.0, RATE, wand), 9, lamps=room.lamps)
        shares, good = [], False
        for first in range(0, int(90 * RATE), 600):
            piece = centroids.only((centroids.frame >= first) & (centroids.frame < first + 600))
            coverage.add(type(piece)(piece.frame - first, piece.camera, piece.xy, piece.radius))
            state = coverage.state()
            shares.append(state.share)
            enough = all(r.readings >= READINGS_ENOUGH and r.covered >= COVERED_ENOUGH for r in state.cameras)
            self.assertEqual(state.good_enough, enough)
            good = good or enough
        self.assertTrue(good)
        self.assertEqual(shares[-1], 1.0)
        self.assertEqual(shares, sorted(shares))
        self.assertIn("Stop", state.sentence)

    def test_readings_kept_for_placing_stay_bounded(self):
        wand = keeper_line()
        _, coverage, _, _ = self.swept(10, scene("sweep", 10, 60.0, RATE, wand), wand)
        self.assertLessEqual(len(coverage.kept), 400)


class Scenes(unittest.TestCase):
    def test_a_room_is_the_same_every_time_but_for_what_happened_to_it(self):
        one, two = make_room(3), make_room(3)
        np.testing.assert_array_equal(one.cameras[4].position_m, two.cameras[4].position_m)
        np.testing.assert_array_equal(one.lamps[0], two.lamps[0])
        knocked = make_room(3, 12, [("c05", 0.3, 0.002, 1)])
        self.assertAlmostEqual(np.linalg.norm(knocked.cameras[4].position_m - one.cameras[4].position_m), 0.002)
        np.testing.assert_array_equal(knocked.cameras[3].position_m, one.cameras[3].position_m)

    def test_a_rig_says_its_lens_only_roughly(self):
        room = make_room(3)
        rig, rate = rig_from_document(room.rig_document(3))
        self.assertEqual(rate, Fraction(120))
        off = [abs(r.focal_guess_px / c.lens[0] - 1) for r, c in zip(rig, room.cameras, strict=True)]
        self.assertTrue(0.01 < max(off) < 0.051)

    def test_what_lies_on_the_floor_lies_still_and_as_high_as_a_marker(self):
        wand = keeper_corner()
        lying, floor = scene("wand on floor", 1, 1.0, wand=wand), scene("floor markers", 1, 1.0)
        self.assertEqual(np.ptp(lying, axis=0).max(), 0)
        np.testing.assert_allclose(lying[0, :, 1], 0.007)
        self.assertEqual(floor.shape, (120, len(FLOOR), 3))
        self.assertLess(np.abs(floor[0, :, 1] - 0.007).max(), 0.004)
        self.assertEqual(scene("still", 1, 1.0).shape, (120, 0, 3))


if __name__ == "__main__":
    unittest.main()
