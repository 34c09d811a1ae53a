"""How sure the solve is of the joints, against errors that came true; and snags ranked by what they cost."""

import unittest
from dataclasses import replace

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.conventions import quaternion_from_rotvec, quaternion_multiply
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.passes.contract import SampleClock
from otrevo.core.snags import Snag, gap_snags
from otrevo.core.solve.body import solve_take
from otrevo.core.solve.damage import DAMAGE_LIMIT_M, with_damage
from otrevo.core.solve.frames import MARKER_SIGMA_M
from otrevo.core.solve.uncertainty import SEAT_M, SolvedMarkers, as_measured, body_uncertainty, half_of_95, influence
from tests.core.stage import RATE, rolled, true_calibration, truly_labelled

CHART = shipped_chart()
HZ = float(RATE)
CLOCK = SampleClock(0.0, HZ)


def markers_of(*bones):
    return [m for m, b in enumerate(CHART.bones) if b in bones]


class Sureness(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.performer, cls.performance, optical = rolled("rope haul", 41, hidden=0.0)
        cls.calibration, cls.model = true_calibration(cls.performer), true_calibration(cls.performer).model()
        cls.labelled = truly_labelled(optical, len(CHART.names))

    def solved(self, labelled):
        """(BodyUncertainty, SolvedMarkers, joint errors (F, B) metres) of a take with gaps."""
        solution = solve_take(labelled, RATE, self.calibration)
        index = [solution.motion.skeleton.index(b) for b in self.model.skeleton.names]
        judged = SolvedMarkers(
            self.model, labelled, solution.predicted_m, solution.motion.root_position_m,
            solution.motion.rotation_local[:, index], solution.weight, solution.target_weight,
        )  # fmt: skip
        seen = np.isfinite(labelled[..., 0])
        sure = body_uncertainty(
            self.model, judged.root_m, judged.rotation_local, seen, judged.weight, judged.target_weight, HZ
        )
        true = motion_joints(self.performance.motion)[0][: len(labelled)]
        off = np.linalg.norm(motion_joints(solution.motion)[0] - true, axis=2)
        return sure, judged, off[sure.frames][:, index]

    def test_errors_that_came_true_are_as_large_as_it_says(self):
        """A forearm and hand, a shin and foot hidden for half a second again and again: 68 % within one, 95 % within two."""
        labelled = self.labelled.copy()
        arm, leg = markers_of("leftLowerArm", "leftHand"), markers_of("rightLowerLeg", "rightFoot", "rightToes")
        hidden = np.zeros(len(labelled), dtype=bool)
        for start in range(400, len(labelled) - 300, 240):
            hidden[start : start + 60] = True
        labelled[np.ix_(hidden, arm + leg)] = np.nan
        sure, _, off = self.solved(labelled)
        within = hidden[sure.frames]
        names = self.model.skeleton.names
        for joints in (["leftHand"], ["rightFoot", "rightToes"]):
            at = [names.index(n) for n in joints]
            said, true = sure.sd_m[np.ix_(within, at)], off[np.ix_(within, at)]
            ratio = np.sqrt(np.mean(true**2) / np.mean(said**2))
            self.assertGreater(ratio, 0.25, "not said to be far worse than it is")
            self.assertLess(ratio, 1.5, "nor better")
            self.assertGreater(np.mean(true < 2 * said), 0.9)
            self.assertGreater(said.mean(), 2 * sure.usual_m[at].mean())
        elsewhere = np.sqrt(np.mean(off[~within] ** 2) / np.mean(sure.sd_m[~within] ** 2))
        self.assertGreater(elsewhere, 0.25)
        self.assertLess(elsewhere, 1.5)

    def test_a_longer_gap_is_less_sure_until_the_limb_can_be_anywhere(self):
        worst = []
        for seconds in (0.1, 0.3, 1.0):
            labelled = self.labelled.copy()
            labelled[600 : 600 + int(seconds * HZ), markers_of("leftLowerArm", "leftHand")] = np.nan
            sure, _, _ = self.solved(labelled)
            worst.append(sure.sd_m[:, self.model.skeleton.names.index("leftHand")].max())
        self.assertEqual(worst, sorted(worst))
        self.assertLess(worst[-1], 0.6)

    def test_influence_is_how_far_a_joint_moves_in_the_solve(self):
        at, marker = 700, CHART.names.index(CHART.names[markers_of("leftHand")[0]])
        offset = np.array([0.0, 0.004, 0.0])
        still = np.tile(self.labelled[at], (80, 1, 1))
        moved = still.copy()
        moved[:, marker] += offset
        joints = [motion_joints(solve_take(x, RATE, self.calibration).motion)[0][-1] for x in (still, moved)]
        index = [self.performer.skeleton.index(b) for b in self.model.skeleton.names]
        came = np.linalg.norm(joints[1] - joints[0], axis=1)[index]
        _, judged, _ = self.solved(still)
        said = influence(self.model, judged.root_m[-1], judged.rotation_local[-1], judged.weight[-1],
                         judged.target_weight[-1], marker, offset)  # fmt: skip
        hand = self.model.skeleton.names.index("leftHand")
        self.assertGreater(came[hand], 0.00025)
        self.assertLess(np.abs(said - came).max(), 0.4 * came.max())

    def test_a_take_of_which_nothing_is_hidden_is_sure_everywhere(self):
        sure, _, _ = self.solved(self.labelled)
        self.assertTrue(np.isfinite(sure.sd_m).all())
        self.assertLess(1000 * np.median(sure.sd_m), 12)
        self.assertLess(sure.beyond_usual_m().max(), DAMAGE_LIMIT_M)

    def test_worse_markers_make_it_less_sure(self):
        _, judged, _ = self.solved(self.labelled)
        seen = np.isfinite(self.labelled[..., 0])
        sds = [
            body_uncertainty(self.model, judged.root_m, judged.rotation_local, seen, judged.weight / f**2,
                             judged.target_weight, HZ).sd_m.mean() for f in (1.0, 2.0)
        ]  # fmt: skip
        self.assertGreater(sds[1], 1.5 * sds[0])
        self.assertLess(sds[1], 2.0 * sds[0] + 1e-6)

    def test_how_far_skin_moves_is_measured_in_the_take_and_as_it_changes(self):
        rng, half = np.random.default_rng(3), len(self.labelled) // 2
        calm, quick = 0.002, 0.008
        off = (
            rng.normal(size=self.labelled.shape)
            * np.where(np.arange(len(self.labelled)) < half, calm, quick)[:, None, None]
        )
        solution = solve_take(self.labelled + off, RATE, self.calibration)
        weight = as_measured(
            np.ones_like(solution.weight), solution.marker_residual_m, len(self.model.skeleton.names), HZ
        )
        found = MARKER_SIGMA_M / np.sqrt(weight[:, 0])
        for part, noise in ((found[200 : half - 100], calm), (found[half + 100 : -100], quick)):
            expected = np.hypot(SEAT_M, np.hypot(noise, 0.002))  # skin moves as well
            self.assertLess(np.abs(part / expected - 1).max(), 0.3)
        hidden = solution.marker_residual_m.copy()
        hidden[300:600] = np.nan
        self.assertTrue(np.isfinite(as_measured(solution.weight, hidden, 22, HZ)).all())

    def test_damage_ranks_what_matters_before_what_is_merely_long(self):
        labelled = self.labelled.copy()
        spare = markers_of("head")[0]
        labelled[300:900, spare] = np.nan  # five seconds, four others on the head
        labelled[1000:1060, markers_of("leftLowerArm", "leftHand")] = np.nan  # half a second, all that holds the hand
        sure, judged, _ = self.solved(labelled)
        snags = gap_snags(labelled, CHART.names, HZ)
        by_length = max(snags, key=lambda s: s.severity)
        self.assertEqual(by_length.subject, CHART.names[spare])
        ranked = sorted(with_damage(snags, judged, sure, CLOCK), key=lambda s: -s.severity)
        hands = {CHART.names[m] for m in markers_of("leftLowerArm", "leftHand")}
        self.assertTrue({s.subject for s in ranked[: len(hands)]} == hands, [(s.subject, s.damage_mm) for s in ranked])
        self.assertGreater(ranked[0].damage_mm, 15)
        last = next(s for s in ranked if s.subject == CHART.names[spare])
        self.assertLess(last.severity, 1, "four others stand in for it")
        self.assertEqual(last.limit, "8 mm at the joints")

    def test_a_marker_off_the_body_costs_what_it_pulls(self):
        labelled = self.labelled.copy()
        wrist, brow = markers_of("leftHand")[0], markers_of("head")[0]
        labelled[500:520, wrist] += [0.0, 0.03, 0.0]
        labelled[700:720, brow] += [0.0, 2.0, 0.0]  # so far off that the solve does not believe it
        sure, judged, _ = self.solved(labelled)
        off = [Snag("off the body", "optical", a / HZ, b / HZ, 2.0, "x", "y", CHART.names[m])
               for a, b, m in ((500, 520, wrist), (700, 720, brow))]  # fmt: skip
        pulled, ignored = with_damage(off, judged, sure, CLOCK)
        self.assertGreater(pulled.damage_mm, 0.5)
        self.assertLess(ignored.damage_mm, 0.5)

    def test_what_is_not_about_the_body_keeps_its_own_measure(self):
        sure, judged, _ = self.solved(self.labelled)
        other = Snag("drop-out", "suit", 1.0, 2.0, 3.3, "x", "0.1 s", "suit")
        self.assertEqual(with_damage([other], judged, sure, CLOCK), [other])

    def test_a_clock_that_starts_late_finds_the_same_gap(self):
        labelled = self.labelled.copy()
        labelled[1000:1060, markers_of("leftLowerArm", "leftHand")] = np.nan
        sure, judged, _ = self.solved(labelled)
        late = SampleClock(0.7, HZ / (1 + 5e-5))
        early = with_damage(gap_snags(labelled, CHART.names, HZ), judged, sure, CLOCK)
        later = with_damage(gap_snags(labelled, CHART.names, late.hz, late.start_s), judged, sure, late)
        self.assertEqual([s.damage_mm for s in early], [s.damage_mm for s in later])


class Within(unittest.TestCase):
    def test_ninety_five_of_a_hundred_lie_within_twice_whichever_way_they_are_off(self):
        rng = np.random.default_rng(5)
        for widths in ((1.0, 0.0, 0.0), (1.0, 1.0, 0.0), (1.0, 1.0, 1.0), (3.0, 1.0, 0.5), (1.0, 0.6, 0.1)):
            turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
            off = rng.normal(size=(200_000, 3)) * widths @ turn
            covariance = np.cov(off.T)
            half = half_of_95(np.trace(covariance), np.trace(covariance @ covariance))
            self.assertAlmostEqual((np.linalg.norm(off, axis=1) < 2 * half).mean(), 0.9545, delta=0.006)


class Rotating(unittest.TestCase):
    def test_it_does_not_matter_where_the_body_faces(self):
        performer, performance, optical = rolled("rope haul", 41, hidden=0.0)
        model = true_calibration(performer).model()
        index = [performer.skeleton.index(b) for b in model.skeleton.names]
        motion = performance.motion.window(300, 420)
        turn = quaternion_from_rotvec(np.array([0.0, 1.1, 0.0]))
        rotation = motion.rotation_local.copy()
        rotation[:, 0] = quaternion_multiply(turn, rotation[:, 0])
        turned = replace(motion, rotation_local=rotation)
        seen = np.ones((120, len(CHART.names)), dtype=bool)
        weight, target = np.full(seen.shape, MARKER_SIGMA_M**-2), np.zeros((120, len(index)))
        a, b = (
            body_uncertainty(model, m.root_position_m, m.rotation_local[:, index], seen, weight, target, HZ).sd_m
            for m in (motion, turned)
        )
        np.testing.assert_allclose(a, b, rtol=1e-6)
        self.assertIsInstance(turned, Motion)


if __name__ == "__main__":
    unittest.main()
