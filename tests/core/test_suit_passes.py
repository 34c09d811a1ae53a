"""The passes of a take for a performer in a suit alone: warm-up, solve, beside others who wear markers, and what they refuse."""

import re
import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.performer import performer_from_document
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.conventions import (
    make_continuous,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
    slerp,
)
from otrevo.core.errors import InputError
from otrevo.core.passes import label, solve, warm_up
from otrevo.core.passes.catalogue import passes_of
from otrevo.core.passes.contract import SampleClock, TakeMaterial, TakeStream
from otrevo.core.sim.stage import roll
from otrevo.core.solve.suit import SUIT_BONES
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.core.timecode.lineup import fit_clock

SEED, HEIGHT_M, FRAME = 41, 1.74, 5000
FORMAT = TimecodeFormat(Fraction(30000, 1001), True)
ZERO_S = float(FORMAT.seconds(FRAME))


@cache
def rolled(motion, take_seed):
    return roll(motion, SEED, take_seed, HEIGHT_M, FORMAT, FRAME, kit=("suit", "gloves"))


def material(take, performer=None, change=lambda name, data: data, **more):
    """What the passes get of a rolled take, lined up by its stamps."""
    streams = []
    for name, made in take.streams.items():
        if name in ("suit", "gloves"):
            fit = fit_clock(made.stamps[:, 0], made.stamps[:, 1], float(made.rate), ZERO_S)
            clock = SampleClock(fit.offset_s, float(made.rate) / (1 + 1e-6 * fit.drift_ppm))
            data = change(name, made.data.astype(float))
            streams.append(
                TakeStream(name, made.kind, made.rate, lambda data=data: data, clock, made.stamps, owner="Jorun")
            )
    seconds = len(take.performance.motion) / float(take.performance.motion.rate)
    return TakeMaterial(
        seconds,
        ZERO_S,
        FORMAT,
        streams=tuple(streams),
        height_m=HEIGHT_M,
        performer=performer,
        performer_name="Jorun",
        **more,
    )


def device_seconds(outcome, sample):
    """When a sample of the suit was in the take."""
    return float(next(t for t in outcome.tracks if t.name == "body rotation").clock.times(sample + 1)[-1])


class SuitAlone(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.warm_up = rolled("suit warm-up", 7)
        cls.outcome = warm_up.PASS.run(material(cls.warm_up), {}, lambda share: None)
        cls.performer = performer_from_document(cls.outcome.performer)
        cls.take = rolled("night climb", 8)

    def solve(self, take=None, **more):
        given = material(take or self.take, self.performer, **more)
        return solve.PASS.run(given, solve.PASS.checked({}), lambda share: None)

    @classmethod
    @cache  # several tests ask for the same
    def clean(cls, motion="night climb"):
        """The outcome of a take in which nothing is wrong."""
        return cls().solve(rolled(motion, 8))

    def test_a_warm_up_gives_suit_gloves_and_figures_without_markers(self):
        self.assertEqual(self.performer.marker_names, ())
        self.assertEqual(set(self.performer.devices), {"suit", "gloves"})
        self.assertEqual(self.outcome.figures["poses"], ["T-pose", "arms down"])
        self.assertEqual(self.outcome.figures["exchanged"], [])
        self.assertEqual(self.outcome.figures["devices"]["gloves"], "both hands")
        self.assertIn("suit alone", warm_up.PASS.aside(self.outcome.figures))

    def test_exchanged_sensors_are_a_snag_and_put_right(self):
        def exchanged(name, data):
            if name == "suit":
                data[:, [4, 5, 6, 11, 12, 13]] = data[:, [11, 12, 13, 4, 5, 6]]  # both arms but for the shoulders
            return data

        found = warm_up.PASS.run(material(self.warm_up, change=exchanged), {}, lambda share: None)
        texts = [s.text for s in found.snags if s.kind == "exchanged"]
        self.assertTrue(any("left upper arm" in t and "right upper arm" in t for t in texts), texts)
        rows = found.performer["suit"]
        self.assertEqual(rows["leftLowerArm"]["exchanged_with"], "rightLowerArm")

    def test_a_take_is_solved_on_the_clock_of_the_take(self):
        found = self.clean()
        tracks = {t.name: t for t in found.tracks}
        self.assertNotIn("mended", tracks)
        clock, true = tracks["body root"].clock, self.take.performance.motion
        times = clock.times(len(tracks["body root"].data))
        source = np.arange(len(true)) / float(true.rate)
        inside = times < source[-1]
        body = Motion(self.performer.skeleton, Fraction(100), tracks["body root"].data, tracks["body rotation"].data)
        angles = []
        for bone in BODY_BONES[1:]:
            if bone.endswith("Toes"):
                continue
            other = slerp(source, make_continuous(true.rotation_local[:, true.skeleton.index(bone)]), times[inside])
            turn = quaternion_multiply(
                quaternion_conjugate(other), body.rotation_local[inside, body.skeleton.index(bone)]
            )
            angles.append(np.degrees(np.linalg.norm(rotvec_from_quaternion(turn), axis=1)).mean())
        self.assertLess(np.mean(angles), 12)
        self.assertGreater(np.ptp(body.root_position_m[:, 1]), 0.4)  # it climbs 0.85 m
        curl = body.rotation_local[:, body.skeleton.index("leftIndexProximal")]
        self.assertGreater(np.ptp(curl[:, 2]), 0.01)  # gloves complete it
        sure = tracks["joint uncertainty"]
        self.assertEqual(sure.data.shape[1], len(BODY_BONES))
        self.assertTrue(
            (sure.data[:, BODY_BONES.index("leftHand")] > sure.data[:, BODY_BONES.index("leftUpperArm")]).all()
        )

    def test_a_lost_sensor_is_a_snag_and_makes_its_limb_unsure(self):
        def lost(name, data):
            if name == "suit":
                data[800:1100, 5] = np.nan
            return data

        found = self.solve(change=lost)
        self.assertTrue(
            any(s.kind == "lost limb" and "leftLowerArm" in s.text for s in found.snags), [s.text for s in found.snags]
        )
        sure = next(t for t in found.tracks if t.name == "joint uncertainty").data[:, BODY_BONES.index("leftHand")]
        self.assertGreater(sure.max(), 1.3 * np.median(sure))

    def test_a_magnet_is_a_snag_and_neighbours_put_it_right(self):
        """While the performer climbs, a forearm's heading goes off by 20 degrees for 4 s."""
        off = slice(700, 1100)

        def magnet(name, data):
            if name == "suit":
                at = np.arange(len(data))
                comes_and_goes = np.clip(np.minimum(at - off.start, off.stop - at) / 30, 0, 1)
                turn = quaternion_from_rotvec(np.outer(np.radians(20.0) * comes_and_goes, [0.0, 1.0, 0.0]))
                data[:, 5, :4] = quaternion_multiply(turn, data[:, 5, :4])
            return data

        clean, found = self.clean(), self.solve(change=magnet)
        self.assertEqual([s.text for s in clean.snags if s.kind == "magnet"], [])
        (snag,) = (s for s in found.snags if s.kind in ("magnet", "slipped"))
        self.assertIn("left lower arm: a magnet turns the sensor", snag.text)
        self.assertIn("its neighbours put it right", snag.text)
        first, last = (device_seconds(found, k) for k in (off.start, off.stop))
        self.assertLess(max(snag.start_s, first), min(snag.end_s, last), "when it was there")
        one, two = (
            next(t for t in o.tracks if t.name == "body rotation").data[off][100:300, BODY_BONES.index("leftLowerArm")]
            for o in (clean, found)
        )
        turn = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(one), two))
        self.assertLess(np.degrees(np.linalg.norm(turn, axis=1)).mean(), 10.0)

    def test_one_that_slips_in_the_take_is_a_snag_and_neighbours_put_it_right(self):
        """While the performer walks, the sensor of a shin slips by 25 degrees and stays so."""
        walk, first = rolled("quay walk", 8), 1800
        slip = quaternion_from_rotvec(np.radians(25.0) * np.array([0.6, 0.0, 0.8]))

        def slipped(name, data):
            if name == "suit":
                data[first:, 15, :4] = quaternion_multiply(data[first:, 15, :4], slip)
                data[first:, 15, 4:] = quaternion_rotate(quaternion_conjugate(slip), data[first:, 15, 4:])
            return data

        clean, found = self.clean("quay walk"), self.solve(walk, change=slipped)
        self.assertEqual([s.text for s in clean.snags if s.kind == "slipped"], [])
        (snag,) = (s for s in found.snags if s.kind == "slipped")
        self.assertIn("right lower leg: the sensor has slipped by", snag.text)
        self.assertIn("aligned anew from here by its neighbours", snag.text)
        self.assertLess(abs(snag.start_s - device_seconds(found, first)), 2.0)
        shin, world = self.performer.skeleton.index("rightLowerLeg"), []
        for outcome in (clean, found):
            tracks = {t.name: t.data for t in outcome.tracks}
            body = Motion(self.performer.skeleton, Fraction(100), tracks["body root"], tracks["body rotation"])
            world.append(motion_joints(body)[1][first + 200 :, shin])
        turn = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(world[0]), world[1]))
        self.assertLess(np.degrees(np.linalg.norm(turn, axis=1)).mean(), 16.0)

    def test_a_quick_slip_shows_at_its_moment_and_skin_that_swings_back_does_not(self):
        """While the performer walks, the chest's sensor is knocked round by 20 degrees, and the head's shaken by 15 and back."""
        chest, head, knocked, shaken = SUIT_BONES.index("chest"), SUIT_BONES.index("head"), 1800, 1300

        def changed(name, data):
            if name == "suit":
                at = np.arange(len(data))
                slid = np.clip((at - knocked) / 15, 0, 1)[:, None] * np.radians([16.0, 0.0, 12.0])
                swung = np.exp(-(((at - shaken) / 4.0) ** 2))[:, None] * np.radians([12.0, 9.0, 0.0])
                for s, away in ((chest, quaternion_from_rotvec(slid)), (head, quaternion_from_rotvec(swung))):
                    data[:, s, :4] = quaternion_multiply(data[:, s, :4], away)
                    data[:, s, 4:] = quaternion_rotate(quaternion_conjugate(away), data[:, s, 4:])
            return data

        found = self.solve(rolled("quay walk", 8), change=changed)
        (snag,) = (s for s in found.snags if s.kind == "slipped")
        self.assertIn("chest: the sensor has slipped by", snag.text)
        self.assertLess(abs(snag.start_s - device_seconds(found, knocked + 7)), 0.15)
        self.assertAlmostEqual(float(re.search(r"by (\d+)°", snag.text)[1]), 20.0, delta=8.0)

    def test_one_that_slipped_before_the_take_is_told_by_its_t_pose_and_put_right(self):
        shin, walk = SUIT_BONES.index("rightLowerLeg"), rolled("quay walk", 8)
        mount = np.array(self.performer.devices["suit"]["rightLowerLeg"]["rotation_xyzw"])
        turn = quaternion_multiply(
            quaternion_conjugate(mount), quaternion_multiply(quaternion_from_rotvec([0.3, 0.0, 0.35]), mount)
        )

        def slipped(name, data):
            if name == "suit":
                data[:, shin, :4] = quaternion_multiply(data[:, shin, :4], turn)
                data[:, shin, 4:] = quaternion_rotate(quaternion_conjugate(turn), data[:, shin, 4:])
            return data

        clean, found = self.clean("quay walk"), self.solve(walk, change=slipped)
        self.assertEqual([s.text for s in clean.snags if s.kind == "slipped"], [])
        (snag,) = (s for s in found.snags if s.kind == "slipped")
        self.assertRegex(
            snag.text, r"right lower leg: the sensor has slipped by 2\d° since the warm-up; aligned anew by the"
        )
        self.assertLess(abs(snag.start_s - device_seconds(found, 0)), 0.05)
        knee = BODY_BONES.index("rightLowerLeg")
        was, now = (next(t for t in o.tracks if t.name == "body rotation").data[:, knee] for o in (clean, found))
        apart = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(was), now))
        self.assertLess(np.degrees(np.linalg.norm(apart, axis=1)).mean(), 6.0)

    def test_another_days_mounts_are_refused_and_one_that_slipped_is_said(self):
        rng = np.random.default_rng(4)
        mounts = quaternion_from_rotvec(rng.normal(0, 1.5, (17, 3)))

        def worn_anew(name, data):
            if name == "suit":
                data[..., :4] = quaternion_multiply(data[..., :4], mounts)
                data[..., 4:] = quaternion_rotate(quaternion_conjugate(mounts), data[..., 4:])
            return data

        def slipped(name, data):
            if name == "suit":  # the shin's, by 45 degrees about the leg
                mount = np.array(self.performer.devices["suit"]["leftLowerLeg"]["rotation_xyzw"])
                turn = quaternion_multiply(
                    quaternion_conjugate(mount),
                    quaternion_multiply(quaternion_from_rotvec([0.0, np.radians(45), 0.0]), mount),
                )
                data[:, 8, :4] = quaternion_multiply(data[:, 8, :4], turn)
                data[:, 8, 4:] = quaternion_rotate(quaternion_conjugate(turn), data[:, 8, 4:])
            return data

        with self.assertRaisesRegex(InputError, "sits otherwise than in its warm-up: .* Roll a warm-up"):
            self.solve(change=worn_anew)
        found = self.solve(change=slipped)
        self.assertIn("leftLowerLeg", found.figures["impossible_joints_deg"])
        self.assertTrue(any("slipped since the warm-up" in s.text for s in found.snags))
        self.assertNotIn("impossible_joints_deg", self.clean().figures)

    def test_beside_somebody_who_wears_markers_they_are_left_to_their_suit(self):
        points = np.zeros((200, 9, 3))
        optical = TakeStream("optical", "points", Fraction(120), lambda: points, SampleClock(0.0, 120.0))
        given = material(self.take, self.performer)
        given = replace(given, streams=(*given.streams, optical))
        self.assertEqual(label.PASS.run(given, {}, lambda share: None).tracks, ())
        found = solve.PASS.run(given, solve.PASS.checked({}), lambda share: None)
        self.assertTrue(found.figures["suit_alone"])

    def test_passes_by_what_was_recorded(self):
        names = [p.name for p in passes_of({"suit", "room"}, False)]
        self.assertEqual(names, ["line up", "solve"])
        self.assertIn("label", [p.name for p in passes_of({"cameras", "suit"}, False)])

    def test_a_take_without_the_suit_says_what_is_missing(self):
        nothing = replace(material(self.take, self.performer), streams=())
        with self.assertRaisesRegex(InputError, "neither markers of this performer nor their suit"):
            solve.PASS.run(nothing, solve.PASS.checked({}), lambda share: None)


if __name__ == "__main__":
    unittest.main()
