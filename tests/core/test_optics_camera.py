"""Lenses and triangulation against finite differences, OpenCV's projection formula written out, and exact data."""

import unittest

import cv2
import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.optics.camera import (
    camera_from_document,
    camera_to_document,
    distort,
    lens_slope,
    packed,
    project_all,
    undistort,
)
from otrevo.core.optics.triangulate import nearest_to_rays, refine_point, triangulate_tracks
from otrevo.core.sim.rig import make_rig, project

LENS = np.array([1310.0, 1290.0, 1020.5, 760.25, -0.11, 0.03, 6e-4, -4e-4, -0.008])


def place_of(lens, a, b):
    out, slope = np.empty(2), np.empty((2, 2))
    distort(lens, a, b, out, slope)
    return out, slope


def by_the_book(lens, a, b):
    """The distortion formula as OpenCV's documentation prints it, written independently of the product's."""
    fx, fy, cx, cy, k1, k2, p1, p2, k3 = lens
    r2 = a**2 + b**2
    radial = 1 + k1 * r2 + k2 * r2**2 + k3 * r2**3
    return np.array([
        fx * (a * radial + 2 * p1 * a * b + p2 * (r2 + 2 * a**2)) + cx,
        fy * (b * radial + p1 * (r2 + 2 * b**2) + 2 * p2 * a * b) + cy,
    ])  # fmt: skip


class Lens(unittest.TestCase):
    def setUp(self):
        self.ways = np.random.default_rng(1).uniform(-0.75, 0.75, (60, 2))

    def test_places_are_those_of_the_formula(self):
        for a, b in self.ways:
            np.testing.assert_allclose(place_of(LENS, a, b)[0], by_the_book(LENS, a, b), atol=1e-9)

    def test_places_are_those_of_opencv(self):
        """Whole cameras, as they hang, against a library that shares nothing with ours."""
        points = np.random.default_rng(3).uniform([-1.5, 0, -1.5], [1.5, 2, 1.5], (200, 3))
        for camera in make_rig(5, 6):
            fx, fy, cx, cy, *distortion = camera.lens
            matrix = np.array([[fx, 0, cx], [0, fy, cy], [0, 0, 1]])
            turn, _ = cv2.Rodrigues(camera.rotation)
            theirs, _ = cv2.projectPoints(
                points, turn, -camera.rotation @ camera.position_m, matrix, np.array(distortion)
            )
            ours, depth = project_all(packed([camera]), points)
            seen = np.isfinite(ours[0, :, 0])
            self.assertGreater(seen.sum(), 100)
            np.testing.assert_allclose(ours[0][seen], theirs[seen, 0], atol=1e-6)
            simulated = project(camera, points)[0]
            inside = np.isfinite(simulated[:, 0])
            np.testing.assert_allclose(simulated[inside], theirs[inside, 0], atol=1e-6)
            for (u, v), (a, b) in zip(
                theirs[:20, 0], cv2.undistortPoints(theirs[:20], matrix, np.array(distortion))[:, 0], strict=True
            ):
                way = np.empty(2)
                self.assertTrue(undistort(camera.lens, u, v, way))
                np.testing.assert_allclose(way, [a, b], atol=2e-4)  # theirs takes a few steps only

    def test_slopes_are_those_of_finite_differences(self):
        step = 1e-6
        for a, b in self.ways[:20]:
            _, slope = place_of(LENS, a, b)
            numeric = np.column_stack([
                (by_the_book(LENS, a + step, b) - by_the_book(LENS, a - step, b)) / (2 * step),
                (by_the_book(LENS, a, b + step) - by_the_book(LENS, a, b - step)) / (2 * step),
            ])  # fmt: skip
            np.testing.assert_allclose(slope, numeric, rtol=1e-6, atol=1e-4)
            out = np.empty((2, 9))
            lens_slope(LENS, a, b, out)
            for i in range(9):
                more, less = LENS.copy(), LENS.copy()
                h = 1e-6 * max(abs(LENS[i]), 1e-2)
                more[i] += h
                less[i] -= h
                expected = (by_the_book(more, a, b) - by_the_book(less, a, b)) / (2 * h)
                np.testing.assert_allclose(out[:, i], expected, rtol=1e-4, atol=1e-4)

    def test_undistorting_goes_back(self):
        for a, b in self.ways:
            out = np.empty(2)
            self.assertTrue(undistort(LENS, *place_of(LENS, a, b)[0], out))
            np.testing.assert_allclose(out, [a, b], atol=1e-9)

    def test_a_place_no_direction_leads_to_is_told_and_not_made_up(self):
        folding = LENS.copy()
        folding[4:] = [-0.45, 0, 0, 0, 0]  # the picture folds back at r = 0.86
        self.assertFalse(undistort(folding, 1020.5 + 1310.0, 760.25, np.empty(2)))


class Cameras(unittest.TestCase):
    def test_compiled_projection_agrees_with_the_simulators(self):
        rig = make_rig(3)
        points = np.random.default_rng(2).uniform([-2, 0, -2], [2, 2, 2], (200, 3))
        places, depth = project_all(packed(rig), points)
        for c, camera in enumerate(rig):
            expected, expected_depth = project(camera, points)
            np.testing.assert_allclose(depth[c], expected_depth, atol=1e-9)
            seen = np.isfinite(expected[:, 0])
            np.testing.assert_allclose(places[c, seen], expected[seen], atol=1e-7)

    def test_turning_the_world_with_the_cameras_changes_no_picture(self):
        rig = make_rig(3, 3)
        points = np.random.default_rng(2).uniform([-1, 0, -1], [1, 2, 1], (40, 3))
        turn, shift = make_rig(9, 2)[0].rotation, np.array([0.3, -1.0, 2.0])
        before, _ = project_all(packed(rig), points)
        after, _ = project_all(packed([c.moved(turn, shift) for c in rig]), points @ turn.T + shift)
        np.testing.assert_allclose(before, after, atol=1e-8)

    def test_a_document_gives_back_the_camera(self):
        camera = make_rig(4, 2)[1]
        again = camera_from_document(camera_to_document(camera, 0.1, 900), "here")
        np.testing.assert_allclose(again.lens, camera.lens)
        np.testing.assert_allclose(again.rotation, camera.rotation, atol=1e-12)
        np.testing.assert_allclose(again.position_m, camera.position_m)

    def test_wrong_documents_are_refused_by_name(self):
        good = camera_to_document(make_rig(4, 2)[0])
        for change, said in (
            ({"focal_px": [1300]}, "focal_px"), ({"focal_px": [-1, 2]}, "focal_px"), ({"width": 0}, "width"),
            ({"rotation_xyzw": [0, 0, 0, 2]}, "length is 2"), ({"distortion": ["a"] * 5}, "distortion"),
            ({"position_m": [0, None, 0]}, "position_m"), ({"height": 1536.5}, "height"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, said):
                camera_from_document(good | change, "cal.json: cameras[0]")


class Triangulation(unittest.TestCase):
    def setUp(self):
        self.rig = make_rig(5, 6)
        self.point = np.array([0.2, 1.1, -0.3])
        self.places = np.array([project(c, self.point)[0] for c in self.rig])
        self.cameras = np.arange(6)

    def test_exact_rays_meet_where_the_point_is(self):
        lens, rotation, position = packed(self.rig)
        ways = np.empty((6, 2))
        for c in range(6):
            self.assertTrue(undistort(lens[c], *self.places[c], ways[c]))
        rays = np.einsum("cji,cj->ci", rotation, np.column_stack([ways, np.ones(6)]))
        out = np.empty(3)
        self.assertTrue(nearest_to_rays(rays / np.linalg.norm(rays, axis=1)[:, None], position, out))
        np.testing.assert_allclose(out, self.point, atol=1e-9)
        same = np.tile(rays[:1] / np.linalg.norm(rays[0]), (3, 1))
        self.assertFalse(nearest_to_rays(same, position[:3], out), "parallel rays meet nowhere")

    def test_the_refined_point_has_the_spread_its_covariance_says(self):
        rng, found = np.random.default_rng(6), []
        normal, off = np.empty((3, 3)), np.empty(6)
        for _ in range(800):
            x = self.point + rng.normal(0, 0.01, 3)
            seen = self.places + rng.normal(0, 0.1, self.places.shape)
            total = refine_point(self.cameras, seen, 6, packed(self.rig), x, normal, off, 3)
            self.assertAlmostEqual(total, off.sum(), places=9)
            found.append(x)
        spread = np.cov(np.array(found).T)
        np.testing.assert_allclose(spread, 0.01 * np.linalg.inv(normal), rtol=0.35, atol=4e-9)
        np.testing.assert_allclose(np.mean(found, axis=0), self.point, atol=5e-5)

    def test_sightings_are_gathered_by_their_key_in_any_order(self):
        points = np.random.default_rng(7).uniform([-1, 0.5, -1], [1, 1.5, 1], (5, 3))
        key, camera, xy = [], [], []
        for c, one in enumerate(self.rig):
            for k, place in enumerate(project(one, points)[0]):
                if np.isfinite(place[0]) and not (k == 3 and c > 0):
                    key.append(k), camera.append(c), xy.append(place)
        order = np.random.default_rng(8).permutation(len(key))
        found, seen = triangulate_tracks(
            np.array(key)[order], np.array(camera)[order], np.array(xy)[order], 6, packed(self.rig)
        )
        self.assertTrue(np.isnan(found[[3, 5]]).all(), "seen once or never")
        np.testing.assert_allclose(found[[0, 1, 2, 4]], points[[0, 1, 2, 4]], atol=1e-8)
        self.assertEqual(seen[5], 0)
