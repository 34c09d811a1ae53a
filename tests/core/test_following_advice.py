"""A sweeper who goes where the coverage says, against one who goes where chance says: advice must be worth following."""

import unittest

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.optics.coverage import COVERED_ENOUGH, GIVEN_UP_M, SweepCoverage
from otrevo.core.optics.wand import SHIPPED_WANDS
from otrevo.core.sim.motions import band_noise
from otrevo.core.sim.rig import Faults, film, make_rig
from tests.core.test_sweep_calibration import guesses

WAND, RATE, PIECE_S, SPEED_M_S = SHIPPED_WANDS["harbour line"], 60.0, 1.5, 1.2
LOW, HIGH = np.array([-2.6, 0.2, -2.0]), np.array([2.6, 2.1, 2.0])


def carried(start, goal, rng):
    """The wand on its way to a goal for one piece, turned as a hand turns it: markers (T, M, 3), and where it came to."""
    frames = int(PIECE_S * RATE)
    way = goal - start
    reach = min(1.0, SPEED_M_S * PIECE_S / max(np.linalg.norm(way), 1e-6))
    share = reach * (1 - np.cos(np.linspace(0, np.pi, frames))) / 2
    hand = 0.12 * band_noise(rng, frames, 3, RATE, 0.3, 1.5)
    turn = Rotation.from_rotvec(1.6 * band_noise(rng, frames, 3, RATE, 0.2, 0.8)).as_matrix()
    arm = WAND.markers_m - WAND.markers_m.mean(axis=0)
    place = np.clip(start + share[:, None] * way + hand, LOW, HIGH)
    return place[:, None] + np.einsum("tij,mj->tmi", turn, arm), np.clip(start + reach * way, LOW, HIGH)


def sweep_until_good(seed, obeys, most=60):
    """Pieces swept until every camera has enough, and the last state."""
    rng = np.random.default_rng(seed)
    rig, at = make_rig(seed, 8), np.array([0.0, 1.0, 0.0])
    coverage = SweepCoverage(guesses(rig, seed), WAND, RATE, cameras=rig)
    state, goal = coverage.state(), rng.uniform(LOW, HIGH)
    for piece in range(1, most + 1):
        told = state.go_to_m if obeys else None
        if told is not None:
            goal = told
        elif np.linalg.norm(goal - at) < 0.3:
            goal = rng.uniform(LOW, HIGH)
        markers, at = carried(at, goal, rng)
        coverage.add(film(rig, markers, 1000 * seed + piece, Faults(reflections=0))[0])
        state = coverage.state()
        if state.good_enough:
            return piece, state
    return most, state


class Advice(unittest.TestCase):
    def test_who_follows_it_is_done_sooner_and_every_camera_has_enough(self):
        obeyed, chance = [], []
        for seed in (71, 72):
            pieces, state = sweep_until_good(seed, True)
            self.assertTrue(state.good_enough, f"seed {seed}: {state.sentence}")
            self.assertIn("Stop", state.sentence)
            for camera in state.cameras:
                self.assertGreaterEqual(camera.covered, COVERED_ENOUGH, camera.camera)
                self.assertEqual(camera.lacks, "")
            obeyed.append(pieces)
            chance.append(sweep_until_good(seed, False)[0])
        self.assertLess(sum(obeyed), sum(chance))

    def test_who_cannot_get_there_is_sent_elsewhere(self):
        rng, rig, at = np.random.default_rng(5), make_rig(74, 8), np.array([0.0, 1.0, 0.0])
        coverage, told = SweepCoverage(guesses(rig, 74), WAND, RATE, cameras=rig), []
        for piece in range(24):  # the wand never leaves the middle of the room
            markers, _ = carried(at, at + rng.uniform(-0.1, 0.1, 3), rng)
            coverage.add(film(rig, markers, piece, Faults(reflections=0))[0])
            told.append(coverage.state().go_to_m)
        apart = np.linalg.norm(np.array(told) - told[8], axis=1)
        self.assertGreater(apart[9:].max(), GIVEN_UP_M)
        self.assertGreater(len(coverage.given_up), 1)
