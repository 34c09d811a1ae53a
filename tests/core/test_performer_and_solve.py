import json
import unittest
from dataclasses import replace
from unittest.mock import patch

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.body.performer import performer_from_document
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.inertial.through_occlusion import stand_in
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.markers.label import label_take
from otrevo.core.motion_rate import at_rate
from otrevo.core.sim.motions import perform
from otrevo.core.sim.optical import see
from otrevo.core.sim.performers import make_performer
from otrevo.core.snags import lost_snags
from otrevo.core.solve.body import bridge_lost, solve_take
from otrevo.core.solve.suit import SUIT_BONES, calibrate_suit
from otrevo.core.warm_up.calibrate import calibrate_performer
from tests.core.stage import RATE, label_shares, rolled, true_calibration, truly_labelled

BODY = 22
SLOW = RATE / 2


def joint_errors(solution, performance):
    """Distances in metres of the 22 body joints from the truth, (T, 22)."""
    found, _ = motion_joints(solution.motion)
    true, _ = motion_joints(performance.motion)
    return np.linalg.norm(found[:, :BODY] - true[:, :BODY], axis=2)


class FromWarmUpToBody(unittest.TestCase):
    """The whole optical line on one body that nobody has seen: warm-up, label, solve, against the truth.

    Warm-ups are filmed at half the rate of takes.
    """

    @classmethod
    def setUpClass(cls):
        cls.performer, _, warm_up = rolled("warm-up", 40, missing=0.05, sloppiness=6.0)
        cls.points, cls.truth = warm_up.points_m[::2], warm_up.truth[::2]
        cls.calibration, cls.labels = calibrate_performer(cls.points, SLOW, shipped_chart(), cls.performer.height_m)

    def test_names_without_clicking(self):
        right, wrong = label_shares(self.labels.labels, self.truth)
        self.assertGreater(right, 0.99)
        self.assertLess(wrong, 0.01)

    def test_whichever_way_the_t_pose_faces_bones_are_as_long(self):
        about = self.points * [-1.0, 1.0, -1.0]  # half a turn
        turned, _ = calibrate_performer(about, SLOW, shipped_chart(), self.performer.height_m)
        bones, markers = (
            [getattr(part, name) for part in pair]
            for pair, name in (
                ((self.calibration.skeleton, turned.skeleton), "rest_offset_m"),
                ((self.calibration, turned), "marker_offset_m"),
            )
        )
        self.assertLess(np.abs(bones[0] - bones[1]).max(), 0.001)
        self.assertLess(np.abs(markers[0] - markers[1]).max(), 0.002)

    def test_palms_may_face_forward_in_the_t_pose(self):
        """How the markers sit on forearms then comes from the chart and from all else the arms do."""
        chart, performance = shipped_chart(), perform("warm-up", self.performer, 40, SLOW)
        motion = performance.motion
        ease = np.clip((2.6 - np.arange(len(motion)) / float(SLOW)) / 0.8, 0.0, 1.0)
        roll = quaternion_from_rotvec(np.outer(np.radians(-70.0) * ease**2 * (3 - 2 * ease), [1.0, 0.0, 0.0]))
        local = motion.rotation_local.copy()
        for bone in ("leftLowerArm", "rightLowerArm"):
            b = motion.skeleton.index(bone)
            local[:, b] = quaternion_multiply(local[:, b], roll)
        forward = replace(performance, motion=replace(motion, rotation_local=local))
        seen = see(forward, self.performer, chart, 40, hidden=0.02, limb_losses=0)
        calibration, labels = calibrate_performer(seen.points_m, SLOW, chart, self.performer.height_m)
        self.assertGreater(label_shares(labels.labels, seen.truth)[0], 0.99)
        for bone in ("leftLowerArm", "rightLowerArm"):
            on = [b == bone for b in chart.bones]
            found, true = (
                np.array(x)[on, 1] + 1j * np.array(x)[on, 2]
                for x in (calibration.marker_offset_m, self.performer.marker_offset_m)
            )
            self.assertLess(abs(np.degrees(np.angle((found * true.conj()).sum()))), 10.0, bone)

    @patch("otrevo.core.warm_up.calibrate.FIT_FRAMES", 80)  # names come right by a coarse fit, too
    def test_a_roll_may_begin_with_the_arms_down(self):
        """As that of whoever wears a suit as well does."""
        person = make_performer(41, shipped_chart(), sloppiness_deg=2.5)
        seen = see(perform("suit warm-up", person, 41, SLOW), person, shipped_chart(), 41, hidden=0.02, limb_losses=0)
        first = slice(0, 28 * 60)
        calibration, labels = calibrate_performer(seen.points_m[first], SLOW, shipped_chart(), person.height_m)
        right, wrong = label_shares(labels.labels, seen.truth[first])
        self.assertGreater(right, 0.99)
        self.assertLess(wrong, 0.01)
        self.assertEqual(calibration.figures["markers_never_seen"], [])

    def test_skin_that_takes_markers_along_together_moves_no_knee_sideways(self):
        """A knee bends about one axis, and only markers tell where along it the joint is. Knees came to lie nearer to each other."""
        chart = shipped_chart()
        soft = see(
            perform("warm-up", self.performer, 40, SLOW),
            self.performer,
            chart,
            40,
            soft_tissue_m=0.012,
            hidden=0.02,
            limb_losses=0,
        )
        calibration, _ = calibrate_performer(soft.points_m, SLOW, chart, self.performer.height_m)
        for side in ("left", "right"):
            beside = []
            for person in (calibration, self.performer):
                b = person.skeleton.index(f"{side}LowerLeg")
                outer, inner = (
                    np.linalg.norm(
                        person.marker_offset_m[chart.names.index(f"knee {which} {side}")]
                        - person.skeleton.rest_offset_m[b]
                    )
                    for which in ("outer", "inner")
                )
                beside.append((outer - inner) / 2)
            self.assertLess(abs(beside[0] - beside[1]), 0.005, side)

    def test_bones_and_markers_near_the_truth(self):
        seen = [n not in self.calibration.figures["markers_never_seen"] for n in self.calibration.marker_names]
        apart = np.linalg.norm(self.calibration.marker_offset_m - self.performer.marker_offset_m, axis=1)[seen]
        self.assertLess(np.median(apart), 0.015)
        for bone in ("leftLowerArm", "rightHand", "leftLowerLeg", "rightFoot"):
            b = self.performer.skeleton.index(bone)
            found = np.linalg.norm(self.calibration.skeleton.rest_offset_m[b])
            self.assertLess(abs(found - np.linalg.norm(self.performer.skeleton.rest_offset_m[b])), 0.015, bone)
        self.assertLess(self.calibration.figures["residual_rms_mm"], 5)
        self.assertEqual(self.calibration.figures["joints_hardly_moved"], [])

    def test_a_take_labelled_and_solved_with_it(self):
        _, performance, optical = rolled("rope haul", 40)
        labels = label_take(optical.points_m, RATE, self.calibration.model())
        solution = solve_take(labels.labelled_m, RATE, self.calibration)
        errors = joint_errors(solution, performance)
        self.assertLess(1000 * np.sqrt(np.mean(errors**2)), 12)
        self.assertLess(1000 * np.percentile(errors, 95), 25)
        self.assertEqual(len(solution.motion), len(optical.points_m))

    def test_document_round_trip_and_refusals(self):
        document = json.loads(json.dumps(self.calibration.to_document(), allow_nan=False))
        again = performer_from_document(document)
        np.testing.assert_allclose(again.marker_offset_m, self.calibration.marker_offset_m, atol=1e-6)
        self.assertEqual(again.skeleton.names, self.calibration.skeleton.names)
        for broken in ({**document, "bones": document["bones"][1:]}, {**document, "height_m": None}):
            with self.assertRaises(InputError):
                performer_from_document(broken)
        document["markers"][0]["bone"] = "tail"
        with self.assertRaisesRegex(InputError, "tail"):
            performer_from_document(document)

    def test_impossible_heights_and_short_warm_ups_are_refused(self):
        for height in (182.0, 0.3, -1.7):
            with self.assertRaisesRegex(InputError, "height"):
                calibrate_performer(self.points, SLOW, shipped_chart(), height)
        with self.assertRaisesRegex(InputError, "at least 2 s"):
            calibrate_performer(self.points[:50], SLOW, shipped_chart(), 1.7)


class Solving(unittest.TestCase):
    def setUp(self):
        self.performer, self.performance, self.optical = rolled("rope haul", 41)
        self.calibration = true_calibration(self.performer)
        self.labelled = truly_labelled(self.optical, 57)

    def test_joints_with_known_offsets(self):
        solution = solve_take(self.labelled, RATE, self.calibration)
        errors = joint_errors(solution, self.performance)
        self.assertLess(1000 * np.sqrt(np.mean(errors**2)), 8)
        self.assertLess(solution.figures["residual_rms_mm"], 6)

    def test_a_limb_that_nothing_measures_is_bridged_and_marked(self):
        bones = self.calibration.model()
        arm = [m for m, b in enumerate(bones.marker_bone) if bones.skeleton.names[b] in ("leftLowerArm", "leftHand")]
        hidden = self.labelled.copy()
        hidden[600:700, arm] = np.nan
        solution = solve_take(hidden, RATE, self.calibration)
        b = solution.bone_names.index("leftLowerArm")
        self.assertTrue(solution.lost[620:690, b].all())
        back = joint_errors(solution, self.performance)[700:720, self.performer.skeleton.index("leftHand")]
        self.assertLess(1000 * back.max(), 20, "found again at once, wherever it was carried to")
        self.assertFalse(solution.lost[730:800, b].all())
        self.assertTrue(
            any(s.text.startswith("leftLowerArm") for s in lost_snags(solution.lost, solution.bone_names, 120))
        )
        # found again within 0.2 s of the markers' return
        errors = joint_errors(solution, self.performance)[724:760, self.performer.skeleton.index("leftHand")]
        self.assertLess(errors.mean(), 0.03)

    def test_the_suit_leads_where_markers_are_missing(self):
        model = self.calibration.model()
        members = [
            m for m, b in enumerate(model.marker_bone) if model.skeleton.names[b] in ("leftLowerArm", "leftHand")
        ]
        hidden = self.labelled.copy()
        hidden[500:900, members] = np.nan
        _, world = motion_joints(self.performance.motion)
        skeleton = self.performer.skeleton
        suit = {n: world[:, skeleton.index(n)] for n in ("leftLowerArm", "leftHand")}
        alone = solve_take(hidden, RATE, self.calibration)
        led = solve_take(hidden, RATE, self.calibration, suit)
        hand = skeleton.index("leftHand")
        without = joint_errors(alone, self.performance)[500:900, hand].mean()
        with_suit = joint_errors(led, self.performance)[500:900, hand].mean()
        self.assertLess(with_suit, 0.03)
        self.assertLess(with_suit, 0.5 * without)

    def test_points_that_are_unsure_weigh_less(self):
        off = self.labelled.copy()
        rng = np.random.default_rng(4)
        scatter = np.full(off.shape[:2], 0.0002)
        scatter[:, ::4] = 0.03
        off[:, ::4] += rng.normal(0, 0.03 / np.sqrt(3), off[:, ::4].shape)
        told = solve_take(off, RATE, self.calibration, sd_m=scatter)
        untold = solve_take(off, RATE, self.calibration)
        better, worse = (np.sqrt(np.mean(joint_errors(s, self.performance) ** 2)) for s in (told, untold))
        self.assertLess(better, 0.9 * worse)
        unknown = solve_take(self.labelled, RATE, self.calibration, sd_m=np.full(off.shape[:2], np.nan))
        np.testing.assert_array_equal(
            unknown.motion.root_position_m, solve_take(self.labelled, RATE, self.calibration).motion.root_position_m
        )

    def test_cancel_comes_between_windows(self):
        with self.assertRaises(ZeroDivisionError):
            solve_take(self.labelled, RATE, self.calibration, progress=lambda share: 1 / 0)

    def test_wrong_marker_count_and_nothing_seen_are_refused(self):
        with self.assertRaisesRegex(InputError, "calibration has 57"):
            solve_take(self.labelled[:, :20], RATE, self.calibration)
        with self.assertRaisesRegex(InputError, "No frame"):
            solve_take(np.full((50, 57, 3), np.nan), RATE, self.calibration)

    def test_windows_do_not_change_the_result(self):
        import otrevo.core.solve.frames as module

        whole = solve_take(self.labelled[:900], RATE, self.calibration)
        before = module.PROGRESS_FRAMES
        try:
            module.PROGRESS_FRAMES = 130
            parts = solve_take(self.labelled[:900], RATE, self.calibration)
        finally:
            module.PROGRESS_FRAMES = before
        np.testing.assert_allclose(parts.motion.rotation_local, whole.motion.rotation_local, atol=1e-9)

    def test_delivery_rate_keeps_the_time_and_the_motion(self):
        motion = self.performance.motion
        half = at_rate(motion, 60)
        self.assertEqual(len(half), (len(motion) + 1) // 2)
        a, _ = motion_joints(motion)
        b, _ = motion_joints(half)
        self.assertLess(np.linalg.norm(a[::2] - b, axis=2).max(), 0.004)
        self.assertIs(at_rate(motion, motion.rate), motion)


class Bridging(unittest.TestCase):
    def test_goes_from_end_to_end_and_holds_open_ends(self):
        q = np.tile([0.0, 0, 0, 1], (30, 1, 1))
        q[20:, 0] = quaternion_from_rotvec([0, 0, 1.0])
        q[10:20] = np.nan
        lost = np.zeros((30, 1), dtype=bool)
        lost[10:20] = True
        out = bridge_lost(q, lost, 120.0)
        self.assertTrue(np.isfinite(out).all())
        angle = 2 * np.arcsin(out[9:21, 0, 2])
        self.assertTrue((np.diff(angle) >= -1e-9).all())
        lost[:] = False
        lost[:10] = True
        np.testing.assert_allclose(bridge_lost(np.nan_to_num(q, nan=0.5), lost, 120.0)[0], 0.5)

    def test_a_limb_that_swings_through_a_gap_is_carried_at_its_speed(self):
        angle = 1.2 * np.sin(np.arange(240) * 2 * np.pi / 180)
        q = quaternion_from_rotvec(angle[:, None, None] * np.array([0.6, 0.0, 0.8]))
        lost = np.zeros((240, 1), dtype=bool)
        lost[60:120] = True  # a third of a whole swing, its turning point in it
        lost[124:140] = True
        lost[[0, 1, 2, 239]] = True
        out = bridge_lost(np.where(lost[..., None], 0.5, q), lost, 120.0)
        off = np.linalg.norm(rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(q), out)), axis=-1)[3:-1]
        self.assertLess(off.max(), 0.12)
        eased = np.abs(angle[60:120] - np.interp(np.arange(60, 120), [59, 120], angle[[59, 120]])).max()
        self.assertLess(off.max(), eased / 4)
        self.assertEqual(off[np.flatnonzero(~lost[3:-1, 0])].max(), 0)


class Suit(unittest.TestCase):
    def test_mounting_is_found_and_the_heading_followed(self):
        rng = np.random.default_rng(5)
        _, performance, _ = rolled("rope haul", 41)
        _, world = motion_joints(performance.motion)
        bones = world[:, [performance.motion.skeleton.index(b) for b in SUIT_BONES]]
        mount = quaternion_from_rotvec(rng.normal(0, 1, (17, 3)))
        yaw = 0.8 + np.linspace(0, 0.02, len(bones))
        turn = quaternion_from_rotvec(yaw[:, None, None] * np.array([0.0, 1, 0]))
        noise = quaternion_from_rotvec(rng.normal(0, 0.004, (len(bones), 17, 3)))
        sensor = quaternion_multiply(quaternion_multiply(turn, bones), quaternion_multiply(mount, noise))
        sensor[300:320, 3] = np.nan
        calibration = calibrate_suit(sensor, bones)
        self.assertEqual(set(calibration), set(SUIT_BONES))
        self.assertLess(max(c["residual_deg"] for c in calibration.values()), 2.0)
        measured = np.ones(bones.shape[:2], dtype=bool)
        measured[600:800] = False
        out = stand_in(sensor, calibration, bones, measured, 120.0).world
        for name in ("leftLowerArm", "rightUpperLeg", "head"):
            s = SUIT_BONES.index(name)
            apart = 2 * np.arccos(np.clip(np.abs(np.sum(out[name][600:800] * bones[600:800, s], axis=1)), 0, 1))
            self.assertLess(np.degrees(apart.mean()), 2.5, name)
        self.assertTrue(np.isnan(out[SUIT_BONES[3]][305]).all())

    def test_missing_sensors_are_no_fault_but_none_at_all_is(self):
        sensor = np.full((300, 17, 4), np.nan)
        bones = np.tile([0.0, 0, 0, 1], (300, 17, 1))
        sensor[:, 2] = bones[:, 2]
        self.assertEqual(set(calibrate_suit(sensor, bones)), {SUIT_BONES[2]})
        with self.assertRaises(InputError):
            calibrate_suit(np.full((300, 17, 4), np.nan), bones)


class HalfKits(unittest.TestCase):
    def test_upper_body_markers_alone_still_solve(self):
        performer, performance, optical = rolled("rope haul", 41)
        chart = shipped_chart()
        upper = [i for i, b in enumerate(chart.bones) if not any(p in b for p in ("Leg", "Foot", "Toes"))]
        whole = true_calibration(performer)
        part = replace(
            whole,
            marker_names=tuple(chart.names[i] for i in upper),
            marker_bones=tuple(chart.bones[i] for i in upper),
            marker_offset_m=whole.marker_offset_m[upper],
        )
        solution = solve_take(truly_labelled(optical, 57)[:, upper], RATE, part)
        errors = joint_errors(solution, performance)
        hands = [performer.skeleton.index(n) for n in ("leftHand", "rightHand", "head")]
        self.assertLess(1000 * np.sqrt(np.mean(errors[:, hands] ** 2)), 15)
        self.assertTrue(np.isfinite(solution.motion.rotation_local).all())
