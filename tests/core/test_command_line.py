import contextlib
import io
import json
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.cli.__main__ import main
from otrevo.core.formats.bvh import read_bvh
from otrevo.core.formats.c3d import read_c3d, write_c3d
from otrevo.core.formats.documents import write_document
from otrevo.core.formats.wav import write_wav
from otrevo.core.props.prop import lantern
from otrevo.core.sim.audio import ltc_track
from otrevo.core.sim.carried import carry
from otrevo.core.sim.optical import see_prop
from otrevo.core.timecode.labels import TimecodeFormat
from tests.core.stage import RATE, rolled, true_calibration, truly_labelled


class CommandLine(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def run_pass(self, *arguments):
        errors = io.StringIO()
        with contextlib.redirect_stderr(errors), contextlib.redirect_stdout(io.StringIO()):
            status = main([str(self.folder / a[1:]) if a.startswith("@") else a for a in arguments])
        return status, errors.getvalue()

    def test_an_option_given_twice_is_refused(self):
        for words in (("solve", "--points", "a", "--performer", "a", "--performer", "b", "--out", "c"),
                      ("label", "--points", "a", "--points=b", "--performer", "a", "--out", "c")):  # fmt: skip
            status, errors = self.run_pass(*words)
            self.assertEqual(status, 2)
            self.assertRegex(errors, r"^otrevo: --(performer|points) is given twice; expected one\.\n$")
        status, errors = self.run_pass(
            "label", "--points", "a", "--performer", "b", "--prop", "c", "--prop", "d", "--out", "e"
        )
        self.assertNotIn("twice", errors)

    def test_label_and_solve_over_files(self):
        performer, _, optical = rolled("rope haul", 41)
        write_document(self.folder / "performer.json", true_calibration(performer).to_document())
        z_up = np.stack([optical.points_m[..., 0], -optical.points_m[..., 2], optical.points_m[..., 1]], -1)
        write_c3d(self.folder / "take.c3d", z_up, [f"*{i}" for i in range(z_up.shape[1])], RATE)
        # our writer says +Y; take that word away, as files from elsewhere do
        data = (self.folder / "take.c3d").read_bytes().replace(b"+Y", b"+Z", 1)
        (self.folder / "take.c3d").write_bytes(data)
        status, errors = self.run_pass(
            "label",
            "--points",
            "@take.c3d",
            "--performer",
            "@performer.json",
            "--out",
            "@named.c3d",
            "--report",
            "@r.json",
        )
        self.assertEqual((status, errors), (0, ""))
        report = json.loads((self.folder / "r.json").read_text())
        self.assertEqual(report["otrevo"], "label-report/1")
        self.assertGreater(report["figures"]["named_share"], 0.97)
        self.assertTrue(any("Z up" in n for n in report["notes"]))
        named = read_c3d(self.folder / "named.c3d")
        self.assertEqual(len(named.names), 57)
        status, errors = self.run_pass(
            "solve",
            "--points",
            "@named.c3d",
            "--performer",
            "@performer.json",
            "--out",
            "@body.bvh",
            "--rate",
            "60",
            "--progress",
        )
        self.assertEqual(status, 0)
        self.assertIn("100 %", errors)
        self.assertEqual(read_bvh(self.folder / "body.bvh").rate, Fraction(60))

    def test_a_prop_goes_all_the_way(self):
        performer, performance, optical = rolled("lantern", 71)
        take = see_prop(optical, carry(performance, lantern(), 71), lantern(), 71)
        points = take.points_m[:1500]
        write_document(self.folder / "performer.json", true_calibration(performer).to_document())
        write_c3d(self.folder / "take.c3d", points, [f"*{i}" for i in range(points.shape[1])], RATE)
        self.assertEqual(self.run_pass("prop", "--name", "lantern", "--out", "@lantern.json")[0], 0)
        common = ["--performer", "@performer.json", "--prop", "@lantern.json", "--report", "@r.json"]
        status, errors = self.run_pass("label", "--points", "@take.c3d", "--out", "@named.c3d", *common)
        self.assertEqual((status, errors), (0, ""))
        named = read_c3d(self.folder / "named.c3d")
        self.assertEqual(named.names[-5:], lantern().marker_names)
        status, errors = self.run_pass("solve", "--points", "@named.c3d", "--out", "@body.bvh", "--rate", "60", *common)
        self.assertEqual((status, errors), (0, ""))
        body, prop = read_bvh(self.folder / "body.bvh"), read_bvh(self.folder / "body_lantern.bvh")
        self.assertEqual((len(body), body.rate), (len(prop), prop.rate))
        self.assertEqual(prop.skeleton.names, ("lantern",))

    def test_a_prop_that_was_not_labelled_or_is_not_known_is_one_sentence(self):
        performer, _, optical = rolled("rope haul", 41)
        write_document(self.folder / "performer.json", true_calibration(performer).to_document())
        self.run_pass("prop", "--name", "lantern", "--out", "@lantern.json")
        chart = true_calibration(performer).marker_names
        write_c3d(self.folder / "named.c3d", truly_labelled(optical, 57)[:200], chart, RATE)
        status, errors = self.run_pass("solve", "--points", "@named.c3d", "--performer", "@performer.json", "--prop",
                                       "@lantern.json", "--out", "@body.bvh")  # fmt: skip
        self.assertEqual((status, errors.count("\n")), (2, 1))
        self.assertIn("no marker 'lantern cap'", errors)
        self.assertFalse((self.folder / "body.bvh").exists())
        status, errors = self.run_pass("prop", "--name", "oar", "--out", "@oar.json")
        self.assertEqual(status, 2)
        self.assertIn("there is no such prop; shipped: lantern", errors)

    def test_timecode(self):
        fmt = TimecodeFormat(Fraction(30000, 1001), True)
        samples, starts, _ = ltc_track(fmt, fmt.frame("10:42:06;00"), 3)
        write_wav(self.folder / "tc.wav", 48000, samples)
        status, _ = self.run_pass(
            "timecode", "--audio", "@tc.wav", "--rate", "30000/1001", "--drop", "--out", "@tc.json"
        )
        document = json.loads((self.folder / "tc.json").read_text())
        self.assertEqual(status, 0)
        self.assertEqual(document["frames"][-1]["timecode"][:8], "10:42:08")
        self.assertLess(abs(document["frames"][3]["sample"] - starts[3]), 1700)

    def test_bad_input_is_one_sentence_status_2_and_no_file(self):
        self.run_pass("chart", "--out", "@chart.json")
        for arguments, words in (
            (("timecode", "--audio", "@none.wav", "--rate", "25", "--out", "@o"), "none.wav"),
            (("timecode", "--audio", "@none.wav", "--rate", "abc", "--out", "@o"), "abc"),
            (("chart", "--name", "Other", "--out", "@o"), "no such chart"),
            (
                ("performer", "--points", "@none.c3d", "--chart", "@chart.json", "--height-m", "1.8", "--out", "@o"),
                "none.c3d",
            ),
            (("label", "--points", "@none.c3d", "--performer", "@chart.json", "--out", "@o"), "performer/1"),
            (("check", "@none.zip"), "none.zip"),
        ):
            status, errors = self.run_pass(*arguments)
            self.assertEqual(status, 2, arguments)
            self.assertIn(words, errors)
            self.assertEqual(errors.count("\n"), 1, errors)
            self.assertFalse((self.folder / "o").exists())
