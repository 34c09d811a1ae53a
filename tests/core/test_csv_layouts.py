"""CSV as spreadsheets and devices write it is read as CSV as we write it is."""

import gzip
import re
import tempfile
import unittest
from pathlib import Path

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.formats.face_csv import read_face_csv
from otrevo.core.formats.rigid_bodies_csv import read_bodies
from otrevo.core.formats.suit_table import FORMAT as SUIT
from otrevo.core.formats.suit_table import read_suit, write_suit


def other_ways(text):
    """{how: bytes} of one CSV file, written in other ways."""
    head, *body = text.splitlines()
    ways = {
        "semicolons": text.replace(",", ";"),
        "decimal commas": text.replace(",", ";").replace(".", ","),
        "decimal commas and tabs": text.replace(",", "\t").replace(".", ","),
        "a space after each comma": text.replace(",", ", "),
        "an upper-case header": "\n".join([head.upper(), *body]),
        "words above the header": "# one night, take 3\ndevice,17 sensors\n\n" + text,
        "quotes": "\n".join(",".join(f'"{cell}"' for cell in line.split(",")) for line in [head, *body]),
        "more columns": "\n".join([head + ",battery", *(f"{line},97" for line in body)]),
        "a mark before the header": "\ufeff" + text,
        "columns in another order": "\n".join(",".join(line.split(",")[::-1]) for line in [head, *body]),
        "other ends of lines": text.replace("\n", "\r\n"),
        "empty lines": text.replace("\n", "\n\n"),
    }
    return {how: way.encode() for how, way in ways.items()} | {
        "two bytes for each letter": text.encode("utf-16"),
        "compressed": gzip.compress(text.encode()),
    }


class Layouts(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "other.csv"

    def suit_text(self):
        rng = np.random.default_rng(4)
        rotation = rng.normal(size=(300, 2, 4)) * 0.02 + [0.0, 0.0, 0.0, 1.0]
        rotation /= np.linalg.norm(rotation, axis=2, keepdims=True)
        force = rng.normal(size=(300, 2, 3)) * 0.1 + [0.0, 9.81, 0.0]
        write_suit(self.path, 5.0 + np.arange(300) / 100, ["hips", "chest"], rotation, force)
        return self.path.read_text()

    def test_a_suit(self):
        text = self.suit_text()
        plain = read_suit(self.path)
        for how, way in other_ways(text).items():
            with self.subTest(how):
                self.path.write_bytes(way)
                self.assertTrue(SUIT.is_one(self.path))
                found = read_suit(self.path)
                self.assertEqual((found.names, found.notes), (plain.names, plain.notes))
                np.testing.assert_array_equal(found.rotation, plain.rotation)
                np.testing.assert_array_equal(found.force_ms2, plain.force_ms2)

    def test_rigid_bodies(self):
        lines = [
            f"{k / 100:.2f},{b},0.{b}{k % 10},1.{k % 7}0,{b}.5,0.0,0.0,0.0,1.0" for k in range(300) for b in (1, 2)
        ]
        text = "\n".join(["time,body,px,py,pz,qx,qy,qz,qw", *lines]) + "\n"
        self.path.write_text(text)
        plain = read_bodies(self.path)
        for how, way in other_ways(text).items():
            with self.subTest(how):
                self.path.write_bytes(way)
                np.testing.assert_array_equal(read_bodies(self.path).position_m, plain.position_m)

    def test_face_shapes(self):
        shapes = FACE_SHAPES[:2]
        text = f"time,{shapes[0]},{shapes[1]}\n" + "".join(f"{k / 60:.6f},0.{k},0.5\n" for k in range(10, 60))
        for way in (text, text.replace(",", ";").replace(".", ","), "made on a phone\n" + text.replace(",", "\t")):
            self.path.write_text(way)
            times, values, names = read_face_csv(self.path)
            self.assertEqual(names, shapes)
            np.testing.assert_allclose(times, np.arange(10, 60) / 60, atol=1e-6)
            np.testing.assert_allclose(values[:, 0], np.arange(10, 60) / 100)
        self.path.write_text("made on a phone\n" + text.replace("0.30,", "wide,"))
        with self.assertRaisesRegex(InputError, "line 23: holds a word that is not a number"):
            read_face_csv(self.path)

    def test_a_last_line_that_breaks_off_is_left_out_and_told_and_any_other_is_refused(self):
        text = self.suit_text()
        plain = read_suit(self.path)
        self.path.write_text(text[: text.rstrip().rindex(",") - 2])
        found = read_suit(self.path)
        self.assertEqual(found.notes, ("the last line breaks off and was left out", *plain.notes))
        self.assertEqual(len(found), len(plain))
        lines = text.splitlines(keepends=True)
        self.path.write_text("".join([*lines[:200], lines[200][:20] + "\n", *lines[201:]]))
        with self.assertRaisesRegex(InputError, "a line has 3 columns where the header has 9"):
            read_suit(self.path)

    def test_what_is_wrong_is_said_in_one_sentence(self):
        text = self.suit_text()
        cases = {
            "is empty; expected the suit of one take": b"",
            "no column 'time'": text.split("\n", 1)[1].encode(),
            "no column 'qw'": text.replace("qw", "w").encode(),
            "column 'qz' holds 'north'; expected numbers": re.sub(r"(6.000000,hips,[^,]*,[^,]*),[^,]*", r"\1,north", text).encode(),
            "not text in UTF-8": text.replace("chest", "t\xeate").encode("latin-1"),
            "breaks off before its end": gzip.compress(text.encode())[:4000],
            "no samples under the header": text.splitlines()[0].encode(),
        }  # fmt: skip
        for words, way in cases.items():
            with self.subTest(words):
                self.path.write_bytes(way)
                with self.assertRaisesRegex(InputError, words) as caught:
                    read_suit(self.path)
                self.assertNotIn("\n", str(caught.exception))

        with self.assertRaisesRegex(InputError, "cannot be read as CSV"):
            read_suit(self.path.parent)


if __name__ == "__main__":
    unittest.main()
