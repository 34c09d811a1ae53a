"""Map sheets proposed for skeletons of many habits, and what the confidence, the axes and the rest pose say."""

import unittest

import numpy as np

from otrevo.core.characters.mapping import propose
from otrevo.core.characters.rest_pose import match_rest_pose
from otrevo.core.errors import InputError
from otrevo.core.sim.characters.build import Build, as_file, built, random_build, score
from otrevo.core.sim.characters.habits import HABITS, named

BUILDS = 2
LIMBS = ("UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg", "Foot")


def proposed(habit, seed, build=None, skin=None):
    rng = np.random.default_rng(seed)
    body = built(build or random_build(rng))
    skeleton = as_file(body, named(body.names, habit, seed), rng, bool(seed % 3) if skin is None else skin)
    return body, skeleton, propose(skeleton)


class Habits(unittest.TestCase):
    def total(self, habit, builds):
        counts, confidences = np.zeros(4), ([], [])
        for seed in range(builds):
            body, _, proposal = proposed(habit, 400 + seed)
            counts += score(body, proposal)
            for bone, pair in proposal.pairs.items():
                truth = body.truth[pair.targets[0]]
                good = truth == bone or (truth == "spine" and bone in ("spine", "chest", "upperChest"))
                confidences[0 if good else 1].append(pair.confidence)
        right, wrong, missed, exchanged = counts
        return right / (right + wrong), right / (right + missed), exchanged, confidences

    def test_names_of_every_habit(self):
        for habit in HABITS[:-2]:
            with self.subTest(habit):
                precision, recall, exchanged, confidences = self.total(habit, BUILDS)
                self.assertGreaterEqual(precision, 0.99)
                self.assertGreaterEqual(recall, 0.99)
                self.assertEqual(exchanged, 0)
                self.assertGreaterEqual(np.mean(confidences[0]), 0.9)

    def test_names_taken_away(self):
        precision, recall, exchanged, _ = self.total("nothing", 12)
        self.assertGreaterEqual(precision, 0.98)
        self.assertGreaterEqual(recall, 0.97)
        self.assertEqual(exchanged, 0)

    def test_how_sure_tells_right_from_wrong(self):
        """Over bodies with wings, weapons, hair and no toes, all without names, so that some pairs are wrong."""
        precision, recall, exchanged, (right, wrong) = self.total("nothing", 60)
        self.assertGreater(min(precision, recall), 0.985)
        self.assertEqual(exchanged, 0)
        self.assertGreater(len(wrong), 4)
        self.assertLessEqual(max(wrong), 0.6)
        self.assertGreater(np.mean(right), 0.83)
        self.assertLess(np.mean(np.array(right) <= 0.6), 0.1)

    def test_what_one_hand_holds_is_neither_hand_nor_finger(self):
        for seed in (594, 597, 639, 661, 677, 727):
            body, _, proposal = proposed("nothing", seed)
            held = [i for i, n in enumerate(body.names) if n.startswith("weapon")]
            self.assertTrue(held)
            self.assertFalse([b for b, p in proposal.pairs.items() if set(p.targets) & set(held)], seed)

    def test_eyes_and_thumbs_without_names_tell_the_front(self):
        for build in (Build(fingers=(), toes=False, eyes=True), Build(toes=False)):
            for seed in range(4):
                body, _, proposal = proposed("nothing", seed, build)
                self.assertEqual(score(body, proposal)[3], 0)
                self.assertGreater(proposal.frame.sure, 0.6)

    def test_sides_as_a_viewer_names_them_are_taken_from_the_body_and_said(self):
        body, _, proposal = proposed("viewer", 3, Build(arms_down_deg=30))
        self.assertEqual(score(body, proposal)[3], 0)
        self.assertIn("as a viewer sees them", " ".join(proposal.notes))

    def test_chains_share_and_twist_bones_are_helpers(self):
        body, skeleton, proposal = proposed("plain", 7, Build(spine=5, neck=2, twist=2))
        trunk = [t for b in ("spine", "chest", "upperChest") for t in proposal.pairs[b].targets]
        self.assertEqual([body.names[t] for t in trunk], [f"spine {k + 1}" for k in range(5)])
        self.assertEqual(len(proposal.pairs["neck"].targets), 2)
        twists = {body.names[b]: body.names[of] for b, of in proposal.helpers.items()}
        self.assertEqual(twists["leftLowerArm twist 2"], "leftLowerArm")
        self.assertEqual(len(twists), 16)

    def test_one_spine_bone_serves_three_of_ours(self):
        body, _, proposal = proposed("plain", 7, Build(spine=1))
        targets = {tuple(proposal.pairs[b].targets) for b in ("spine", "chest", "upperChest")}
        self.assertEqual(targets, {(body.names.index("spine 1"),)})

    def test_a_name_that_disagrees_is_a_doubt(self):
        rng = np.random.default_rng(5)
        body = built(Build())
        names = named(body.names, "plain")
        at = body.names.index("leftLowerArm")
        names[at] = "Foot_L"
        pair = propose(as_file(body, names, rng)).pairs["leftLowerArm"]
        self.assertEqual(pair.targets, [at])
        self.assertLessEqual(pair.confidence, 0.6)
        self.assertIn("Foot_L", pair.doubt)

    def test_what_is_no_body_is_refused_in_a_sentence(self):
        legs = 8
        names = ["body", *[f"leg {i} {part}" for i in range(legs) for part in "abc"]]
        parents = np.array([-1, *[0 if part == 0 else 1 + 3 * i + part - 1 for i in range(legs) for part in range(3)]])
        angle = 2 * np.pi * np.arange(legs) / legs
        way = np.stack([np.cos(angle), 0 * angle, np.sin(angle)], 1)
        positions = np.concatenate([[[0, 1.0, 0]], *[[[0, 1, 0] + (p + 1) * 0.3 * w for p in range(3)] for w in way]])
        spider = built(Build()).__class__(
            tuple(names), parents, positions, tuple("" for _ in names), np.full((len(names), 3), np.nan)
        )
        with self.assertRaisesRegex(InputError, "two legs and two arms could not be found"):
            propose(as_file(spider, names, np.random.default_rng(1)))


class Axes(unittest.TestCase):
    def test_axes_and_units_are_found_from_the_data(self):
        for seed in range(20):
            body, skeleton, proposal = proposed("plain", 900 + seed, Build(height_m=1.7, arms_down_deg=10 * (seed % 6)))
            frame = proposal.frame
            ours = frame.metres * skeleton.positions @ frame.rotation.T
            self.assertLess(np.abs(ours - body.positions).max(), 1e-6, f"seed {seed}: {frame}")


class RestPose(unittest.TestCase):
    def test_rest_poses_are_told_to_a_degree(self):
        for down, forward in ((0, 0), (35, 0), (45, 10), (72, 5)):
            body, skeleton, proposal = proposed(
                "plain", 1, Build(arms_down_deg=down, arms_forward_deg=forward, legs_apart_deg=6), skin=False
            )
            frame = proposal.frame
            positions = frame.metres * skeleton.positions @ frame.rotation.T
            rest = match_rest_pose(positions, {b: p.targets for b, p in proposal.pairs.items()})
            for side in ("left", "right"):
                a, b = (positions[body.names.index(side + part)] for part in ("UpperArm", "LowerArm"))
                way = (b - a) / np.linalg.norm(b - a)
                true = np.degrees(np.arccos(abs(way[0])))
                self.assertAlmostEqual(rest[side + "UpperArm"].degrees, true, delta=0.01)
                self.assertAlmostEqual(rest[side + "UpperLeg"].degrees, 6, delta=0.5)
                self.assertTrue(rest[side + "UpperArm"].seen)
