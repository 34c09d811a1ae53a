"""What every declared pass promises, tried on all of them. A new pass is covered by being in the catalogue."""

import json
import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache
from unittest import mock

import numpy as np

from otrevo.core.body.performer import performer_from_document
from otrevo.core.characters.character import read_character
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.conventions import quaternion_from_rotvec, quaternion_multiply
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import calibrate_face
from otrevo.core.hands.gloves import calibrate_gloves
from otrevo.core.passes.catalogue import PASSES, from_there_on, pass_named, passes_of
from otrevo.core.passes.contract import PlayedCharacter, SampleClock, TakeMaterial, TakeStream
from otrevo.core.passes.solve import PASS as SOLVE
from otrevo.core.passes.warm_up import PASS as WARM_UP
from otrevo.core.sim.characters.files import FOLDER
from otrevo.core.sim.devices import Clock
from otrevo.core.sim.rig import make_room
from otrevo.core.sim.stage import roll
from otrevo.core.solve.suit import SUIT_BONES
from otrevo.core.solve.suit_clock import OWN_CLOCK
from otrevo.core.timecode.labels import TimecodeFormat
from tests.core.stage import true_calibration

CODE = TimecodeFormat(Fraction(30000, 1001), True)
FRAME = CODE.frame("10:20:00;00")
WORN = ("suit", "gloves", "face")


def stream_of(recorded):
    """A stand-in's stream as a pass sees it, its clock not fitted yet."""
    clock = SampleClock(0.0, float(recorded.rate))
    owner = "Ines" if recorded.name in WORN else ""
    return TakeStream(
        recorded.name,
        recorded.kind,
        recorded.rate,
        lambda: recorded.data,
        clock,
        recorded.stamps,
        recorded.extra,
        owner,
    )


def track_of(track):
    return TakeStream(track.name, track.kind, track.rate, lambda: track.data, track.clock or
                      SampleClock(0.0, float(track.rate)), np.array(track.stamps).reshape(-1, 2), track.details,
                      "Ines", track.prop)  # fmt: skip


def lined_up(material, figures):
    """The material with the clocks of a line-up on its recorded streams."""
    fits = figures["streams"]

    def clock(s):
        f = fits.get(s.name)
        return s.clock if f is None else SampleClock(f["offset_ms"] / 1000, float(s.rate) / (1 + 1e-6 * f["drift_ppm"]))

    return replace(material, streams=tuple(replace(s, clock=clock(s)) for s in material.streams))


def apart(rng, rate_hz):
    """Device clocks that begin 0.4 s apart and drift against each other."""
    return {100.0: Clock(100.0, 0.02, -70.0), 90.0: Clock(90.0, 0.21, 40.0), 60.0: Clock(60.0, 0.42, 75.0)}[rate_hz]


def cut(recorded, seconds):
    """The beginning of a stream."""
    if recorded.kind == "centroids":
        data = recorded.data[recorded.data[:, 0] < seconds * recorded.rate]
    else:
        data = recorded.data[: int(seconds * recorded.rate)]
    stamps = recorded.stamps[recorded.stamps[:, 0] < seconds * recorded.rate]
    return replace(recorded, data=data, stamps=stamps)


@cache
def gull():
    character, proposal = read_character(FOLDER / "gull.glb")
    return PlayedCharacter("Gull", character, propose_sheet(character, proposal))


def material_of(motion, cameras, seconds):
    """(TakeMaterial, RolledTake) of a take's beginning, by a performer whose true calibration is known."""
    room = make_room(331, 12) if cameras else None
    with mock.patch("otrevo.core.sim.devices.make_clock", apart):
        rolled = roll(motion, 61, 9, 1.72, CODE, FRAME, room=room, facing_rad=0.6)
    performer = true_calibration(rolled.performer)
    face, gloves = rolled.streams["face"], rolled.streams["gloves"]
    performer = replace(performer, devices={"face": calibrate_face(face.data.astype(float)),
                                                "gloves": calibrate_gloves(gloves.data.astype(float), 90.0)})  # fmt: skip
    streams = tuple(stream_of(cut(s, seconds)) for s in rolled.streams.values())
    return TakeMaterial(
        duration_s=seconds, zero_s=float(CODE.seconds(FRAME)), timecode_format=CODE, streams=streams,
        performer_name="Ines", height_m=1.72, performer=performer, cameras=room and tuple(room.cameras),
        calibration_version=1, character=gull(),
    ), rolled  # fmt: skip


@mock.patch("otrevo.core.warm_up.calibrate.FIT_FRAMES", 60)  # what a pass promises it promises of a coarse fit, too
def outcome_of(one, material, parameters=None, report=lambda share: None):
    return one.run(material, one.checked(parameters or {}), report)


@cache
def materials():
    """({pass name: TakeMaterial} with everything that each pass needs, made by the passes before it, {pass name: its PassOutcome})."""
    material, _ = material_of("rope haul", True, 4.5)
    out, outcomes = {}, {}
    for one in PASSES:
        if one.warm_up:
            out[one.name] = replace(material_of("warm-up", False, 8.0)[0], performer=None)
            outcomes[one.name] = outcome_of(one, out[one.name])
            continue
        out[one.name] = material
        outcome = outcomes[one.name] = outcome_of(one, material)
        made = {**material.made, one.name: tuple(track_of(t) for t in outcome.tracks)}
        material = replace(material, made=made, figures={**material.figures, one.name: outcome.figures})
        if one.name == "line up":
            material = lined_up(material, outcome.figures)
    return out, outcomes


def with_samples(material, change):
    """The material with every recorded stream and track of floats changed."""

    def changed(s):
        data = np.array(s.read())
        return replace(s, read=lambda: change(s, data))

    made = {name: tuple(changed(s) for s in tracks) for name, tracks in material.made.items()}
    return replace(material, streams=tuple(changed(s) for s in material.streams), made=made)


def holed(share=0.01):
    rng = np.random.default_rng(5)

    def change(stream, data):
        if stream.kind in ("centroids", "audio"):
            return data
        data = data.astype(float)
        data[rng.random(len(data)) < share] = np.nan
        return data

    return change


def all_nan(stream, data):
    return np.full_like(data, np.nan, dtype=float) if stream.kind not in ("centroids", "audio") else data[:0]


class Declarations(unittest.TestCase):
    def test_say_everything_once_and_nothing_that_is_not(self):
        names = [p.name for p in PASSES]
        self.assertEqual(len(set(names)), len(names))
        for number, one in enumerate(PASSES):
            with self.subTest(one.name):
                self.assertIn(one.about, ("take", "performer", "character"))
                self.assertTrue(set(one.needs) <= {*names[:number], "performer"}, "it needs what comes before it")
                self.assertTrue(set(one.found_anew) <= set(names[number + 1 :]))
                self.assertTrue(one.figure.sentence.endswith("."))
                for p in one.parameters:
                    self.assertEqual(p.checked(p.default), p.default)
                    self.assertTrue(p.sentence.endswith("."))

    def test_settings_are_checked_in_a_sentence(self):
        for one in PASSES:
            with self.subTest(one.name), self.assertRaisesRegex(InputError, "has no setting 'colour'"):
                one.checked({"colour": 1})
            for p in one.parameters:
                for bad in (p.low - 1, p.high + 1, "much", None, float("nan")):
                    with self.subTest(f"{one.name} {p.name} {bad}"), self.assertRaisesRegex(InputError, "expected a"):
                        one.checked({p.name: bad})

    def test_a_setting_over_time_is_a_list_of_seconds_and_numbers(self):
        one = next(p for p in pass_named("retarget").parameters if p.over_time)
        self.assertEqual(one.checked([[0, 0], [2.5, 1]]), [[0.0, 0.0], [2.5, 1.0]])
        for bad in ([], [[1]], [[2, 0], [1, 0]], [[-1, 0]], [[0, 2]], [["a", 0]], [[0, 0]] * 500, [[float("nan"), 0]]):
            with self.subTest(str(bad)[:40]), self.assertRaisesRegex(InputError, "expected"):
                one.checked(bad)
        plain = next(p for p in pass_named("retarget").parameters if not p.over_time)
        with self.assertRaisesRegex(InputError, "expected a number"):
            plain.checked([[0, 1]])

    def test_what_follows_from_what_has_changed(self):
        passes = passes_of({"cameras", "suit"}, False)
        self.assertEqual([p.name for p in passes], ["rebuild", "line up", "label", "solve"])
        self.assertEqual([p.name for p in from_there_on(passes, "rebuild")], ["rebuild", "line up", "label", "solve"])
        self.assertEqual([p.name for p in from_there_on(passes, "solve")], ["solve"])
        self.assertEqual([p.name for p in passes_of({"optical"}, False)], ["line up", "label", "solve"])
        self.assertEqual(passes_of({"optical"}, False, True)[-1].name, "retarget", "where somebody plays a character")
        self.assertNotIn("retarget", [p.name for p in passes_of({"optical"}, True, True)])
        warm_up = passes_of({"cameras"}, True)
        self.assertEqual([p.name for p in from_there_on(warm_up, "warm-up")], ["warm-up", "label", "solve"])
        with self.assertRaisesRegex(InputError, "no pass 'rebuild' for this take"):
            from_there_on(passes_of({"optical"}, False), "rebuild")
        with self.assertRaisesRegex(InputError, "no pass 'paint'"):
            pass_named("paint")


class EveryPass(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.materials, cls.outcomes = materials()

    def same(self, a, b):
        self.assertEqual(json.dumps(a.figures, sort_keys=True), json.dumps(b.figures, sort_keys=True))
        self.assertEqual([s.to_document() for s in a.snags], [s.to_document() for s in b.snags])
        self.assertEqual([(t.name, t.prop) for t in a.tracks], [(t.name, t.prop) for t in b.tracks])
        for x, y in zip(a.tracks, b.tracks, strict=True):
            np.testing.assert_array_equal(x.data, y.data)
        self.assertEqual(a.performer, b.performer)

    def test_twice_the_same_with_progress_and_plain_figures(self):
        for one in PASSES:
            with self.subTest(one.name):
                told = []
                first = self.outcomes[one.name]
                self.same(first, outcome_of(one, self.materials[one.name], report=told.append))
                self.assertEqual(told, sorted(told))
                self.assertTrue(told and told[0] >= 0 and told[-1] <= 1)
                json.dumps(first.figures, allow_nan=False)
                self.assertIsNotNone(one.figure.value(first.figures), "the figure it is judged by")
                self.assertIsInstance(one.aside(first.figures), str)
                self.assertIsInstance(one.aside({}), str)
                self.assertEqual(first.performer is not None, one is WARM_UP)
                for track in first.tracks:
                    self.assertGreater(len(track.data), 0)

    def test_a_hundredth_of_all_samples_missing_does_no_harm(self):
        for one in PASSES:
            with self.subTest(one.name):
                outcome = outcome_of(one, with_samples(self.materials[one.name], holed()))
                for track in outcome.tracks:
                    if track.name in ("body rotation", "body root", "character rotation", "character root"):
                        self.assertTrue(np.isfinite(track.data).all(), track.name)

    def test_stops_when_it_is_told_to(self):
        class Stop(Exception):
            pass

        def stop(share):
            raise Stop

        for one in PASSES:
            with self.subTest(one.name), self.assertRaises(Stop):
                outcome_of(one, self.materials[one.name], report=stop)

    def test_nothing_but_nan_is_one_sentence_or_figures_without_nan(self):
        for one in PASSES:
            with self.subTest(one.name):
                try:
                    outcome = outcome_of(one, with_samples(self.materials[one.name], all_nan))
                except InputError as error:
                    self.assertNotIn("\n", str(error))
                    self.assertGreater(len(str(error)), 25)
                else:
                    json.dumps(outcome.figures, allow_nan=False)
                    self.assertTrue(outcome.snags, "and it says what is missing")

    def test_no_streams_at_all_is_one_sentence_or_nothing_to_do(self):
        for one in PASSES:
            bare = replace(self.materials[one.name], streams=(), made={}, figures={})
            with self.subTest(one.name):
                try:
                    self.assertEqual(outcome_of(one, bare).tracks, ())
                except InputError as error:
                    self.assertTrue(str(error).endswith("."))

    def test_clocks_of_devices_carry_through_to_the_tracks(self):
        """The clap lies at one moment in everything that shows it, although the devices began up to 0.4 s apart."""
        material = self.materials["label"]
        claps = material.figures["line up"]["claps_s"]
        self.assertEqual(set(claps), {"optical", "suit", "room"})
        self.assertLess(np.ptp(list(claps.values())), 0.03)
        starts = [material.recorded(n).clock.start_s for n in WORN]
        self.assertGreater(max(starts) - min(starts), 0.35)
        jaw = material.recorded("face")
        shapes = next(t for t in self.outcomes["solve"].tracks if t.name == "face shapes")
        raw, own = np.asarray(jaw.read(), dtype=float), jaw.clock.times(len(jaw.read()))
        k = int(np.nanargmax(np.nanstd(raw, axis=0)))
        at = shapes.clock.times(len(shapes.data))
        known = np.isfinite(shapes.data[:, k]) & (at > own[0]) & (at < own[-1])
        there = np.isfinite(raw[:, k])
        same = np.corrcoef(shapes.data[known, k], np.interp(at[known], own[there], raw[there, k]))[0, 1]
        self.assertGreater(same, 0.99)


class SuitFromAFile(unittest.TestCase):
    """A recording with the suit's own clock, which nobody synchronised, beside what was rolled."""

    def lined_up(self, samples):
        """(figures of the suit, figures, snags) of a take whose suit holds only those samples, without any timecode."""
        given = materials()[0]["line up"]
        suit = given.recorded("suit")
        data = np.asarray(suit.read())[samples]
        own = replace(suit, read=lambda: data, stamps=np.zeros((0, 2)), details={"clock": OWN_CLOCK, "shown_s": 512.7})
        streams = tuple(own if s is suit else s for s in given.streams)
        outcome = outcome_of(pass_named("line up"), replace(given, streams=streams))
        return outcome.figures["streams"]["suit"], outcome.figures, outcome.snags

    def test_the_clap_says_when_it_was(self):
        began = materials()[1]["line up"].figures["streams"]["suit"]["offset_ms"]
        suit, figures, snags = self.lined_up(slice(70, None))
        self.assertAlmostEqual(suit["offset_ms"], began + 700, delta=25)
        self.assertLess(np.ptp(list(figures["claps_s"].values())), 0.03)
        self.assertEqual([s for s in snags if s.kind == "clap apart"], [])
        _, _, snags = self.lined_up(slice(70, 300))
        self.assertEqual([s.kind for s in snags if s.stream == "suit"], ["stops early"])

    def test_without_a_clap_it_stays_until_its_movement_tells(self):
        suit, figures, snags = self.lined_up(slice(0, 120))
        self.assertEqual(suit["offset_ms"], 0.0)
        self.assertNotIn("suit", figures["claps_s"])
        self.assertEqual([s.text for s in snags if s.stream == "suit"], [])


class SuitBesideMarkers(unittest.TestCase):
    """Suits that are not heard as they should be, in a take whose streams come as they were recorded."""

    @classmethod
    def setUpClass(cls):
        cls.clean = cls().solved()

    def solved(self, change=lambda suit: None):
        """The outcome of a solve of a forearm that is hidden for a second, after change(suit (T, 17, 7)), in place."""
        given, outcomes = materials()
        performer = performer_from_document(outcomes["warm-up"].performer)
        forearm = [m for m, bone in enumerate(performer.marker_bones) if bone in ("leftLowerArm", "leftHand")]

        def with_change(stream):
            data = np.array(stream.read(), dtype=float)
            if stream.kind == "orientations":
                change(data)
            elif stream.name == "labelled":
                data[250:400, forearm] = np.nan
            else:
                return stream
            return replace(stream, read=lambda: data)

        material = replace(given["solve"], performer=performer)
        made = {name: tuple(with_change(t) for t in tracks) for name, tracks in material.made.items()}
        streams = tuple(with_change(s) for s in material.streams)
        return outcome_of(SOLVE, replace(material, streams=streams, made=made))

    def rotations(self, outcome):
        return next(t.data for t in outcome.tracks if t.name == "body rotation")

    def test_a_filter_that_begins_anew_is_a_snag_and_its_limb_stays_where_it_is(self):
        arm = SUIT_BONES.index("leftLowerArm")

        def begun_anew(suit):
            turn = quaternion_from_rotvec(np.radians([0.0, 60.0, 0.0]))
            suit[220:, arm, :4] = quaternion_multiply(turn, suit[220:, arm, :4])

        clean, found = self.clean, self.solved(begun_anew)
        self.assertNotIn("began anew", " ".join(s.text for s in clean.snags))
        (snag,) = (s for s in found.snags if "began anew" in s.text)
        self.assertIn("left lower arm: the sensor's filter began anew, its heading off by 60°", snag.text)
        np.testing.assert_allclose(self.rotations(found), self.rotations(clean), atol=0.01)

    def test_what_is_sent_again_and_again_counts_as_lost(self):
        arm = SUIT_BONES.index("leftLowerArm")

        def held(suit):
            suit[200:320, arm] = suit[199, arm]

        def lost(suit):
            suit[200:320, arm] = np.nan

        as_held, as_lost, clean = (self.rotations(o) for o in (self.solved(held), self.solved(lost), self.clean))
        np.testing.assert_array_equal(as_held, as_lost)
        self.assertGreater(np.abs(as_lost - clean).max(), 1e-6, "the suit has its part in this take")


if __name__ == "__main__":
    unittest.main()
