"""A body from a suit alone: what its file may hold, how sensors sit, where the body goes."""

import contextlib
import io
import json
import subprocess
import sys
import tempfile
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.cli.__main__ import main
from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.performer import performer_from_document
from otrevo.core.body.skeleton import BODY_BONES, generic_skeleton
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
from otrevo.core.formats.bvh import read_bvh
from otrevo.core.formats.suit_table import read_suit as read_table
from otrevo.core.formats.suit_table import write_suit
from otrevo.core.inertial.calibrate import calibrate_suit_alone
from otrevo.core.inertial.felt import felt
from otrevo.core.inertial.joints import find_links
from otrevo.core.inertial.measures import MEASURES, measured_skeleton, measures_from
from otrevo.core.inertial.stills import find_stills
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.suit import make_suit, read_suit
from otrevo.core.solve.suit import SUIT_BONES
from tests.core.test_seats_in_take import working

AGE_S = 120.0


def heading_gap(a, b):
    return np.degrees((a - b + np.pi) % (2 * np.pi) - np.pi)


class Worn(unittest.TestCase):
    """One performer, one warm-up, as files; each test reads what it needs."""

    @classmethod
    def setUpClass(cls):
        cls.performer = make_performer(6, shipped_chart(), 1.74, sloppiness_deg=2.0)  # with short legs
        cls.warm_up = perform("suit warm-up", cls.performer, 8, Fraction(120)).motion
        cls.suit = make_suit(cls.warm_up.skeleton, 8, up="Z")
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.at = Path(cls.folder.name)
        times, rotation, force = read_suit(cls.warm_up, cls.suit)
        write_suit(cls.at / "warmup.csv", times, cls.suit.names, rotation, force)
        cls.recording = read_table(cls.at / "warmup.csv")

    def run_pass(self, *words):
        errors = io.StringIO()
        with contextlib.redirect_stderr(errors), contextlib.redirect_stdout(io.StringIO()):
            status = main([str(self.at / w[1:]) if w.startswith("@") else w for w in words])
        return status, errors.getvalue()

    def solved_take(self, take, *words, age_s=AGE_S):
        """The BVH and the report that suit-solve makes of a Motion in the suit, by the performer in p.json, so long after the warm-up."""
        times, rotation, force = read_suit(take, self.suit, age_s, age_s)
        write_suit(self.at / "take.csv", times, self.suit.names, rotation, force)
        files = "--suit", "@take.csv", "--performer", "@p.json", "--out", "@body.bvh", "--report", "@sr.json"
        status, said = self.run_pass("suit-solve", *files, *words)
        self.assertEqual(status, 0, said)
        return read_bvh(self.at / "body.bvh"), json.loads((self.at / "sr.json").read_text())


class FromWarmUpToTake(Worn):
    def test_up_gravity_and_stills_are_found(self):
        self.assertEqual((self.recording.up, self.recording.rate_hz), ("Z", 100.0))
        stills = find_stills(self.recording)
        self.assertGreaterEqual(len(stills), 3)
        for start, end in stills:
            world = quaternion_rotate(self.recording.rotation[start:end], self.recording.force_ms2[start:end])
            np.testing.assert_allclose(np.nanmean(world, axis=(0, 1)), [0, 9.81, 0], atol=0.3)

    def test_neighbours_tell_their_headings_without_a_pose(self):
        links = find_links(felt(self.recording))
        at = {n: i for i, n in enumerate(self.suit.names)}
        true = self.suit.heading_rad + self.suit.drift_rad_s * links[0].zero_s
        gaps = [heading_gap(link.heading_rad, true[at[link.above]] - true[at[link.below]]) for link in links]
        self.assertLess(np.sqrt(np.mean(np.square(gaps))), 4.0)
        wrist = next(link for link in links if link.joint == "leftHand")
        seat = quaternion_rotate(
            quaternion_conjugate(self.suit.mount[at["leftHand"]]), -self.suit.lever_m[at["leftHand"]]
        )
        self.assertLess(np.linalg.norm(wrist.below_m - seat), 0.03)

    def test_the_report_lists_who_has_changed_places(self):
        text = (self.at / "warmup.csv").read_text()
        for old, new in (("leftHand", "other"), ("rightHand", "leftHand"), ("other", "rightHand")):
            text = text.replace(f",{old},", f",{new},")
        (self.at / "hands.csv").write_text(text)
        words = "--height-m", "1.74", "--out", "@h.json", "--report", "@hr.json"
        self.assertEqual(self.run_pass("suit-performer", "--suit", "@hands.csv", *words)[0], 0)
        report = json.loads((self.at / "hr.json").read_text())
        self.assertEqual([set(p) for p in report["exchanged"]], [{"leftHand", "rightHand"}])

    def test_every_command(self):
        words = (
            "suit-performer",
            "--suit",
            "@warmup.csv",
            "--height-m",
            "1.74",
            "--out",
            "@p.json",
            "--report",
            "@pr.json",
        )
        self.assertEqual(self.run_pass(*words)[0], 0)
        first = (self.at / "p.json").read_bytes()
        self.assertEqual(self.run_pass(*words)[0], 0)
        self.assertEqual((self.at / "p.json").read_bytes(), first)
        report = json.loads((self.at / "pr.json").read_text())
        self.assertEqual({p["pose"] for p in report["poses"]}, {"T-pose", "arms down"})
        self.assertEqual(set(report["sensors"]), set(SUIT_BONES))
        self.assertEqual(report["exchanged"], [])
        self.check_seats(json.loads(first))
        self.check_lengths(json.loads(first), report["notes"])
        take = perform("quay walk", self.performer, 3, Fraction(120)).motion.window(0, 14 * 120)
        self.check_take(take, *self.solved_take(take, "--rate", "60"))
        for age_s in (600.0, 4 * 3600.0):  # by then filters point anywhere
            body, _ = self.solved_take(take, "--rate", "60", age_s=age_s)
            self.check_angles(body, self.true_motion(take, body))
        self.check_a_process_loads_little(self.at / "body.bvh")

    def check_a_process_loads_little(self, solved):
        """What is solved in a process of its own is the same, and parts of SciPy that load for a second are not asked for."""
        command = (
            "import sys; from otrevo.cli.__main__ import main; status = main(sys.argv[1:]);"
            "print(*{m for m in sys.modules if m.count('.') == 1 and m.startswith('scipy.')}); sys.exit(status)"
        )
        files = {"--suit": "take.csv", "--performer": "p.json", "--out": "alone.bvh"}
        words = [w for option, name in files.items() for w in (option, str(self.at / name))]
        done = subprocess.run(
            [sys.executable, "-c", command, "suit-solve", *words, "--rate", "60"], capture_output=True, text=True
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual((self.at / "alone.bvh").read_bytes(), solved.read_bytes())
        loaded = set(done.stdout.split())
        self.assertIn("scipy.linalg", loaded)
        self.assertFalse(
            loaded & {f"scipy.{part}" for part in ("signal", "stats", "interpolate", "optimize", "spatial")}
        )

    def check_seats(self, document):
        off = []
        for s, bone in enumerate(self.suit.names):
            found = np.array(document["suit"][bone]["rotation_xyzw"])
            turn = rotvec_from_quaternion(quaternion_multiply(found, quaternion_conjugate(self.suit.mount[s])))
            off.append(np.degrees(np.linalg.norm(turn)))
        self.assertLess(np.mean(off), 6.0)
        for bone in ("leftUpperLeg", "leftLowerLeg", "rightUpperLeg", "rightLowerLeg", "leftUpperArm", "rightUpperArm"):
            self.assertLess(off[self.suit.names.index(bone)], 12.0, bone)

    def check_lengths(self, document, notes):
        """Steps tell how long legs are, nearer than the height does, and joints how long upper arms are; whoever measured them is not asked."""

        def length(skeleton, *bones):
            return sum(np.linalg.norm(skeleton.rest_offset_m[skeleton.index(f"left{b}")]) for b in bones)

        legs, true, found = (
            ("LowerLeg", "Foot"),
            self.warm_up.skeleton,
            performer_from_document(document, "p.json").skeleton,
        )
        by_height, _ = measured_skeleton({"height_m": 1.74})
        self.assertGreater(abs(length(by_height, *legs) - length(true, *legs)), 0.02)
        self.assertLess(
            abs(length(found, *legs) - length(true, *legs)), 0.6 * abs(length(by_height, *legs) - length(true, *legs))
        )
        self.assertTrue(any("as long as the steps" in note for note in notes), notes)
        self.assertLess(abs(length(found, "LowerArm") - length(true, "LowerArm")), 0.006)
        measures = {"hip_height_m": 0.9, "arm_span_m": 1.8}
        (self.at / "own.json").write_text(json.dumps({"otrevo": "measures/1", **measures}))
        words = "--suit", "@warmup.csv", "--height-m", "1.74", "--measures", "@own.json", "--out", "@measured.json"
        self.assertEqual(self.run_pass("suit-performer", *words)[0], 0)
        measured = performer_from_document(json.loads((self.at / "measured.json").read_text()), "m").skeleton
        self.assertAlmostEqual(measured.rest_offset_m[[0, measured.index("leftUpperLeg")], 1].sum(), 0.9, delta=0.001)
        arms = length(measured_skeleton({"height_m": 1.74} | measures)[0], "LowerArm", "Hand")
        self.assertAlmostEqual(length(measured, "LowerArm", "Hand"), arms, delta=0.001)
        self.assertLess(abs(length(measured, "LowerArm") - length(true, "LowerArm")), 0.006)

    def true_motion(self, take, body):
        """A take at the moments of the frames of its body, at 60 Hz."""
        times, source = np.arange(len(body)) / 60, np.arange(len(take)) / float(take.rate)
        return Motion(take.skeleton, Fraction(60), *(
            np.stack([np.interp(times, source, take.root_position_m[:, k]) for k in range(3)], axis=1),
            slerp(source, make_continuous(take.rotation_local), times),
        ))  # fmt: skip

    def angles_off(self, body, true, bones):
        """How far joints are off on average, degrees; the numbers of the bones in both."""
        ours, theirs = ([m.skeleton.names.index(b) for b in bones] for m in (body, true))
        turn = quaternion_multiply(quaternion_conjugate(true.rotation_local[:, theirs]), body.rotation_local[:, ours])
        return np.degrees(np.linalg.norm(rotvec_from_quaternion(turn), axis=-1)).mean(axis=0), ours, theirs

    def check_angles(self, body, true):
        """Joints of a body turn as they truly do. Returns the numbers of the bones in both."""
        bones = [b for b in BODY_BONES[1:] if not b.endswith("Toes")]
        off, ours, theirs = self.angles_off(body, true, bones)
        self.assertLess(off.mean(), 5.5)
        self.assertLess(off.max(), 15.0, bones[off.argmax()])
        return ours, theirs

    def check_take(self, take, body, report):
        self.assertEqual(body.rate, 60)
        self.assertAlmostEqual(len(body) / 60, len(take) / 120, delta=0.1)
        true = self.true_motion(take, body)
        ours, theirs = self.check_angles(body, true)
        joint, _ = motion_joints(body)
        joint_true, _ = motion_joints(true)
        away = (joint[:, ours] - joint[:, :1]) - (joint_true[:, theirs] - joint_true[:, :1])
        self.assertLess(np.linalg.norm(away, axis=2).mean(), 0.055)
        far, far_true = (np.linalg.norm(np.ptp(j[:, 0][:, [0, 2]], axis=0)) for j in (joint, joint_true))
        self.assertAlmostEqual(far, far_true, delta=0.04 * far_true)
        foot, foot_true = (j[:, m.skeleton.names.index("leftFoot")] for j, m in ((joint, body), (joint_true, true)))
        standing = np.linalg.norm(np.gradient(foot_true, 1 / 60, axis=0), axis=1) < 0.002
        self.assertGreater(standing.sum(), 100)
        self.assertLess(np.median(np.linalg.norm(np.gradient(foot, 1 / 60, axis=0)[standing], axis=1)), 0.02)
        self.assertLess(np.ptp(foot[standing, 1]), 0.06, "one floor")
        self.assertEqual({c["level_m"] for c in report["contacts"]}, {0.0})
        self.assertEqual(set(report["joint_sd_deg"]), set(BODY_BONES))

    def test_skin_that_turns_less_than_the_arm_in_it(self):
        words = "--suit", "@warmup.csv", "--height-m", "1.74", "--out", "@p.json"
        self.assertEqual(self.run_pass("suit-performer", *words)[0], 0)
        take = working(self.performer.skeleton)
        missed = {"leftUpperArm": 0.3, "rightUpperArm": 0.3}
        worn = self.suit
        self.addCleanup(setattr, self, "suit", worn)
        off = {}
        for name, self.suit in (("skin", replace(worn, missed=missed)), ("", worn)):
            body, report = self.solved_take(take, "--rate", "60")
            for bone in missed:
                told = report["figures"]["skin_missed"][bone]
                self.assertAlmostEqual(told, 0.3 if name else 0.0, delta=0.1)
            self.assertEqual(any("skin turns less" in note for note in report["notes"]), name == "skin")
            off[name] = self.angles_off(body, self.true_motion(take, body), missed)[0].max()
        self.assertLess(off["skin"], off[""] + 2.5)  # 45 degrees to and fro, of which it misses 13

    def test_upper_body_alone(self):
        status, said = self.run_pass(
            "suit-performer", "--suit", "@warmup.csv", "--height-m", "1.74", "--kit", "upper", "--out", "@u.json"
        )
        self.assertEqual(status, 0, said)
        self.assertRegex(
            said, "no sensor tells how .*left upper leg, left lower leg, left foot, .*right foot.* are turned"
        )
        upper = json.loads((self.at / "u.json").read_text())["suit"]
        self.assertEqual(len(upper), 11)
        self.assertFalse([n for n in upper if "Leg" in n or "Foot" in n])
        short = self.recording.only([n for n in self.recording.names if n in upper])
        write_suit(
            self.at / "seated.csv", short.times_s[:600], short.names, short.rotation[:600], short.force_ms2[:600]
        )
        status, said = self.run_pass("suit-solve", "--suit", "@seated.csv", "--performer", "@u.json", "--out", "@u.bvh")
        self.assertEqual(status, 0, said)
        seated = read_bvh(self.at / "u.bvh")
        self.assertLess(np.ptp(seated.root_position_m, axis=0).max(), 1e-6)
        self.assertIn("the hips stay where they are", said)
        arm = seated.rotation_local[:, seated.skeleton.index("leftUpperArm")]
        self.assertGreater(np.ptp(rotvec_from_quaternion(make_continuous(arm)), axis=0).max(), 0.5, "the arms move")

    def test_one_sensor_of_an_arm_tells_the_poses_and_none_is_refused(self):
        for gone in ("UpperArm", "LowerArm"):
            names = [n for n in self.recording.names if gone not in n]
            found = calibrate_suit_alone(self.recording.only(names), self.performer.skeleton)
            self.assertEqual({kind for kind, *_ in found.poses}, {"T-pose", "arms down"}, gone)
            off = [
                np.degrees(np.linalg.norm(rotvec_from_quaternion(quaternion_multiply(found.mount[names.index(b)], quaternion_conjugate(self.suit.mount[self.suit.names.index(b)])))))
                for b in names
            ]  # fmt: skip
            self.assertLess(np.mean(off), 8.0, gone)
        names = [n for n in self.recording.names if not n.endswith("Arm")]
        with self.assertRaisesRegex(InputError, "nothing tells a T-pose from arms that hang"):
            calibrate_suit_alone(self.recording.only(names))

    def test_legs_alone(self):
        """Without a sensor on an arm whoever stands still stands upright, and knees tell where left is."""
        legs = ("hips", *(side + b for side in ("left", "right") for b in ("UpperLeg", "LowerLeg", "Foot")))
        found = calibrate_suit_alone(self.recording.only(legs), self.performer.skeleton)
        self.assertEqual({kind for kind, *_ in found.poses}, {"arms down"})
        for bone, mount in zip(found.names, found.mount, strict=True):
            true = self.suit.mount[self.suit.names.index(bone)]
            off = rotvec_from_quaternion(quaternion_multiply(mount, quaternion_conjugate(true)))
            self.assertLess(np.degrees(np.linalg.norm(off)), 12.0, bone)

    def test_bad_input_is_one_sentence_and_leaves_nothing(self):
        rows = (self.at / "warmup.csv").read_text().splitlines()
        head, body = rows[0], rows[1 : 17 * 400]
        cases = {
            "no samples": [head],
            "no column 'qw'": [head.replace("qw", "q"), *body[:50]],
            "no sensor of a suit": [head, *(r.replace(r.split(",")[1], "knob") for r in body[:80])],
            "still pose": [head, *(r for r in rows[1:] if 12 < float(r.split(",")[0]) < 15)],
            "backwards": [head, *reversed(body)],
            "9.8": [
                head,
                *(",".join([*r.split(",")[:6], *(f"{float(v) / 0.3048}" for v in r.split(",")[6:])]) for r in body),
            ],
            "sensor on the pelvis": [head, *(r for r in body if ",hips," not in r)],
        }
        for words, lines in cases.items():
            (self.at / "bad.csv").write_text("\n".join(lines) + "\n")
            status, said = self.run_pass(
                "suit-performer", "--suit", "@bad.csv", "--height-m", "1.74", "--out", "@none.json"
            )
            self.assertEqual((status, said.count("\n")), (2, 1), f"{words}: {said}")
            self.assertIn(words, said)
            self.assertFalse((self.at / "none.json").exists())
        for words in (("--height-m", "17.4"), ()):
            self.assertEqual(
                self.run_pass("suit-performer", "--suit", "@warmup.csv", *words, "--out", "@none.json")[0], 2
            )


class Flight(unittest.TestCase):
    def test_a_jump_goes_as_high_as_gravity_lets_it(self):
        """A stiff body that is thrown up twice, between two stands."""
        from otrevo.core.inertial.calibration import SuitCalibration, sure_apart
        from otrevo.core.inertial.headings import Headings
        from otrevo.core.inertial.recording import SuitRecording
        from otrevo.core.inertial.travel import find_travel

        skeleton, rate, v = generic_skeleton(), 100.0, 9.81 * 0.48 / 2
        t = np.arange(600) / rate
        height, force = np.zeros(600), np.full(600, 9.81)
        for start in (150, 350):  # pushed up within 0.1 s, caught within 0.1 s
            flight = 48
            push = v / 0.1
            for k in range(10):
                force[start + k] += push
                force[start + 10 + flight + k] += push
            force[start + 10 : start + 10 + flight] = 0.0
        speed = np.cumsum(force - 9.81) / rate
        height = np.cumsum(speed) / rate
        names = ("hips", "leftUpperLeg", "leftLowerLeg", "leftFoot", "rightUpperLeg", "rightLowerLeg", "rightFoot")
        still = np.tile([0.0, 0.0, 0.0, 1.0], (600, len(names), 1))
        felt_there = np.zeros((600, len(names), 3))
        felt_there[..., 1] = force[:, None]
        recording = SuitRecording(names, rate, 0.0, still, felt_there)
        seats = np.tile([0.0, 0.0, 0.0, 1.0], (len(names), 1))
        nothing = np.zeros(len(names))
        calibration = SuitCalibration(names, seats, nothing, nothing, 0.0, nothing, *sure_apart(names, nothing))
        local = np.tile([0.0, 0.0, 0.0, 1.0], (600, len(skeleton.names), 1))
        headings = Headings(np.array([3.0]), nothing[None], nothing[None])
        found = find_travel(recording, calibration, headings, skeleton, local)
        self.assertAlmostEqual(np.ptp(found.root_m[:, 1]), np.ptp(height), delta=0.03)
        self.assertLess(np.ptp(found.root_m[t < 1.4, 1]), 0.01)
        self.assertLess(abs(found.root_m[-50:, 1].mean() - found.root_m[:50, 1].mean()), 0.03)
        self.assertFalse([c for c in found.contacts if c.start < 170 and c.end > 185], "nobody stands in the air")


class Measures(unittest.TestCase):
    def test_what_is_measured_is_kept_and_the_rest_estimated_and_told(self):
        skeleton, notes = measured_skeleton({"height_m": 1.75})
        np.testing.assert_allclose(skeleton.rest_offset_m[:22], generic_skeleton().rest_offset_m[:22], atol=0.004)
        self.assertEqual(len(notes), 1)
        by_span, _ = measured_skeleton({"arm_span_m": 1.8})
        np.testing.assert_allclose(by_span.rest_offset_m[:22], skeleton.rest_offset_m[:22], atol=0.002)
        hips = [skeleton.rest_offset_m[skeleton.index(s + "UpperLeg")] for s in ("left", "right")]
        np.testing.assert_allclose(np.mean(hips, axis=0), 0.0, atol=1e-9, err_msg="hips lie between the hip joints")
        given = {"height_m": 1.8, "arm_span_m": 1.9, "hip_height_m": 0.97, "knee_height_m": 0.5, "shoulder_height_m": 1.5,
                 "shoulder_width_m": 0.4, "hip_width_m": 0.2, "foot_length_m": 0.28}  # fmt: skip
        skeleton, notes = measured_skeleton(given)
        self.assertEqual((notes, set(given)), ([], set(MEASURES)))
        joint, _ = motion_joints(
            Motion(skeleton, 1, skeleton.rest_offset_m[None, 0], np.tile([0.0, 0, 0, 1], (1, 52, 1)))
        )
        at = {n: joint[0, i] for i, n in enumerate(skeleton.names)}
        self.assertAlmostEqual(at["leftUpperLeg"][1], 0.97, places=3)
        self.assertAlmostEqual(at["leftLowerLeg"][1], 0.5, places=3)
        self.assertAlmostEqual(at["leftUpperArm"][0] - at["rightUpperArm"][0], 0.4, places=3)
        self.assertAlmostEqual(at["leftUpperLeg"][0] - at["rightUpperLeg"][0], 0.2, places=3)

    def test_what_cannot_be_is_refused(self):
        for document in ({"height_m": "tall"}, {"height_m": 175}, {"girth_m": 1.0}, {"hip_width_m": True}):
            with self.assertRaises(InputError):
                measures_from({"otrevo": "measures/1"} | document, "m.json")
        with self.assertRaises(InputError):
            measured_skeleton({"hip_width_m": 0.2})


class Simulated(unittest.TestCase):
    def test_faults_are_what_they_say(self):
        performer = make_performer(4, shipped_chart())
        motion = perform("quay walk", performer, 4, Fraction(120)).motion.window(0, 480)
        plainly = make_suit(motion.skeleton, 4)
        _, rotation, force = read_suit(motion, plainly)
        upward = np.nanmedian(quaternion_rotate(rotation, force).reshape(-1, 3), axis=0)
        np.testing.assert_allclose(upward, [0, 9.81, 0], atol=0.2)
        slip = quaternion_from_rotvec(np.array([0.0, 0.0, 0.5]))
        faulty = make_suit(
            motion.skeleton, 4, magnets=(("chest", 1.2, 3.6, 15.0),), slips=(("head", 2.0, (0.0, 0.0, 0.5)),)
        )
        _, other, _ = read_suit(motion, faulty)
        chest, head = (plainly.names.index(n) for n in ("chest", "head"))

        def turn(s, at):
            return np.linalg.norm(
                rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(rotation[at, s]), other[at, s])),
                axis=-1,
            )

        self.assertLess(np.nanmax(turn(chest, slice(0, 30))), 0.03)
        self.assertAlmostEqual(np.degrees(np.nanmedian(turn(chest, slice(190, 230)))), 15.0, delta=1.0)
        self.assertAlmostEqual(
            np.nanmedian(turn(head, slice(210, 390))), np.linalg.norm(rotvec_from_quaternion(slip)), delta=0.02
        )


if __name__ == "__main__":
    unittest.main()
