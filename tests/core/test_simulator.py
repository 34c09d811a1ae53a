import unittest
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.body.model import generic_body
from otrevo.core.body.skeleton import BODY_BONES, BONE_NAMES, generic_skeleton, rest_joints
from otrevo.core.conventions import matrix_from_quaternion, rotvec_from_quaternion
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import MOTIONS, perform
from otrevo.core.sim.optical import see
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.stage import roll
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.core.warm_up.geometry_fit import fit_geometry
from tests.core.stage import RATE, rolled, truly_labelled


class Skeleton(unittest.TestCase):
    def test_parents_come_first_and_both_sides_mirror(self):
        skeleton = generic_skeleton()
        self.assertTrue((skeleton.parents < np.arange(len(BONE_NAMES))).all())
        for name in BONE_NAMES:
            if name.startswith("left"):
                left, right = skeleton.index(name), skeleton.index("right" + name[4:])
                np.testing.assert_allclose(skeleton.rest_offset_m[left] * [-1, 1, 1], skeleton.rest_offset_m[right])

    def test_keeping_some_bones_keeps_their_tree(self):
        body = generic_skeleton().keep(BODY_BONES)
        self.assertEqual(body.names, BODY_BONES)
        self.assertEqual(body.names[body.parents[body.index("leftHand")]], "leftLowerArm")

    def test_scales_with_height(self):
        np.testing.assert_allclose(generic_skeleton(1.4).rest_offset_m, generic_skeleton(1.75).rest_offset_m * 0.8)


class MadeUpPerformers(unittest.TestCase):
    def test_are_as_tall_as_they_say_however_long_their_limbs_are(self):
        legs = []
        for seed in range(20):
            performer = make_performer(seed, shipped_chart())
            usual, joints = generic_skeleton(performer.height_m), rest_joints(performer.skeleton)
            head, ankle = (rest_joints(usual)[n][1] - joints[n][1] for n in ("head", "leftFoot"))
            self.assertLess(max(abs(head), abs(ankle)), 1e-9)
            legs.append(joints["leftUpperLeg"][1] / rest_joints(usual)["leftUpperLeg"][1])
        self.assertGreater(np.ptp(legs), 0.06)


class Motions(unittest.TestCase):
    def test_every_motion_is_natural_enough_to_be_tested_on(self):
        performer = make_performer(9, shipped_chart())
        for name in MOTIONS:
            performance = perform(name, performer, 9, RATE, (0.5, 0.2), 1.0)
            joints, _ = motion_joints(performance.motion)
            self.assertTrue(np.isfinite(joints).all(), name)
            speed = np.linalg.norm(np.diff(joints[:, :22], axis=0), axis=2) * 120
            self.assertLess(speed.max(), 9, name)
            self.assertGreater(speed.max(), 1, name)
            hands = joints[:, [performance.motion.skeleton.index(n) for n in ("leftHand", "rightHand")]]
            apart = np.linalg.norm(hands[:, 0] - hands[:, 1], axis=1)
            self.assertGreater(apart[-20:].min(), 0.8 * performer.height_m * 0.75, f"{name} ends in T-pose")
            if name == "suit warm-up":  # nothing is lined up by it: it begins with the arms down, and nobody claps
                self.assertLess(apart[:240].max(), 0.45 * performer.height_m, f"{name} begins with the arms down")
                continue
            self.assertGreater(apart[:60].min(), 0.8 * performer.height_m * 0.75, f"{name} begins in T-pose")
            clap = round(performance.clap_s * 120)
            self.assertLess(apart[clap], 0.5 * apart[0], f"{name} claps")

    def test_feet_do_what_ankles_can(self):
        performer = make_performer(9, shipped_chart())
        for name in MOTIONS:
            motion = perform(name, performer, 9, RATE).motion
            for bone in ("leftFoot", "rightFoot"):
                turn = rotvec_from_quaternion(motion.rotation_local[:, motion.skeleton.index(bone)])
                self.assertLess(np.degrees(np.abs(turn)).max(), 62, f"{name}: {bone}")
                if name == "warm-up":
                    self.assertGreater(np.degrees(np.ptp(turn[:, 0])), 35, "through its range")

    def test_standing_feet_stand_still(self):
        performer = make_performer(9, shipped_chart())
        joints, _ = motion_joints(perform("semaphore", performer, 9, RATE).motion)
        foot = joints[:, performer.skeleton.index("leftFoot")]
        self.assertLess(np.ptp(foot, axis=0).max(), 1e-6)

    def test_a_seated_thigh_does_not_spin(self):
        performer = make_performer(3, shipped_chart())
        _, world = motion_joints(perform("radio watch", performer, 3, RATE).motion)
        thigh = world[:, performer.skeleton.index("leftUpperLeg")]
        step = 2 * np.arccos(np.clip(np.abs(np.sum(thigh[1:] * thigh[:-1], axis=1)), 0, 1))
        self.assertLess(np.degrees(step.max()) * 120, 900)


class Optical(unittest.TestCase):
    def test_truth_says_what_every_point_is(self):
        _, _, optical = rolled("rope haul", 32)
        present = np.isfinite(optical.points_m[..., 0])
        np.testing.assert_array_equal(present, optical.truth > -2)
        t, c = np.nonzero(optical.truth >= 0)
        off = np.linalg.norm(optical.points_m[t, c] - optical.true_positions_m[t, optical.truth[t, c]], axis=1)
        self.assertAlmostEqual(1000 * np.sqrt(np.mean(off**2)), 0.3 * np.sqrt(3), delta=0.05)
        hidden = 1 - (optical.truth >= 0).sum() / optical.true_positions_m[..., 0].size
        self.assertTrue(0.05 < hidden < 0.15, hidden)

    def test_same_seed_same_bytes_and_another_seed_another_take(self):
        performer, performance, optical = rolled("rope haul", 32)
        again = see(performance, performer, shipped_chart(), 532)
        self.assertEqual(again.points_m.tobytes(), optical.points_m.tobytes())
        self.assertNotEqual(
            see(performance, performer, shipped_chart(), 1).points_m.tobytes(), optical.points_m.tobytes()
        )

    def test_skin_moves_more_than_the_solver_assumes_nowhere_and_somewhere(self):
        performer, performance, optical = rolled("rope haul", 32)
        joint, world = motion_joints(performance.motion)
        chart = shipped_chart()
        bone = chart.bone_index(performance.motion.skeleton)
        rigid = joint[:, bone] + np.einsum(
            "tmij,mj->tmi", matrix_from_quaternion(world)[:, bone], performer.marker_offset_m
        )
        slip = 1000 * np.sqrt(np.mean(np.sum((optical.true_positions_m - rigid) ** 2, axis=2), axis=0))
        self.assertGreater(slip.max(), 2)
        self.assertLess(slip.max(), 12)


class Stage(unittest.TestCase):
    def test_half_kits_and_whole_kits(self):
        fmt = TimecodeFormat(RATE.__class__(25))
        whole = roll("lantern", 4, 1, 1.7, fmt, 1000)
        self.assertEqual(set(whole.streams), {"optical", "suit", "gloves", "face", "timecode", "room"})
        self.assertEqual(set(roll("lantern", 4, 1, 1.7, fmt, 1000, kit=("face",)).streams), {"face"})
        seconds = len(whole.performance.motion) / 120
        for name, clock in whole.clocks.items():
            self.assertLess(abs(clock.drift_ppm), 80.01)
            self.assertAlmostEqual(len(whole.streams[name].data) / clock.rate_hz, seconds - clock.start_s, delta=0.1)
            self.assertTrue(np.isnan(whole.streams[name].data).any(), f"{name} loses packets")

    def test_who_is_done_stays_until_it_is_cut_and_everything_rolls_on(self):
        fmt = TimecodeFormat(Fraction(30000, 1001), True)
        short = roll("semaphore", 3, 9, 1.7, fmt, 1000)
        frames = len(short.performance.motion)
        seconds = frames / 120 + 5
        long = roll("semaphore", 3, 9, 1.7, fmt, 1000, seconds=seconds)
        motion = long.performance.motion
        np.testing.assert_array_equal(motion.rotation_local[:frames], short.performance.motion.rotation_local)
        self.assertEqual(np.ptp(motion.root_position_m[frames - 1 :], axis=0).max(), 0)
        for name, stream in long.streams.items():
            self.assertAlmostEqual(len(stream.data) / float(stream.rate), seconds, delta=0.4, msg=name)


class GeometryFit(unittest.TestCase):
    def test_bone_lengths_come_from_motion_and_not_from_the_prior(self):
        performer, performance, optical = rolled("warm-up", 51)
        model = generic_body(shipped_chart(), performer.height_m)
        observed = truly_labelled(optical, 57)
        _, world = motion_joints(performance.motion)
        local = matrix_from_quaternion(performance.motion.rotation_local[:, :22])
        picked = np.linspace(0, len(observed) - 1, 120).astype(int)
        fit = fit_geometry(
            model,
            observed[picked],
            performance.motion.root_position_m[picked].copy(),
            np.ascontiguousarray(local[picked]),
            6,
        )
        self.assertLess(1000 * np.sqrt(np.nanmean(fit.residual_m**2)), 5)
        for bone in ("leftLowerArm", "leftHand", "leftLowerLeg", "leftFoot"):
            b = model.skeleton.index(bone)
            true = np.linalg.norm(performer.skeleton.rest_offset_m[b])
            before = abs(np.linalg.norm(model.skeleton.rest_offset_m[b]) - true)
            after = abs(np.linalg.norm(fit.model.skeleton.rest_offset_m[b]) - true)
            self.assertLess(after, max(0.012, 0.6 * before), bone)

    def test_a_warm_up_that_squats_and_reaches_does_not_bend_the_rest_pose(self):
        off = {1.0: [], 0.1: []}
        for seed in (51, 52, 53):
            performer, performance, optical = rolled("warm-up", seed)
            picked = np.linspace(0, len(optical.points_m) - 1, 80).astype(int)
            local = np.ascontiguousarray(matrix_from_quaternion(performance.motion.rotation_local[picked, :22]))
            root = performance.motion.root_position_m[picked].copy()
            model = generic_body(shipped_chart(), performer.height_m)
            for share, rows in off.items():
                fit = fit_geometry(model, truly_labelled(optical, 57)[picked], root, local, 6, rest_share=share)
                wrong = fit.model.skeleton.rest_offset_m[1:] - performer.skeleton.rest_offset_m[1:22]
                rows.append(np.sqrt(np.mean(wrong**2)))
        self.assertLess(np.mean(off[0.1]), 0.85 * np.mean(off[1.0]))
