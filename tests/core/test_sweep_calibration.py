"""From a swept wand to calibrated cameras: readings, bootstrap, adjustment, level, on rigs that nobody tuned to."""

import unittest
from dataclasses import replace
from functools import cache

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.conventions import rigid_move
from otrevo.core.errors import InputError
from otrevo.core.formats.centroids import Centroids
from otrevo.core.optics.blinds import blinded, find_blinds
from otrevo.core.optics.bootstrap import place_cameras
from otrevo.core.optics.bundle import SIZE, Fit, Sightings, _stepped, adjust, normal_equations
from otrevo.core.optics.calibrate import calibrate_sweep
from otrevo.core.optics.camera import packed
from otrevo.core.optics.level import level, plane_through, quarter_turned
from otrevo.core.optics.picture_reading import read_pictures
from otrevo.core.optics.rig import RigCamera, rig_from_document
from otrevo.core.optics.wand import SHIPPED_WANDS, Wand, wand_from_document
from otrevo.core.optics.wand_reading import refine_position, wand_shape
from otrevo.core.sim.rig import Faults, film, make_rig, project, sweep

LINE, CORNER, TRIANGLE = (SHIPPED_WANDS[name] for name in ("harbour line", "quay corner", "dory triangle"))
PYRAMID = Wand("buoy", np.array([[0, 0, 0], [0.3, 0, 0], [0.05, 0.25, 0], [0.1, 0.08, 0.2]], dtype=float))


def guesses(rig, seed, share=0.05):
    rng = np.random.default_rng(seed)
    return [RigCamera(c.name, c.width, c.height, c.lens[0] * (1 + rng.uniform(-share, share))) for c in rig]


@cache
def swept(seed, wand_name="harbour line", count=8, seconds=24.0, wild=0.0):
    rig, wand = make_rig(seed, count), SHIPPED_WANDS[wand_name]
    centroids, truth = film(rig, sweep(seed, wand, seconds)[0], seed, Faults(wild=wild))
    return rig, centroids, truth


def centre_errors_mm(found, rig):
    """Distances of camera centres from the truth after the best rigid move."""
    true = np.array([next(c.position_m for c in rig if c.name == f.name) for f in found])
    places = np.array([f.position_m for f in found])
    turn, shift = rigid_move(places, true)
    return 1000 * np.linalg.norm(places @ turn.T + shift - true, axis=1)


class Readings(unittest.TestCase):
    def test_every_clear_reading_is_right_among_ghosts(self):
        for wand, least in ((LINE, 0.8), (CORNER, 0.6), (PYRAMID, 0.3), (TRIANGLE, 0.05)):
            rig = make_rig(21, 4)
            centroids, truth = film(rig, sweep(21, wand, 10.0)[0], 21, Faults(reflections=0, ghosts=0.15))
            frames = np.arange(0, 1000, 10)
            lens = np.array([g.first_lens() for g in guesses(rig, 3)])
            places, which = read_pictures(wand_shape(wand), centroids, centroids.groups(4), frames, lens)
            read = which[..., 0] >= 0
            right = (truth[which] == np.arange(len(wand.markers_m))).all(axis=2)
            self.assertGreater(read.mean(), least, wand.name)
            self.assertGreater(right[read].mean(), 0.98, wand.name)
            self.assertTrue(np.isnan(places[~read]).all() and np.isfinite(places[read]).all())

    def test_the_place_before_a_camera_is_exact_for_a_pinhole(self):
        camera = replace(make_rig(2, 2)[0])
        lens = camera.lens.copy()
        lens[4:] = 0
        turn, shift = Rotation.from_rotvec([0.4, -0.3, 1.0]).as_matrix(), np.array([0.2, -0.1, 3.0])
        for wand in (LINE, CORNER):
            points = wand.markers_m @ turn.T + shift
            xy = points[:, :2] / points[:, 2:] * lens[:2] + lens[2:4]
            order = np.argsort(xy[:, 0])
            none = np.zeros(len(xy), dtype=np.int64)
            seen, groups = Centroids(none, none, xy[order], none + 2.0), np.array([0, len(xy)])
            places, which = read_pictures(wand_shape(wand), seen, groups, np.zeros(1, dtype=np.int64), lens[None])
            np.testing.assert_allclose(places[0, 0], points, atol=2e-4, err_msg=wand.name)
            np.testing.assert_array_equal(order[which[0, 0]], np.arange(len(xy)))

    def test_a_pose_is_refined_to_the_pixel(self):
        lens = np.array([1400.0, 1400, 1000, 750, 0, 0, 0, 0, 0])
        turn, shift = Rotation.from_rotvec([0.2, 0.5, -0.3]).as_matrix(), np.array([0.1, 0.2, 4.0])
        points = PYRAMID.markers_m @ turn.T + shift
        seen = points[:, :2] / points[:, 2:] * lens[:2] + lens[2:4]
        near, off = Rotation.from_rotvec([0.1, 0.0, 0.1]).as_matrix() @ turn, shift + [0.05, -0.02, 0.4]
        self.assertLess(refine_position(PYRAMID.markers_m, seen, lens, near, off, 12), 1e-6)
        np.testing.assert_allclose(off, shift, atol=1e-6)


class Adjustment(unittest.TestCase):
    def setUp(self):
        rig = make_rig(31, 3)
        points, place, turn = sweep(31, CORNER, 0.2)
        self.markers = CORNER.markers_m - CORNER.markers_m.mean(axis=0)
        rows = [
            (f, c, m, xy)
            for f in range(20) for c, camera in enumerate(rig)
            for m, xy in enumerate(project(camera, points[f])[0]) if np.isfinite(xy[0])
        ]  # fmt: skip
        self.sightings = Sightings(*(np.array([r[i] for r in rows]) for i in range(4)))
        self.fit = Fit(*packed(rig), turn, place)

    def residuals(self, fit):
        return fit.residuals(self.sightings, self.markers)

    def test_true_cameras_and_poses_leave_nothing(self):
        self.assertLess(np.abs(self.residuals(self.fit)).max(), 1e-8)
        behind = replace_fit(self.fit, position=self.fit.position + 40 * self.fit.rotation[:, 2])
        self.assertTrue(np.isnan(self.residuals(behind)).all(), "behind a camera there is no picture")

    def test_the_reduced_gradient_is_that_of_finite_differences(self):
        """With the poses eliminated, the gradient by a camera's number is that of the cost at the poses' optimum."""
        rng = np.random.default_rng(5)
        self.sightings.xy = self.sightings.xy + rng.normal(0, 0.5, self.sightings.xy.shape)
        weight = np.ones(len(self.sightings.frame))
        mean, free = self.fit.lens.copy(), np.ones(SIZE, dtype=bool)

        def settled(fit):
            for _ in range(4):  # only the poses move
                _, _, steps = normal_equations(fit, self.sightings, self.markers, weight, mean, free, 0.0)
                still = np.zeros(SIZE * 3)
                fit = _stepped(fit, still, steps(still))
            return fit

        fit = settled(self.fit)
        _, gradient, _ = normal_equations(fit, self.sightings, self.markers, weight, mean, free, 0.0)
        for number, step in ((3, 1e-5), (4, 1e-5), (1, 1e-5), (6, 1e-2), (8, 1e-2), (10, 1e-5)):
            move = np.zeros(SIZE * 3)
            move[SIZE + number] = step
            none = np.zeros((len(fit.wand_position), 6))
            costs = [np.sum(self.residuals(settled(_stepped(fit, sign * move, none))) ** 2) for sign in (1, -1)]
            numeric = -(costs[0] - costs[1]) / (4 * step)  # half the cost's slope, downhill
            self.assertAlmostEqual(gradient[SIZE + number], numeric, delta=0.02 * abs(numeric) + 0.05, msg=str(number))

    def test_sightings_of_some_frames_are_counted_anew(self):
        some, frames = self.sightings.only(np.isin(self.sightings.frame, [3, 7]))
        np.testing.assert_array_equal(frames, [3, 7])
        self.assertEqual(set(some.frame), {0, 1})
        fit = replace_fit(
            self.fit, wand_rotation=self.fit.wand_rotation[frames], wand_position=self.fit.wand_position[frames]
        )
        out = fit.residuals(some, self.markers)
        self.assertLess(np.abs(out).max(), 1e-8)


def replace_fit(fit, **changes):
    return Fit(
        *(changes.get(k, getattr(fit, k)) for k in ("lens", "rotation", "position", "wand_rotation", "wand_position"))
    )


class Bootstrap(unittest.TestCase):
    def test_cameras_find_their_places_from_readings_one_in_five_of_them_wrong(self):
        rig, rng = make_rig(41, 6), np.random.default_rng(1)
        points = sweep(41, CORNER, 30.0)[0][::30]
        places = np.stack([(points - c.position_m) @ c.rotation.T for c in rig], axis=1)
        places *= 1 + rng.normal(0, 0.004, (*places.shape[:2], 1, 1))
        wrong = rng.random(places.shape[:2]) < 0.2
        places[wrong] += rng.normal(0, 0.8, (wrong.sum(), 1, 3))
        places[rng.random(places.shape[:2]) < 0.3] = np.nan
        poses, groups = place_cameras(places, rng)
        self.assertEqual(len(poses), 6)
        self.assertEqual([len(g) for g in groups], [6])
        found = [replace(c, rotation=poses[i][0], position_m=poses[i][1]) for i, c in enumerate(rig)]
        self.assertLess(centre_errors_mm(found, rig).max(), 120)

    def test_two_groups_without_a_common_view_stay_apart(self):
        rig, rng = make_rig(42, 6), np.random.default_rng(2)
        points = sweep(42, CORNER, 30.0)[0][::30]
        places = np.stack([(points - c.position_m) @ c.rotation.T for c in rig], axis=1)
        places[::2, :4], places[1::2, 4:] = np.nan, np.nan
        poses, groups = place_cameras(places, rng)
        self.assertEqual(sorted(poses), [0, 1, 2, 3])
        self.assertIn({4, 5}, groups)


class Calibration(unittest.TestCase):
    def told_the_truth_mm(self, rig, centroids, truth, seed, wand):
        """Errors of the cameras' places when an adjustment starts from the truth and takes no sighting that is false."""
        points, place, turn = sweep(seed, wand, 24.0)
        at = [project(c, points)[0] for c in rig]
        true = np.array([at[c][f, m] for c, f, m in zip(centroids.camera, centroids.frame, truth, strict=True)])
        mine = (truth >= 0) & (np.linalg.norm(centroids.xy - true, axis=1) < 0.5)
        sightings = Sightings(centroids.frame[mine], centroids.camera[mine], truth[mine], centroids.xy[mine])
        mean = np.array([RigCamera("c", c.width, c.height, c.lens[0]).first_lens() for c in rig])
        markers = np.ascontiguousarray(wand.markers_m - wand.markers_m.mean(axis=0))
        best, _ = adjust(
            Fit(*packed(rig), turn, place), sightings, markers, lambda r: np.full(len(r), 100.0), mean, None, 20
        )
        return centre_errors_mm([replace(c, position_m=p) for c, p in zip(rig, best.position, strict=True)], rig)

    def test_it_is_as_good_as_one_that_was_told_the_truth(self):
        """The noise limit of this very recording, ghosts, lamps, misses and wild sightings left out by hand."""
        for seed, name, wild in ((51, "harbour line", 0.0), (52, "quay corner", 0.02), (54, "dory triangle", 0.0)):
            rig, centroids, truth = swept(seed, name, wild=wild)
            found = calibrate_sweep(centroids, guesses(rig, seed), SHIPPED_WANDS[name])
            limit = self.told_the_truth_mm(rig, centroids, truth, seed, SHIPPED_WANDS[name])
            rms = np.sqrt(np.mean(centre_errors_mm(found.cameras, rig) ** 2))
            self.assertLess(rms, 1.15 * np.sqrt(np.mean(limit**2)), name)
            self.check(rig, found)
            self.assertGreaterEqual(found.figures["rejected"], 200 * (wild > 0))

    def test_a_triangle_with_focal_lengths_nobody_knows(self):
        rig, centroids, _ = swept(54, "dory triangle")
        unknown = [RigCamera(c.name, c.width, c.height, None) for c in rig]
        self.check(rig, calibrate_sweep(centroids, unknown, TRIANGLE))

    def check(self, rig, found, most=1.8):
        self.assertEqual(found.failed, {})
        self.assertEqual(len(found.cameras), len(rig))
        figures = found.figures
        self.assertAlmostEqual(figures["reprojection_rms_px"], 0.1, delta=0.005)
        rms = np.sqrt(np.mean(centre_errors_mm(found.cameras, rig) ** 2))
        self.assertLess(rms, most * figures["position_limit_mm"])
        self.assertLess(figures["wand_rms_mm"], 0.5)
        self.assertLess(abs(figures["wand_mean_mm"]), 0.02)

    def test_focal_lengths_that_nobody_knows_are_found(self):
        rig, centroids, _ = swept(53)
        unknown = [RigCamera(c.name, c.width, c.height, None) for c in rig]
        found = calibrate_sweep(centroids, unknown, LINE)
        self.check(rig, found)
        self.assertIn("focal lengths were not given", found.notes[0])

    def test_cameras_that_fail_are_named_with_the_reason_and_the_rest_is_usable(self):
        rig, centroids, _ = swept(51)
        size = np.array([rig[0].width, rig[0].height])
        blind, corner = centroids.camera == 2, centroids.camera == 5
        keep = ~blind & (~corner | ((np.abs(centroids.xy / size - 0.5) < 0.09).all(axis=1)))
        found = calibrate_sweep(centroids.only(keep), guesses(rig, 51), LINE)
        self.assertEqual(set(found.failed), {"c03", "c06"})
        self.assertIn("nothing that moves", found.failed["c03"])
        self.assertRegex(found.failed["c06"], "of the picture|sightings|often enough")
        self.assertLess(
            np.sqrt(np.mean(centre_errors_mm(found.cameras, rig) ** 2)), 2 * found.figures["position_limit_mm"]
        )

    def test_a_wand_that_does_not_match_its_description_is_told_by_which_distance(self):
        rig, centroids, _ = swept(51)
        bent = Wand("harbour line", np.array([[0, 0, 0], [0.166, 0, 0], [0.5, 0, 0]], dtype=float))
        found = calibrate_sweep(centroids, guesses(rig, 51), bent)
        self.assertTrue(any("from marker" in n and "mm" in n for n in found.notes), found.notes)

    def test_sweeps_that_cannot_do_are_refused_in_one_sentence(self):
        rig, centroids, _ = swept(51)
        cameras = guesses(rig, 51)
        nothing = centroids.only(np.zeros(len(centroids), dtype=bool))
        one = centroids.only(centroids.camera == 0)
        still = film(rig, np.repeat(LINE.markers_m[None] + [0, 1, 0], 400, axis=0) + 1e-5, 3, Faults(reflections=0))[0]
        slow = np.linspace(0, 0.15, 400)[:, None, None] * [1.0, 0.2, 0.3] + LINE.markers_m + [0, 1, 0]
        slow = film(rig, slow, 3, Faults(reflections=0))[0]
        for wrong, said in (
            (nothing, "0 cameras"),
            (one, "1 cameras|two cameras"),
            (still, "cameras|frames"),
            (slow, "moved by only"),
        ):
            with self.assertRaisesRegex(InputError, said):
                calibrate_sweep(wrong, cameras, LINE)
        with self.assertRaisesRegex(InputError, "points in two cameras|recognised in only|read the wand"):
            calibrate_sweep(centroids, cameras, CORNER)


class BlindsOfARoom(unittest.TestCase):
    def test_what_never_moves_is_found_and_what_moves_is_not(self):
        rig = make_rig(61, 5)
        room = np.full((500, 1, 3), np.nan)
        centroids, truth = film(rig, room, 61, Faults(reflections=3, ghosts=0.3))
        blinds = find_blinds(centroids, 5)
        lamps = {
            (c, tuple(np.round(centroids.xy[(truth == -2) & (centroids.camera == c)], -1)[0]))
            for c in set(centroids.camera[truth == -2])
        }
        self.assertGreaterEqual(len(blinds), len(lamps))
        hidden = blinded(centroids, blinds)
        self.assertTrue(hidden[truth == -2].all())
        self.assertLess(hidden[truth == -1].mean() if (truth == -1).any() else 0.0, 0.05)
        self.assertTrue(all(b.share > 0.9 and 5 < b.radius < 12 for b in blinds))

    def test_an_empty_room_has_none(self):
        none = Centroids(*(np.zeros(0, dtype=int) for _ in range(2)), np.zeros((0, 2)), np.zeros(0))
        self.assertEqual(find_blinds(none, 4), [])


class Level(unittest.TestCase):
    def setUp(self):
        self.rig = make_rig(71, 8)
        turn = Rotation.from_rotvec([0.3, 1.0, -0.4])
        self.free = [c.moved(turn.as_matrix(), np.array([1.0, -2.0, 0.5])) for c in self.rig]  # before it is levelled

    def seen(self, places, seed):
        return film(self.rig, np.repeat(places[None], 50, axis=0), seed, Faults(reflections=0))[0]

    def test_the_wand_gives_origin_and_front_and_markers_the_level(self):
        lying = Rotation.from_rotvec([0.02, np.radians(30), 0.0])  # on an arm that is not quite level
        wand = self.seen(lying.apply(CORNER.markers_m) + [0.4, 0.0, -0.2], 1)
        places = np.random.default_rng(3).uniform([-1.5, 0, -1.5], [1.5, 0, 1.5], (7, 3))
        found = level(wand, self.free, CORNER, self.seen(places, 2))
        cameras = [c.moved(found.rotation, found.shift_m) for c in self.free]
        self.assertEqual(found.figures["floor_markers"], 7)
        self.assertAlmostEqual(found.figures["wand_tilt_deg"], np.degrees(0.02), delta=0.1)
        angle = np.radians(30)
        back = np.array([[np.cos(angle), 0, -np.sin(angle)], [0, 1, 0], [np.sin(angle), 0, np.cos(angle)]])
        for camera, true in zip(cameras, self.rig, strict=True):
            expected = back @ (true.position_m - [0.4, 0.0, -0.2])
            np.testing.assert_allclose(camera.position_m, expected, atol=0.0015)
            tilt = np.degrees(
                np.arccos(np.clip(np.trace(camera.rotation @ (true.rotation @ back.T).T) / 2 - 0.5, -1, 1))
            )
            self.assertLess(tilt, 0.15)
        floor = np.array([c.position_m[1] for c in cameras]) - [c.position_m[1] for c in self.rig]
        self.assertLess(np.abs(floor).max(), 0.0005, "level within half a millimetre")

    def test_a_quarter_turn_and_a_marker_radius(self):
        wand = self.seen(CORNER.markers_m + [0, 0.007, 0], 1)
        found = level(wand, self.free, CORNER, marker_radius_m=0.007)
        plain = [c.moved(found.rotation, found.shift_m) for c in self.free]
        turned = [c.moved(quarter_turned(1), np.zeros(3)) for c in plain]
        np.testing.assert_allclose(plain[0].position_m, self.rig[0].position_m, atol=0.004)
        x, y, z = plain[0].position_m
        np.testing.assert_allclose(turned[0].position_m, [z, y, -x], atol=1e-9)

    def test_what_cannot_be_levelled_is_said(self):
        line = self.seen(LINE.markers_m, 1)
        with self.assertRaisesRegex(InputError, "says nothing about up"):
            level(line, self.free, LINE)
        row = np.column_stack([np.linspace(-1, 1, 5), np.zeros(5), np.zeros(5)])
        with self.assertRaisesRegex(InputError, "one line"):
            level(line, self.free, LINE, self.seen(row, 2))
        with self.assertRaisesRegex(InputError, "0 floor markers|floor markers were found"):
            level(line, self.free, LINE, self.seen(row[:1] + [0, 0, 9.0], 2))
        with self.assertRaisesRegex(InputError, "not found on the floor"):
            level(self.seen(row[:2], 3), self.free, CORNER)

    def test_one_stray_marker_does_not_tilt_the_floor(self):
        points = np.random.default_rng(4).uniform([-1, 0, -1], [1, 0, 1], (8, 3))
        points[2, 1] = 0.4  # on a chair
        normal, _, _, believed = plane_through(points)
        self.assertFalse(believed[2])
        self.assertGreater(abs(normal[1]), 0.99999)


class Documents(unittest.TestCase):
    def test_rigs(self):
        good = {"rate": "100/1", "cameras": [{"id": "c01", "width": 2048, "height": 1536, "focal_guess_px": None}]}
        cameras, rate = rig_from_document(good)
        self.assertEqual((cameras[0].focal_guess_px, rate), (None, 100))
        for change, said in (
            ({"rate": None}, "rate"), ({"rate": "0/1"}, "rate"), ({"cameras": []}, "list"),
            ({"cameras": good["cameras"] * 2}, "used twice"), ({"cameras": [{"id": "a", "width": 2, "height": 9}]}, "width"),
            ({"cameras": [good["cameras"][0] | {"focal_guess_px": 3}]}, "focal_guess_px"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, said):
                rig_from_document(good | change, "cameras.json")

    def test_wands(self):
        for wand in SHIPPED_WANDS.values():
            again = wand_from_document(wand.to_document())
            np.testing.assert_array_equal(again.markers_m, wand.markers_m)
            self.assertEqual(again.straight, wand is LINE)
        for markers, said in (
            ([[0, 0, 0], [1, 0, 0]], "3 to 6"), ([[0, 0, 0], [160, 0, 0], [500, 0, 0]], "millimetres"),
            ([[0, 0, 0], [0.25, 0, 0], [0.5, 0, 0]], "same from both ends"),
            ([[0, 0, 0], [0.3, 0, 0], [0, 0.29, 0]], "sides of the triangle"),
            ([[0, 0, 0], [0.2, 0, 0], [0.4, 0, 0], [0.2, 0.3, 0]], "marker 3 in the place of 1"), ([[0, 0, 0], [0.001, 0, 0], [0.5, 0, 0]], "1 mm apart"),
            ("wand", "3 to 6"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, said):
                wand_from_document({"markers_m": markers}, "wand.json")
