"""Rigid bodies that are called as limbs on which they are not are put where they sit, and none that are called right are moved."""

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

from otrevo.core.formats.rigid_bodies_csv import read_bodies
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.rigid.assign import assign_bodies
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.rigid import ALL, SIX, TEN
from tests.core.rigid_bodies import called, rows_of, table_of

SIDES = "left", "right"
ROUND = ["leftHand", "rightFoot", "head"]


def sides(*limbs):
    return [tuple(side + limb for side in SIDES) for limb in limbs]


class ExchangedBodies(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        person = make_performer(5, shipped_chart(), 1.71, sloppiness_deg=2.5)
        cls.motion = perform("rope haul", person, 5, Fraction(30), (0.4, 0.2), 2.0).motion

    def assigned(self, bones, pairs=(), height_m=1.71, called_as=None):
        """({bone where a body sits: bone it was put on}, notes): bodies of both in `pairs` are called as each other, or as called_as says."""
        other = called_as or {a: b for pair in pairs for a, b in (pair, pair[::-1])}
        names = [called(other.get(b, b)) for b in bones]
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "bodies.csv"
            path.write_text(table_of(rows_of(self.motion, 5, bones, names)))
            found = assign_bodies(read_bodies(path), height_m)
        return {b: found.bones[n] for b, n in zip(bones, names, strict=True)}, found.notes

    def test_called_as_they_sit_they_stay_whatever_height_somebody_typed(self):
        for bones in (ALL, TEN, SIX):
            for height_m in (1.5, 1.71, 2.0):
                self.assertEqual(self.assigned(bones, height_m=height_m), ({b: b for b in bones}, ()))

    def test_two_that_are_called_as_each_other(self):
        for pair in (*sides("UpperArm", "Hand", "UpperLeg", "Foot"), ("leftLowerArm", "leftHand"), ("chest", "head")):
            found, notes = self.assigned(ALL, [pair])
            self.assertEqual(found, {b: b for b in ALL}, pair)
            (note,) = notes
            self.assertIn("are in each other's place in the T-pose", note)
            self.assertTrue(all(called(b) in note for b in pair), note)

    def test_arms_legs_and_whole_bodies_left_for_right(self):
        arms, legs = sides("UpperArm", "LowerArm", "Hand"), sides("UpperLeg", "LowerLeg", "Foot")
        for bones, pairs in (
            (ALL, arms),
            (ALL, legs),
            (ALL, arms + legs),
            (SIX, sides("Hand")),
            (SIX, sides("Hand", "Foot")),
        ):
            found, notes = self.assigned(bones, pairs)
            self.assertEqual(found, {b: b for b in bones}, pairs)
            self.assertTrue(notes)

    def test_three_that_have_gone_round(self):
        worn = dict(zip(ROUND, ROUND[1:] + ROUND[:1], strict=True))
        found, (note,) = self.assigned(ALL, called_as=worn)
        self.assertEqual(found, {b: b for b in ALL})
        self.assertTrue(all(called(b) in note for b in ROUND), note)


if __name__ == "__main__":
    unittest.main()
