"""Centroid files, and the four optical passes from the command line, bad input included."""

import gzip
import json
import tempfile
import unittest
from contextlib import redirect_stderr
from io import StringIO
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from otrevo.cli.__main__ import main
from otrevo.core.errors import InputError
from otrevo.core.formats.c3d import read_c3d
from otrevo.core.formats.centroids import Centroids, read_centroids, tidied, write_centroids
from otrevo.core.formats.documents import read_document, write_document
from otrevo.core.optics.documents import blinds_from_rows, calibration_from_document
from otrevo.core.optics.rig import RigCamera
from otrevo.core.optics.wand import SHIPPED_WANDS
from otrevo.core.sim.rig import Faults, film, make_rig, sweep

RIG = (RigCamera("c01", 640, 480, 500.0), RigCamera("c02", 640, 480, None))
HEADER = "frame,camera,x,y,radius\n"


class CentroidFiles(unittest.TestCase):
    def setUp(self):
        self.folder = tempfile.TemporaryDirectory()
        self.addCleanup(self.folder.cleanup)

    def file(self, text, name="c.csv"):
        path = Path(self.folder.name) / name
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        return path

    def test_written_and_read_again_plain_and_compressed(self):
        rng = np.random.default_rng(1)
        order = np.lexsort((np.arange(40), np.repeat([0, 1], 20)[rng.permutation(40)]))
        xy = np.round(rng.uniform(0, 470, (40, 2)), 3)
        centroids, _ = tidied(np.sort(rng.integers(0, 9, 40)), rng.integers(0, 2, 40)[order], xy, np.full(40, 2.5))
        for name in ("a.csv", "a.csv.gz"):
            path = Path(self.folder.name) / name
            write_centroids(path, centroids, [c.name for c in RIG])
            again, notes = read_centroids(path, RIG)
            self.assertEqual(notes, [])
            for field in ("frame", "camera", "xy", "radius"):
                np.testing.assert_allclose(getattr(again, field), getattr(centroids, field))

    def test_disorder_and_repeats_are_put_right_and_told(self):
        found, notes = read_centroids(self.file(HEADER + "5,c02,3,4,1\n2,c01,9,4,1\n2,c01,1,4,1\n2,c01,9,4,1\n"), RIG)
        np.testing.assert_array_equal(found.frame, [2, 2, 5])
        np.testing.assert_array_equal(found.xy[:, 0], [1, 9, 3])
        self.assertEqual(len(notes), 2)
        self.assertEqual(found.frames, 6)
        np.testing.assert_array_equal(np.diff(found.groups(2)), [0, 0, 0, 0, 2, 0, 0, 0, 0, 0, 0, 1])

    def test_every_wrong_file_gets_one_sentence_that_says_where(self):
        cases = (
            ("frame,camera,x,y\n1,c01,2,3\n", "no column 'radius'"), (HEADER, "no samples under the header"),
            (HEADER + "1,c09,2,3,1\n", "camera 'c09' is not among"), (HEADER + "1,c01,900,3,1\n", "outside the 640 x 480"),
            (HEADER + "1,c01,nan,3,1\n", "row 2: x is nan"), (HEADER + "-4,c01,1,3,1\n", "row 2: frame is -4"),
            (HEADER + "1,c01,one,3,1\n", "'x' holds 'one'; expected numbers"),
            (HEADER + "1,c01,1\n", "3 columns where the header has 5: 1,c01,1"), ("", "is empty"), (b"\x00\xff\xfe" * 40, "no column"),
            (HEADER + "1.5,c01,1,1,1\n", "'frame' holds '1.5'; expected whole numbers"),
        )  # fmt: skip
        for text, said in cases:
            with self.assertRaisesRegex(InputError, said) as caught:
                read_centroids(self.file(text), RIG)
            self.assertNotIn("\n", str(caught.exception))
        whole = gzip.compress((HEADER + "1,c01,2,3,1\n" * 5000).encode())
        with self.assertRaisesRegex(InputError, "breaks off before its end"):
            read_centroids(self.file(whole[: len(whole) // 2], "cut.csv.gz"), RIG)
        with self.assertRaisesRegex(InputError, "no such file"):
            read_centroids(Path(self.folder.name) / "none.csv", RIG)

    def test_cameras_that_could_not_be_calibrated_are_left_out_and_told(self):
        path = self.file(HEADER + "1,c01,2,3,1\n1,c07,999,3,1\n")
        found, notes = read_centroids(path, RIG, strangers=True)
        self.assertEqual((len(found), len(notes)), (1, 1))
        self.assertIn("c07", notes[0])
        with self.assertRaisesRegex(InputError, "c07"):
            read_centroids(self.file(HEADER + "1,c07,2,3,1\n"), RIG, strangers=True)

    def test_a_recording_of_nothing_has_no_frames(self):
        none = Centroids(np.zeros(0, int), np.zeros(0, int), np.zeros((0, 2)), np.zeros(0))
        self.assertEqual((none.frames, len(none.groups(3))), (0, 1))


class FromTheCommandLine(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        at = cls.at = Path(cls.folder.name)
        cls.rig, wand = make_rig(91, 6), SHIPPED_WANDS["quay corner"]
        names = [c.name for c in cls.rig]
        rows = [
            {"id": c.name, "width": c.width, "height": c.height, "focal_guess_px": 1.03 * c.lens[0]} for c in cls.rig
        ]
        write_document(at / "cameras.json", {"otrevo": "cameras/1", "rate": "100/1", "cameras": rows})
        write_document(at / "wand.json", wand.to_document())
        write_centroids(at / "still.csv", film(cls.rig, np.full((200, 1, 3), np.nan), 91)[0], names)
        write_centroids(at / "sweep.csv.gz", film(cls.rig, sweep(91, wand, 14.0)[0], 91)[0], names)
        quiet = Faults(reflections=0)
        lying = np.repeat(wand.markers_m[None], 60, axis=0)
        write_centroids(at / "lying.csv", film(cls.rig, lying, 92, quiet)[0], names)
        cls.floor = np.random.default_rng(3).uniform([-1.2, 0, -1.2], [1.2, 0, 1.2], (6, 3))
        write_centroids(at / "floor.csv", film(cls.rig, np.repeat(cls.floor[None], 60, axis=0), 93, quiet)[0], names)
        for command in (
            "blinds --centroids still.csv --cameras cameras.json --out blinds.json",
            "calibrate --centroids sweep.csv.gz --cameras cameras.json --wand wand.json --blinds blinds.json "
            "--out free.json --report r.json --progress",
            "level --calibration free.json --wand-on-floor lying.csv --wand wand.json --floor-markers floor.csv "
            "--out levelled.json --report l.json",
            "rebuild --centroids floor.csv --calibration levelled.json --out points.c3d --report p.json",
        ):
            cls.said = cls.run_pass(command)

    @classmethod
    def run_pass(cls, command, status=0):
        words = [str(cls.at / w) if w.split(".")[-1] in ("csv", "gz", "json", "c3d") else w for w in command.split()]
        said = StringIO()
        with redirect_stderr(said):
            got = main(words)
        assert got == status, said.getvalue()
        return said.getvalue()

    def test_a_room_goes_from_pictures_to_levelled_points(self):
        points = read_c3d(self.at / "points.c3d")
        self.assertEqual(points.rate, 100)
        still = np.nanmedian(points.points_m, axis=0)
        distance, _ = cKDTree(still).query(self.floor)
        self.assertLess(distance.max(), 0.002)
        self.assertLess(np.abs(still[:, 1]).max(), 0.0008)

    def test_documents_say_what_was_found(self):
        report = read_document(self.at / "r.json", "calibrate-report/1")
        self.assertEqual(report["failed"], {})
        self.assertAlmostEqual(report["figures"]["reprojection_rms_px"], 0.1, delta=0.006)
        self.assertEqual(len(report["cameras"]), 6)
        row = report["cameras"][0]
        self.assertEqual(np.array(row["coverage"]).shape, (6, 8))
        self.assertEqual(sum(map(sum, row["coverage"])), row["samples"])
        cameras, blinds = calibration_from_document(read_document(self.at / "levelled.json", "calibration/1"))
        self.assertEqual([c.name for c in cameras], [c.name for c in self.rig])
        self.assertEqual(len(blinds), len(read_document(self.at / "blinds.json", "blinds/1")["blinds"]))
        self.assertEqual(read_document(self.at / "l.json", "level-report/1")["figures"]["floor_markers"], 6)

    def test_a_calibration_without_a_rate_is_used_and_the_rate_told(self):
        document = json.loads((self.at / "levelled.json").read_text())
        document["rate"] = None
        write_document(self.at / "no_rate.json", document)
        said = self.run_pass("rebuild --centroids floor.csv --calibration no_rate.json --out again.c3d")
        self.assertIn("how many frames a second", said)
        self.run_pass("rebuild --centroids floor.csv --calibration no_rate.json --rate 120/1 --out again.c3d")
        self.assertEqual(read_c3d(self.at / "again.c3d").rate, 120)

    def test_bad_input_is_one_sentence_status_2_and_nothing_written(self):
        document = json.loads((self.at / "levelled.json").read_text())
        for name, change in (("one.json", {"cameras": document["cameras"][:1]}), ("world.json", {"world": "upside down"}),
                             ("twice.json", {"cameras": document["cameras"][:1] * 2}), ("blind.json", {"blinds": [{"camera": "c99"}]})):  # fmt: skip
            write_document(self.at / name, document | change)
        rows = json.loads((self.at / "cameras.json").read_text())
        rows["cameras"][0]["width"] = 512
        write_document(self.at / "small.json", rows)
        for command, said in (
            ("rebuild --centroids floor.csv --calibration one.json --out x.c3d", "at least two cameras"),
            ("rebuild --centroids floor.csv --calibration world.json --out x.c3d", "world: expected"),
            ("rebuild --centroids floor.csv --calibration twice.json --out x.c3d", "used twice"),
            ("rebuild --centroids floor.csv --calibration blind.json --out x.c3d", r"blinds\[0\]"),
            (
                "rebuild --centroids floor.csv --calibration levelled.json --out x.c3d --residual-limit-px 1e-9",
                "how far off a sighting may lie: 1e-09; expected a number from 0.2",
            ),
            (
                "calibrate --centroids sweep.csv.gz --cameras small.json --wand wand.json --out x.json",
                "another picture size",
            ),
            ("calibrate --centroids still.csv --cameras cameras.json --wand wand.json --out x.json", "cameras|frames"),
            (
                "level --calibration free.json --wand-on-floor still.csv --wand wand.json --out x.json",
                "not found on the floor",
            ),
        ):
            text = self.run_pass(command, 2)
            self.assertRegex(text.splitlines()[-1], said)
            self.assertNotIn("Traceback", text)
            self.assertFalse(list(self.at.glob("x.*")), command)

    def test_blinds_are_checked_row_by_row(self):
        for row in (
            {"camera": "c01"},
            {"camera": "c01", "x": 1, "y": 2, "radius": 0},
            {"camera": "c01", "x": True, "y": 2, "radius": 3},
            7,
        ):
            with self.assertRaisesRegex(InputError, r"blinds\[0\]"):
                blinds_from_rows([row], ["c01"], "b.json")
        with self.assertRaisesRegex(InputError, "expected a list"):
            blinds_from_rows(None, ["c01"], "b.json")
