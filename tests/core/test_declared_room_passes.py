"""Every pass over a room keeps the promises that the passes of a take keep."""

import json
import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.centroids import Centroids
from otrevo.core.optics.wand import keeper_corner
from otrevo.core.passes.catalogue import PASSES, ROOM_PASSES, pass_named
from otrevo.core.passes.room import RoomCalibration, RoomMaterial, RoomRecording
from otrevo.core.sim.rig import Faults, film, make_room
from otrevo.core.sim.scenes import scene
from otrevo.core.sim.stage import before_cameras

ROOM, KNOCKED = make_room(41, 6), make_room(41, 6, [("c04", 0.4, 0.003, 5)])
NAMES, RATE, WAND = tuple(c.name for c in ROOM.cameras), Fraction(120), keeper_corner()
RECORDINGS = ("still", "sweep", "wand_on_floor", "floor_markers")


def recording(kind, seconds):
    seen, _ = film(ROOM.cameras, scene(kind, 3, seconds, 120.0, WAND), 3, Faults(), lamps=ROOM.lamps)
    return RoomRecording(lambda: seen, NAMES, RATE, seconds, None if kind == "still" else WAND)


@cache
def material():
    from otrevo.core.optics.rig import rig_from_document

    rig, _ = rig_from_document(ROOM.rig_document(41), "the rig")
    places, bodies = before_cameras("rope haul", 9, 9, 1.7)
    seen, _ = film(KNOCKED.cameras, places[:700], 9, Faults(), (bodies[0][:700], bodies[1]), KNOCKED.lamps)
    return RoomMaterial(
        rig=tuple(rig), rate=RATE, still=recording("still", 6.0), sweep=recording("sweep", 24.0),
        wand_on_floor=recording("wand on floor", 2.0), floor_markers=recording("floor markers", 2.0),
        calibration=RoomCalibration(tuple(ROOM.cameras), levelled=True, version=1), camera="c04",
        takes=(RoomRecording(lambda: seen, NAMES, RATE, 5.8, name="15 take 1"),),
    )  # fmt: skip


def outcome_of(one, of, report=lambda share: None):
    return one.run(of, one.checked({}), report)


@cache
def outcomes():
    """{pass name: (its outcome, the shares it told)} of the material as it is."""
    out = {}
    for one in ROOM_PASSES:
        told = []
        out[one.name] = outcome_of(one, material(), told.append), told
    return out


class EveryRoomPass(unittest.TestCase):
    def test_says_everything_once(self):
        names = [p.name for p in ROOM_PASSES]
        self.assertFalse(set(names) & {p.name for p in PASSES})
        for number, one in enumerate(ROOM_PASSES):
            with self.subTest(one.name):
                self.assertEqual(one.about, "room")
                self.assertLessEqual(set(one.needs), set(names[:number]))
                self.assertTrue(one.figure.sentence.endswith("."))
                self.assertIsInstance(one.aside({}), str)
                for p in one.parameters:
                    self.assertEqual(p.checked(p.default), p.default)
                    self.assertTrue(p.sentence.endswith("."))
                with self.assertRaisesRegex(InputError, "has no setting 'colour'"):
                    one.checked({"colour": 1})
        with self.assertRaisesRegex(InputError, "no pass 'paint'; expected one of find blinds, solve"):
            pass_named("paint", ROOM_PASSES)

    def test_twice_the_same_with_progress_and_a_figure(self):
        for one in ROOM_PASSES:
            with self.subTest(one.name):
                (first, told), second = outcomes()[one.name], outcome_of(one, material())
                self.assertEqual(json.dumps(first.figures, allow_nan=False), json.dumps(second.figures))
                self.assertEqual(told, sorted(told))
                self.assertTrue(told and told[0] >= 0 and told[-1] <= 1)
                self.assertTrue(one.figure.is_good(first.figures), first.figures)
                self.assertIsNotNone(one.figure.value(first.figures))
                if first.calibration is not None:
                    self.assertTrue(first.calibration.how and first.calibration.words)
                    for a, b in zip(first.calibration.cameras, second.calibration.cameras, strict=True):
                        np.testing.assert_array_equal(a.position_m, b.position_m)

    def test_each_gives_what_it_is_for(self):
        blinds = outcomes()["find blinds"][0].blinds
        self.assertEqual(len(blinds), sum(len(lamps) for lamps in ROOM.lamps))
        solved = outcome_of(pass_named("solve cameras", ROOM_PASSES), replace(material(), blinds=blinds)).calibration
        self.assertEqual((solved.how, solved.levelled, len(solved.cameras)), ("sweep", False, 6))
        self.assertIn("sweep of 24 s", solved.words)
        kept = outcome_of(
            pass_named("solve cameras", ROOM_PASSES),
            replace(material(), blinds=blinds, levelled=material().calibration),
        )
        self.assertTrue(kept.calibration.levelled, "the room's origin is kept")
        self.assertIn("of version 1", kept.calibration.words)
        levelled = outcome_of(pass_named("level", ROOM_PASSES), replace(material(), calibration=solved)).calibration
        self.assertTrue(levelled.levelled)
        self.assertLess(
            abs(
                np.mean([c.position_m[1] for c in levelled.cameras]) - np.mean([c.position_m[1] for c in ROOM.cameras])
            ),
            0.01,
        )
        again = outcomes()["place again"][0]
        self.assertEqual(again.used, (0,))
        off = [
            np.linalg.norm(a.position_m - b.position_m)
            for a, b in zip(again.calibration.cameras, KNOCKED.cameras, strict=True)
        ]
        self.assertLess(max(off), 0.0015)

    def test_stops_when_it_is_told_to(self):
        class Stop(Exception):
            pass

        def stop(share):
            raise Stop

        for one in ROOM_PASSES:
            with self.subTest(one.name), self.assertRaises(Stop):
                outcome_of(one, material(), stop)

    def test_nothing_and_empty_recordings_are_one_sentence(self):
        empty = RoomRecording(
            lambda: Centroids(np.zeros(0, int), np.zeros(0, int), np.zeros((0, 2)), np.zeros(0)), NAMES, RATE, 1.0, WAND
        )
        bare = replace(material(), takes=(), calibration=None, **dict.fromkeys(RECORDINGS))
        for one in ROOM_PASSES:
            for words, of in (
                ("nothing", bare), ("empty", replace(material(), takes=(empty,), **dict.fromkeys(RECORDINGS, empty))),
            ):  # fmt: skip
                if (one.name, words) == ("find blinds", "empty"):
                    self.assertEqual(outcome_of(one, of).blinds, (), "a dark room has nothing to mask")
                    continue
                with self.subTest(f"{one.name}, {words}"), self.assertRaises(InputError) as refused:
                    outcome_of(one, of)
                self.assertRegex(str(refused.exception), r"^[^\n]{20,}\.$")


if __name__ == "__main__":
    unittest.main()
