"""Files damaged at random: a reader gives data or one sentence, never a crash, never a long wait, never NaN where it promises none."""

import shutil
import tempfile
import time
import unittest
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.performer import performer_from_document
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.conventions import quaternion_from_rotvec
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.formats.bvh import read_bvh, write_bvh
from otrevo.core.formats.c3d import read_c3d, write_c3d
from otrevo.core.formats.documents import read_document, write_document
from otrevo.core.formats.face_csv import read_face_csv, write_face_csv
from otrevo.core.formats.wav import read_wav, write_wav
from otrevo.core.markers.chart import chart_from_document, shipped_chart
from otrevo.core.package.check import check_package
from otrevo.core.props.prop import lantern, prop_from_document
from tests.core.stage import rolled, true_calibration

TRIES = 60
LONGEST_S = 5.0


def damaged(data, rng):
    """One of the ways files break: cut short, bytes changed, a stretch repeated, a stretch gone, zeros in the middle."""
    data = bytearray(data)
    at, length = int(rng.integers(len(data))), int(rng.integers(1, 64))
    way = rng.integers(5)
    if way == 0:
        return bytes(data[:at])
    if way == 1:
        for _ in range(8):
            data[int(rng.integers(len(data)))] = int(rng.integers(256))
    elif way == 2:
        data[at:at] = data[at : at + length]
    elif way == 3:
        del data[at : at + length]
    else:
        data[at : at + length] = bytes(min(length, len(data) - at))
    return bytes(data)


class Damaged(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)
        self.rng = np.random.default_rng(25)

    def check(self, name, read, finite=lambda result: True):
        whole = (self.folder / name).read_bytes()
        refused = 0
        for _ in range(TRIES):
            path = self.folder / ("x" + Path(name).suffix)
            path.write_bytes(damaged(whole, self.rng))
            began = time.monotonic()
            try:
                result = read(path)
            except InputError as error:
                refused += 1
                self.assertNotIn("\n", str(error))
                self.assertLess(len(str(error)), 400)
            else:
                self.assertTrue(finite(result))
            self.assertLess(time.monotonic() - began, LONGEST_S)
        self.assertGreater(refused, 0, "some of this damage cannot be overlooked")

    def test_points(self):
        points = self.rng.uniform(-1, 2, (50, 6, 3))
        write_c3d(self.folder / "a.c3d", points, [f"m{i}" for i in range(6)], Fraction(120))
        self.check("a.c3d", read_c3d)

    def test_motion(self):
        skeleton = generic_skeleton(1.7)
        motion = Motion(skeleton, Fraction(60), self.rng.normal(size=(8, 3)),
                        quaternion_from_rotvec(self.rng.normal(0, 0.3, (8, len(skeleton.names), 3))))  # fmt: skip
        write_bvh(self.folder / "a.bvh", motion)
        self.check(
            "a.bvh", read_bvh, lambda m: np.isfinite(m.rotation_local).all() and np.isfinite(m.root_position_m).all()
        )

    def test_sound(self):
        write_wav(self.folder / "a.wav", 48000, self.rng.normal(0, 0.1, 4000))
        self.check("a.wav", read_wav, lambda r: np.isfinite(r[1]).all())

    def test_faces(self):
        write_face_csv(self.folder / "a.csv", np.arange(20) / 60, self.rng.uniform(0, 1, (20, len(FACE_SHAPES))))
        self.check("a.csv", read_face_csv)

    def test_documents(self):
        performer, _, _ = rolled("rope haul", 41)
        for name, document, read in (
            ("chart.json", shipped_chart().to_document(), lambda d: chart_from_document(d).offset_m),
            ("prop.json", lantern().to_document(), lambda d: prop_from_document(d).offset_m),
            ("performer.json", true_calibration(performer).to_document(),
             lambda d: performer_from_document(d).skeleton.rest_offset_m),
        ):  # fmt: skip
            write_document(self.folder / name, document)
            kind = document["otrevo"]
            with self.subTest(name):
                self.check(name, lambda p, k=kind, r=read: r(read_document(p, k)), lambda x: np.isfinite(x).all())

    def test_packages(self):
        from otrevo.core.package.build import build_package
        from tests.core.test_formats_and_package import packaged

        result = build_package(self.folder / "p.zip", "Saltmarsh Signal", [packaged()], ("bvh", "face"), Fraction(30))
        shutil.copy(result.path, self.folder / "a.zip")
        whole = (self.folder / "a.zip").read_bytes()
        for _ in range(20):
            path = self.folder / "x.zip"
            path.write_bytes(damaged(whole, self.rng))
            try:
                check = check_package(path)
            except InputError as error:
                self.assertNotIn("\n", str(error))
            else:
                changed = path.read_bytes() != whole
                self.assertTrue(check.lines)
                self.assertTrue(check.ok or changed)

    def test_other_kinds_of_file_under_a_known_ending(self):
        write_wav(self.folder / "a.wav", 48000, np.zeros(2000))
        for ending, read in ((".c3d", read_c3d), (".bvh", read_bvh), (".csv", read_face_csv)):
            path = self.folder / f"sound{ending}"
            shutil.copy(self.folder / "a.wav", path)
            with self.subTest(ending), self.assertRaises(InputError) as caught:
                read(path)
            self.assertIn(path.name, str(caught.exception))

    def test_nothing_at_all(self):
        for ending, read in ((".c3d", read_c3d), (".bvh", read_bvh), (".csv", read_face_csv), (".wav", read_wav)):
            path = self.folder / f"empty{ending}"
            path.write_bytes(b"")
            with self.subTest(ending), self.assertRaises(InputError):
                read(path)
