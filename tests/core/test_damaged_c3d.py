"""Damaged C3D files are refused in a sentence before the library under the reader sees them; sound ones of every byte order are read.

The files are read in child processes, so that a crash of the library is a failed test and not the end of all tests.
"""

import os
import resource
import signal
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from unittest import mock

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.c3d import read_c3d, write_c3d
from otrevo.core.formats.guarded import read_dropped
from otrevo.core.timecode.labels import TimecodeFormat

CODE = TimecodeFormat(Fraction(25))
READ, REFUSED, OTHER = 0, 1, 2


def read_each(path, contents):
    """How reading each of `contents` as a file ended: READ, REFUSED, OTHER error, or the negative number of the signal that ended it.

    One child reads them in turn. Where it is ended, another one goes on with the next.
    """
    out = []
    while len(out) < len(contents):
        told, tells = os.pipe()
        child = os.fork()
        if child == 0:
            resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
            resource.setrlimit(resource.RLIMIT_AS, (4 << 30, 4 << 30))
            os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
            for data in contents[len(out) :]:
                used = int(sum(os.times()[:2]))
                resource.setrlimit(resource.RLIMIT_CPU, (used + 10, resource.RLIM_INFINITY))
                path.write_bytes(data)
                status = OTHER
                try:
                    read_c3d(path)
                    status = READ
                except InputError:
                    status = REFUSED
                except BaseException:  # told as OTHER
                    pass
                os.write(tells, bytes([status]))
            os._exit(0)
        os.close(tells)
        with os.fdopen(told, "rb") as statuses:
            out += statuses.read()
        _, status = os.waitpid(child, 0)
        if len(out) < len(contents):
            out.append(os.waitstatus_to_exitcode(status))
    return out


def parameters_of(data):
    """(group number, name, place of the entry, place of its type byte) of every parameter, and names of groups by number."""
    at, groups, out = (data[0] - 1) * 512 + 4, {}, []
    while True:
        length, group = data[at] if data[at] < 128 else 256 - data[at], data[at + 1]
        if length == 0:
            return groups, out
        name = bytes(data[at + 2 : at + 2 + length]).decode()
        link = at + 2 + length
        if group > 127:
            groups[256 - group] = name
        else:
            out.append((group, name, at, link + 2))
        step = int.from_bytes(data[link : link + 2], "little")
        if step == 0:
            return groups, out
        at = link + step


def as_dec(data):
    """The same file as a DEC (85) would have written it: the same integers, reals as VAX F."""
    data = bytearray(data)

    def real(at):
        v = (np.frombuffer(bytes(data[at : at + 4]), "<f4") * 4).tobytes()
        data[at : at + 4] = bytes((v[2], v[3], v[0], v[1]))

    for _, _, _, kind_at in parameters_of(data)[1]:
        dimensions = list(data[kind_at + 2 : kind_at + 2 + data[kind_at + 1]])
        if data[kind_at] == 4:
            for i in range(int(np.prod(dimensions, dtype=int))):
                real(kind_at + 2 + len(dimensions) + 4 * i)
    for at in (12, 20, *range((int.from_bytes(data[16:18], "little") - 1) * 512, len(data) - 3, 4)):
        real(at)
    data[(data[0] - 1) * 512 + 3] = 85
    return bytes(data)


class Damaged(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.path = Path(cls.folder.name) / "take.c3d"
        cls.points = np.random.default_rng(4).normal(0, 1, (25, 9, 3)) + [0, 1, 0]
        write_c3d(cls.path, cls.points, [f"m{i}" for i in range(9)], Fraction(120), "10:20:30:04")
        cls.whole = cls.path.read_bytes()

    def written(self, data):
        path = Path(self.folder.name) / "x.c3d"
        path.write_bytes(data)
        return path

    def spoiled(self, at, value):
        data = bytearray(self.whole)
        data[at] = value
        return bytes(data)

    def changed(self, at, value):
        return self.written(self.spoiled(at, value))

    def read_or_refused(self, cases):
        """Each of the cases, {what it is: bytes}, is read or refused in a sentence."""
        ended = read_each(Path(self.folder.name) / "x.c3d", list(cases.values()))
        for words, how in zip(cases, ended, strict=True):
            with self.subTest(words):
                self.assertIn(how, (READ, REFUSED))

    def place_of(self, group, name):
        groups, parameters = parameters_of(self.whole)
        return next(kind for g, n, _, kind in parameters if (groups[g], n) == (group, name))

    def test_the_type_of_every_parameter_changed_to_every_other(self):
        groups, parameters = parameters_of(self.whole)
        self.assertGreater(len(parameters), 10)
        self.read_or_refused({
            f"{groups[group]}:{name} to {kind}": self.spoiled(kind_at, kind)
            for group, name, _, kind_at in parameters for kind in (255, 1, 2, 4, 3, 128) if kind != self.whole[kind_at]
        })  # fmt: skip

    def test_rotation_used_is_no_text(self):
        path = self.changed(self.place_of("ROTATION", "USED"), 255)
        with self.assertRaisesRegex(InputError, r"x\.c3d: the C3D is damaged \(ROTATION:USED"):
            read_c3d(path)

    def test_the_processor_is_not_believed(self):
        at = (self.whole[0] - 1) * 512 + 3
        for processor, words in ((85, "frames a second|makes no sense"), (86, "MIPS"), (7, "processor 7")):
            with self.subTest(processor), self.assertRaisesRegex(InputError, words):
                read_c3d(self.changed(at, processor))

    def test_a_file_of_a_dec_is_read(self):
        np.testing.assert_allclose(read_c3d(self.written(as_dec(self.whole))).points_m, self.points, atol=2e-5)

    def test_parameter_blocks_cut_short(self):
        start = (self.whole[0] - 1) * 512
        cases = {}
        for end in range(start, start + 2048, 37):
            cases[f"ends at {end}"] = self.whole[:end]
            cases[f"lacks what is after {end}"] = self.whole[:end] + self.whole[start + 2048 :]
        self.read_or_refused(cases)

    def test_any_byte_of_header_and_parameters(self):
        rng = np.random.default_rng(12)
        end = (int.from_bytes(self.whole[16:18], "little") - 1) * 512
        cases = {}
        for _ in range(400):
            at, value = int(rng.integers(end)), int(rng.choice([0, 1, 127, 128, 255, rng.integers(256)]))
            cases[f"byte {at} is {value}"] = self.spoiled(at, value)
        self.read_or_refused(cases)

    def test_a_reader_that_ends_does_not_end_the_others(self):
        """What these tests stand on: a signal is told for the file it came with."""
        path, read = Path(self.folder.name) / "y.c3d", read_c3d

        def ends(at):
            if at.read_bytes() == b"ends":
                os.kill(os.getpid(), signal.SIGSEGV)
            return read(at)

        with mock.patch(f"{__name__}.read_c3d", ends):
            ended = read_each(path, [self.whole, b"ends", b"nothing", self.whole])
        self.assertEqual(ended, [READ, -signal.SIGSEGV, REFUSED, READ])


class Guarded(unittest.TestCase):
    """Reading in a process of its own: what ends the reader is one sentence, and soon."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "0.c3d"

    def with_reader(self, code):
        """Read a dropped file while the library's reader does `code` instead."""
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        (Path(folder.name) / "ezc3d.py").write_text(f"def c3d(path):\n    {code}\n")
        write_c3d(self.path, np.ones((4, 7, 3)), [f"m{i}" for i in range(7)], Fraction(100))
        before = os.environ.get("PYTHONPATH", "")
        os.environ["PYTHONPATH"] = folder.name + os.pathsep + before
        try:
            return read_dropped(self.path, "slate 12.c3d", CODE)
        finally:
            os.environ["PYTHONPATH"] = before

    def test_a_sound_file_comes_back_whole(self):
        points = np.random.default_rng(1).normal(0, 1, (40, 8, 3)) + [0, 1, 0]
        points[3:9, 2] = np.nan
        write_c3d(self.path, points, [f"m{i}" for i in range(8)], Fraction(120))
        (stream,) = read_dropped(self.path, "slate 12.c3d", CODE)
        np.testing.assert_allclose(stream.data, points, atol=1e-6)
        self.assertEqual((stream.name, stream.kind, stream.rate), ("optical", "points", Fraction(120)))

    def test_a_crash_is_a_sentence_with_the_users_name_of_the_file(self):
        with self.assertRaisesRegex(InputError, r"^slate 12\.c3d: reading it failed .*SIGSEGV.*damaged\.$"):
            self.with_reader("import os, signal; os.kill(os.getpid(), signal.SIGSEGV)")

    def test_too_much_memory_is_a_sentence(self):
        with self.assertRaisesRegex(InputError, r"^slate 12\.c3d: .*(memory|SIGKILL|SIGABRT|cannot be read)"):
            self.with_reader("return [bytearray(1 << 28) for _ in range(64)]")

    @mock.patch("otrevo.core.formats.guarded.LEAST_S", 1.0)
    def test_an_endless_loop_is_ended(self):
        with self.assertRaisesRegex(InputError, "within 1 s"):
            self.with_reader("\n    while True:\n        pass")

    @mock.patch("otrevo.core.formats.guarded.LEAST_S", 1.0)
    @mock.patch("otrevo.core.formats.guarded.BESIDE_OTHERS", 1)
    def test_waiting_for_what_never_comes_is_ended(self):
        with self.assertRaisesRegex(InputError, "within 1 s"):
            self.with_reader("import time; time.sleep(600)")

    @mock.patch("otrevo.core.formats.guarded.LEAST_S", 1.0)
    @mock.patch("otrevo.core.formats.guarded.BESIDE_OTHERS", 200)  # starting takes its time there as well
    def test_waiting_for_a_busy_machine_is_no_damage(self):
        with self.assertRaisesRegex(InputError, "in its own words"):
            self.with_reader("import time; time.sleep(2); raise ValueError('in its own words')")

    def test_what_the_reader_refuses_keeps_its_sentence(self):
        self.path.write_bytes(b"nothing")
        with self.assertRaisesRegex(InputError, r"^slate 12\.c3d: not a C3D file"):
            read_dropped(self.path, "slate 12.c3d", CODE)


if __name__ == "__main__":
    unittest.main()
