"""A calibration that stops being true: a knocked camera found, placed anew, and no alarm without a cause."""

import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.errors import InputError
from otrevo.core.optics.place_again import Recording, place_again
from otrevo.core.optics.rebuild import rebuild, rebuilt_by
from otrevo.core.optics.trust import Trust, camera_move, compare, measure_trust, same_room
from otrevo.core.sim.bodies import limbs
from otrevo.core.sim.rig import Faults, film, knock, make_rig
from tests.core.stage import rolled

RATE = Fraction(120)


@cache
def take(knocked=None, seconds=6):
    _, performance, optical = rolled("semaphore", 87)
    part = slice(300, 300 + 120 * seconds)
    rig = make_rig(87, 8)
    faults = Faults(ghosts=0.03, reflections=1, knocked=knocked)
    axes, radii = limbs(performance.motion, part)
    centroids, _ = film(rig, optical.true_positions_m[part], 87, faults, (axes, radii))
    return rig, centroids, rebuild(centroids, rig, RATE)


class Knocks(unittest.TestCase):
    def test_cameras_that_nobody_touched_raise_no_alarm(self):
        rig, centroids, found = take()
        trust = measure_trust(found.points_m, centroids, rig, RATE)
        self.assertEqual(trust.knocked(), [])
        self.assertLess(np.nanmax(np.abs(trust.shift_px)), 0.1)
        self.assertGreater(np.isfinite(trust.shift_px[..., 0]).mean(), 0.9)

    def test_a_knock_is_found_within_three_seconds_and_the_camera_placed_anew(self):
        rig, centroids, found = take(knocked=(4, 200, 0.3, 0.002))
        trust = measure_trust(found.points_m, centroids, rig, RATE)
        (camera, since, shift), *others = trust.knocked()
        self.assertEqual((camera, others), (4, []))
        self.assertLess(abs(since - 200 / 120), 1.5)
        self.assertGreater(shift, 2.0)
        at = np.flatnonzero(trust.start_s >= since)
        shift_px = np.nanmedian(trust.shift_px[at, camera], axis=0)
        recording = Recording(found.points_m, centroids, round(120 * (since + 1.0)), shift_px)
        placed = place_again(rig, camera, [recording])
        again = placed.camera
        self.assertLess(placed.residual_px, 0.2)
        row = camera_move(knock(rig[camera], 0.3, 0.002, 87), again)
        self.assertLess(row["moved_mm"], 1.0)
        self.assertLess(row["turned_deg"], 0.02)
        repaired = [again if c == camera else one for c, one in enumerate(rig)]
        late = centroids.only(centroids.frame >= 400)
        after = measure_trust(rebuild(late, repaired, RATE).points_m, late, repaired, RATE)
        self.assertLess(np.nanmax(np.abs(after.shift_px[4:])), 0.2)

    def test_a_camera_turned_about_the_way_it_looks_is_found_too(self):
        rig, _, _ = take()
        for number, degrees in ((2, 0.3), (6, -0.3)):
            rolled_by = Rotation.from_rotvec([0, 0, np.radians(degrees)]).as_matrix()
            real = [replace(c, rotation=rolled_by @ c.rotation) if i == number else c for i, c in enumerate(rig)]
            _, performance, optical = rolled("semaphore", 87)
            part = slice(300, 300 + 720)
            seen, _ = film(
                real, optical.true_positions_m[part], 88, Faults(ghosts=0.03), limbs(performance.motion, part)
            )
            points = rebuild(seen, rig, RATE).points_m
            trust = measure_trust(points, seen, rig, RATE)
            self.assertEqual([k[0] for k in trust.knocked()], [number])
            self.assertGreater(
                np.nanmin(trust.round_px[:, number]), 3 * np.nanmax(np.delete(trust.round_px, number, 1))
            )
            shift_px = np.nanmedian(trust.shift_px[:, number], axis=0)
            # its own pictures would hold the points where they were
            others = [i for i in range(len(rig)) if i != number]
            points = rebuilt_by(others, seen, rig, RATE)
            again = place_again(rig, number, [Recording(points, seen, 0, shift_px)])
            row = camera_move(real[number], again.camera)
            self.assertLess(row["turned_deg"], 0.02)
            self.assertLess(row["moved_mm"], 1.5)

    def test_a_camera_that_sees_nothing_is_not_accused(self):
        rig, centroids, found = take()
        gone = centroids.only(centroids.camera != 3)
        trust = measure_trust(found.points_m, gone, rig, RATE)
        self.assertTrue(np.isnan(trust.shift_px[:, 3]).all())
        self.assertNotIn(3, [k[0] for k in trust.knocked()])


class Verdict(unittest.TestCase):
    def test_one_window_that_is_off_is_no_knock_and_a_camera_put_back_is_none_either(self):
        shift = np.zeros((8, 3, 2))
        shift[3, 0] = 5.0
        shift[2:5, 1] = 5.0
        shift[5:, 2] = [0.0, 4.0]
        trust = Trust(np.arange(8.0), shift, np.zeros((8, 3)), np.zeros((8, 3)), np.ones((8, 3)))
        self.assertEqual(trust.knocked(), [(2, 5.0, 4.0)])

    def test_two_versions_are_compared_camera_by_camera(self):
        rig = make_rig(88, 8)
        other = [knock(rig[0], 0.5, 0.01, 1), replace(rig[1], lens=rig[1].lens + np.eye(9)[0] * 2), *rig[2:7]]
        rows, world = compare(rig, other)
        self.assertEqual([r["id"] for r in rows], [c.name for c in rig[:7]])
        self.assertAlmostEqual(world["moved_mm"] + world["turned_deg"], 0, places=6)
        self.assertAlmostEqual(rows[0]["moved_mm"], 10.0, places=6)
        self.assertAlmostEqual(rows[0]["turned_deg"], 0.5, places=6)
        self.assertAlmostEqual(rows[1]["focal_px"], 1.0)

    def test_another_origin_is_not_taken_for_cameras_that_moved(self):
        rig = make_rig(89, 8)
        turn, shift = Rotation.from_rotvec([0.1, 2.0, -0.3]).as_matrix(), np.array([1.0, 0.2, -3.0])
        other = [c.moved(turn, shift) for c in [knock(rig[0], 0.3, 0.002, 1), *rig[1:]]]
        rows, world = compare(rig, other)
        self.assertAlmostEqual(rows[0]["moved_mm"], 2.0, places=4)
        self.assertLess(max(r["moved_mm"] + r["turned_deg"] for r in rows[1:]), 1e-6)
        self.assertAlmostEqual(world["turned_deg"], np.degrees(np.linalg.norm([0.1, 2.0, -0.3])), places=4)
        back = same_room(other, rig)
        np.testing.assert_allclose(back[0], turn.T, atol=1e-9)
        elsewhere = [knock(c, 20, 0.5, i) for i, c in enumerate(rig)]
        self.assertIsNone(same_room(elsewhere, rig), "these cameras were hung anew")
        self.assertIsNone(same_room(rig[:3], rig), "three cameras prove nothing")
        with self.assertRaisesRegex(InputError, "fewer than three"):
            compare(rig[:2], rig)
