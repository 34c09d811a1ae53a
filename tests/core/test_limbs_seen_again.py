"""Limbs that were hidden while they moved fast are solved from the first frame in which they are seen again."""

import unittest
from fractions import Fraction

import numpy as np

from otrevo.core.body.joints import joint_tables
from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.conventions import quaternion_from_euler, quaternion_from_rotvec
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import band_noise, marker_positions
from otrevo.core.sim.performers import make_performer
from otrevo.core.solve.body import solve_take
from tests.core.stage import RATE, true_calibration

CHART = shipped_chart()
SECONDS = 50
LIMBS = {
    "leg": (("UpperLeg", "LowerLeg", "Foot", "Toes"), ("LowerLeg", "Foot", "Toes")),
    "arm": (("UpperArm", "LowerArm", "Hand"), ("LowerArm", "Hand")),
}


def thrashing(performer, seed):
    """Kicks and punches at several metres a second: every joint driven through its range at 0.4 to 1.8 Hz."""
    rng = np.random.default_rng(seed)
    frames = SECONDS * int(RATE)
    _, low, high = joint_tables(performer.skeleton)
    turns = np.zeros((frames, len(performer.skeleton.names), 3))
    for b, name in enumerate(performer.skeleton.names):
        if name == "spine" or name.endswith(("UpperLeg", "UpperArm", "LowerLeg", "LowerArm", "Hand", "Foot")):
            swing = np.tanh(band_noise(rng, frames, 3, float(RATE), 0.4, 1.8))
            turns[:, b] = 0.5 * (low[b] + high[b]) + 0.4 * (high[b] - low[b]) * swing
    root = np.array([0.0, 0.95, 0.0]) + 0.3 * band_noise(rng, frames, 3, float(RATE), 0.1, 0.8)
    local = quaternion_from_rotvec(turns)
    for side in ("left", "right"):  # a forearm's range is of how it is bent, bent sideways and rolled
        b = performer.skeleton.index(f"{side}LowerArm")
        local[:, b] = quaternion_from_euler("YZX", np.roll(turns[:, b], -1, axis=1))
    return Motion(performer.skeleton, RATE, root, local)


class SeenAgain(unittest.TestCase):
    def gaps(self, seed, backwards):
        """(joint errors of the limb in metres from its return on, one row per gap) of one take with a gap every few seconds."""
        rng = np.random.default_rng(seed)
        performer = make_performer(seed, CHART)
        motion = thrashing(performer, seed)
        if backwards:
            motion = Motion(motion.skeleton, RATE, motion.root_position_m[::-1], motion.rotation_local[::-1])
        seen = marker_positions(motion, CHART.bone_index(motion.skeleton), performer.marker_offset_m)
        seen = seen + rng.normal(0, 0.0003, seen.shape)
        hidden, returns, at = seen.copy(), [], 120
        while True:
            length = int(120 * np.exp(rng.uniform(np.log(0.5), np.log(10))))
            if at + length + 120 > len(seen):
                break
            side, (bones, joints) = ("left", "right")[rng.integers(2)], list(LIMBS.values())[rng.integers(2)]
            markers = [m for m, b in enumerate(CHART.bones) if b in [side + name for name in bones]]
            self.assertGreaterEqual(len(markers), 3)
            hidden[at : at + length, markers] = np.nan
            returns.append((at + length, [motion.skeleton.index(side + j) for j in joints]))
            at += length + 60
        solved, _ = motion_joints(solve_take(hidden, RATE, true_calibration(performer)).motion)
        true, _ = motion_joints(motion)
        off = np.linalg.norm(solved - true, axis=2)
        return [off[t : t + 40][:, joints].max(axis=1) for t, joints in returns]

    def test_forwards_and_backwards(self):
        errors = [gap for seed in (611, 612, 613, 614) for way in (False, True) for gap in self.gaps(seed, way)]
        self.assertGreaterEqual(len(errors), 60)
        first = np.array([gap[0] for gap in errors])
        self.assertLess(
            1000 * first.max(), 15, f"{(first > 0.015).sum()} of {len(first)} limbs are lost when seen again"
        )
        self.assertLess(1000 * max(gap.max() for gap in errors), 15)


class WrongNames(unittest.TestCase):
    def test_markers_that_are_wrong_do_not_pull_a_limb_along(self):
        """Two of a forearm's markers carry the names of points across the room: the arm stays with what is right."""
        performer = make_performer(617, CHART)
        motion = thrashing(performer, 617).window(0, 600)
        seen = marker_positions(motion, CHART.bone_index(motion.skeleton), performer.marker_offset_m)
        calibration = true_calibration(performer)
        arm = [m for m, b in enumerate(CHART.bones) if b == "leftLowerArm"][:2]
        wrong = seen.copy()
        wrong[200:320, arm] = [1.5, 0.3, 1.0]
        right, _ = motion_joints(solve_take(seen, RATE, calibration).motion)
        found, _ = motion_joints(solve_take(wrong, RATE, calibration).motion)
        self.assertLess(1000 * np.linalg.norm(found - right, axis=2)[:, :22].max(), 25)


class NothingToRegain(unittest.TestCase):
    def test_same_input_same_pose_at_another_rate(self):
        performer = make_performer(618, CHART)
        motion = thrashing(performer, 618).window(0, 360)
        seen = marker_positions(motion, CHART.bone_index(motion.skeleton), performer.marker_offset_m)
        one = solve_take(seen[::2], Fraction(60), true_calibration(performer)).motion
        two = solve_take(seen[::2], Fraction(60), true_calibration(performer)).motion
        np.testing.assert_array_equal(one.rotation_local, two.rotation_local)


if __name__ == "__main__":
    unittest.main()
