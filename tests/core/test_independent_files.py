"""Files written and read by code that is not ours: C3D by another library, timecode audio by another encoder."""

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import c3d
import numpy as np

from otrevo.core.formats.c3d import read_c3d, write_c3d
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.core.timecode.ltc import read_ltc


class AnotherC3dLibrary(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "take.c3d"
        rng = np.random.default_rng(8)
        self.points = rng.uniform(-1.5, 2.0, (90, 7, 3))
        self.points[20:35, 2] = np.nan
        self.points[:, 5] = np.nan

    def test_reads_what_we_write(self):
        names = [f"marker {i}" for i in range(7)]
        write_c3d(self.path, self.points, names, Fraction(120))
        with self.path.open("rb") as file:
            reader = c3d.Reader(file)
            labels = [label.strip() for label in reader.point_labels]
            frames = [points for _, points, _ in reader.read_frames()]
        self.assertEqual(labels, names)
        self.assertEqual(float(reader.point_rate), 120.0)
        read = np.array(frames)
        self.assertEqual(read.shape[:2], (90, 7))
        seen = np.isfinite(self.points[..., 0])
        np.testing.assert_array_equal(read[..., 3] >= 0, seen, "gaps are residuals below zero")
        self.assertLess(np.abs(read[..., :3][seen] - 1000 * self.points[seen]).max(), 0.1)

    def test_writes_what_we_read(self):
        """Integer and real, millimetres, columns without a name."""
        for scale in (-1.0, 0.1):
            writer = c3d.Writer(point_rate=100.0, point_scale=scale)
            rows = []
            for frame in self.points:
                row = np.zeros((7, 5), dtype=np.float32)
                seen = np.isfinite(frame[:, 0])
                row[seen, :3] = 1000 * frame[seen]
                row[~seen, 3] = -1
                rows.append((row, np.zeros((0, 0))))
            writer.add_frames(rows)
            writer.set_point_labels([f"m{i}" for i in range(7)])
            with self.path.open("wb") as file:
                writer.write(file)
            read = read_c3d(self.path)
            self.assertEqual(read.rate, Fraction(100))
            self.assertEqual(len(read.points_m), 90)
            seen = np.isfinite(self.points[..., 0])
            np.testing.assert_array_equal(np.isfinite(read.points_m[..., 0]), seen)
            self.assertLess(np.abs(read.points_m[seen] - self.points[seen]).max(), 0.0001)


def encode(labels, sample_rate, frames_per_second, level=0.5, rise_s=25e-6, drop=False, user_bits=0):
    """Linear timecode after SMPTE ST 12-1, written from its bit table: half-bit by half-bit, edges rounded off.

    labels: (hours, minutes, seconds, frames) of every frame. Knows nothing of the application's encoder.
    """
    halves = []
    state = 1
    for hh, mm, ss, ff in labels:
        fields = [(ff % 10, 4), (user_bits & 15, 4), (ff // 10, 2), (int(drop), 1), (0, 1), (user_bits & 15, 4),
                  (ss % 10, 4), (user_bits & 15, 4), (ss // 10, 3), (0, 1), (user_bits & 15, 4),
                  (mm % 10, 4), (user_bits & 15, 4), (mm // 10, 3), (0, 1), (user_bits & 15, 4),
                  (hh % 10, 4), (user_bits & 15, 4), (hh // 10, 2), (0, 1), (0, 1), (user_bits & 15, 4)]  # fmt: skip
        word = [value >> i & 1 for value, width in fields for i in range(width)]
        word += [0, 0, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0, 1]
        assert len(word) == 80
        for bit in word:
            state = -state
            halves.append(state)
            if bit:
                state = -state
            halves.append(state)
    halves = np.array(halves, dtype=float)
    count = int(len(halves) / (160 * frames_per_second) * sample_rate)
    t = np.arange(count) / sample_rate * 160 * frames_per_second
    square = halves[np.minimum(t.astype(int), len(halves) - 1)]
    width = max(1, int(rise_s * sample_rate * 2) | 1)
    return level * np.convolve(square, np.hanning(width + 2)[1:-1] / np.hanning(width + 2)[1:-1].sum(), "same")


def counted(start, frames, nominal, drop):
    """Labels counted the slow way from `start`."""
    hh, mm, ss, ff = start
    out = []
    for _ in range(frames):
        out.append((hh, mm, ss, ff))
        ff += 1
        if ff == nominal:
            ff, ss = 0, ss + 1
        if ss == 60:
            ss, mm = 0, mm + 1
            if drop and mm % 10:
                ff = 2 * nominal // 30
        if mm == 60:
            mm, hh = 0, hh + 1
        hh %= 24
    return out


class AnotherEncoder(unittest.TestCase):
    def check(self, fmt, start, sample_rate=48000, speed=1.0, **how):
        labels = counted(start, 10 * fmt.nominal, fmt.nominal, fmt.drop)
        audio = encode(labels, sample_rate, float(fmt.rate) * speed, drop=fmt.drop, **how)
        reading = read_ltc(audio, sample_rate, fmt)
        mark = ";" if fmt.drop else ":"
        words = ["{:02d}:{:02d}:{:02d}{}{:02d}".format(*label[:3], mark, label[3]) for label in labels]
        begins = {w: i * sample_rate / (float(fmt.rate) * speed) for i, w in enumerate(words)}
        found = {fmt.label(int(f)): s for f, s in zip(reading.frame, reading.sample, strict=True)}
        self.assertGreaterEqual(len(set(found) & set(begins)), 0.99 * len(words) - 1)
        self.assertEqual(set(found) - set(begins), set(), "none invented")
        error = [abs(found[w] - begins[w]) for w in found]
        self.assertLess(np.mean(error), 3)
        self.assertLess(abs(reading.speed_ppm - (speed - 1) * 1e6), 20)

    def test_rates_and_drop_frame(self):
        for rate, drop, start in (
            (Fraction(30000, 1001), True, (9, 59, 56, 10)), (Fraction(30000, 1001), False, (0, 0, 58, 0)),
            (Fraction(25), False, (23, 59, 55, 0)), (Fraction(24), False, (12, 0, 0, 0)),
            (Fraction(24000, 1001), False, (3, 33, 33, 3)), (Fraction(30), False, (10, 10, 10, 10)),
        ):  # fmt: skip
            with self.subTest(rate=str(rate), drop=drop):
                self.check(TimecodeFormat(rate, drop), start)

    def test_levels_polarity_speed_rounded_edges_and_user_bits(self):
        fmt = TimecodeFormat(Fraction(25))
        for how in (
            {"level": 0.004}, {"level": -0.9}, {"speed": 1.04}, {"speed": 0.96}, {"rise_s": 120e-6}, {"user_bits": 0xA},
            {"sample_rate": 44100}, {"sample_rate": 96000},
        ):  # fmt: skip
            with self.subTest(**how):
                self.check(fmt, (1, 2, 3, 4), **how)
