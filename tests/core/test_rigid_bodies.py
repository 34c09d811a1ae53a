"""Rigid bodies on limbs, over files of other people's habits: which is where, how long bones are, what is refused."""

import contextlib
import io
import json
import tempfile
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from unittest.mock import patch

import numpy as np

from otrevo.cli.__main__ import main
from otrevo.core.body.kinematics import motion_joints
from otrevo.core.body.skeleton import BODY_BONES, generic_skeleton, rest_joints
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.formats.bvh import read_bvh
from otrevo.core.formats.documents import write_document
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.rigid.by_place import bones_by_place
from otrevo.core.sim.motions import band_noise, perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.rigid import ALL, MISSED, SIX, TEN
from tests.core.rigid_bodies import called, rows_of, table_of
from tests.core.stage import true_calibration

SEED, HEIGHT_M, RATE = 3, 1.71, Fraction(30)


class Bodies(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.at = Path(cls.folder.name)
        cls.person = make_performer(SEED, shipped_chart(), HEIGHT_M, sloppiness_deg=2.5)
        cls.motion = perform("warm-up", cls.person, SEED, RATE, (0.6, -0.4), 1.1).motion

    def write(self, name, bones, names=None, unit=1.0, z_up=False, spoil=None, motion=None):
        """A table of bodies; spoil(rows) -> rows."""
        rows = rows_of(motion or self.motion, SEED, bones, names, unit, z_up)
        (self.at / name).write_text(table_of(spoil(rows) if spoil else rows))

    def run_pass(self, *words):
        errors = io.StringIO()
        with contextlib.redirect_stderr(errors), contextlib.redirect_stdout(io.StringIO()):
            status = main([str(self.at / w[1:]) if w.startswith("@") else w for w in words])
        return status, errors.getvalue()

    def solve(self, name, *words, height=HEIGHT_M):
        status, said = self.run_pass(
            "bodies",
            "--rigid",
            f"@{name}.csv",
            "--height-m",
            str(height),
            "--out",
            f"@{name}.bvh",
            "--report",
            f"@{name}.json",
            *words,
        )
        self.assertEqual(status, 0, said)
        return read_bvh(self.at / f"{name}.bvh"), json.loads((self.at / f"{name}.json").read_text())

    def errors(self, body, motion=None):
        """(mm of joints from the hips, degrees child in parent), means."""
        motion = motion or self.motion
        names = [b for b in BODY_BONES if not b.endswith("Toes")]
        count = min(len(body), len(motion))
        ours, theirs = ([m.skeleton.index(n) for n in names] for m in (body, motion))
        joint, true = motion_joints(body)[0][:count, ours], motion_joints(motion)[0][:count, theirs]
        away = (joint - joint[:, :1]) - (true - true[:, :1])
        return 1000 * np.linalg.norm(away, axis=2).mean(), self.angles(body, names[1:], motion)

    def angles(self, body, bones, motion=None):
        """Degrees, child in parent, of some joints, mean."""
        both = body, motion or self.motion
        count = min(map(len, both))
        ours, true = (m.rotation_local[:count, [m.skeleton.index(b) for b in bones]] for m in both)
        turn = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(true), ours))
        return np.degrees(np.linalg.norm(turn, axis=-1)).mean()

    def inside_two_sigma(self, body, report):
        """The share of joints and frames whose place is off by less than twice what the report says."""
        sure = report["joint_sd_mm"]
        count = min(len(body), len(self.motion))
        ours, true = (motion_joints(m)[0][:count, [m.skeleton.index(b) for b in sure]] for m in (body, self.motion))
        return (1000 * np.linalg.norm(ours - true, axis=2) < 2 * np.array(list(sure.values()))).mean()


def carried_by_skin(rows, sway_m=0.009):
    """The rows of bodies that skin carries to and fro for some seconds each way, on every axis by so much, RMS."""
    rng, waves = np.random.default_rng(5), {}
    out = []
    for t, name, *values in rows:
        if name not in waves:
            waves[name] = rng.uniform(0.2, 1.5, (6, 3)), rng.uniform(0, 2 * np.pi, (6, 3))
        hz, phase = waves[name]
        off = sway_m * np.sqrt(2 / 6) * np.sin(2 * np.pi * hz * t + phase).sum(axis=0)
        out.append((t, name, *(np.array(values[:3]) + off), *values[3:]))
    return out


@patch("otrevo.core.rigid.solve.FIT_FRAMES", 80)  # of 160: what holds here holds of a coarse fit, too
class Solved(Bodies):
    def test_skin_that_carries_bodies_far_does_not_draw_joints_along(self):
        """The same way for some seconds, and all of a body at once: that is one error and no proof of where a joint lies."""
        self.write("carried.csv", ALL, spoil=carried_by_skin)
        body, _ = self.solve("carried")
        away, angle = self.errors(body)
        self.assertLess(away, 24)
        self.assertLess(angle, 6.0)

    def test_a_wrist_that_never_turns_says_nothing_of_how_long_the_forearm_is(self):
        """Skin that carries either body seems to turn one against the other about a joint far from the wrist."""
        rotation = self.motion.rotation_local.copy()
        rotation[:, [self.motion.skeleton.index(s + "Hand") for s in ("left", "right")]] = [0.0, 0.0, 0.0, 1.0]
        stiff = replace(self.motion, rotation_local=rotation)
        self.write("stiff.csv", ALL, motion=stiff, spoil=carried_by_skin)
        body, report = self.solve("stiff")
        hand = body.skeleton.index("leftHand")
        built = generic_skeleton(HEIGHT_M).rest_offset_m[hand]
        self.assertLess(abs(np.linalg.norm(body.skeleton.rest_offset_m[hand]) - np.linalg.norm(built)), 0.006)
        self.assertGreater(report["joint_sd_mm"]["leftHand"], 15)  # and so it is said

    def test_a_back_that_is_bent_all_the_while_does_not_tilt_the_hips(self):
        rotation, upright_s = self.motion.rotation_local.copy(), 4.0
        bent = np.clip(np.arange(len(rotation)) / float(RATE) - upright_s, 0.0, 1.0)[:, None] * np.radians(
            [10.0, 0.0, 0.0]
        )
        for bone in ("spine", "chest", "upperChest"):
            b = self.motion.skeleton.index(bone)
            rotation[:, b] = quaternion_multiply(rotation[:, b], quaternion_from_rotvec(bent))
        boxer = replace(self.motion, rotation_local=rotation)
        self.write("boxer.csv", ALL, motion=boxer)
        body, _ = self.solve("boxer")
        off = rotvec_from_quaternion(
            quaternion_multiply(
                quaternion_conjugate(boxer.rotation_local[: len(body), 0]), body.rotation_local[: len(boxer), 0]
            )
        )
        self.assertLess(abs(np.degrees(off[:, 0].mean())), 2.0)

    def test_all_limbs_in_millimetres_with_z_up_and_foreign_names(self):
        def props(rows):  # a lantern is carried about, and something lies on the floor
            return rows + [(t / 120, "lantern", 500.0 + t / 9, 300.0, 900.0, 0, 0, 0, 1) for t in range(5000)] + [
                (t / 120, "Mo_marker_plate", 100.0, 0.0, 0.0, 0, 0, 0, 1) for t in range(5000)]  # fmt: skip

        self.write("all.csv", ALL, [called(b) for b in ALL], 1000.0, True, props)
        body, report = self.solve("all")
        self.assertEqual({r["body"]: r["bone"] for r in report["bodies"]}, {called(b): b for b in ALL})
        self.assertEqual((report["figures"]["unit"], report["figures"]["up"]), ("mm", "Z"))
        self.assertEqual({r["body"] for r in report["left_out"]}, {"lantern", "Mo_marker_plate"})
        away, angle = self.errors(body)
        self.assertLess(away, 20)
        self.assertLess(angle, 4.5)
        thigh = np.linalg.norm(body.skeleton.rest_offset_m[body.skeleton.index("leftLowerLeg")])
        true = np.linalg.norm(self.motion.skeleton.rest_offset_m[self.motion.skeleton.index("leftLowerLeg")])
        self.assertLess(abs(thigh - true), 0.02)
        self.assertTrue(all(r["confidence"] > 0.5 for r in report["bodies"]))

    def test_ten_and_six_with_knees_bent_forwards(self):
        for name, bones, limit in (("ten", TEN, 40), ("six", SIX, 80)):
            self.write(f"{name}.csv", bones)
            body, report = self.solve(name)
            away, angle = self.errors(body)
            self.assertLess(away, limit, name)
            self.assertLess(angle, limit / 5, name)
            self.assertGreater(self.inside_two_sigma(body, report), 0.85, name)
            for side in ("left", "right"):
                knee = rotvec_from_quaternion(body.rotation_local[:, body.skeleton.index(f"{side}LowerLeg")])[:, 0]
                self.assertLess((np.degrees(knee) < -17).mean(), 0.02, f"{name} {side}")

    def test_a_t_pose_may_face_another_way_than_all_else(self):
        length_s = len(self.motion) / float(RATE)
        for name, bones, limit in (("ten turned", TEN, 40), ("six turned", SIX, 80)):
            facing = np.radians(150) * np.clip(np.arange(len(self.motion)) / float(RATE) - 0.3 * length_s, 0, 3) / 3
            local = self.motion.rotation_local.copy()
            local[:, 0] = quaternion_multiply(quaternion_from_rotvec(np.outer(facing, [0, 1.0, 0])), local[:, 0])
            turned = replace(self.motion, rotation_local=local)
            self.write(f"{name}.csv", bones, motion=turned)
            away, angle = self.errors(self.solve(name)[0], turned)
            self.assertLess(away, limit, name)
            self.assertLess(angle, limit / 5, name)

    def test_a_head_that_looks_about_in_the_t_pose(self):
        """The body on it is a rigid one all the same, and sits as it does."""
        local, b = self.motion.rotation_local.copy(), self.motion.skeleton.index("head")
        about = np.radians(40) * np.sin(2 * np.pi * 0.4 * np.arange(len(local)) / float(RATE))
        local[:, b] = quaternion_multiply(quaternion_from_rotvec(np.outer(about, [0, 1.0, 0])), local[:, b])
        looking = replace(self.motion, rotation_local=local)
        self.write("looking.csv", ALL, motion=looking)
        body, report = self.solve("looking")
        residual = {r["bone"]: r["residual_mm"] for r in report["bodies"]}
        self.assertLess(residual["head"], 1.5 * np.median(list(residual.values())))
        self.assertLess(self.errors(body, looking)[1], 5.1)

    def test_a_body_that_stays_where_it_was_last_seen_is_not_seen(self):
        """Many trackers send that again until they see it again."""

        def held(rows):
            last, out = {}, []
            for at, name, *value in rows:
                if name != "leftHand" or not 12.0 < at < 15.0:
                    last[name] = value
                out.append((at, name, *last[name]))
            return out

        self.write("held.csv", TEN, spoil=held)
        self.write(
            "unseen.csv", TEN, spoil=lambda rows: [r for r in rows if r[1] != "leftHand" or not 12.0 < r[0] < 15.0]
        )
        (body, report), (unseen, _) = self.solve("held"), self.solve("unseen")
        self.assertIn("'leftHand' for 3.0 s", " ".join(report["notes"]))
        np.testing.assert_allclose(body.rotation_local, unseen.rotation_local, atol=0.02)

    def test_a_body_that_is_lost_in_one_t_pose_or_in_all_of_them(self):
        """Another T-pose tells of it, and where none does the others are solved. Both were refused, and another body was named."""
        length = len(self.motion) / float(RATE)
        for name, from_s, until_s, why in (("one", 0.0, 0.5, ""), ("all", 0.25, 0.3, "not seen in the T-pose")):
            self.write(
                f"{name}.csv",
                SIX,
                spoil=lambda rows, a=from_s, b=until_s: [r for r in rows if r[1] != "head" or a < r[0] / length < b],
            )
            body, report = self.solve(name)
            self.assertEqual(report["left_out"], [{"body": "head", "why": why}] if why else [])
            self.assertLess(self.errors(body)[0], 80.0)

    def test_forearms_that_stay_rolled_far_from_the_t_pose_are_not_given_up(self):
        """Before limbs have their lengths such a forearm is off by centimetres, and was off by half a turn from then on."""
        from_frame, rng = 45, np.random.default_rng(1)
        ease = np.clip((np.arange(len(self.motion)) - from_frame) / 45.0, 0.0, 1.0)
        ease = (ease**2 * (3 - 2 * ease))[:, None]
        sway = 12.0 * band_noise(rng, len(ease), 3, float(RATE), 0.2, 1.0)[:, :, None]
        rotation, axes = self.motion.rotation_local.copy(), np.eye(3)

        def turn(degrees, axis):
            return quaternion_from_rotvec(np.radians(degrees) * ease * axes[axis])

        for side, sign in (("left", 1.0), ("right", -1.0)):
            forward = turn(-sign * (60.0 + sway[:, 0]), 1)
            rolled = quaternion_multiply(turn(-sign * (75.0 + sway[:, 1]), 1), turn(-(120.0 + sway[:, 2]), 0))
            for bone, turned in (
                ("UpperArm", quaternion_multiply(forward, turn(-sign * 30.0, 2))),
                ("LowerArm", rolled),
            ):
                b = self.motion.skeleton.index(side + bone)
                rotation[from_frame:, b] = quaternion_multiply(rotation[from_frame, b], turned[from_frame:])
        motion = replace(self.motion, rotation_local=rotation)
        limbs = "UpperArm", "LowerArm", "UpperLeg", "LowerLeg"
        self.write("rolled.csv", ("hips", "chest", *(s + b for s in ("left", "right") for b in limbs)), motion=motion)
        _, report = self.solve("rolled")
        self.assertLess(max(b["residual_mm"] for b in report["bodies"]), 15.0)

    def test_skin_that_turns_less_than_arms_is_told_and_put_right(self):
        """By elbows that would bend sideways otherwise, of arms that are rolled to and fro as whoever carries something does."""
        local, times = self.motion.rotation_local.copy(), np.arange(len(self.motion)) / float(RATE)
        ease = np.clip((times - 3.0) / 1.5, 0.0, 1.0)[:, None]
        for side, sign in (("left", 1.0), ("right", -1.0)):
            rolled = 45.0 * np.sin(2 * np.pi * 0.27 * times + sign)[:, None] * [1.0, 0.0, 0.0]
            bent = (75.0 + 15.0 * np.sin(2 * np.pi * 0.19 * times))[:, None] * [0.0, -sign, 0.0]
            for bone, degrees in (("UpperArm", rolled), ("LowerArm", bent)):
                b = self.motion.skeleton.index(side + bone)
                turned = quaternion_from_rotvec(np.radians(ease * degrees))
                local[:, b] = quaternion_multiply(local[:, b], turned) if bone == "UpperArm" else turned
        motion = replace(self.motion, rotation_local=local)
        self.write("skin.csv", ALL, motion=motion)
        body, report = self.solve("skin")
        with patch("otrevo.core.rigid.solve.missed_by_skin", lambda *_: {}):
            as_seen, _ = self.solve("skin")
        for side in ("left", "right"):
            self.assertAlmostEqual(report["figures"]["skin_missed"][f"{side}UpperArm"], MISSED["UpperArm"], delta=0.08)
        arms = [s + b for s in ("left", "right") for b in ("UpperArm", "LowerArm")]
        better, before = (self.angles(b, arms, motion) for b in (body, as_seen))
        self.assertLess(better, 0.75 * before)

    def test_a_map_decides_and_a_given_skeleton_is_used(self):
        names = [f"rb {i}" for i in range(len(TEN))]
        self.write("numbered.csv", TEN, names)
        (self.at / "map.json").write_text(json.dumps(dict(zip(names, TEN, strict=True))))
        write_document(self.at / "a.json", true_calibration(make_performer(9, shipped_chart(), 1.9)).to_document())
        body, _ = self.solve("numbered", "--map", "@map.json", "--performer", "@a.json", "--rate", "15")
        self.assertEqual(body.rate, Fraction(15))
        shin = np.linalg.norm(body.skeleton.rest_offset_m[body.skeleton.index("leftFoot")])
        self.assertAlmostEqual(shin, np.linalg.norm(make_performer(9, shipped_chart(), 1.9).skeleton.rest_offset_m[
            generic_skeleton().index("leftFoot")]), 3)  # fmt: skip

    def test_a_map_that_has_two_bodies_the_wrong_way_round_is_doubted(self):
        names = [f"rb {i}" for i in range(len(TEN))]
        self.write("wrong.csv", TEN, names)
        bones = dict(zip(names, TEN, strict=True))
        for wrong in (False, True):
            (self.at / "map.json").write_text(json.dumps(bones))
            _, report = self.solve("wrong", "--map", "@map.json")
            doubted = [n for n in report["notes"] if "from where its limb has it" in n]
            self.assertEqual(any(f"'{names[i]}'" in n for n in doubted for i in (3, 9)), wrong, doubted)
            bones[names[3]], bones[names[9]] = bones[names[9]], bones[names[3]]

    def test_bodies_that_are_only_numbered_go_to_the_limbs_they_are_beside(self):
        for bones in (ALL, SIX):
            with self.subTest(bodies=len(bones)):
                names = [f"rb {i}" for i in np.random.default_rng(4).permutation(len(bones))]
                crate = rows_of(self.motion, SEED, ["head"], ["rb 99"])
                crate = [(at, name, 2.5, 0.4, 1.0, *turned) for at, name, _, _, _, *turned in crate]
                self.write("numbers.csv", bones, names, spoil=lambda rows, crate=crate: rows + crate)
                body, report = self.solve("numbers")
                self.assertEqual({r["body"]: r["bone"] for r in report["bodies"]}, dict(zip(names, bones, strict=True)))
                self.assertEqual([r["body"] for r in report["left_out"]], ["rb 99"])
                self.assertIn("no name says a limb", " ".join(report["notes"]))
                self.assertLess(self.errors(body)[0], 80)

    def test_numbered_bodies_of_no_performer_are_refused(self):
        for bones in (("leftHand", "rightHand", "head"), ("hips", "leftHand", "leftFoot", "head", "leftLowerArm")):
            self.write("few.csv", bones, [f"rb {i}" for i in range(len(bones))])
            status, said = self.run_pass("bodies", "--rigid", "@few.csv", "--height-m", "1.71", "--out", "@no.bvh")
            self.assertNotEqual(status, 0)
            self.assertIn("--map", said)
            self.assertFalse((self.at / "no.bvh").exists())

    def test_a_map_that_puts_no_body_on_a_limb_is_refused(self):
        self.write("none.csv", SIX)
        (self.at / "empty.json").write_text("{}")
        status, said = self.run_pass(
            "bodies", "--rigid", "@none.csv", "--map", "@empty.json", "--height-m", "1.71", "--out", "@no.bvh"
        )
        self.assertNotEqual(status, 0)
        self.assertIn("No two bodies", said)

    def test_a_front_that_nothing_tells_is_said(self):
        """Somebody who stands in a T-pose all through looks the same from behind."""
        skeleton = generic_skeleton(HEIGHT_M)
        place = np.array([rest_joints(skeleton)[bone] for bone in SIX])
        frames = np.repeat(place[None], 60, axis=0)
        rotation = np.tile([0.0, 0.0, 0.0, 1.0], (60, len(SIX), 1))
        bones, faces = bones_by_place(place, frames, rotation, HEIGHT_M)
        self.assertEqual(len(bones), len(SIX))
        self.assertFalse(faces)

    def test_two_performers_in_one_file_are_told_apart_by_their_names(self):
        zoe = perform("warm-up", make_performer(5, shipped_chart(), 1.84), 5, RATE, (-1.5, 0.8), 1.1).motion
        both = lambda rows: rows + rows_of(zoe, 5, SIX, [called(b, "Zoe") for b in SIX])  # noqa: E731
        self.write("both.csv", SIX, [called(b) for b in SIX], spoil=both)
        body, report = self.solve("both", "--of", "Mo")
        self.assertEqual({r["body"]: r["bone"] for r in report["bodies"]}, {called(b): b for b in SIX})
        self.assertTrue(all("zoe" in r["why"] for r in report["left_out"]))
        self.assertLess(self.errors(body)[0], 80)
        status, said = self.run_pass("bodies", "--rigid", "@both.csv", "--height-m", "1.71", "--out", "@no.bvh")
        self.assertEqual(status, 2)
        self.assertIn("mo, zoe", said)

    def test_a_stiff_joint_gives_less(self):
        self.write("stiff.csv", SIX)
        loose, _ = self.solve("stiff", "--stiffness", "spine=0.2,chest=0.2,upperChest=0.2")
        stiff, _ = self.solve("stiff", "--stiffness", "spine=1,chest=1,upperChest=1")
        bends = [
            np.linalg.norm(rotvec_from_quaternion(m.rotation_local[:, m.skeleton.index("spine")]), axis=1).mean()
            for m in (loose, stiff)
        ]
        self.assertLess(bends[1], 0.6 * bends[0])


@patch("otrevo.core.rigid.solve.FIT_FRAMES", 80)  # of 160: what holds here holds of a coarse fit, too
class Refused(Bodies):
    def refused(self, words, *given, **written):
        self.write("bad.csv", SIX, **written)
        status, said = self.run_pass("bodies", "--rigid", "@bad.csv", "--height-m", "1.71", "--out", "@bad.bvh", *given)
        self.assertEqual(status, 2, said)
        self.assertIn(words, said)
        self.assertEqual(len(said.strip().splitlines()), 1)
        self.assertFalse((self.at / "bad.bvh").exists())

    def test_each_fault_is_one_sentence(self):
        backwards = lambda rows: rows[::-1]  # noqa: E731
        self.refused("runs backwards", spoil=backwards)
        self.refused("no body has two good samples", spoil=lambda rows: [(*r[:5], 0, 0, 0, 0) for r in rows])
        self.refused("no samples", spoil=lambda rows: [])
        self.refused("at least 1 s", spoil=lambda rows: rows[:150])
        (self.at / "map.json").write_text(json.dumps({"nobody": "hips"}))
        self.refused("'nobody'", "--map", "@map.json")
        (self.at / "map.json").write_text(json.dumps({"hips": "leftWing"}))
        self.refused("not a bone", "--map", "@map.json")
        self.refused("--stiffness chest=much", "--stiffness", "chest=much")
        twins = lambda rows: rows + [(r[0], "upper back", *r[2:]) for r in rows if r[1] == "hips"]  # noqa: E731
        self.refused("never move against each other", spoil=twins)
        others = lambda rows: rows + [(r[0], f"Zoe {r[1]}", r[2] + 2.0, *r[3:]) for r in rows]  # noqa: E731
        self.refused("several performers", spoil=others)

    def test_lost_and_doubled_samples_are_noted_and_nothing_more(self):
        def spoiled(rows):
            rows = rows + rows[:600]
            rows[1000] = (*rows[1000][:2], float("nan"), *rows[1000][3:])
            return rows

        self.write("odd.csv", SIX, spoil=spoiled)
        body, report = self.solve("odd")
        self.assertLess(self.errors(body)[0], 80)
        self.assertTrue(any("twice" in n for n in report["notes"]))
        self.assertTrue(any("no place" in n for n in report["notes"]))


if __name__ == "__main__":
    unittest.main()
