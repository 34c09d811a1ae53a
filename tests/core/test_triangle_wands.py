"""Wands of three markers that form a triangle: told apart by the film around a picture, and all that is done with them."""

import unittest
from functools import cache
from unittest import mock

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.errors import InputError
from otrevo.core.formats.centroids import joined
from otrevo.core.optics.blinds import blinded, find_blinds
from otrevo.core.optics.calibrate import REFLECTION_SHARE, calibrate_sweep
from otrevo.core.optics.coverage import SweepCoverage
from otrevo.core.optics.level import level
from otrevo.core.optics.picture_reading import is_triangle, name_triangles_in, read_pictures
from otrevo.core.optics.triangle_reading import MOST_TRIED, every_triangle, place_triangles, pose_triangle
from otrevo.core.optics.wand import SHIPPED_WANDS, Wand, wand_from_document
from otrevo.core.optics.wand_reading import wand_shape, weak_scale
from otrevo.core.sim.rig import Faults, film, make_rig, make_room, sweep
from otrevo.core.sim.scenes import scene
from tests.core.test_sweep_calibration import centre_errors_mm, guesses

WAND = SHIPPED_WANDS["dory triangle"]
LENS = np.array([1350.0, 1350, 1010, 770, 0, 0, 0, 0, 0])


def seen_by_pinhole(points):
    return points[:, :2] / points[:, 2:] * LENS[:2] + LENS[2:4]


def held(seed):
    """The wand before a pinhole camera somewhere, tilted by chance but not edge-on: places (3, 3)."""
    rng = np.random.default_rng(seed)
    while True:
        turn = Rotation.from_rotvec(rng.normal(0, 1.2, 3)).as_matrix()
        if abs(turn[2, 1]) > 0.35:  # the wand lies in its own x and z
            return WAND.markers_m @ turn.T + [rng.uniform(-1, 1), rng.uniform(-0.8, 0.8), rng.uniform(2.5, 5)]


@cache
def swept(seed=61, cameras=7, seconds=24.0, rate=100.0):
    rig = make_rig(seed, cameras)
    centroids, truth = film(rig, sweep(seed, WAND, seconds, rate)[0], seed, Faults(ghosts=0.05))
    return rig, centroids, truth


class OnePicture(unittest.TestCase):
    def test_one_of_the_two_poses_that_look_alike_is_the_true_one(self):
        for seed in range(30):
            points = held(seed)
            off = []
            for mirrored in (1.0, -1.0):
                turn, shift = np.empty((3, 3)), np.empty(3)
                rms = pose_triangle(seen_by_pinhole(points), LENS, WAND.markers_m, mirrored, turn, shift)
                if rms < 1.0:
                    self.assertAlmostEqual(np.linalg.det(turn), 1.0, places=6)
                    off.append(np.abs(WAND.markers_m @ turn.T + shift - points).max())
            self.assertLess(min(off), 1e-3, seed)

    def test_every_way_to_take_three_points_for_the_triangle_is_tried(self):
        out = np.empty((MOST_TRIED, 3, 3))
        for seed in range(20):
            points = held(seed)
            xy = np.random.default_rng(seed).permutation(seen_by_pinhole(points))
            count = every_triangle(xy, LENS, WAND.markers_m, out)
            self.assertLessEqual(count, 12)
            self.assertLess(np.abs(out[:count] - points).max(axis=(1, 2)).min(), 1e-3, seed)
        many = np.random.default_rng(1).uniform(0, 1500, (5, 2))
        self.assertEqual(every_triangle(many, LENS, WAND.markers_m, out), 0, "too many ways")
        self.assertEqual(every_triangle(xy[:2], LENS, WAND.markers_m, out), 0)
        self.assertEqual(every_triangle(np.repeat(xy[:1], 3, axis=0), LENS, WAND.markers_m, out), 0, "melted")

    def test_the_weak_scale_is_that_of_a_far_triangle(self):
        for seed in range(10):
            turn = Rotation.random(random_state=seed).as_matrix()
            flat = 137.0 * (WAND.markers_m @ turn.T)[:, :2]  # pixels a metre, without perspective
            d = [np.linalg.norm(flat[i] - flat[j]) for i, j in ((0, 1), (0, 2), (1, 2))]
            r = [np.linalg.norm(WAND.markers_m[i] - WAND.markers_m[j]) for i, j in ((0, 1), (0, 2), (1, 2))]
            area = (r[0] + r[1] + r[2]) * (-r[0] + r[1] + r[2]) * (r[0] - r[1] + r[2]) * (r[0] + r[1] - r[2])
            self.assertAlmostEqual(weak_scale(*d, *r, area), 137.0, places=6)


class TheFilmAround(unittest.TestCase):
    def named(self, centroids, frames, cameras, lens):
        which, side = name_triangles_in(wand_shape(WAND), centroids, centroids.groups(cameras), frames, lens)
        places = np.full((*which.shape, 3), np.nan)
        everyone = np.ones(cameras, dtype=bool)
        place_triangles(WAND.markers_m, centroids.xy, lens, everyone, which, side, places)
        return which, places

    def test_names_and_tilts_are_right_where_they_are_clear(self):
        rig, centroids, truth = swept()
        moves = ~blinded(centroids, find_blinds(centroids, len(rig), REFLECTION_SHARE))  # as a calibration begins
        centroids, truth = centroids.only(moves), truth[moves]
        frames = np.arange(0, centroids.frames, 12)
        lens = np.array([c.lens for c in rig])
        which, places = self.named(centroids, frames, len(rig), lens)
        read = which[..., 0] >= 0
        self.assertGreater(read.mean(), 0.2)
        self.assertGreater((truth[which] == np.arange(3)).all(axis=2)[read].mean(), 0.94)
        points = sweep(61, WAND, 24.0)[0][frames]
        true = np.stack([(points - c.position_m) @ c.rotation.T for c in rig], axis=1)
        off = np.linalg.norm(places - true, axis=3).max(axis=2)[read]
        self.assertLess(np.nanmedian(off), 0.12, "a lens that bends is posed as one that does not")
        tilted = np.linalg.norm((places - places.mean(2, keepdims=True)) - (true - true.mean(2, keepdims=True)), axis=3)
        self.assertGreater((tilted.max(axis=2)[read] < 0.05).mean(), 0.7, "two tilts look alike")

    def test_a_glimpse_is_not_enough(self):
        rig, centroids, _ = swept()
        short = centroids.only(centroids.frame < 30)
        which, _ = self.named(short, np.array([10, 15]), len(rig), np.array([c.lens for c in rig]))
        self.assertTrue((which < 0).all())

    def test_a_wand_that_does_not_turn_is_not_guessed(self):
        rig = make_rig(62, 3)
        carried = WAND.markers_m + [0, 1.0, 0] + 0.5 * np.sin(np.arange(400) / 60)[:, None, None] * [1, 0.2, 0.4]
        centroids, truth = film(rig, carried, 62, Faults(ghosts=0.0, reflections=0))
        which, _ = self.named(centroids, np.arange(100, 300, 10), 3, np.array([c.lens for c in rig]))
        read = which[..., 0] >= 0
        right = (truth[which] == np.arange(3)).all(axis=2)
        self.assertLessEqual((read & ~right).mean(), 0.1)

    def test_what_is_asked_of_one_camera_leaves_the_others_alone(self):
        rig, centroids, _ = swept()
        frames, lens = np.arange(200, 1800, 40), np.array([c.lens for c in rig])
        shape, groups = wand_shape(WAND), centroids.groups(len(rig))
        self.assertTrue(is_triangle(shape))
        whole, which = read_pictures(shape, centroids, groups, frames, lens)
        named = name_triangles_in(shape, centroids, groups, frames, lens)
        one, only = read_pictures(shape, centroids, groups, frames, lens, np.arange(len(rig)) == 2, named)
        np.testing.assert_array_equal(one[:, 2], whole[:, 2])
        np.testing.assert_array_equal(only[:, 2], which[:, 2])
        self.assertTrue(np.isnan(np.delete(one, 2, axis=1)).all() and (np.delete(only, 2, axis=1) < 0).all())


class Calibrated(unittest.TestCase):
    def test_half_the_frames_are_enough_and_a_long_sweep_is_thinned(self):
        rig, centroids, _ = swept(63, 7, 24.0, 60.0)
        found = calibrate_sweep(centroids, guesses(rig, 63), WAND)
        self.assertEqual(len(found.cameras), 7)
        rms = np.sqrt(np.mean(centre_errors_mm(found.cameras, rig) ** 2))
        self.assertLess(rms, 1.8 * found.figures["position_limit_mm"])
        with mock.patch("otrevo.core.optics.calibrate.MOST_FRAMES", 700):
            thinned = calibrate_sweep(centroids, guesses(rig, 63), WAND)
        self.assertLessEqual(thinned.figures["frames"], 700)
        self.assertIn("700 of its 1440 frames", thinned.notes[0])
        rms = np.sqrt(np.mean(centre_errors_mm(thinned.cameras, rig) ** 2))
        self.assertLess(rms, 1.8 * thinned.figures["position_limit_mm"])

    def test_another_triangle_is_told_or_refused(self):
        rig, centroids, _ = swept()
        other = Wand("other", WAND.markers_m * [1.12, 1, 1])
        try:
            found = calibrate_sweep(centroids, guesses(rig, 61), other)
        except InputError as error:
            self.assertRegex(str(error), "wand")
        else:
            self.assertTrue(any("does not match" in n for n in found.notes), found.notes)

    def test_it_gives_origin_front_and_level_at_rest(self):
        room = make_room(64, 7)
        rest, _ = film(room.cameras, scene("wand on floor", 64, 2.0, 120.0, WAND), 64, lamps=room.lamps)
        floor, _ = film(room.cameras, scene("floor markers", 64, 2.0), 65, lamps=room.lamps)
        lamps = find_blinds(film(room.cameras, scene("still", 64, 2.0), 66, lamps=room.lamps)[0], 7)
        rest, floor = (c.only(~blinded(c, lamps)) for c in (rest, floor))
        moved = Rotation.from_rotvec([0.4, 1.0, -0.3]).as_matrix(), np.array([3.0, -1.0, 2.0])
        found = level(rest, [c.moved(*moved) for c in room.cameras], WAND, floor, 0.007)
        cameras = [c.moved(*moved).moved(found.rotation, found.shift_m) for c in room.cameras]
        up = cameras[0].rotation.T @ room.cameras[0].rotation @ np.array([0, 1.0, 0])
        self.assertLess(np.degrees(np.arccos(min(1, up[1]))), 0.05)
        heights = [c.position_m[1] - r.position_m[1] for c, r in zip(cameras, room.cameras, strict=True)]
        self.assertLess(np.abs(heights).max(), 0.004)

    def test_wands_that_cannot_be_told_apart_are_refused_by_name(self):
        for markers, said in (
            ([[0, 0, 0], [0.3, 0, 0], [0.15, 0, 0.26]], "sides of the triangle"),
            ([[0, 0, 0], [0.3, 0, 0], [0.3, 0, 0.3], [0, 0, 0.3]], "turned over"),
            ([[0, 0, 0], [0.1, 0, 0], [0.3, 0, 0], [0.4, 0, 0], [0.2, 0, 0.2]], "turned over"),
        ):
            with self.assertRaisesRegex(InputError, said):
                wand_from_document({"markers_m": markers}, "wand.json")
        for markers in (
            [[0, 0, 0], [0.3, 0, 0], [0, 0, 0.2], [0.05, 0.15, 0.05]],
            [
                [0, 0, 0],
                [0.3, 0, 0],
                [0, 0.3, 0],
                [0, 0, 0.3],
                [0.08, 0.16, 0.0],
            ],  # only its mirror picture looks the same
        ):
            wand_from_document({"markers_m": markers}, "wand.json")


class WhileSweeping(unittest.TestCase):
    def test_coverage_of_a_triangle_is_the_same_however_it_comes_in(self):
        rig, centroids, _ = swept()
        lamps = find_blinds(centroids, len(rig), 0.6)
        seen = []
        for length in (centroids.frames, 400, 9):
            coverage = SweepCoverage(guesses(rig, 61), WAND, 100, lamps)
            for first in range(0, centroids.frames, length):
                part = (centroids.frame >= first) & (centroids.frame < first + length)
                coverage.add(centroids.only(part).later(-first))
            seen.append(coverage.readings)
        self.assertGreater(seen[0].min(), 30)
        for other in seen[1:]:  # the very ends of a recording have no film on one side
            self.assertLess(np.abs(other - seen[0]).max(), 0.25 * seen[0].max())

    def test_pieces_put_together_are_the_whole(self):
        _, centroids, _ = swept()
        edges = [0, 700, 701, 1500, centroids.frames]
        parts = [
            centroids.only((centroids.frame >= a) & (centroids.frame < b)).later(-a)
            for a, b in zip(edges[:-1], edges[1:], strict=True)
        ]
        whole = joined([p.later(a) for p, a in zip(parts, edges[:-1], strict=True)])
        for name in ("frame", "camera", "xy", "radius"):
            np.testing.assert_array_equal(getattr(whole, name), getattr(centroids, name))
        self.assertEqual((len(joined([])), joined([]).frames), (0, 0))
