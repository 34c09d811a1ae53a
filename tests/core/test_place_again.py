"""A knocked camera placed anew together with all others: its equations, exact data, honest uncertainty, several takes."""

import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.errors import InputError
from otrevo.core.optics.bundle import SIZE
from otrevo.core.optics.camera import Views, packed, project_all
from otrevo.core.optics.place_again import Recording, _information, _mirrored, _reduced, _residuals, place_again
from otrevo.core.optics.rebuild import rebuild
from otrevo.core.optics.trust import camera_move, measure_trust
from otrevo.core.sim.bodies import limbs
from otrevo.core.sim.rig import Faults, film, knock, make_rig
from tests.core.stage import rolled

RATE = Fraction(120)
KNOCKED = 4
# what a sweep leaves unknown of a camera: turn, place, lens
SIGMA = np.array([2e-5] * 3 + [5e-5] * 3 + [0.03] * 2 + [0.05] * 2 + [1e-4] * 2 + [1e-5] * 2 + [1e-4])


def guessed(rig, seed):
    """The rig as somebody calibrated it who was off by SIGMA, and the covariance of that."""
    rng = np.random.default_rng([seed, 7])
    step = rng.normal(0, SIGMA, (len(rig), SIZE))
    cameras = [
        replace(c, rotation=Rotation.from_rotvec(s[:3]).as_matrix() @ c.rotation, position_m=c.position_m + s[3:6],
                lens=c.lens + s[6:])
        for c, s in zip(rig, step, strict=True)
    ]  # fmt: skip
    return cameras, np.diag(np.tile(SIGMA**2, len(rig)))


@cache
def takes(seed, parts=((300, 540), (900, 1140)), faults=Faults(ghosts=0.03, reflections=1)):
    """(true cameras after the knock, guessed cameras, covariance, Recordings) of a room of eight."""
    _, performance, optical = rolled("semaphore", seed)
    rig = make_rig(seed, 8)
    cameras, covariance = guessed(rig, seed)
    true = [knock(c, 0.3, 0.002, seed) if i == KNOCKED else c for i, c in enumerate(rig)]
    others = [i for i in range(8) if i != KNOCKED]
    number = np.full(8, -1)
    number[others] = np.arange(7)
    out = []
    for k, part in enumerate(parts):
        at = slice(*part)
        axes, radii = limbs(performance.motion, at)
        seen, _ = film(true, optical.true_positions_m[at], seed + k, faults, (axes, radii))
        mine = seen.only(seen.camera != KNOCKED)
        mine = type(mine)(mine.frame, number[mine.camera], mine.xy, mine.radius)
        points = rebuild(mine, [cameras[i] for i in others], RATE).points_m
        shift = np.nanmedian(measure_trust(points, seen, cameras, RATE).shift_px[:, KNOCKED], axis=0)
        out.append(Recording(points, seen, 0, shift))
    return true, cameras, covariance, out


@cache
def placed(seed):
    """The knocked camera of `takes`, placed again by all of what they know."""
    _, cameras, covariance, recordings = takes(seed)
    return place_again(cameras, KNOCKED, recordings, covariance)


def off(true, found):
    """Error (15,) of a camera's numbers."""
    turned = Rotation.from_matrix(true.rotation @ found.rotation.T).as_rotvec()
    return np.concatenate([turned, true.position_m - found.position_m, true.lens - found.lens])


class Equations(unittest.TestCase):
    def test_reduced_equations_are_those_of_all_unknowns_at_once(self):
        rng = np.random.default_rng(3)
        rig = make_rig(3, 4)
        points = rng.uniform([-1, 0.3, -1], [1, 1.8, 1], (6, 3))
        seen = project_all(packed(rig), points)[0].transpose(1, 0, 2) + rng.normal(0, 0.3, (6, 4, 2))
        seen[0, 1], seen[2, 3] = np.nan, np.nan
        views = packed(rig)
        length = np.empty((6, 4))
        _residuals(points, seen, views, length)  # the points at their optimum
        matrix, gradient = np.zeros((4 * SIZE, 4 * SIZE)), np.zeros(4 * SIZE)
        _reduced(points, seen, views, matrix, gradient)

        def residuals(x):
            step, moved = x[: 4 * SIZE].reshape(4, SIZE), points + x[4 * SIZE :].reshape(6, 3)
            turned = Rotation.from_rotvec(step[:, :3]).as_matrix() @ views.rotation
            changed = Views(views.lens + step[:, 6:], turned, views.position + step[:, 3:6])
            places, _ = project_all(changed, moved)
            return np.nan_to_num(seen - places.transpose(1, 0, 2)).ravel()

        size = 4 * SIZE + 18
        h = np.concatenate([np.tile([1e-6] * 6 + [1e-2] * 4 + [1e-5] * 5, 4), np.full(18, 1e-6)])
        jacobian = np.empty((48, size))
        for i in range(size):
            e = np.zeros(size)
            e[i] = h[i]
            jacobian[:, i] = -(residuals(e) - residuals(-e)) / (2 * h[i])
        whole, pull = jacobian.T @ jacobian, jacobian.T @ residuals(np.zeros(size))
        a, b, c = whole[: 4 * SIZE, : 4 * SIZE], whole[: 4 * SIZE, 4 * SIZE :], whole[4 * SIZE :, 4 * SIZE :]
        expected = a - b @ np.linalg.solve(c, b.T)
        scale = np.sqrt(np.diag(a))
        np.testing.assert_allclose(
            _mirrored(matrix) / np.outer(scale, scale), expected / np.outer(scale, scale), atol=2e-6
        )
        np.testing.assert_allclose(
            gradient / scale, (pull[: 4 * SIZE] - b @ np.linalg.solve(c, pull[4 * SIZE :])) / scale, atol=1e-4
        )

    def test_what_is_known_is_nothing_of_the_knocked_place_and_all_of_the_rest(self):
        root = np.random.default_rng(1).normal(size=(3 * SIZE, 3 * SIZE))
        covariance = root @ root.T
        known = _information(covariance, 1)
        gone = np.zeros(3 * SIZE, dtype=bool)
        gone[SIZE : SIZE + 6] = True
        self.assertFalse(known[gone].any() or known[:, gone].any())
        kept = np.ix_(~gone, ~gone)
        np.testing.assert_allclose(known[kept] @ covariance[kept], np.eye(3 * SIZE - 6), atol=1e-6)


class Placed(unittest.TestCase):
    def test_without_noise_the_camera_is_found_exactly(self):
        clean = Faults(noise_px=0.0, missed=0.0, ghosts=0.0, reflections=0)
        true, _, covariance, recordings = takes(93, ((300, 420),), clean)
        rig = [c if i != KNOCKED else make_rig(93, 8)[KNOCKED] for i, c in enumerate(true)]
        points = rolled("semaphore", 93)[2].true_positions_m[300:420]
        exact = [Recording(points, r.centroids, 0, r.shift_px) for r in recordings]
        found = place_again(rig, KNOCKED, exact, covariance)
        row = camera_move(true[KNOCKED], found.camera)
        self.assertLess(row["moved_mm"], 0.01)
        self.assertLess(row["turned_deg"], 1e-4)

    def test_errors_are_as_large_as_it_says_they_are(self):
        size = []
        for seed in (94, 95, 96):
            (true, _, covariance, _), found = takes(seed), placed(seed)
            mine = slice(SIZE * KNOCKED, SIZE * (KNOCKED + 1))
            error = off(true[KNOCKED], found.camera)
            size.append(error @ np.linalg.solve(found.covariance[mine, mine], error))
            self.assertTrue((np.linalg.eigvalsh(found.covariance) > 0).all())
            others = np.delete(np.arange(8 * SIZE), np.arange(SIZE * KNOCKED, SIZE * (KNOCKED + 1)))
            np.testing.assert_array_equal(found.covariance[np.ix_(others, others)], covariance[np.ix_(others, others)])
        self.assertLess(np.mean(size), 30, "fifteen numbers: 15 on average, where the uncertainty is honest")

    def test_all_cameras_together_say_more_than_its_pairs_and_two_takes_more_than_one(self):
        true, cameras, covariance, recordings = takes(94)
        place = np.arange(SIZE * KNOCKED + 3, SIZE * KNOCKED + 6)
        of_one = place_again(cameras, KNOCKED, recordings[:1], covariance)
        one, two = (np.sqrt(np.trace(f.covariance[np.ix_(place, place)])) for f in (of_one, placed(94)))
        self.assertLess(two, 0.95 * one)
        alone, together = [], []
        for seed in (94, 95, 96):
            true, cameras, _, recordings = takes(seed)
            pairs = place_again(cameras, KNOCKED, recordings)
            self.assertIsNone(pairs.covariance)
            np.testing.assert_array_equal(pairs.camera.lens, cameras[KNOCKED].lens)
            for camera, errors in ((pairs.camera, alone), (placed(seed).camera, together)):
                points = recordings[0].points_m[::40].reshape(-1, 3)
                points = points[np.isfinite(points[:, 0])]
                places, _ = project_all(packed([camera, true[KNOCKED]]), points)
                errors.append(np.nanmean(np.sum((places[0] - places[1]) ** 2, axis=1)))
        self.assertLess(np.mean(together), np.mean(alone))

    def test_it_says_how_far_it_is_and_always_the_same(self):
        _, cameras, covariance, recordings = takes(94)
        told = []
        one, two = (place_again(cameras, KNOCKED, recordings, covariance, told.append) for _ in range(2))
        np.testing.assert_array_equal(one.camera.position_m, two.camera.position_m)
        self.assertTrue(told and min(told) > 0 and max(told) < 1)

    def test_a_camera_that_sees_too_little_is_not_guessed(self):
        _, cameras, covariance, recordings = takes(94)
        blind = [replace(r, centroids=r.centroids.only(r.centroids.camera != KNOCKED)) for r in recordings]
        with self.assertRaisesRegex(InputError, "saw only 0 of the take's points"):
            place_again(cameras, KNOCKED, blind, covariance)
