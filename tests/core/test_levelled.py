"""Filters that lean on what their sensors feel: a take from a suit alone is solved as if they did not."""

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np

from otrevo.core.body.performer import PerformerCalibration
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.inertial.calibrate import calibrate_wearer
from otrevo.core.inertial.calibration import UP
from otrevo.core.inertial.documents import suit_to_document
from otrevo.core.inertial.felt import felt
from otrevo.core.inertial.headings import find_headings
from otrevo.core.inertial.levelled import levelled
from otrevo.core.inertial.recording import GRAVITY_MS2
from otrevo.core.inertial.solve import solve_suit
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.suit import make_suit, record_suit

SEED, AGE_S = 4, 60.0


def leaning(recording, per_s=0.8, gate_ms2=1.5):
    """The recording by filters that turn towards what they feel whenever it is about as large as gravity; and how far they lean (T, S), degrees."""
    true = np.nan_to_num(quaternion_rotate(recording.rotation, recording.force_ms2))
    true[(true == 0).all(axis=2)] = [0.0, GRAVITY_MS2, 0.0]
    lean, leans = np.zeros(true.shape[1:]), np.empty(true.shape)
    for k, force in enumerate(true):
        leans[k] = lean
        size = np.linalg.norm(force, axis=1, keepdims=True)
        seen = quaternion_rotate(quaternion_from_rotvec(lean), force) / size
        pull = np.cross(seen, UP) * (np.abs(size - GRAVITY_MS2) < gate_ms2)
        lean = lean + pull * [1.0, 0.0, 1.0] * per_s / recording.rate_hz
    rotation = quaternion_multiply(quaternion_from_rotvec(leans), recording.rotation)
    return replace(recording, rotation=rotation), np.degrees(np.linalg.norm(leans, axis=2))


class FiltersThatLean(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        person = make_performer(SEED, shipped_chart(), sloppiness_deg=2.5)
        warm_up = perform("suit warm-up", person, SEED, Fraction(120)).motion
        suit = make_suit(warm_up.skeleton, SEED)
        skeleton, cls.suit, _ = calibrate_wearer(record_suit(warm_up, suit), {"height_m": person.height_m})
        devices = {"suit": suit_to_document(cls.suit)}
        nothing = np.zeros((0, 3))
        cls.performer = PerformerCalibration(person.height_m, skeleton, "", (), (), nothing, devices=devices)
        take = perform("rope haul", person, SEED, Fraction(120)).motion
        cls.plain = record_suit(take, suit, AGE_S).only(cls.suit.names)
        cls.leaning, cls.lean_deg = leaning(cls.plain)

    def tilts(self, recording):
        """How far sensors' worlds are from the plain recording's, degrees (T, S): about axes that lie level."""
        turn = quaternion_multiply(recording.rotation, quaternion_conjugate(self.plain.rotation))
        return np.degrees(np.linalg.norm(rotvec_from_quaternion(turn)[..., [0, 2]], axis=2))

    def levelled(self, recording):
        return levelled(recording, find_headings(recording, self.suit, felt(recording)))

    def test_most_of_a_tilt_is_taken_out(self):
        self.assertGreater(np.percentile(self.lean_deg, 95), 5.0, "the filters lean")
        before, after = (np.nanpercentile(self.tilts(r), 95) for r in (self.leaning, self.levelled(self.leaning)))
        self.assertLess(after, 0.6 * before)

    def test_the_pose_is_as_without_it(self):
        bones = [self.performer.skeleton.index(b) for b in BODY_BONES[1:] if not b.endswith("Toes")]
        plain, lean = (
            solve_suit(r, self.performer).motion.rotation_local[:, bones] for r in (self.plain, self.leaning)
        )
        apart = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(plain), lean))
        apart = np.degrees(np.linalg.norm(apart, axis=2)).mean(axis=0)
        self.assertLess(apart.mean(), 1.4)
        self.assertLess(apart.max(), 4.2)

    def test_what_was_lost_stays_lost_and_spoils_nothing(self):
        rotation, force = self.leaning.rotation.copy(), self.leaning.force_ms2.copy()
        for part in (rotation, force):
            part[500:700] = np.nan
            part[900:, self.leaning.names.index("leftHand")] = np.nan
        holes = self.levelled(replace(self.leaning, rotation=rotation, force_ms2=force))
        np.testing.assert_array_equal(np.isnan(holes.rotation), np.isnan(rotation))
        whole = self.tilts(self.levelled(self.leaning))
        self.assertLess(np.nanpercentile(np.abs(self.tilts(holes) - whole), 95), 1.5)
