"""The parts of rebuilding: melted blobs by their size, tracks across the seams of pieces, recordings with holes."""

import unittest
from fractions import Fraction
from unittest import mock

import numpy as np

from otrevo.core.formats.centroids import joined
from otrevo.core.optics.camera import packed
from otrevo.core.optics.rebuild import RebuildSettings, _joined, _same_tracks, rebuild
from otrevo.core.optics.rebuild_frames import MOST_CAMERAS, Sightings, _single
from otrevo.core.sim.rig import Faults, film, make_rig, project
from tests.core.test_rebuild import score

RATE = Fraction(120)
KNOWN = np.array([1.0, 1e6])  # sizes that were compared a million times and hardly differ


class Melted(unittest.TestCase):
    def setUp(self):
        self.rig = make_rig(71, 7)
        self.x = np.array([0.1, 1.1, -0.2])
        self.xy = np.array([project(c, self.x[None])[0][0] for c in self.rig])
        depth = [(self.x - c.position_m) @ c.rotation[2] for c in self.rig]
        self.radius = np.array([c.lens[0] * 0.007 / z for c, z in zip(self.rig, depth, strict=True)])

    def single(self, radius, count=7, sizes=None):
        """Which of the cameras' blobs are taken for one marker."""
        camera, who, xy = np.arange(7), np.arange(7), self.xy.copy()
        sizes = KNOWN.copy() if sizes is None else sizes
        seen = Sightings(camera, xy, who, np.empty(7), np.empty((2, MOST_CAMERAS)))
        kept = _single(seen, count, np.asarray(radius), packed(self.rig), self.x, sizes)
        np.testing.assert_array_equal(camera, who)
        np.testing.assert_array_equal(xy, self.xy[camera], "what belongs together moves together")
        self.assertEqual(sorted(camera), list(range(7)))
        return sorted(camera[:kept].tolist())

    def test_a_blob_of_two_is_known_by_its_size(self):
        self.assertEqual(self.single(self.radius), list(range(7)))
        for two in ((3,), (0, 6), (1, 2, 5)):
            radius = self.radius.copy()
            radius[list(two)] *= np.sqrt(2)
            self.assertEqual(self.single(radius), [c for c in range(7) if c not in two])

    def test_a_blob_that_is_too_small_is_no_two(self):
        radius = self.radius.copy()
        radius[2] *= 0.5
        self.assertEqual(self.single(radius), list(range(7)))

    def test_nothing_is_concluded_from_few_or_from_sizes_that_say_nothing(self):
        radius = self.radius.copy()
        radius[1] *= 2
        self.assertEqual(self.single(radius, 3), [0, 1, 2], "three are too few to compare")
        self.assertEqual(self.single(radius, sizes=np.zeros(2)), list(range(7)), "not compared often enough")
        rough = np.array([0.2e6, 1e6])
        self.assertEqual(self.single(radius, sizes=rough), list(range(7)), "they differ by a fifth all the time")
        self.assertEqual(self.single(np.zeros(7)), list(range(7)), "radii nobody measured")

    def test_how_alike_sizes_are_is_learnt(self):
        sizes = np.zeros(2)
        self.single(self.radius * [1, 1.1, 0.9, 1, 1.1, 0.9, 1], sizes=sizes)
        self.assertEqual(sizes[1], 7)
        self.assertAlmostEqual(sizes[0], 0.4)
        self.single(self.radius * [1, 1, 1, 1, 1, 1, 20], sizes=sizes)
        self.assertAlmostEqual(sizes[0], 0.4 + 0.2, msg="one blob of many does not spoil the measure")


def rows(frames, tracks):
    """Rows of tracks {number: place at frame f} over a range of frames, as rebuilding gives them."""
    frame = np.repeat(np.asarray(frames), len(tracks))
    number = np.tile(list(tracks), len(frames))
    x = np.array([tracks[n](f) for f in frames for n in tracks])
    return [frame, number, x, np.full(len(x), 2e-4), np.full(len(x), 5)]


class Seams(unittest.TestCase):
    def walk(self, x):
        return lambda f: np.array([x, 1.0, 0.001 * f])

    def test_tracks_that_lie_on_one_another_are_one(self):
        early = rows(range(140), {4: self.walk(0.0), 9: self.walk(0.5)})
        late = rows(range(100, 240), {0: self.walk(0.5), 1: self.walk(0.0), 2: self.walk(0.8)})
        self.assertEqual(_same_tracks(early, late, 110, 140), {0: 9, 1: 4})
        self.assertEqual(_same_tracks(early, late, 150, 160), {}, "nothing of the first is left there")

    def test_pieces_become_one_with_a_number_for_each_track(self):
        first = rows(range(196), {0: self.walk(0.0), 1: self.walk(0.5)})
        second = rows(range(100, 396), {0: self.walk(0.5), 1: self.walk(0.0), 2: self.walk(0.8)})
        third = rows(range(300, 400), {0: self.walk(0.8), 1: self.walk(0.0)})
        frame, number, x, *_ = _joined([first, second, third], [0, 100, 300])
        self.assertEqual(len(set(zip(frame.tolist(), number.tolist(), strict=True))), len(frame), "each once a frame")
        for n in np.unique(number):
            self.assertEqual(len(np.unique(x[number == n, 0])), 1)
        at = lambda place: sorted(frame[x[:, 0] == place])  # noqa: E731
        self.assertEqual(at(0.0), list(range(400)))
        self.assertEqual((at(0.5)[0], at(0.5)[-1]), (0, 347), "until the seam to the piece that lacks it")
        self.assertEqual((at(0.8)[0], at(0.8)[-1]), (148, 399))

    def test_one_piece_is_left_as_it_is(self):
        only = rows(range(10), {3: self.walk(0.1)})
        self.assertEqual([v.tolist() for v in _joined([only], [0])], [v.tolist() for v in only])


class Holes(unittest.TestCase):
    def setUp(self):
        self.rig = make_rig(72, 6)
        rng = np.random.default_rng(2)
        start = rng.uniform([-1, 0.3, -1], [1, 1.8, 1], (9, 3))
        self.places = start + 0.3 * np.sin(np.arange(500) / 30)[:, None, None] * rng.normal(0, 1, (9, 3))
        self.seen, _ = film(self.rig, self.places, 72, Faults(reflections=0, ghosts=0.02))

    def rebuilt(self, seen, **values):
        with mock.patch.multiple("otrevo.core.optics.rebuild", PIECE=120, OVERLAP=40, WINDOW=50):
            return rebuild(seen, self.rig, RATE, **values)

    def test_a_second_without_a_picture_is_a_hole_and_nothing_else(self):
        dark = (self.seen.frame >= 170) & (self.seen.frame < 290)  # a whole piece, and both its seams
        found = self.rebuilt(self.seen.only(~dark))
        there = np.isfinite(found.points_m[..., 0]).sum(axis=1)
        self.assertEqual(there[172:288].sum(), 0)
        self.assertGreater(there[:165].mean(), 8.8)
        self.assertGreater(there[300:].mean(), 8.8)
        lit = [*range(165), *range(300, 500)]
        hit, ghosts, _ = score(found, self.places, lit)
        self.assertGreater(hit[lit].mean(), 0.98)
        self.assertLess(ghosts, 10)

    def test_a_recording_that_shows_nothing_has_no_points(self):
        found = self.rebuilt(joined([]), progress=lambda share: None)
        self.assertEqual(found.points_m.shape, (0, 0, 3))
        self.assertEqual(found.residual_px.shape, (0, 6))
        self.assertEqual(found.figures["tracks"], 0)

    def test_ends_that_are_shorter_than_a_piece(self):
        for frames in (1, 5, 59, 61, 121, 179, 181):
            found = self.rebuilt(self.seen.only(self.seen.frame < frames), settings=RebuildSettings(shortest=1))
            self.assertEqual(len(found.points_m), frames)
            self.assertEqual(found.residual_px.shape, (frames, 6))
            self.assertGreater(np.isfinite(found.points_m[..., 0]).sum() / frames, 8)

    def test_how_it_is_cut_does_not_show_in_the_points(self):
        whole = rebuild(self.seen, self.rig, RATE)
        pieces = self.rebuilt(self.seen)
        self.assertLessEqual(abs(pieces.figures["tracks"] - whole.figures["tracks"]), 2)
        for f in range(0, 500, 7):
            a = np.sort(whole.points_m[f][np.isfinite(whole.points_m[f, :, 0])], axis=0)
            b = np.sort(pieces.points_m[f][np.isfinite(pieces.points_m[f, :, 0])], axis=0)
            if len(a) == len(b):
                np.testing.assert_allclose(a, b, atol=5e-4)
        self.assertAlmostEqual(pieces.figures["points_mean"], whole.figures["points_mean"], delta=0.05)
