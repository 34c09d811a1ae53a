"""Markers and a suit together, over files: clocks that nobody lines up, limbs out of sight, what is refused."""

import contextlib
import io
import json
import tempfile
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.cli.__main__ import main
from otrevo.core.body.kinematics import motion_joints
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
from otrevo.core.formats.bvh import read_bvh
from otrevo.core.formats.c3d import read_c3d, write_c3d
from otrevo.core.formats.suit_table import write_suit
from otrevo.core.inertial.levelled import felt_in_steps
from otrevo.core.inertial.through_occlusion import stand_in
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import band_noise, perform
from otrevo.core.sim.optical import see, worn
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.suit import make_suit, read_suit
from otrevo.core.solve.suit import SUIT_BONES, resample_sensor
from otrevo.core.solve.suit_faults import find_faults
from tests.core.test_suit_clock import spread_turns

CHART, RATE, SEED = shipped_chart(), Fraction(120), 4
LATE_S, SHOWN_S, FAST = 1.3, 512.7, 120e-6  # the suit began late, by its own clock, which runs fast
LIMBS = ("LowerArm", "Hand"), ("UpperLeg", "LowerLeg", "Foot", "Toes")


class Alignment(unittest.TestCase):
    def test_a_sensor_meets_the_markers_at_both_ends_of_a_gap(self):
        """Even one that has slipped by 12 degrees since it was calibrated, and slips 6 more out of sight."""
        rng = np.random.default_rng(2)
        bone = spread_turns(rng, 1800, 120.0, 1)
        slipped = np.radians(np.where(np.arange(1800) < 900, 12.0, 18.0))[:, None] * [0.6, 0.0, 0.8]
        read = quaternion_multiply(bone[:, 0], quaternion_from_rotvec(slipped))[:, None]
        seen = np.ones((1800, 1), dtype=bool)
        seen[700:1100] = False
        rows = {"hips": {"rotation_xyzw": [0, 0, 0, 1]}}
        world = stand_in(read, rows, bone, seen, 120.0, ("hips",)).world["hips"]
        off = np.degrees(
            np.linalg.norm(rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(bone[:, 0]), world)), axis=1)
        )
        self.assertLess(off[[699, 700, 1099, 1100]].max(), 0.5)
        self.assertLess(off[700:1100].max(), 6.5)

    def test_skin_that_turns_less_than_the_arm_in_it(self):
        """Markers show by how much, and a sensor whose arm goes out of sight is turned as far as the arm is."""
        rng = np.random.default_rng(8)
        chest = spread_turns(rng, 3000, 120.0, 1)[:, 0]
        roll = band_noise(rng, 3000, 1, 120.0, 0.2, 0.8) * [[0.6, 0.0, 0.0]]
        lifted = band_noise(rng, 3000, 1, 120.0, 0.2, 0.8) * [[0.0, 0.0, 0.5]]
        tremble = np.radians(1.0) * band_noise(rng, 3000, 3, 120.0, 0.4, 5.0)
        local = quaternion_multiply(quaternion_from_rotvec(lifted), quaternion_from_rotvec(roll))
        seen = np.ones((3000, 2), dtype=bool)
        seen[1500:2000, 1] = False
        rows = {name: {"rotation_xyzw": [0, 0, 0, 1]} for name in ("chest", "leftUpperArm")}
        off = {}
        for missed in (0.3, 0.0):
            shown = quaternion_multiply(local, quaternion_from_rotvec(-missed * roll + tremble))
            arm, read = (quaternion_multiply(chest, q) for q in (local, shown))
            found = stand_in(
                np.stack([chest, read], axis=1),
                rows,
                np.stack([chest, arm], axis=1),
                seen,
                120.0,
                ("chest", "leftUpperArm"),
            )
            self.assertAlmostEqual(found.skin["leftUpperArm"], missed, delta=0.06)
            turn = quaternion_multiply(quaternion_conjugate(arm), found.world["leftUpperArm"])
            off[missed] = np.sqrt((rotvec_from_quaternion(turn)[1500:2000] ** 2).mean())
            self.assertLess(abs(np.log(found.stray_rad["leftUpperArm"] / off[missed])), np.log(1.7))
        self.assertLess(off[0.3], 2 * off[0.0])

    def test_a_filter_that_leans_while_its_limb_is_out_of_sight(self):
        """Who runs round leans the filters, one way after the other. Markers show how the hips go, and thereby how the thigh's filter leans."""
        rng, hz, count = np.random.default_rng(9), 120.0, 3600
        names = "hips", "leftUpperLeg"
        times, own = (
            np.arange(count) / hz,
            np.arange(2900) / 100.0 + 0.003,
        )  # the suit's samples come at times of their own
        radius_m, around, gravity = 6.0, 0.5, 9.81  # at 3 m/s
        hips = radius_m * np.stack([np.cos(around * times), np.zeros(count), np.sin(around * times)], axis=1)
        bones = spread_turns(rng, count, hz, 2)
        mount = quaternion_from_rotvec(np.array([0.4, -0.7, 0.3]))
        rest = np.array([[0.0, 1.0, 0.0], [0.09, 0.93, 0.0]])
        joints = np.stack([hips, hips + quaternion_rotate(bones[:, 0], rest[1] - rest[0])], axis=1)
        # it follows, within three seconds, what it takes for up
        lean = -radius_m * around**2 / gravity * np.exp(1j * around * own) / (1 + 3j * around)
        lean = quaternion_from_rotvec(np.stack([-lean.imag, np.zeros(len(own)), lean.real], axis=1))
        heading = quaternion_from_rotvec(np.array([0.0, 0.8, 0.0]))
        samples = np.empty((len(own), 2, 7))
        for s in range(2):
            true = slerp(times, bones[:, s], own)
            samples[:, s, :4] = quaternion_multiply(
                heading, quaternion_multiply(lean, quaternion_multiply(true, mount))
            )
            way = np.stack([np.interp(own, times, hips[:, k]) for k in range(3)], axis=1) * -(around**2)
            felt = way + [0.0, gravity, 0.0]
            samples[:, s, 4:] = quaternion_rotate(quaternion_conjugate(quaternion_multiply(true, mount)), felt)
        samples[rng.random(samples.shape[:2]) < 0.02] = np.nan
        read = resample_sensor(own, samples[..., :4], times)
        felt = felt_in_steps(own, samples, times, hz, joints, rest, np.zeros((2, 3)))
        seen = np.ones((count, 2), dtype=bool)
        seen[1500:2100, 1] = False  # five seconds
        rows = {name: {"rotation_xyzw": mount} for name in names}
        off = []
        for known in (None, felt):
            world = stand_in(read, rows, bones, seen, hz, names, known).world["leftUpperLeg"]
            turn = quaternion_multiply(quaternion_conjugate(bones[1500:2100, 1]), world[1500:2100])
            off.append(np.degrees(np.nanmean(np.linalg.norm(rotvec_from_quaternion(turn), axis=1))))
        self.assertGreater(off[0], 3.0)
        self.assertLess(off[1], 0.8)


class Faults(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(6)
        self.at = np.arange(4800)[rng.random(4800) < 0.9]
        strays = np.radians(2.0) * band_noise(rng, 4800, 4, 120.0, 0.3, 3.0)
        self.heading = (0.4 + np.radians(2.0) * np.arange(4800) / 7200 + strays[:, 0])[self.at]
        self.off = strays[self.at, 1:]

    def found(self, heading=None, off=None):
        return find_faults(
            "leftHand",
            self.at,
            self.heading if heading is None else heading,
            self.off if off is None else off,
            4800,
            120.0,
        )

    def test_a_sensor_that_only_drifts_and_strays_has_none(self):
        self.assertEqual(self.found(), [])

    def test_a_magnet_from_when_to_when(self):
        turned = self.heading + np.radians(15) * ((self.at > 1500) & (self.at < 1900))
        (fault,) = self.found(turned)
        self.assertEqual(fault.kind, "magnet")
        self.assertLess(max(abs(fault.start - 1500), abs(fault.end - 1900)), 60)
        self.assertAlmostEqual(fault.degrees, 15, delta=4)

    def test_a_slip_from_when_on(self):
        slipped = self.off + np.radians([12.0, 0.0, 9.0]) * (self.at > 3000)[:, None]
        (fault,) = self.found(off=slipped)
        self.assertEqual((fault.kind, fault.end), ("slipped", 4800))
        self.assertLess(abs(fault.start - 3000), 60)
        self.assertAlmostEqual(fault.degrees, 15, delta=2)


class OverFiles(unittest.TestCase):
    """One performer with markers and suit, calibrated and solved by command."""

    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.at = Path(cls.folder.name)
        cls.person = make_performer(SEED, CHART, 1.74, sloppiness_deg=2.5)
        warm_up = perform("warm-up", cls.person, SEED, RATE)
        cls.suit = make_suit(warm_up.motion.skeleton, SEED, up="Z")
        seen = see(warm_up, cls.person, CHART, SEED, hidden=0.02, limb_losses=0)
        write_c3d(cls.at / "warmup.c3d", seen.points_m, [f"p{i}" for i in range(seen.points_m.shape[1])], RATE)
        cls.write_suit("warmup.csv", warm_up.motion, 10.0)
        cls.take = perform("rope haul", cls.person, SEED, RATE)
        cls.write_suit("take.csv", cls.take.motion, 150.0)
        rng = np.random.default_rng(SEED)
        markers, bare = worn(cls.take, cls.person, CHART, rng, hidden=0.02, limb_losses=0)
        markers[~bare] = np.nan
        cls.gaps = []
        for start, limb, side in ((400, 0, "left"), (400, 1, "right"), (1100, 0, "right"), (1100, 1, "left")):
            bones = [side + b for b in LIMBS[limb]]
            markers[start : start + 480, [m for m, b in enumerate(CHART.bones) if b in bones]] = np.nan
            cls.gaps.append((start, start + 480, [b for b in bones if not b.endswith("Toes")]))
        write_c3d(cls.at / "take.c3d", markers, CHART.names, RATE)
        markers[700:940] = np.nan
        write_c3d(cls.at / "gone.c3d", markers, CHART.names, RATE)
        cls.run_well("chart", "--out", "@chart.json")
        cls.run_well("performer", "--points", "@warmup.c3d", "--chart", "@chart.json", "--height-m", "1.74", "--suit", "@warmup.csv",
                     "--out", "@a.json")  # fmt: skip

    @classmethod
    def write_suit(cls, name, motion, age_s):
        times, rotation, force = read_suit(motion, cls.suit, age_s)
        late = times >= LATE_S
        write_suit(cls.at / name, (SHOWN_S + (1 + FAST) * times)[late], SUIT_BONES, rotation[late], force[late])

    @classmethod
    def run_pass(cls, *words):
        errors = io.StringIO()
        with contextlib.redirect_stderr(errors), contextlib.redirect_stdout(io.StringIO()):
            status = main([str(cls.at / w[1:]) if w.startswith("@") else w for w in words])
        return status, errors.getvalue()

    @classmethod
    def run_well(cls, *words):
        status, said = cls.run_pass(*words)
        assert status == 0, said
        return said

    def solve(self, out, *words, points="take"):
        return self.run_well(
            "solve", "--points", f"@{points}.c3d", "--performer", "@a.json", "--out", f"@{out}.bvh", *words
        )

    def errors(self, out):
        """(mm (T, B), names) of the joints of a solved body."""
        body, true = read_bvh(self.at / f"{out}.bvh"), self.take.motion
        names = [n for n in BODY_BONES if not n.endswith("Toes")]
        ours, theirs = (motion_joints(m)[0][:, [m.skeleton.index(n) for n in names]] for m in (body, true))
        return 1000 * np.linalg.norm(ours - theirs, axis=2), names

    def hidden(self, off, names):
        return np.concatenate([off[s:e, [names.index(b) for b in bones]].ravel() for s, e, bones in self.gaps])

    def test_the_suit_carries_limbs_whose_markers_are_hidden(self):
        self.solve("with", "--suit", "@take.csv", "--report", "@with.json")
        self.solve("without")
        (off, names), (bare, _) = self.errors("with"), self.errors("without")
        self.assertLess(self.hidden(off, names).mean(), 20)
        self.assertLess(self.hidden(off, names).mean(), 0.3 * self.hidden(bare, names).mean())
        for s, e, bones in self.gaps:
            cols = [names.index(b) for b in bones]
            self.assertLess(np.abs(np.diff(off[[s - 1, s, e - 1, e]][:, cols], axis=0)[[0, 2]]).max(), 12)
        report = json.loads((self.at / "with.json").read_text())["figures"]
        clock = report["guides"]["suit"]["clock"]
        self.assertLess(abs(clock["offset_s"] - SHOWN_S), 0.004)
        self.assertGreater(clock["sensors"], 10)
        self.assertTrue({"leftLowerArm", "rightLowerLeg"} <= set(report["guided_bones"]))

    def test_the_body_does_not_leap_as_limbs_go_though_its_joints_are_off(self):
        """What a leg's markers pull at hips that are calibrated wrongly does not stop from one frame to the next."""
        wrong = json.loads((self.at / "a.json").read_text())
        for bone in wrong["bones"]:
            if bone["name"].endswith("UpperLeg"):
                bone["offset_m"][0] *= 0.85
                bone["offset_m"][1] -= 0.015
        (self.at / "wrong.json").write_text(json.dumps(wrong))
        self.run_well(
            "solve", "--points", "@take.c3d", "--performer", "@wrong.json", "--out", "@wrong.bvh", "--suit", "@take.csv"
        )
        body, true = read_bvh(self.at / "wrong.bvh"), self.take.motion
        legs = [s + b for s in ("left", "right") for b in ("UpperLeg", "LowerLeg", "Foot")]
        ours, theirs = (
            motion_joints(m)[0][:, [m.skeleton.index(n) for n in ("hips", "chest", *legs)]] for m in (body, true)
        )
        leaps = 1000 * np.linalg.norm(np.diff(ours - theirs, axis=0), axis=2)
        ends = [f - 1 for s, e, _ in self.gaps[::2] for f in (s, e)]
        self.assertLess(leaps[ends].max(), 8)

    def test_an_arm_goes_and_comes_back_without_a_leap(self):
        """The one marker on its collar bone, which is still seen, does not hold the shoulder; that bone's sensor does."""
        markers = read_c3d(self.at / "take.c3d").points_m.copy()
        gaps = {"right": (400, 880), "left": (1100, 1580)}
        for side, (s, e) in gaps.items():
            arm = [m for m, b in enumerate(CHART.bones) if b in (f"{side}UpperArm", f"{side}LowerArm", f"{side}Hand")]
            markers[s:e, arm] = np.nan
        write_c3d(self.at / "arm.c3d", markers, CHART.names, RATE)
        self.solve("arm", "--suit", "@take.csv", points="arm")
        body = read_bvh(self.at / "arm.bvh")
        for side, (s, e) in gaps.items():
            names = [side + b for b in ("UpperArm", "LowerArm", "Hand")]
            ours, theirs = (
                motion_joints(m)[0][:, [m.skeleton.index(n) for n in names]] for m in (body, self.take.motion)
            )
            leaps = 1000 * np.linalg.norm(np.diff(ours - theirs, axis=0)[[s - 1, e - 1]], axis=2)
            self.assertLess(leaps.max(), 4, side)

    def test_the_whole_body_out_of_sight_for_two_seconds(self):
        self.solve("gone", "--suit", "@take.csv", "--report", "@gone.json", points="gone")
        self.solve("still", "--report", "@still.json", points="gone")
        (off, _), (bare, _) = self.errors("gone"), self.errors("still")
        self.assertLess(off[700:940].mean(), 20)
        self.assertLess(off[700:940].max(), 60, "arms go with their own sensors, whatever lies between chest and them")
        self.assertLess(off[700:940].mean(), 0.2 * bare[700:940].mean())
        figures = json.loads((self.at / "gone.json").read_text())["figures"]
        self.assertEqual(figures["carried_frames"], 240)
        worst = figures["joint_sd_worst_mm"]
        self.assertTrue(off[700:940].max() / 4 < worst < 2 * off[700:940].max(), worst)
        unled = json.loads((self.at / "still.json").read_text())["figures"]
        self.assertEqual(unled["carried_frames"], 0)
        self.assertTrue(worst < unled["joint_sd_worst_mm"] < 2000, unled["joint_sd_worst_mm"])

    def test_a_body_that_comes_into_sight_later(self):
        """Until then the suit says how its limbs are."""
        shown = read_c3d(self.at / "take.c3d")
        markers = shown.points_m.copy()
        markers[:360] = np.nan
        write_c3d(self.at / "later.c3d", markers, shown.names, RATE)
        turns = {}
        for name, words in (("later", ("--suit", "@take.csv")), ("bare", ())):
            self.solve(name, *words, points="later")
            body, true = read_bvh(self.at / f"{name}.bvh"), self.take.motion
            off = []
            for bone in ("leftUpperArm", "rightLowerArm", "leftUpperLeg", "rightLowerLeg"):
                ours, theirs = (m.rotation_local[60:360, m.skeleton.index(bone)] for m in (body, true))
                turn = quaternion_multiply(quaternion_conjugate(theirs), ours)
                off.append(np.degrees(np.linalg.norm(rotvec_from_quaternion(turn), axis=1)).mean())
            turns[name] = np.mean(off)
        self.assertLess(turns["later"], 6)
        self.assertLess(turns["later"], 0.5 * turns["bare"])

    def test_sensors_that_were_exchanged_since_the_warm_up_are_said_and_left_out(self):
        rows = (self.at / "take.csv").read_text().splitlines()
        other = {"leftLowerArm": "rightLowerLeg", "rightLowerLeg": "leftLowerArm"}
        swapped = [(at, other.get(name, name), rest) for at, name, rest in (row.split(",", 2) for row in rows)]
        (self.at / "swapped.csv").write_text("\n".join(",".join(row) for row in swapped) + "\n")
        self.solve("swapped", "--suit", "@swapped.csv", "--report", "@swapped.json")
        report = json.loads((self.at / "swapped.json").read_text())
        said = {s["text"].split(":")[0] for s in report["snags"] if "is it on another limb" in s["text"]}
        self.assertEqual(said, {"left lower arm", "right lower leg"})
        self.assertFalse(set(other) & set(report["figures"]["guided_bones"]))

    def test_sensors_that_are_exchanged_all_day_are_said_and_put_right(self):
        """All sensors left for right, by which no clock fits as they are called, and some of them in each other's place."""
        both = [n.removeprefix("left") for n in SUIT_BONES if n.startswith("left")]
        self.solve("right", "--suit", "@take.csv")
        right = (self.at / "right.bvh").read_text()
        for worn_wrong in (
            {side + n: other + n for n in both for side, other in (("left", "right"), ("right", "left"))},
            {"head": "leftFoot", "leftFoot": "head", "leftLowerArm": "leftHand", "leftHand": "leftLowerArm"},
        ):
            for name in ("warmup", "take"):
                rows = (row.split(",", 2) for row in (self.at / f"{name}.csv").read_text().splitlines())
                called = "\n".join(f"{at},{worn_wrong.get(sensor, sensor)},{rest}" for at, sensor, rest in rows)
                (self.at / f"{name}-wrong.csv").write_text(called + "\n")
            said = self.run_well(
                "performer", "--points", "@warmup.c3d", "--chart", "@chart.json", "--height-m", "1.74", "--suit", "@warmup-wrong.csv",
                "--out", "@wrong.json",
            )  # fmt: skip
            self.assertEqual(said.count("are worn in each other's place"), len(worn_wrong) / 2, said)
            words = "--points", "@take.c3d", "--suit", "@take-wrong.csv", "--performer", "@wrong.json"
            self.run_well("solve", *words, "--out", "@wrong.bvh")
            self.assertEqual((self.at / "wrong.bvh").read_text(), right)

    def test_a_warm_up_that_did_not_tell_where_the_pelvis_sensor_sits(self):
        performer = json.loads((self.at / "a.json").read_text())
        del performer["suit"]["hips"]["joints_m"]
        (self.at / "stiff.json").write_text(json.dumps(performer))
        files = "--points", "@gone.c3d", "--suit", "@take.csv", "--performer", "@stiff.json", "--out", "@stiff.bvh"
        self.run_well("solve", *files)
        off, names = self.errors("stiff")
        self.assertLess(off[700:940, names.index("hips")].mean(), 20)

    def test_two_markers_that_are_left_do_not_bend_what_they_cannot_place(self):
        shown = read_c3d(self.at / "take.c3d")
        markers = shown.points_m.copy()
        hand = [shown.names.index(n) for n, b in zip(CHART.names, CHART.bones, strict=True) if b == "rightHand"]
        self.assertEqual(len(hand), 2)
        markers[700:940, [m for m in range(markers.shape[1]) if m not in hand]] = np.nan
        write_c3d(self.at / "two.c3d", markers, shown.names, RATE)
        self.solve("two", "--suit", "@take.csv", points="two")
        off, _ = self.errors("two")
        self.assertLess(off[700:940].mean(), 20)
        self.assertLess(off[700:940].max(), 60)

    def test_a_known_clock_is_taken_as_it_is(self):
        self.solve("known", "--suit", "@take.csv", "--clock", f"{SHOWN_S},{1e6 * FAST}", "--report", "@known.json")
        off, names = self.errors("known")
        self.assertLess(self.hidden(off, names).mean(), 20)
        guides = json.loads((self.at / "known.json").read_text())["figures"]["guides"]
        self.assertNotIn("clock", guides["suit"])

    def test_that_performer_can_go_without_markers_as_well(self):
        self.run_well("suit-solve", "--suit", "@take.csv", "--performer", "@a.json", "--out", "@alone.bvh")
        body, true = read_bvh(self.at / "alone.bvh"), self.take.motion
        times = np.arange(len(body)) / float(body.rate) + LATE_S
        keep = times < (len(true) - 1) / float(true.rate)
        source = np.arange(len(true)) / float(true.rate)
        angles = []
        for name in ("leftLowerArm", "rightLowerArm", "leftLowerLeg", "rightLowerLeg", "leftUpperLeg", "rightUpperArm"):
            other = slerp(source, make_continuous(true.rotation_local[:, true.skeleton.index(name)]), times[keep])
            turn = quaternion_multiply(
                quaternion_conjugate(other), body.rotation_local[keep, body.skeleton.index(name)]
            )
            angles.append(np.degrees(np.linalg.norm(rotvec_from_quaternion(turn), axis=1)).mean())
        self.assertLess(np.mean(angles), 7)

    def test_refused_in_a_sentence(self):
        still = replace(
            self.take.motion, rotation_local=self.take.motion.rotation_local[:1].repeat(len(self.take.motion), axis=0)
        )
        self.write_suit("still.csv", still, 0.0)
        performer = json.loads((self.at / "a.json").read_text())
        del performer["suit"]
        (self.at / "bare.json").write_text(json.dumps(performer))
        for performer, suit, more, words in (
            ("@a.json", "@still.csv", (), "clock could not be told"),
            ("@bare.json", "@take.csv", (), "calibrated without a suit"),
            ("@a.json", "@take.csv", ("--clock", "soon"), "--clock soon"),
            ("@a.json", None, ("--clock", "0,0"), "expected --suit"),
        ):
            given = () if suit is None else ("--suit", suit)
            status, said = self.run_pass(
                "solve", "--points", "@take.c3d", "--performer", performer, "--out", "@no.bvh", *given, *more
            )
            self.assertNotEqual(status, 0)
            self.assertIn(words, said)
            self.assertFalse((self.at / "no.bvh").exists())


if __name__ == "__main__":
    unittest.main()
