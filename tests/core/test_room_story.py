"""A room's day without a browser: masked, swept, solved, levelled, used, knocked, repaired; on a room nobody tuned to."""

import unittest
from fractions import Fraction

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.conventions import rigid_move
from otrevo.core.optics.accuracy import expected_sd, moved_covariance
from otrevo.core.optics.blinds import blinded, find_blinds
from otrevo.core.optics.calibrate import calibrate_sweep
from otrevo.core.optics.documents import calibration_from_document, calibration_to_document
from otrevo.core.optics.level import level
from otrevo.core.optics.place_again import Recording, place_again
from otrevo.core.optics.rebuild import rebuild, rebuilt_by
from otrevo.core.optics.rig import rig_from_document
from otrevo.core.optics.trust import camera_move, compare, measure_trust, same_room
from otrevo.core.optics.wand import SHIPPED_WANDS
from otrevo.core.sim.rig import Faults, film, make_room
from otrevo.core.sim.scenes import scene
from otrevo.core.sim.stage import before_cameras
from tests.core.test_rebuild import score

SEED, CAMERAS, KNOCKED = 911, 8, 3
RATE, WAND = Fraction(120), SHIPPED_WANDS["quay corner"]


class Story(unittest.TestCase):
    """What is true of the simulated room is used only to judge: `fitted` takes solved cameras to where they truly hang."""

    @classmethod
    def setUpClass(cls):
        cls.room = make_room(SEED, CAMERAS)
        cls.rig, _ = rig_from_document(cls.room.rig_document(SEED))
        still, _ = film(cls.room.cameras, scene("still", SEED, 5), SEED, lamps=cls.room.lamps)
        cls.blinds = find_blinds(still, CAMERAS)
        sweep = cls.filmed(cls.room, scene("sweep", SEED, 30, 120.0, WAND), SEED + 1, Faults(ghosts=0.05, wild=0.01))
        cls.solved = calibrate_sweep(sweep, cls.rig, WAND, cls.blinds)
        at_rest = cls.filmed(cls.room, scene("wand on floor", SEED, 2, 120.0, WAND), SEED + 2)
        floor = cls.filmed(cls.room, scene("floor markers", SEED, 2), SEED + 3)
        cls.levelling = level(at_rest, cls.solved.cameras, WAND, floor, 0.007)
        cls.cameras = tuple(c.moved(cls.levelling.rotation, cls.levelling.shift_m) for c in cls.solved.cameras)
        cls.places, bodies = before_cameras("semaphore", 5, SEED, 1.72, hidden=0.05)
        cls.places, cls.bodies = cls.places[:960], (bodies[0][:960], bodies[1])
        cls.seen = cls.filmed(cls.room, cls.places, SEED + 4, Faults(ghosts=0.03), cls.bodies)
        cls.rebuilt = rebuild(cls.seen, cls.cameras, RATE)
        cls.after = make_room(SEED, CAMERAS, [(cls.room.cameras[KNOCKED].name, 0.3, 0.002, 8)])
        cls.later = cls.filmed(cls.after, cls.places, SEED + 5, Faults(ghosts=0.03), cls.bodies)

    @classmethod
    def filmed(cls, room, places, seed, faults=None, bodies=None):
        seen, _ = film(room.cameras, places, seed, faults, bodies, room.lamps)
        return seen.only(~blinded(seen, cls.blinds))

    def fitted(self, cameras, room):
        """Turn and shift from the solved world to the true one, by the cameras that were not knocked."""
        pairs = [
            (c.position_m, t.position_m)
            for i, (c, t) in enumerate(zip(cameras, room.cameras, strict=True))
            if i != KNOCKED
        ]
        return rigid_move(*(np.array(v) for v in zip(*pairs, strict=True)))

    def others_points(self, seen):
        """Points of a take from all cameras but the knocked one."""
        return rebuilt_by([i for i in range(CAMERAS) if i != KNOCKED], seen, self.cameras, RATE)

    def test_blinds_are_where_lamps_are(self):
        for b in self.blinds:
            lamps = self.room.lamps[b.camera]
            self.assertLess(np.linalg.norm(lamps - b.xy, axis=1).min(), 3.0)
        self.assertEqual(len(self.blinds), sum(len(lamps) for lamps in self.room.lamps))

    def test_every_camera_is_solved_to_what_noise_allows(self):
        self.assertEqual((len(self.solved.cameras), self.solved.failed), (CAMERAS, {}))
        self.assertAlmostEqual(self.solved.figures["reprojection_rms_px"], 0.1, delta=0.005)
        rotation, shift = self.fitted(self.solved.cameras, self.room)
        off = [
            np.linalg.norm(rotation @ c.position_m + shift - t.position_m)
            for c, t in zip(self.solved.cameras, self.room.cameras, strict=True)
        ]
        self.assertLess(1000 * np.sqrt(np.mean(np.square(off))), 1.9 * self.solved.figures["position_limit_mm"])
        for found, true in zip(self.solved.cameras, self.room.cameras, strict=True):
            row = next(r for r in self.solved.rows if r["id"] == found.name)
            self.assertLess(abs(found.lens[0] - true.lens[0]), 5 * row["focal_sd_px"] + 0.01)

    def test_the_floor_is_level_and_at_nought(self):
        rotation, shift = self.fitted(self.cameras, self.room)
        self.assertLess(np.degrees(np.arccos(min(1.0, rotation[1, 1]))), 0.05)
        self.assertLess(abs(shift[1]), 0.0012, "the floor markers themselves lie up and down by 0.8 mm")
        self.assertEqual(self.levelling.figures["floor_markers"], 8)
        self.assertLess(self.levelling.figures["floor_rms_mm"], 2.0)

    def test_a_take_is_rebuilt_where_it_was_and_as_well_as_was_promised(self):
        rotation, shift = self.fitted(self.cameras, self.room)
        true = (self.places - shift) @ rotation  # into the levelled world
        hit, ghosts, errors = score(self.rebuilt, np.nan_to_num(true, nan=99.0))
        self.assertLess(ghosts / len(errors), 0.003)
        self.assertLess(np.sqrt(np.mean(errors**2)), 1.15 * np.sqrt(np.nanmean(self.rebuilt.sd_m**2)))
        there = np.isfinite(self.places[..., 0])
        self.assertGreater(hit[there].mean(), 0.9)
        covariance = moved_covariance(self.solved.covariance, self.levelling.rotation)
        middle = np.nanmean(true[::60].reshape(-1, 3), axis=0, keepdims=True)
        promised = expected_sd(self.cameras, middle, 0.1, covariance)[0]
        self.assertLess(promised, 0.0005)

    def test_nobody_is_accused_before_the_knock_and_the_right_one_after_it(self):
        trust = measure_trust(self.rebuilt.points_m, self.seen, self.cameras, RATE)
        self.assertEqual(trust.knocked(), [])
        points = rebuild(self.later, self.cameras, RATE).points_m
        trust = measure_trust(points, self.later, self.cameras, RATE)
        self.assertEqual([k[0] for k in trust.knocked()], [KNOCKED])
        self.assertEqual(trust.knocked()[0][1], 0.0, "from the first second on")

    def test_the_camera_is_placed_anew_and_its_uncertainty_is_honest(self):
        points = self.others_points(self.later)
        trust = measure_trust(points, self.later, self.cameras, RATE)
        shift_px = np.nanmedian(trust.shift_px[:, KNOCKED], axis=0)
        covariance = moved_covariance(self.solved.covariance, self.levelling.rotation)
        placed = place_again(self.cameras, KNOCKED, [Recording(points, self.later, 0, shift_px)], covariance)
        again, place = placed.camera, 15 * KNOCKED + np.arange(3, 6)
        self.assertLess(placed.residual_px, 0.16)
        rotation, shift = self.fitted(self.cameras, self.after)
        moved = camera_move(self.after.cameras[KNOCKED], again.moved(rotation, shift))
        self.assertLess(moved["turned_deg"], 0.006)
        before, after = (1000 * np.sqrt(np.trace(c[np.ix_(place, place)])) for c in (covariance, placed.covariance))
        self.assertLess(moved["moved_mm"], 3 * after)
        self.assertLess(after, 1.5 * before, "eight seconds of a take say almost as much as a sweep")
        repaired = [again if i == KNOCKED else c for i, c in enumerate(self.cameras)]
        rows, world = compare(self.cameras, repaired)
        self.assertEqual(max(rows, key=lambda r: r["moved_mm"])["id"], again.name)
        self.assertLess(world["moved_mm"], 0.01)
        found = rebuild(self.later, repaired, RATE)
        self.assertEqual(measure_trust(found.points_m, self.later, repaired, RATE).knocked(), [])
        self.assertGreater(found.figures["used_share"], rebuild(self.later, self.cameras, RATE).figures["used_share"])

    def test_a_version_is_the_same_after_it_was_written_and_read(self):
        document = calibration_to_document(
            self.cameras, self.solved.figures["wand_rms_mm"], "levelled", self.blinds, self.solved.rows, RATE
        )
        cameras, blinds = calibration_from_document(document, "calibration.json")
        self.assertEqual(blinds, self.blinds)
        for a, b in zip(cameras, self.cameras, strict=True):
            self.assertEqual((a.name, a.width, a.height), (b.name, b.width, b.height))
            np.testing.assert_allclose(a.lens, b.lens, rtol=1e-9)
            np.testing.assert_allclose(a.position_m, b.position_m, atol=1e-9)
            np.testing.assert_allclose(a.rotation, b.rotation, atol=1e-9)

    def test_a_room_turned_as_a_whole_is_the_same_room(self):
        rotation, shift = Rotation.from_rotvec([0, 2.0, 0]).as_matrix(), np.array([1.0, 0, -0.5])
        moved = [c.moved(rotation, shift) for c in self.cameras]
        back_turn, back_shift = same_room(moved, self.cameras)
        for c, original in zip(moved, self.cameras, strict=True):
            np.testing.assert_allclose(back_turn @ c.position_m + back_shift, original.position_m, atol=1e-9)
        covariance = moved_covariance(self.solved.covariance, rotation)
        places = np.array([[0.0, 1.0, 0.0], [0.5, 1.5, -0.4]])
        np.testing.assert_allclose(
            expected_sd(moved, places @ rotation.T + shift, 0.1, covariance),
            expected_sd(self.cameras, places, 0.1, self.solved.covariance), rtol=1e-6,
        )  # fmt: skip
