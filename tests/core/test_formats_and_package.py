import json
import shutil
import struct
import tempfile
import unittest
import zipfile
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from unittest import mock

import ezc3d
import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.conventions import quaternion_from_rotvec
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.formats.bvh import read_bvh, write_bvh
from otrevo.core.formats.c3d import read_c3d, write_c3d
from otrevo.core.formats.contract import Channels, PackageTake
from otrevo.core.formats.documents import read_document, write_document
from otrevo.core.formats.face_csv import read_face_csv, write_face_csv
from otrevo.core.formats.wav import read_wav, write_wav
from otrevo.core.package.build import build_package
from otrevo.core.package.check import check_package
from otrevo.core.package.naming import clean, name_from_pattern


def some_motion(frames=40, rate=Fraction(60)):
    rng = np.random.default_rng(3)
    skeleton = generic_skeleton(1.7)
    turns = np.cumsum(rng.normal(0, 0.02, (frames, len(skeleton.names), 3)), axis=0)
    root = np.cumsum(rng.normal(0, 0.005, (frames, 3)), axis=0) + [0.2, 0.9, -0.1]
    return Motion(skeleton, rate, root, quaternion_from_rotvec(turns))


class InFolder(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def path(self, name, content=None):
        path = self.folder / name
        if content is not None:
            path.write_bytes(content if isinstance(content, bytes) else content.encode())
        return path

    def refused(self, function, path, words):
        with self.assertRaisesRegex(InputError, words) as caught:
            function(path)
        self.assertIn(path.name, str(caught.exception), "the sentence must name the file")
        self.assertNotIn("\n", str(caught.exception))


class Bvh(InFolder):
    def test_round_trip_within_a_thousandth(self):
        motion, path = some_motion(), self.path("a.bvh")
        write_bvh(path, motion)
        again = read_bvh(path)
        order = [again.skeleton.names.index(n) for n in motion.skeleton.names]
        a, _ = motion_joints(motion)
        b, _ = motion_joints(again)
        self.assertLess(np.abs(a - b[:, order]).max(), 1e-6)
        self.assertEqual(again.rate, motion.rate)

    def test_an_independent_reading_of_the_text_agrees(self):
        """Channels multiplied out by hand, matrix by matrix, as the format is described."""
        motion, path = some_motion(3), self.path("a.bvh")
        write_bvh(path, motion)
        text = path.read_text()
        row = [float(v) for v in text.splitlines()[-1].split()]
        stack, offset, places, at, current = [], {}, {}, 0, None
        world = {}

        def axis(name, degrees):
            c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
            return {"X": np.array([[1, 0, 0], [0, c, -s], [0, s, c]]), "Y": np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]]),
                    "Z": np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])}[name]  # fmt: skip

        for line in text.split("MOTION")[0].splitlines():
            words = line.split()
            if not words:
                continue
            if words[0] in ("ROOT", "JOINT"):
                current = words[1]
            elif words[0] == "End":
                current = None
            elif words[0] == "{":
                stack.append(current)
            elif words[0] == "}":
                stack.pop()
            elif words[0] == "OFFSET" and stack[-1]:
                offset[stack[-1]] = np.array([float(v) for v in words[1:]])
            elif words[0] == "CHANNELS":
                name = stack[-1]
                parent = stack[-2] if len(stack) > 1 else None
                base, turn = world.get(parent, (np.zeros(3), np.eye(3)))
                place, rotation = base + turn @ offset[name], turn.copy()
                for channel in words[2:]:
                    if channel.endswith("position"):
                        place[" XYZ".index(channel[0]) - 1] += row[at]
                    else:
                        rotation = rotation @ axis(channel[0], row[at])
                    at += 1
                world[name], places[name] = (place, rotation), place
        joints, _ = motion_joints(motion)
        for b, name in enumerate(motion.skeleton.names):
            np.testing.assert_allclose(places[name], joints[-1, b] * 100, atol=1e-4)

    def test_broken_files_are_refused(self):
        path = self.path("good.bvh")
        write_bvh(path, some_motion())
        text = path.read_text()
        for content, words in (
            ("", "no HIERARCHY"), (text[: len(text) // 2], "need|no HIERARCHY|not numbers"), (text[:300], "no HIERARCHY"),
            (text.replace("Frames: 40", "Frames: 41"), "need"), (text.replace("Frame Time:", "Time"), "Frame Time"),
            (text[:-3] + "nan\n", "NaN|need|not numbers"), (text.replace("}", "", 3), "truncated|malformed|inside"),
        ):  # fmt: skip
            self.refused(read_bvh, self.path("bad.bvh", content), words)

    def test_missing_poses_are_not_written(self):
        motion = some_motion()
        motion.rotation_local[3, 4] = np.nan
        with self.assertRaisesRegex(InputError, "without a pose"):
            write_bvh(self.path("x.bvh"), motion)
        self.assertEqual(list(self.folder.iterdir()), [])


class C3d(InFolder):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(1)
        body = np.stack([rng.uniform(-0.6, 0.6, 30), rng.uniform(0, 1.7, 30), rng.uniform(-0.2, 0.2, 30)], 1)
        self.points = body + np.cumsum(rng.normal(0, 0.002, (50, 1, 3)), axis=0)
        self.points[10:15, 3] = np.nan
        self.names = [f"m{i}" for i in range(30)]

    def test_round_trip_in_millimetres_keeps_gaps(self):
        path = self.path("a.c3d")
        write_c3d(path, self.points, self.names, Fraction(120))
        again = read_c3d(path)
        np.testing.assert_allclose(again.points_m, self.points, atol=1e-6)
        self.assertEqual((again.names, again.rate, again.notes), (tuple(self.names), Fraction(120), ()))
        plain = ezc3d.c3d(str(path))  # the file itself, past our reader
        self.assertEqual(plain["parameters"]["POINT"]["UNITS"]["value"], ["mm"])
        self.assertAlmostEqual(plain["data"]["points"][1, 0, 0], 1000 * self.points[0, 0, 1], places=3)

    def write_raw(self, points, units=None):
        path = self.folder / "raw.c3d"
        c3d = ezc3d.c3d()
        block = np.ones((4, points.shape[1], points.shape[0]))
        block[:3] = points.transpose(2, 1, 0)
        c3d["parameters"]["POINT"]["RATE"]["value"] = [100.0]
        c3d["parameters"]["POINT"]["LABELS"]["value"] = [f"*{i}" for i in range(points.shape[1])]
        c3d["parameters"]["POINT"]["UNITS"]["value"] = [units] if units else []
        c3d["data"]["points"] = block
        c3d.write(str(path))
        return path

    def test_units_and_axes_are_detected_and_said(self):
        self.points = np.nan_to_num(self.points, nan=0.01)
        z_up = np.stack([self.points[..., 0], -self.points[..., 2], self.points[..., 1]], -1)
        for points, units in ((z_up, "m"), (1000 * z_up, "mm"), (1000 * z_up, "m"), (z_up, "mm")):
            again = read_c3d(self.write_raw(points, units))
            np.testing.assert_allclose(again.points_m, self.points, atol=1e-5)
            self.assertTrue(any("Z up" in n for n in again.notes))
        self.assertTrue(any("read as m" in n for n in again.notes), "the wrong unit must be said")

    def test_more_than_255_trajectories(self):
        rng = np.random.default_rng(0)
        many = rng.uniform(0.1, 1.5, (5, 300, 3))
        path = self.path("many.c3d")
        write_c3d(path, many, [f"p{i}" for i in range(300)], Fraction(120))
        again = read_c3d(path)
        self.assertEqual(len(again.names), 300)
        np.testing.assert_allclose(again.points_m, many, atol=1e-6)

    def test_broken_files_are_refused(self):
        good = self.path("good.c3d")
        write_c3d(good, self.points, self.names, Fraction(120))
        data = good.read_bytes()
        for content, words in (
            (b"", "not a C3D"), (b"x" * 2000, "not a C3D"), (data[: len(data) // 2], "truncated"), (data[:600], "C3D|truncated"),
        ):  # fmt: skip
            self.refused(read_c3d, self.path("bad.c3d", content), words)
        self.refused(read_c3d, self.folder / "none.c3d", "no such file")
        with self.assertRaises(InputError):
            write_c3d(self.path("empty.c3d"), np.full((3, 2, 3), np.nan), ["a", "b"], Fraction(120))


class FaceAndSound(InFolder):
    def test_face_round_trip_keeps_losses(self):
        values = np.random.default_rng(0).uniform(0, 1, (20, 52))
        values[4:7] = np.nan
        path = self.path("a.csv")
        write_face_csv(path, np.arange(20) / 60, values)
        times, again, names = read_face_csv(path)
        np.testing.assert_allclose(again, values, atol=1e-5)
        self.assertEqual(names, FACE_SHAPES)

    def test_bad_face_files_are_refused_with_the_line(self):
        for content, words in (
            ("", "line 1"), ("jawOpen,x\n1,2", "line 1"), ("time,jawDrop\n0,1", "jawDrop"), ("time,jawOpen\n", "no samples"),
            ("time,jawOpen\n0,0.1\n0,0.2\n", "line 3"), ("time,jawOpen\n0,a\n", "line 2"), ("time,jawOpen\n0,1,2\n", "line 2"),
            ("time,jawOpen\n0,80\n", "0 to 1"), ("time,jawOpen,jawOpen\n0,1,1\n", "twice"), (b"\xff\xfe\x00", "not text"),
        ):  # fmt: skip
            self.refused(read_face_csv, self.path("bad.csv", content), words)

    def test_wav_round_trip_and_refusals(self):
        path = self.path("a.wav")
        write_wav(path, 48000, np.sin(np.arange(4800) / 20) * 0.5)
        rate, samples = read_wav(path)
        self.assertEqual((rate, len(samples)), (48000, 4800))
        self.assertAlmostEqual(float(np.abs(samples).max()), 0.5, places=3)
        data = path.read_bytes()
        self.refused(read_wav, self.path("cut.wav", data[:3000]), "truncated|cannot|not a WAV")
        self.refused(read_wav, self.path("junk.wav", b"RIFFjunkjunk"), "not a WAV")
        self.refused(read_wav, self.path("none.wav", data[:40] + struct.pack("<I", 0)), "no sound|truncated|not a WAV")
        with self.assertRaisesRegex(InputError, "channel 2"):
            read_wav(path, 1)

    def test_documents_are_refused_by_kind_nan_and_syntax(self):
        for content, words in (
            ("{", "line 1"), ('{"otrevo": "chart/1"}', "expected"), ('{"otrevo": "wand/1", "x": NaN}', "NaN"), ("[]", "expected"),
        ):  # fmt: skip
            self.refused(lambda p: read_document(p, "wand/1"), self.path("d.json", content), words)
        with self.assertRaises(ValueError):
            write_document(self.path("e.json"), {"x": float("nan")})
        self.assertFalse((self.folder / "e.json").exists())


class Names(unittest.TestCase):
    def test_pattern(self):
        values = {"production": "SMS", "slate": "14B", "take": 4, "performer": "Ines", "day": 3, "scene": "14B"}
        self.assertEqual(name_from_pattern("{production}_{slate}_t{take:02d}_{performer}", values), "SMS_14B_t04_Ines")
        hostile = values | {"slate": "../../etc/passwd", "performer": "a/b\\c\0"}
        name = name_from_pattern("{slate}_{take}_{performer}", hostile)
        self.assertNotIn("/", name)
        self.assertNotIn("..", name)
        for pattern in ("{slate}", "{slate}{take}{password}", "{slate", "{slate}_{take:zz}"):
            with self.assertRaises(InputError):
                name_from_pattern(pattern, values)
        for pattern in ("{slate}_{take.__class__}", "{slate}_{take!r}", "{slate}{take[0]}", "{slate}_{take:900000000d}", "{slate}_{take:>99}",
                        "{slate}_{take}{", "{{slate}}_{take}"):  # fmt: skip
            with self.subTest(pattern), self.assertRaisesRegex(InputError, "expected fields such as"):
                name_from_pattern(pattern, values)
        self.assertEqual(clean("///"), "unnamed")


def packaged(name="SMS_14B_t04_Ines", note="fine"):
    motion = some_motion(240, Fraction(120))
    markers = np.random.default_rng(2).uniform(0, 1.7, (240, 5, 3))
    markers[40:60, 2] = np.nan
    rng = np.random.default_rng(3)
    readings = rng.normal(0, 300, (200, 2))
    readings[50:70] = np.nan
    return PackageTake(
        name, motion, ("a", "b", "c", "d", "e"), markers, Fraction(120),
        {"slate": "14B", "take": 4, "status": "circled", "performer": "Ines", "first_timecode": "10:42:06;00",
         "last_timecode": "10:42:08;00", "note": note},
        {"solve": {"residual_rms_mm": 3.2}, "label": {"named_share": 0.998}},
        [{"text": "a: gap 0.30 s <b>", "start_s": 1.0, "severity": 1.2}], {"solve": {"id": 1}}, "Ines v1",
        tracks={"face shapes": Channels(np.arange(120) / 60, rng.uniform(0, 1, (120, 52)), FACE_SHAPES)},
        readings={"suit": Channels(0.003 + np.arange(200) / 100.002, readings, ("a x", "a y"))},
    )  # fmt: skip


class Packages(InFolder):
    def build(self, takes=None, formats=("bvh", "c3d", "face", "readings")):
        return build_package(
            self.path("p.zip"), "Saltmarsh Signal", takes or [packaged()], formats, Fraction(30000, 1001)
        )

    def test_built_read_back_and_checked(self):
        result = self.build()
        self.assertEqual(result.faults, [])
        worst = max(d.get("position_mm", 0) for d in result.differences)
        self.assertLess(worst, 0.1)
        self.assertLess(max(d.get("rotation_deg", 0) for d in result.differences), 0.01)
        check = check_package(result.path)
        self.assertTrue(check.ok, check.faults)
        with zipfile.ZipFile(result.path) as archive:
            names = set(archive.namelist())
            report = archive.read("quality-report.html").decode()
            log = archive.read("shot-log.csv").decode()
        self.assertEqual(
            names,
            {"manifest.json", "quality-report.html", "shot-log.csv", "SMS_14B_t04_Ines.bvh", "SMS_14B_t04_Ines.c3d",
             "SMS_14B_t04_Ines_face.csv", "SMS_14B_t04_Ines_suit_readings.csv"},
        )  # fmt: skip
        self.assertIn("3.2 mm", report)
        self.assertNotIn("<b>", report)
        self.assertIn("10:42:06;00", log)

    def test_a_changed_file_a_missing_one_and_a_stranger_are_found(self):
        result = self.build()
        with zipfile.ZipFile(result.path) as archive:
            content = {n: archive.read(n) for n in archive.namelist()}
        for change, words in (
            ({"SMS_14B_t04_Ines.bvh": b"x"}, "checksum"), ({"SMS_14B_t04_Ines.c3d": None}, "not in the zip"), ({"new.txt": b"1"}, "not in the manifest"),
        ):  # fmt: skip
            path = self.folder / "changed.zip"
            with zipfile.ZipFile(path, "w") as archive:
                for n, data in (content | change).items():
                    if data is not None:
                        archive.writestr(n, data)
            self.assertRegex(" ".join(check_package(path).faults), words)

    def test_formulas_in_notes_do_not_run_in_spreadsheets(self):
        result = self.build([packaged(note="=HYPERLINK(1)")])
        with zipfile.ZipFile(result.path) as archive:
            self.assertIn("'=HYPERLINK", archive.read("shot-log.csv").decode())

    def test_refusals(self):
        for takes, formats, words in (
            ([packaged(), packaged()], ("bvh",), "both be named"), ([packaged()], ("abc",), "no format .abc."), ([packaged()], (), "no format"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, words):
                self.build(takes, formats)
        with self.assertRaisesRegex(InputError, "no take"):
            build_package(self.path("p.zip"), "x", [], ("bvh",), Fraction(30))
        self.assertFalse((self.folder / "p.zip").exists())

    def test_a_full_disk_leaves_nothing_behind(self):
        full = mock.patch("zipfile.ZipFile.writestr", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaisesRegex(InputError, "No space left"):
            self.build()
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_things_that_are_no_package_are_refused(self):
        self.refused(check_package, self.path("a.zip", b"nothing"), "not a package")
        self.refused(check_package, self.folder / "none.zip", "no such file")
        with zipfile.ZipFile(self.folder / "b.zip", "w") as archive:
            archive.writestr("manifest.json", json.dumps({"otrevo": "chart/1"}))
        self.refused(check_package, self.folder / "b.zip", "chart/1")

    def test_a_difference_over_the_limit_is_a_fault(self):
        take = packaged()
        moved = replace(take.motion, root_position_m=take.motion.root_position_m + [0, 0.002, 0])
        with mock.patch("otrevo.core.formats.bvh.read_bvh", return_value=moved):
            result = build_package(self.path("q.zip"), "x", [take], ("bvh",), Fraction(120))
        self.assertRegex(result.faults[0], r"2\.000 mm")
