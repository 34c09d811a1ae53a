"""Travel, headings and refusals of a body from a suit, on movements whose truth is plain: a stiff body, a hinge, a step."""

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.performer import PerformerCalibration, performer_from_document
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.inertial.calibration import SuitCalibration, sure_apart
from otrevo.core.inertial.contacts import Point, find_touches
from otrevo.core.inertial.documents import suit_from_document, suit_to_document
from otrevo.core.inertial.felt import felt
from otrevo.core.inertial.headings import find_headings
from otrevo.core.inertial.joints import find_link, heading_matrix, links_of
from otrevo.core.inertial.pose import fit_pose, sensed_bones
from otrevo.core.inertial.recording import SuitRecording
from otrevo.core.inertial.solve import solve_suit
from otrevo.core.inertial.travel import find_travel, keep_feet
from otrevo.core.solve.suit import SUIT_BONES

RATE = 100.0
UPRIGHT = np.array([0.0, 0.0, 0.0, 1.0])
UPPER = tuple(n for n in SUIT_BONES if "Leg" not in n and "Foot" not in n)
LEGS = ("hips", *(side + part for side in ("left", "right") for part in ("UpperLeg", "LowerLeg", "Foot")))


def true_recording(motion, names, heading=0.0):
    """What perfect sensors in the bones' joints would read, their filters all turned by a heading."""
    joint, world = motion_joints(motion)
    at = [motion.skeleton.index(n) for n in names]
    rate = float(motion.rate)
    force = np.gradient(np.gradient(joint[:, at], 1 / rate, axis=0), 1 / rate, axis=0) + [0.0, 9.81, 0.0]
    turn = quaternion_from_rotvec(
        np.array([0.0, 1.0, 0.0]) * np.broadcast_to(heading, (len(motion), len(names)))[..., None]
    )
    own = quaternion_rotate(quaternion_conjugate(world[:, at]), force)
    return SuitRecording(tuple(names), rate, 0.0, quaternion_multiply(turn, world[:, at]), own)


def perfect(names, skeleton, zero_s=0.0, heading=0.0):
    """The calibration of such sensors: joints lie where the skeleton has them."""
    places = {}
    for above, _, joint in links_of(names):
        out, b = np.zeros(3), skeleton.index(joint)
        while b != skeleton.index(above):
            out, b = out + skeleton.rest_offset_m[b], skeleton.parents[b]
        places[joint] = out, np.zeros(3)
    nothing = np.zeros(len(names))
    return SuitCalibration(
        tuple(names),
        np.tile(UPRIGHT, (len(names), 1)),
        nothing + heading,
        nothing,
        zero_s,
        nothing,
        *sure_apart(tuple(names), nothing + 1.0),
        places,
    )


def climbing(rise_m, seconds=6.0):
    """Two steps up: each foot is lifted, set down 0.3 m ahead and rise_m higher; the hips follow."""
    skeleton = generic_skeleton()
    t = np.arange(int(seconds * RATE)) / RATE

    def eased(start, end):
        f = np.clip((t - start) / (end - start), 0, 1)
        return f * f * f * (f * (6 * f - 15) + 10)

    feet = {"left": (1.5, 2.3), "right": (3.0, 3.8)}
    root = np.tile(skeleton.rest_offset_m[0] - [0, 0.04, 0], (len(t), 1))
    root[:, 1] += rise_m * eased(2.3, 3.4)
    root[:, 2] += 0.3 * eased(2.0, 3.6)
    local = np.tile(UPRIGHT, (len(t), len(skeleton.names), 1))
    motion = Motion(skeleton, Fraction(100), root, local)
    joint, _ = motion_joints(motion)
    wanted = {}
    for side, (start, end) in feet.items():
        ankle = np.tile(joint[0, skeleton.index(side + "Foot")] + [0, 0.04, 0], (len(t), 1))
        share = eased(start, end)
        ankle[:, 1] += rise_m * share + 0.1 * 4 * share * (1 - share)
        ankle[:, 2] += 0.3 * share
        wanted[side + "Foot"] = ankle - root
    still = np.zeros_like(root)
    at_hips, world = motion_joints(Motion(skeleton, Fraction(100), still, local))
    return Motion(skeleton, Fraction(100), root, keep_feet(skeleton, local, at_hips, world, wanted))


class Steps(unittest.TestCase):
    def solved(self, rise_m, level_floor=True):
        motion = climbing(rise_m)
        recording, calibration = true_recording(motion, LEGS), perfect(LEGS, motion.skeleton)
        headings = find_headings(recording, calibration, felt(recording))
        local = fit_pose(motion.skeleton, LEGS, sensed_bones(recording, calibration, headings), recording.rate_hz)
        return motion, find_travel(recording, calibration, headings, motion.skeleton, local, level_floor)

    def test_a_step_is_climbed_and_a_level_floor_stays_level(self):
        for rise in (0.18, 0.0):
            motion, found = self.solved(rise)
            levels = sorted({round(c.level_m, 2) for c in found.contacts})
            self.assertAlmostEqual(levels[-1], rise, delta=0.03)
            self.assertEqual(len(levels), 2 if rise else 1)
            climbed = found.root_m[-50:, 1].mean() - found.root_m[:50, 1].mean()
            self.assertAlmostEqual(climbed, rise, delta=0.03)
            forward = found.root_m[-50:, 2].mean() - found.root_m[:50, 2].mean()
            self.assertAlmostEqual(forward, 0.3, delta=0.03)
            joint, _ = motion_joints(Motion(motion.skeleton, motion.rate, found.root_m, found.rotation_local))
            foot = joint[:, motion.skeleton.index("leftFoot")]
            self.assertLess(np.ptp(foot[:140], axis=0).max(), 0.004)
            self.assertLess(np.ptp(foot[260:], axis=0).max(), 0.004)

    def test_legs_of_another_length_keep_the_angles_that_their_sensors_tell(self):
        """A foot's place would bend a knee that is nearly straight by 15 degrees for every centimetre."""
        motion = climbing(0.0)
        recording, calibration = true_recording(motion, LEGS), perfect(LEGS, motion.skeleton)
        headings = find_headings(recording, calibration, felt(recording))
        longer = motion.skeleton.rest_offset_m.copy()
        legs = [motion.skeleton.index(side + part) for side in ("left", "right") for part in ("LowerLeg", "Foot")]
        longer[legs] *= 1.04
        skeleton = motion.skeleton.with_offsets(longer)
        local = fit_pose(skeleton, LEGS, sensed_bones(recording, calibration, headings), recording.rate_hz)
        found = find_travel(recording, calibration, headings, skeleton, local)
        turn = quaternion_multiply(quaternion_conjugate(local[:, legs]), found.rotation_local[:, legs])
        self.assertLess(np.degrees(np.linalg.norm(rotvec_from_quaternion(turn), axis=-1)).mean(), 2.0)
        foot = motion_joints(Motion(skeleton, motion.rate, found.root_m, found.rotation_local))[0][:, legs[1]]
        self.assertLess(np.ptp(foot[:140], axis=0).max(), 0.004, "and its foot stands")

    def test_what_hangs_on_a_wire_with_whirling_legs_leans_on_nothing(self):
        """Its ropes carry the body: for two seconds something is lowest, and none of it is slow."""
        skeleton, times = generic_skeleton(), np.arange(600) / RATE
        share = np.clip((times - 1.5) / 2.5, 0, 1)
        share = share**3 * (share * (6 * share - 15) + 10)
        root = skeleton.rest_offset_m[0] + np.outer(share, [0, 0, 3.0]) + np.outer(share * (1 - share), [0, 1.6, 0])
        whirl = np.sin(2 * np.pi * 1.5 * (times - 1.5)) * np.clip(20 * share * (1 - share), 0, 1)
        turned = np.zeros((len(times), len(skeleton.names), 3))
        for side, sign in (("left", 1.0), ("right", -1.0)):
            turned[:, skeleton.index(side + "UpperLeg"), 0] = sign * np.radians(50) * whirl
        motion = Motion(skeleton, Fraction(100), root, quaternion_from_rotvec(turned))
        recording, calibration = true_recording(motion, LEGS), perfect(LEGS, skeleton)
        recording = replace(
            recording,
            force_ms2=recording.force_ms2 + np.random.default_rng(2).normal(0, 0.2, recording.force_ms2.shape),
        )
        headings = find_headings(recording, calibration, felt(recording))
        found = find_travel(recording, calibration, headings, skeleton, motion.rotation_local)
        way = found.root_m[-50:].mean(axis=0) - found.root_m[:50].mean(axis=0)
        self.assertLess(np.abs(way - [0, 0, 3.0]).max(), 0.15)

    def test_whoever_crawls_goes_by_the_knees_and_drags_the_feet(self):
        """A shin turns about its knee, which stands; toes that are dragged evenly feel as still, but hang higher."""
        still, turning = np.zeros((100, 3)), np.full(100, 1.2)

        def point(bone, height_m):
            return Point(bone, still, still + [0, height_m, 0], still, turning, np.zeros(100), 0.02)

        for toes_m, stand in ((-0.38, ["leftLowerLeg"]), (-0.45, ["leftLowerLeg", "leftToes"])):
            points = {"leftToes": point("leftFoot", toes_m), "leftLowerLeg": point("leftLowerLeg", -0.46)}
            self.assertEqual(sorted(c.point for c in find_touches(points, RATE, 0.0)), stand)

    def test_knees_roll_on_the_ground_as_shins_tip(self):
        """A knee that does not slide goes ahead by its height times the angle by which the shin tips."""
        skeleton, height_m = generic_skeleton(), 0.055
        share = np.clip((np.arange(int(6 * RATE)) / RATE - 2.0) / 2.0, 0, 1)
        tipped = np.radians(45.0) * share**3 * (share * (6 * share - 15) + 10)
        root = np.zeros((len(tipped), 3))
        root[:, 1] = height_m + np.linalg.norm(skeleton.rest_offset_m[skeleton.index("leftLowerLeg")])
        root[:, 2] = height_m * tipped
        local = np.tile(UPRIGHT, (len(root), len(skeleton.names), 1))
        for side in ("left", "right"):
            local[:, skeleton.index(side + "LowerLeg")] = quaternion_from_rotvec(
                np.outer(np.radians(90) + tipped, [1.0, 0.0, 0.0])
            )
        motion = Motion(skeleton, Fraction(100), root, local)
        recording, calibration = true_recording(motion, LEGS), perfect(LEGS, skeleton)
        headings = find_headings(recording, calibration, felt(recording))
        found = find_travel(recording, calibration, headings, skeleton, local)
        self.assertIn("leftLowerLeg", {c.point for c in found.contacts})
        way = found.root_m - found.root_m[0]
        np.testing.assert_allclose(way[:, [0, 2]], (root - root[0])[:, [0, 2]], atol=0.006)

    def test_without_a_level_floor_the_lowest_point_is_the_ground(self):
        _, found = self.solved(0.18, level_floor=False)
        self.assertAlmostEqual(found.root_m[-50:, 1].mean() - found.root_m[:50, 1].mean(), 0.18, delta=0.04)


class Still(unittest.TestCase):
    def test_hips_do_not_swing_at_the_ends_of_a_take_as_their_sensor_is_tilted(self):
        skeleton = generic_skeleton()
        local = np.tile(UPRIGHT, (800, len(skeleton.names), 1))
        motion = Motion(skeleton, Fraction(100), np.tile(skeleton.rest_offset_m[0], (800, 1)), local)
        recording, calibration = true_recording(motion, LEGS), perfect(LEGS, skeleton)
        tilted = recording.force_ms2.copy()
        tilted[:, LEGS.index("hips")] += [0.4, 0.0, 0.3]  # by three degrees
        recording = replace(recording, force_ms2=tilted)
        found = find_travel(
            recording, calibration, find_headings(recording, calibration, felt(recording)), skeleton, local
        )
        self.assertLess(np.ptp(found.root_m, axis=0).max(), 0.01)


class Headings(unittest.TestCase):
    def swinging(self):
        """A Motion of 20 s in which arms swing about two axes, at their own pace, and the body goes to and fro."""
        rng = np.random.default_rng(1)
        t = np.arange(2000) / RATE
        skeleton = generic_skeleton()
        local = np.tile(UPRIGHT, (len(t), len(skeleton.names), 1))
        for side, sign in (("left", 1.0), ("right", -1.0)):
            for bone in ("UpperArm", "LowerArm"):
                angle = np.stack(
                    [0 * t, 0.5 * np.sin(2.9 * t + sign), 0.7 * np.sin(3.7 * t + rng.uniform(0, 6))], axis=1
                )
                local[:, skeleton.index(side + bone)] = quaternion_from_rotvec(angle)
        root = skeleton.rest_offset_m[0] + np.stack([0.05 * np.sin(2.2 * t), 0 * t, 0.08 * np.sin(3.1 * t)], axis=1)
        return Motion(skeleton, Fraction(100), root, local)

    def test_so_they_are_when_a_take_begins_with_half_a_minute_of_stillness(self):
        moving = self.swinging()
        still = np.repeat(moving.rotation_local[:1], 3000, axis=0), np.repeat(moving.root_position_m[:1], 3000, axis=0)
        motion = Motion(moving.skeleton, moving.rate, np.concatenate([still[1], moving.root_position_m]),
                        np.concatenate([still[0], moving.rotation_local]))  # fmt: skip
        drifted = np.random.default_rng(5).uniform(-np.pi, np.pi, len(UPPER))
        off, _ = self.arms_off(motion, drifted, 30.0)
        self.assertLess(max(off), 2.0)

    def arms_off(self, motion, drifted, age_s):
        """By how many degrees headings are off at most within each arm, and their mean (rad), when filters have drifted (S,) since the
        warm-up."""
        recording, calibration = true_recording(motion, UPPER, drifted), perfect(UPPER, motion.skeleton, -age_s)
        found = find_headings(recording, calibration, felt(recording)).angle_rad[0]
        arms = [[UPPER.index(side + b) for b in ("UpperArm", "LowerArm", "Hand")] for side in ("left", "right")]
        gap = np.exp(1j * (found - drifted))
        return [np.degrees(np.abs(np.angle(gap[arm] / gap[arm[0]])).max()) for arm in arms], found.mean()

    def test_filters_that_drifted_apart_are_brought_together_and_the_body_keeps_its_facing(self):
        drifted = np.radians(np.random.default_rng(2).normal(0, 8.0, len(UPPER)))
        off, mean = self.arms_off(self.swinging(), drifted, 120.0)
        self.assertLess(max(off), 1.0)
        self.assertLess(abs(mean), np.radians(4.0), "all together they keep to what the warm-up knew")

    def test_hours_after_the_warm_up_they_are_found_wherever_they_point(self):
        drifted = np.random.default_rng(3).uniform(-np.pi, np.pi, len(UPPER))
        for age_s in (3 * 3600.0, 30.0, -50.0):  # also by a device's clock that has begun anew
            off, _ = self.arms_off(self.swinging(), drifted, age_s)
            self.assertLess(max(off), 1.0, age_s)

    def test_how_filters_drift_is_found_in_a_long_take(self):
        """For five minutes, by degrees a minute of which the warm-up knew nothing."""
        motion = self.swinging()
        there_and_back = [getattr(motion, of) for of in ("rotation_local", "root_position_m")]
        local, root = (np.concatenate([np.concatenate([x, x[::-1]])] * 8)[:30000] for x in there_and_back)
        motion = Motion(motion.skeleton, motion.rate, root, local)
        drift = np.radians(np.random.default_rng(7).uniform(-4.0, 4.0, len(UPPER))) / 60
        angle = drift * (np.arange(len(motion)) / RATE)[:, None]
        recording = true_recording(motion, UPPER, np.zeros(len(UPPER)))
        turn = quaternion_from_rotvec(angle[..., None] * [0.0, 1.0, 0.0])
        recording = replace(recording, rotation=quaternion_multiply(turn, recording.rotation))
        found = find_headings(recording, perfect(UPPER, motion.skeleton), felt(recording))
        for at_s in (5.0, 150.0, 295.0):
            gap = np.exp(1j * (found.at(np.array([at_s]))[0] - drift * at_s))
            for side in ("left", "right"):
                arm = [UPPER.index(side + b) for b in ("UpperArm", "LowerArm", "Hand")]
                self.assertLess(np.degrees(np.abs(np.angle(gap[arm] / gap[arm[0]])).max()), 1.0, (at_s, side))

    def test_a_t_pose_tells_those_of_limbs_that_do_not_move(self):
        skeleton, drifted = generic_skeleton(), np.random.default_rng(4).uniform(-np.pi, np.pi, len(UPPER))
        local = np.tile(UPRIGHT, (600, len(skeleton.names), 1))
        motion = Motion(skeleton, Fraction(100), np.tile(skeleton.rest_offset_m[0], (600, 1)), local)
        recording, calibration = true_recording(motion, UPPER, drifted), perfect(UPPER, skeleton, -7200.0)
        rng, shape = np.random.default_rng(6), (600, len(UPPER), 3)
        trembling = quaternion_from_rotvec(rng.normal(0, 0.003, shape))
        recording = replace(recording, rotation=quaternion_multiply(recording.rotation, trembling),
                            force_ms2=recording.force_ms2 + rng.normal(0, 0.06, shape))  # fmt: skip
        known = replace(calibration, t_pose=np.tile(UPRIGHT, (len(UPPER), 1)))
        off = []
        for one in (known, calibration):
            gap = np.exp(1j * (find_headings(recording, one, felt(recording)).angle_rad[0] - drifted))
            off.append(np.degrees(np.abs(np.angle(gap / gap[0]))))
        self.assertLess(off[0].max(), 3.0)
        trunk = [UPPER.index(n) for n in ("hips", "chest", "head", "leftShoulder", "rightShoulder")]
        self.assertLess(off[1][trunk].max(), 3.0, "nobody goes about twisted")
        self.assertGreater(np.delete(off[1], trunk).max(), 20.0, "nothing else tells of them")

    def test_posture_tells_that_a_leg_points_backwards_however_it_is_held(self):
        """Thighs that sway and twist while a filter is half a turn off: turns beyond half a turn come out the other way round."""
        skeleton, rng = generic_skeleton(), np.random.default_rng(8)
        t = np.arange(2600) / RATE
        local = np.tile(UPRIGHT, (len(t), len(skeleton.names), 1))
        for bone in ("leftUpperLeg", "rightUpperLeg"):
            sway = [
                a * np.sin(2 * np.pi * f * t + rng.uniform(0, 6)) for a, f in ((0.3, 0.13), (0.3, 0.07), (0.15, 0.11))
            ]
            local[:, skeleton.index(bone)] = quaternion_from_rotvec(np.stack(sway, axis=1))
        motion = Motion(skeleton, Fraction(100), np.tile(skeleton.rest_offset_m[0], (len(t), 1)), local)
        leg = [LEGS.index("right" + b) for b in ("UpperLeg", "LowerLeg", "Foot")]
        for half_a_turn_deg in (165.0, 180.0, 190.0):
            drifted = rng.uniform(-np.pi, np.pi, len(LEGS))
            drifted[leg] = drifted[0] + np.radians(half_a_turn_deg)
            recording = true_recording(motion, LEGS, drifted)
            found = find_headings(recording, perfect(LEGS, skeleton, -7200.0), felt(recording)).angle_rad.mean(axis=0)
            gap = np.exp(1j * (found - drifted))
            self.assertLess(np.degrees(np.abs(np.angle(gap[leg[0]] / gap[0]))), 15.0, half_a_turn_deg)

    def test_where_a_sensor_is_missing_its_joints_are_not_known(self):
        whole = perfect(UPPER, generic_skeleton())
        self.assertIn("leftShoulder", whole.places)
        left = whole.only([n for n in UPPER if n != "chest"])
        self.assertEqual({k for k in left.places if "right" not in k}, {"leftUpperArm", "leftLowerArm", "leftHand"})

    def test_a_limb_that_hardly_moves_tells_nothing_of_its_heading(self):
        rng = np.random.default_rng(2)
        still = np.tile(UPRIGHT, (1500, 2, 1))
        noisy = quaternion_multiply(still, quaternion_from_rotvec(rng.normal(0, 0.003, (1500, 2, 3))))
        force = np.array([0.0, 9.81, 0.0]) + rng.normal(0, 0.06, (1500, 2, 3))
        link = find_link(
            felt(SuitRecording(("leftLowerLeg", "leftFoot"), RATE, 0.0, noisy, force)),
            "leftLowerLeg",
            "leftFoot",
            "leftFoot",
        )
        self.assertTrue(np.isinf(link.heading_sd))

    def test_a_heading_turns_about_the_vertical(self):
        np.testing.assert_allclose(heading_matrix(np.array(np.pi / 2)) @ [0, 0, 1], [1, 0, 0], atol=1e-12)


class Refused(unittest.TestCase):
    def performer(self):
        skeleton = generic_skeleton()
        devices = {"suit": suit_to_document(perfect(SUIT_BONES, skeleton))}
        return PerformerCalibration(1.75, skeleton, "", (), (), np.zeros((0, 3)), devices=devices)

    def recording(self, names):
        return SuitRecording(
            tuple(names), RATE, 0.0, np.tile(UPRIGHT, (400, len(names), 1)), np.tile([0, 9.81, 0], (400, len(names), 1))
        )

    def test_a_performer_comes_back_from_its_document(self):
        document = self.performer().to_document()
        again = suit_from_document(performer_from_document(document).devices)
        self.assertEqual((again.names, set(again.places)), (SUIT_BONES, {j for *_, j in links_of(SUIT_BONES)}))
        np.testing.assert_allclose(again.mount, np.tile(UPRIGHT, (17, 1)))
        self.assertIsNone(again.t_pose, "as in those of before")

    def test_so_does_the_t_pose_and_one_that_cannot_be_is_refused(self):
        whole = perfect(SUIT_BONES, generic_skeleton())
        held = quaternion_from_rotvec(np.random.default_rng(7).normal(0, 0.1, (17, 3)))
        held[3] = np.nan
        rows = suit_to_document(replace(whole, t_pose=held))
        np.testing.assert_allclose(suit_from_document({"suit": rows}).t_pose, held, atol=1e-6)
        for wrong in ([0.0, 0.0, 0.0, 2.0], [0.0, 1.0], "level"):
            rows["chest"]["t_pose_xyzw"] = wrong
            with self.assertRaisesRegex(InputError, "unit rotation|malformed"):
                suit_from_document({"suit": rows})

    def test_takes_that_lack_too_much(self):
        performer = self.performer()
        for names, words in ((SUIT_BONES[1:], "pelvis"), (SUIT_BONES[:6], "6 of the 17")):
            with self.assertRaisesRegex(InputError, words):
                solve_suit(self.recording(names), performer)
        no_suit = PerformerCalibration(1.75, generic_skeleton(), "", (), (), np.zeros((0, 3)))
        with self.assertRaisesRegex(InputError, "calibrated with a suit"):
            solve_suit(self.recording(SUIT_BONES), no_suit)

    def test_a_sensor_that_fell_off_is_told_and_its_bone_follows(self):
        names = tuple(n for n in SUIT_BONES if n != "leftLowerArm")
        found = solve_suit(self.recording(names), self.performer())
        self.assertTrue(any("left lower arm" in n for n in found.notes))
        self.assertGreater(found.sd_deg["leftLowerArm"], found.sd_deg["rightLowerArm"])
        arm = found.motion.rotation_local[:, found.motion.skeleton.index("leftLowerArm")]
        self.assertLess(np.abs(arm[:, :3]).max(), 0.1)

    def test_work_can_be_stopped(self):
        class Stop(Exception):
            pass

        def stop(share):
            raise Stop

        with self.assertRaises(Stop):
            solve_suit(self.recording(SUIT_BONES), self.performer(), progress=stop)


if __name__ == "__main__":
    unittest.main()
