"""Points rebuilt from centroids: correspondences, tracks, uncertainty, on made-up cameras with their usual faults."""

import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache
from unittest import mock

import numpy as np
from scipy.spatial import cKDTree

from otrevo.core.formats.centroids import Centroids
from otrevo.core.optics.blinds import cut_off
from otrevo.core.optics.rebuild import RebuildSettings, _columns, no_tracks, rebuild, rebuild_still, rebuild_window
from otrevo.core.sim.bodies import limbs
from otrevo.core.sim.rig import REFLECTION, Faults, _exposed, film, hidden_by, knock, make_rig, project
from tests.core.stage import rolled

RATE = Fraction(120)


@cache
def two_people(seed=81, count=10, frames=360):
    """Two performers with their bodies in the way: rig, true places (T, K, 3), centroids and their truth."""
    places, ends, radii = [], [], []
    for i, (motion, x) in enumerate((("semaphore", -1.1), ("rope haul", 0.5))):
        _, performance, optical = rolled(motion, seed + i)
        part, at = slice(300, 300 + frames), np.array([x, 0, 0.2 * i])
        places.append(optical.true_positions_m[part] + at)
        axes, radius = limbs(performance.motion, part)
        ends.append(axes + at), radii.append(radius)
    rig, places = make_rig(seed, count), np.concatenate(places, axis=1)
    bodies = (np.concatenate(ends, axis=1), np.concatenate(radii))
    return rig, places, *film(rig, places, seed, Faults(ghosts=0.03, reflections=1), bodies)


def score(found, places, frames=None):
    """Which true points were found (T, K), how many rebuilt ones are none, and the distances in metres."""
    hit, ghosts, errors = np.zeros(places.shape[:2], dtype=bool), 0, []
    for f in range(len(places)) if frames is None else frames:
        here = found.points_m[f][np.isfinite(found.points_m[f, :, 0])]
        if len(here):
            distance, who = cKDTree(places[f]).query(here)
            near = distance < 0.01
            ghosts += int((~near).sum())
            hit[f, who[near]] = True
            errors.append(distance[near])
    return hit, ghosts, np.concatenate(errors)


class TwoPerformers(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.rig, cls.places, cls.centroids, cls.truth = two_people()
        cls.found = rebuild(cls.centroids, cls.rig, RATE)
        cls.seen = np.zeros(cls.places.shape[:2])
        mine = cls.truth >= 0
        np.add.at(cls.seen, (cls.centroids.frame[mine], cls.truth[mine]), 1)

    def test_what_three_cameras_see_is_found_where_it_is(self):
        hit, ghosts, errors = score(self.found, self.places)
        able = self.seen >= 3
        self.assertGreater((hit & able).sum() / able.sum(), 0.99)
        self.assertLess(ghosts / len(errors), 0.003)
        self.assertLess(np.sqrt(np.mean(errors**2)), 1.04 * np.sqrt(np.nanmean(self.found.sd_m**2)))

    def test_melted_blobs_are_known_by_their_size_and_radii_that_say_nothing_do_no_harm(self):
        frames = self.centroids.frame < 200
        seen = self.centroids.only(frames)
        by_size = rebuild(seen, self.rig, RATE)
        rough = np.random.default_rng(1).uniform(1.5, 3.5, len(seen))
        for radius in (np.full(len(seen), 2.0), rough, np.zeros(len(seen))):
            without = rebuild(Centroids(seen.frame, seen.camera, seen.xy, radius), self.rig, RATE)
            errors = [score(r, self.places, range(200))[2] for r in (by_size, without)]
            rms = [
                np.sqrt(np.mean(e**2)) / np.sqrt(np.nanmean(r.sd_m**2))
                for e, r in zip(errors, (by_size, without), strict=True)
            ]
            self.assertLess(rms[0], rms[1])
            self.assertLess(rms[1], 1.15)
            self.assertAlmostEqual(len(errors[1]) / len(errors[0]), 1, delta=0.01)

    def test_uncertainty_is_the_spread_that_comes_true(self):
        errors, said = [], []
        for f in range(0, len(self.places), 7):
            here = np.isfinite(self.found.points_m[f, :, 0])
            distance, _ = cKDTree(self.places[f]).query(self.found.points_m[f, here])
            errors.append(distance), said.append(self.found.sd_m[f, here])
        errors, said = np.concatenate(errors), np.concatenate(said)
        for low, high in ((0, 40), (60, 100)):
            part = (said >= np.percentile(said, low)) & (said <= np.percentile(said, high)) & (errors < 0.01)
            self.assertAlmostEqual(
                np.sqrt(np.mean(errors[part] ** 2)) / np.sqrt(np.mean(said[part] ** 2)), 1.0, delta=0.15
            )

    def test_a_track_stays_with_its_marker(self):
        wrong = total = 0
        for c in range(self.found.points_m.shape[1]):
            track = self.found.points_m[:, c]
            t = np.flatnonzero(np.isfinite(track[:, 0]))
            who = np.array([cKDTree(self.places[f]).query(track[f])[1] for f in t])
            runs = np.split(who, np.flatnonzero(np.diff(t) > 1) + 1)
            wrong += sum((r != np.bincount(r).argmax()).sum() for r in runs)
            total += len(who)
        self.assertLess(wrong / total, 0.002)

    def test_frame_by_frame_is_the_same_as_all_at_once(self):
        state, groups, settings = no_tracks(), self.centroids.groups(len(self.rig)), RebuildSettings(shortest=1)
        whole = rebuild_window(self.centroids, groups, 0, 40, self.rig, no_tracks(), settings)
        for f in range(40):  # as a live stream comes in
            x, number, sd, seen, count, _ = rebuild_window(self.centroids, groups, f, f + 1, self.rig, state, settings)
            self.assertEqual(count[0], whole[4][f])
            n = count[0]
            np.testing.assert_array_equal(number[0, :n], whole[1][f, :n])
            np.testing.assert_allclose(x[0, :n], whole[0][f, :n])
            np.testing.assert_array_equal(seen[0, :n], whole[3][f, :n])

    def test_a_recording_in_pieces_is_the_same_as_in_one(self):
        with mock.patch.multiple("otrevo.core.optics.rebuild", PIECE=150, OVERLAP=48):
            pieces = rebuild(self.centroids, self.rig, RATE)
        there = np.isfinite(pieces.points_m[..., 0]).sum(axis=1)
        whole = np.isfinite(self.found.points_m[..., 0]).sum(axis=1)
        self.assertLess(np.abs(there - whole).mean() / whole.mean(), 0.002)
        self.assertEqual(pieces.residual_px.shape, self.found.residual_px.shape)
        length = lambda r: np.isfinite(r.points_m[..., 0]).sum(axis=0)  # noqa: E731
        self.assertLess(pieces.figures["tracks"], 1.1 * self.found.figures["tracks"])
        self.assertGreater(np.sort(length(pieces))[-40:].mean(), 0.97 * np.sort(length(self.found))[-40:].mean())
        hit, ghosts, errors = score(pieces, self.places)
        self.assertLess(ghosts / len(errors), 0.003)

    def test_figures_are_those_of_the_points(self):
        figures = self.found.figures
        self.assertAlmostEqual(figures["points_mean"], np.isfinite(self.found.points_m[..., 0]).sum(1).mean())
        self.assertAlmostEqual(figures["cameras_per_point"], self.found.cameras[self.found.cameras > 0].mean())
        self.assertEqual(self.found.residual_px.shape, (len(self.places), len(self.rig)))
        for value in figures["camera_residual_px"]:
            self.assertAlmostEqual(value, 0.085, delta=0.02)  # 0.1 px, less what every point takes for itself


class Settings(unittest.TestCase):
    def setUp(self):
        self.rig = make_rig(83, 5)
        self.places = np.repeat(np.random.default_rng(1).uniform([-1, 0.3, -1], [1, 1.8, 1], (12, 3))[None], 60, axis=0)

    def rebuilt(self, keep, **settings):
        centroids, truth = film(self.rig, self.places, 83, Faults(reflections=0, ghosts=0.0, missed=0.0))
        kept = keep(centroids, truth)
        return rebuild(centroids.only(kept), self.rig, RATE, RebuildSettings(**settings))

    def test_a_new_point_needs_as_many_cameras_as_asked(self):
        two = lambda c, truth: c.camera < 2  # noqa: E731
        self.assertEqual(self.rebuilt(two, min_cameras=3).points_m.shape[1], 0)
        self.assertEqual(score(self.rebuilt(two, min_cameras=2), self.places)[0][30].sum(), 12)

    def test_a_known_point_is_kept_by_two_cameras(self):
        late = lambda c, truth: (c.frame < 20) | (c.camera < 2)  # noqa: E731
        hit, _, _ = score(self.rebuilt(late), self.places)
        self.assertEqual(hit[50].sum(), 12)
        hit, _, _ = score(self.rebuilt(late, keep_cameras=3), self.places)
        self.assertEqual(hit[50].sum(), 0)

    def test_a_marker_hidden_for_a_moment_keeps_its_number_and_a_long_one_gets_a_new_one(self):
        for gone, tracks in ((4, 12), (15, 13)):
            found = self.rebuilt(lambda c, truth, g=gone: ~((truth == 3) & (c.frame >= 20) & (c.frame < 20 + g)))
            self.assertEqual(found.figures["tracks"], tracks)
            self.assertEqual(np.isfinite(found.points_m[25, :, 0]).sum(), 12 if gone < 5 else 11)

    def test_sightings_beyond_the_limit_are_left_out(self):
        centroids, truth = film(self.rig, self.places, 83, Faults(reflections=0, ghosts=0.0, missed=0.0))
        off = (truth == 5) & (centroids.camera == 1)
        centroids.xy[off, 1] += 3.0  # as a melted blob would lie
        found = rebuild(centroids, self.rig, RATE)
        hit, _, errors = score(found, self.places)
        self.assertEqual(hit.sum(), 12 * 60)
        self.assertLess(errors.max(), 0.003)

    def test_nothing_in_nothing_out(self):
        found = self.rebuilt(lambda c, truth: c.camera == 0)
        self.assertEqual(found.points_m.shape, (60, 0, 3))
        self.assertEqual(found.figures["points_mean"], 0.0)
        self.assertIsNone(found.figures["sd_mm"])

    def test_what_lies_still_is_averaged(self):
        centroids, _ = film(self.rig, self.places, 83)
        still = rebuild_still(centroids, self.rig)
        self.assertEqual(len(still), 12)
        distance, _ = cKDTree(self.places[0]).query(still)
        self.assertLess(distance.max(), 0.0004)

    def test_progress_and_cancel(self):
        centroids, _ = film(self.rig, self.places, 83)
        told = []
        rebuild(centroids, self.rig, RATE, progress=told.append)
        self.assertEqual(told[-1], 1.0)
        with self.assertRaises(ZeroDivisionError):
            rebuild(centroids, self.rig, RATE, progress=lambda share: 1 / 0)

    def test_columns_are_used_again_once_their_track_is_over(self):
        frame = np.array([0, 1, 2, 0, 1, 2, 3, 8, 9, 10, 5])
        number = np.array([0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 3])
        column, kept = _columns(frame, number, 3)
        self.assertEqual(column[7], column[0])
        self.assertNotEqual(column[3], column[0])
        np.testing.assert_array_equal(kept, number != 3)


class SimulatedPictures(unittest.TestCase):
    def test_a_body_hides_what_is_behind_it_and_not_what_is_before(self):
        camera, ends = np.array([0.0, 1.0, 5.0]), np.array([[[[0.0, 0.0, 0.0], [0.0, 2.0, 0.0]]]])
        points = np.array([[[0.0, 1.0, -1.0], [0.0, 1.0, 1.0], [0.5, 1.0, -1.0], [0.0, 1.0, 0.12], [0.0, 1.0, -0.12]]])
        np.testing.assert_array_equal(
            hidden_by(camera, points, ends, np.array([0.1]))[0], [True, False, False, False, True]
        )

    def test_blobs_that_overlap_become_one_between_them(self):
        camera = make_rig(84, 2)[0]
        middle = camera.position_m + 3.0 * camera.rotation[2]
        side = camera.rotation[0]
        points = np.array([middle, middle + 0.004 * side, middle + 0.3 * side])[None]
        centroids, truth = film([camera], points, 1, Faults(0.0, 0.0, 0.0, 0.0, 0))
        self.assertEqual(len(centroids), 2)
        true = project(camera, points[0])[0]
        np.testing.assert_allclose(
            centroids.xy[np.argmin(np.abs(centroids.xy[:, 0] - true[0, 0]))], true[:2].mean(0), atol=0.05
        )

    def test_a_blob_at_the_edge_is_cut_as_a_counted_one_is_and_left_out(self):
        step = 0.02
        grid = np.arange(-0.5 + step / 2, 60, step)
        for x, y, radius in ((1.2, 20.0, 3.0), (20.0, -0.9, 2.5), (0.3, 21.0, 4.0), (-2.0, 20.0, 2.5)):
            u, v = np.meshgrid(grid, grid)
            lit = (u - x) ** 2 + (v - y) ** 2 < radius**2
            found, size, truth, frame = _exposed(
                np.array([[x, y]]), np.array([radius]), np.array([7]), np.array([3]), (2048, 1536)
            )
            if lit.sum() * step**2 < 0.15 * np.pi * radius**2:
                self.assertEqual(len(found), 0, "too little of it is in the picture")
                continue
            np.testing.assert_allclose(found[0], [u[lit].mean(), v[lit].mean()], atol=0.01)
            self.assertAlmostEqual(size[0], np.sqrt(lit.sum() * step**2 / np.pi), delta=0.01)
            self.assertEqual((truth[0], frame[0]), (7, 3))
            blob = Centroids(np.array([3]), np.array([0]), found, size)
            self.assertTrue(cut_off(blob, make_rig(1, 4))[0])
        whole, size, *_ = _exposed(np.array([[500.0, 1200.0]]), np.array([3.0]), np.zeros(1), np.zeros(1), (2048, 1536))
        np.testing.assert_array_equal(whole[0], [500, 1200])
        self.assertEqual(size[0], 3.0)
        self.assertFalse(cut_off(Centroids(np.zeros(1, int), np.zeros(1, int), whole, size), make_rig(1, 4)).any())

    def test_what_is_cut_at_the_edge_moves_no_point(self):
        rig = make_rig(4, 8)
        places = np.array([[[0.0, 1.0, 0.0]]]).repeat(30, 0)
        centroids, _ = film(rig, places, 4, Faults(noise_px=0.0, missed=0, ghosts=0, reflections=0))
        # one camera has a blob at its edge where the point would be, were that camera turned a little
        edge = centroids.camera == 2
        narrow = [replace(c, width=int(centroids.xy[edge, 0].mean() + 2)) if i == 2 else c for i, c in enumerate(rig)]
        moved = centroids.xy.copy()
        moved[edge, 0] -= 0.5
        cut = Centroids(centroids.frame, centroids.camera, moved, centroids.radius)
        found = rebuild(cut, narrow, RATE)
        np.testing.assert_allclose(found.points_m[:, 0], places[:, 0], atol=1e-6)

    def test_a_knock_turns_and_shifts_by_what_is_said_from_its_frame_on(self):
        camera = make_rig(85, 2)[0]
        knocked = knock(camera, 0.3, 0.002, 4)
        angle = np.degrees(np.arccos(np.clip((np.trace(knocked.rotation @ camera.rotation.T) - 1) / 2, -1, 1)))
        self.assertAlmostEqual(angle, 0.3, places=4)
        self.assertAlmostEqual(np.linalg.norm(knocked.position_m - camera.position_m), 0.002)
        rig = make_rig(85, 2)
        points = np.tile(np.array([[[0.0, 1.0, 0.0]]]), (600, 1, 1))
        centroids, truth = film(rig, points, 1, Faults(0.0, 0.0, 0.0, 0.0, 0, knocked=(0, 400, 0.3, 0.002)))
        mine = (centroids.camera == 0) & (truth == 0)
        moved = np.linalg.norm(centroids.xy[mine] - project(rig[0], points[0, 0])[0], axis=1)
        self.assertLess(moved[centroids.frame[mine] < 400].max(), 1e-6)
        self.assertGreater(moved[centroids.frame[mine] >= 400].min(), 1.0)

    def test_lamps_stay_in_place(self):
        rig = make_rig(86, 4)
        centroids, truth = film(rig, np.full((300, 1, 3), np.nan), 2, Faults(reflections=2))
        for c in range(4):
            mine = (truth == REFLECTION) & (centroids.camera == c)
            if mine.any():
                rounded = np.unique(np.round(centroids.xy[mine] / 8), axis=0)
                self.assertLessEqual(len(rounded), 8)
