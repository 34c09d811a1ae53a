"""A solve after a change of mends: only what the change touches is solved, and the rest stays to the last bit."""

import unittest
from dataclasses import replace
from functools import cache

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.markers.mends import apply_mends, replay_mends
from otrevo.core.passes.catalogue import pass_named
from otrevo.core.solve.after_change import Earlier
from otrevo.core.solve.body import solve_take
from tests.core.stage import RATE, rolled, true_calibration, truly_labelled
from tests.core.test_declared_passes import lined_up, material_of, outcome_of, track_of

SOLVE = pass_named("solve")


def apart_mm(one, other):
    """The largest distance (T,) of the joints of two Motions, mm."""
    return 1000 * np.linalg.norm(motion_joints(one)[0] - motion_joints(other)[0], axis=-1).max(axis=1)


class Frames(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        performer, _, optical = rolled("rope haul", 47, hidden=0.1, facing=2)
        cls.calibration = true_calibration(performer)
        cls.labelled = truly_labelled(optical, 57)
        cls.solution = solve_take(cls.labelled, RATE, cls.calibration)

    def again(self, first, last, markers=slice(10, 14), suit=None):
        """(solved again, solved anew, changed frames) with some markers hidden."""
        hidden, changed = self.labelled.copy(), np.zeros(len(self.labelled), dtype=bool)
        hidden[first:last, markers] = np.nan
        changed[first:last] = True
        earlier = Earlier(self.whole(self.labelled, suit).motion, changed, np.isfinite(self.labelled[..., 0]))
        again = solve_take(hidden, RATE, self.calibration, suit, earlier=earlier)
        return again, self.whole(hidden, suit), changed

    def whole(self, labelled, suit):
        """Every frame by markers alone, and again where the suit tells more."""
        bare = self.solution if labelled is self.labelled else solve_take(labelled, RATE, self.calibration)
        if suit is None:
            return bare
        earlier = Earlier(bare.motion, np.zeros(len(labelled), dtype=bool))
        return solve_take(labelled, RATE, self.calibration, suit, earlier=earlier)

    def test_is_what_a_solve_of_every_frame_gives(self):
        count = len(self.labelled)
        for first, last in ((600, 640), (20, 45), (count - 40, count), (0, 3), (0, 200), (800, 1000)):
            with self.subTest(f"{first} to {last}"):
                again, anew, _ = self.again(first, last)
                self.assertLess(apart_mm(again.motion, anew.motion).max(), 0.2)
                np.testing.assert_allclose(again.marker_residual_m, anew.marker_residual_m, atol=2e-4)
                self.assertLess(again.solved.sum(), 0.5 * count)

    def test_leaves_the_other_frames_to_the_last_bit(self):
        again, _, changed = self.again(700, 720)
        self.assertTrue(again.solved[changed].all())
        kept = ~again.solved
        self.assertGreater(kept.mean(), 0.7)
        for name in ("rotation_local", "root_position_m"):
            np.testing.assert_array_equal(
                getattr(again.motion, name)[kept], getattr(self.solution.motion, name)[kept], name
            )

    def test_a_limb_that_is_hidden_to_the_end_is_worked_through_to_the_end(self):
        count = len(self.labelled)
        again, anew, _ = self.again(500, count)
        self.assertLess(apart_mm(again.motion, anew.motion).max(), 0.05)
        self.assertTrue(again.solved[500:].all())

    def test_a_suit_takes_over_where_markers_went(self):
        _, world = motion_joints(self.solution.motion)
        skeleton = self.solution.motion.skeleton
        suit = {n: world[:, skeleton.index(n)] for n in ("leftLowerArm", "leftHand")}
        members = [m for m, b in enumerate(self.calibration.marker_bones) if b in suit]
        again, anew, _ = self.again(500, 700, members, suit)
        self.assertGreater((again.target_weight[500:700] > 0).any(axis=1).mean(), 0.8)
        self.assertLess(apart_mm(again.motion, anew.motion).max(), 0.1)

    def test_stops_when_asked_to(self):
        earlier = Earlier(self.solution.motion, np.ones(len(self.labelled), dtype=bool))
        with self.assertRaises(ZeroDivisionError):
            solve_take(self.labelled, RATE, self.calibration, progress=lambda share: 1 / 0, earlier=earlier)


class Replay(unittest.TestCase):
    def test_is_the_same_as_all_mends_from_the_start(self):
        rng, names = np.random.default_rng(3), ("a", "b", "c")
        t = np.arange(400) / 120
        path = np.stack([np.stack([np.sin(t + k), np.cos(2 * t), t + k], 1) for k in range(3)], axis=1)
        path[rng.random(path.shape[:2]) < 0.2] = np.nan
        body = np.nan_to_num(path) + 0.01

        def mend():
            start = int(rng.integers(0, 380))
            kind = str(rng.choice(["fill", "cut", "cut and fill"]))
            return {"kind": kind, "method": "curve" if rng.random() < 0.5 else "body", "marker": str(rng.choice(names)),
                    "start": start, "end": start + int(rng.integers(1, 20))}  # fmt: skip

        for _ in range(60):
            before = [mend() for _ in range(rng.integers(0, 12))]
            now = before[: rng.integers(0, len(before) + 1)] + [mend() for _ in range(rng.integers(0, 4))]
            found = replay_mends(path, names, before, now, apply_mends(path, names, before, body), body)
            np.testing.assert_array_equal(found, apply_mends(path, names, now, body))


@cache
def labelled_material():
    """A take with suit, gloves and face, labelled; nobody knows yet what its streams are."""
    material, _ = material_of("warm-up", False, 14.0)
    for name in ("line up", "label"):
        outcome = outcome_of(pass_named(name), material)
        made = {**material.made, name: tuple(track_of(t) for t in outcome.tracks)}
        material = replace(material, made=made)
        if name == "line up":
            material = lined_up(material, outcome.figures)
    return material


def known(material):
    """The material with an identity on every stream."""

    def named(streams, of):
        return tuple(replace(s, identity=f"{of} {s.name}") for s in streams)

    made = {name: named(tracks, name) for name, tracks in material.made.items()}
    return replace(material, streams=named(material.streams, "recorded"), made=made)


def after(material, outcome):
    """The material of the next run, and what a take stores: single precision."""
    tracks = tuple(track_of(replace(t, data=np.asarray(t.data, dtype=np.float32))) for t in outcome.tracks)
    return replace(material, made={**material.made, "solve": tracks})


def motion_in(outcome):
    tracks = {t.name: t for t in outcome.tracks}
    skeleton = labelled_material().performer.skeleton
    return Motion(skeleton, RATE, tracks["body root"].data, tracks["body rotation"].data)


class Mended(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.material = known(labelled_material())
        cls.first = outcome_of(SOLVE, cls.material)
        snags = [s.proposal for s in cls.first.snags if s.kind == "gap" and s.proposal["method"] == "body"]
        cls.gap = min(snags, key=lambda p: p["end"] - p["start"])

    def test_one_mend_costs_what_it_touches_and_gives_what_all_frames_would(self):
        for method in ("curve", "body"):
            mended = replace(after(self.material, self.first), mends=({**self.gap, "method": method},))
            again = outcome_of(SOLVE, mended)
            whole = outcome_of(SOLVE, replace(mended, made={**mended.made, "solve": ()}))
            self.assertLess(again.figures["frames_solved"], 0.5 * again.figures["frames"])
            self.assertEqual(whole.figures["frames_solved"], whole.figures["frames"])
            self.assertLess(apart_mm(motion_in(again), motion_in(whole)).max(), 1.0)
            self.assertAlmostEqual(again.figures["residual_rms_mm"], whole.figures["residual_rms_mm"], delta=0.01)
            self.assertLess(abs(len(again.snags) - len(whole.snags)), 3)

    def test_taking_a_mend_back_gives_the_body_that_was(self):
        mended = replace(after(self.material, self.first), mends=(self.gap,))
        again = outcome_of(SOLVE, mended)
        back = outcome_of(SOLVE, replace(after(mended, again), mends=()))
        self.assertLess(back.figures["frames_solved"], 0.5 * back.figures["frames"])
        self.assertLess(apart_mm(motion_in(back), motion_in(self.first)).max(), 0.1)
        for one, other in zip(back.tracks, self.first.tracks, strict=True):
            if one.name == "mended":
                np.testing.assert_allclose(one.data, other.data, atol=1e-6)

    def test_every_frame_is_solved_where_more_than_mends_has_changed_or_nothing_has(self):
        mended = replace(after(self.material, self.first), mends=(self.gap,))
        moved = replace(mended, streams=tuple(replace(s, identity=s.identity + " anew") for s in mended.streams))
        taller = replace(mended, performer=replace(mended.performer, height_m=1.9))
        unknown = replace(mended, streams=tuple(replace(s, identity="") for s in mended.streams))
        same = after(self.material, self.first)
        for name, material in {"stream": moved, "calibration": taller, "unknown": unknown, "again": same}.items():
            with self.subTest(name):
                figures = outcome_of(SOLVE, material).figures
                self.assertEqual(figures["frames_solved"], figures["frames"])
