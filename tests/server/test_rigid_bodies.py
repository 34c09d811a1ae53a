"""A tracker's rigid bodies dropped on a slate: solved through the queue, put on other limbs, handed over."""

from fractions import Fraction

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase

from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.core.sim.rigid import SIX
from otrevo.server.handover.jobs import package_take
from otrevo.server.takes.material import latest
from otrevo.server.takes.models import Take
from otrevo.server.takes.streams import read_stream
from tests.core.rigid_bodies import called, rows_of, table_of
from tests.server.production import make_production, work
from tests.server.test_server import post, signed_in


class DroppedBodies(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        person = make_performer(3, shipped_chart(), 1.7)
        motion = perform("warm-up", person, 3, Fraction(120), (0.6, -0.4), 1.1).motion
        cls.rows = rows_of(motion, 3, SIX, [called(b, "Ines") for b in SIX], step=2)
        cls.rows += [(i / 60, "lantern", 0.3 + i / 9000, 0.9, 0.2, 0, 0, 0, 1) for i in range(len(motion) // 2)]

    def drop(self, rows):
        file = SimpleUploadedFile("tracker.csv", table_of(rows).encode())
        answer = signed_in("technician").post(f"/api/slates/{self.slate.pk}/files", {"files": [file]})
        self.assertEqual(answer.status_code, 200, answer.content)
        return Take.objects.get(pk=answer.json()["id"])

    def solved(self, take):
        run = latest(take, "solve", self.slate.performer)
        self.assertIsNotNone(run, [r.message for r in take.runs.all()])
        return run

    def test_the_board_shows_in_small_where_each_was_seen(self):
        away = [row for row in self.rows if "Kopf" not in row[1] or not 3.0 < row[0] < 9.0]
        take = self.drop(away)
        work()
        take.refresh_from_db()
        rows = take.picture["tracker"]
        self.assertEqual(len(rows), len(SIX) + 1)
        bins = np.array([list(row) for row in rows])
        middle = round(6.0 / take.duration_s * bins.shape[1])
        self.assertEqual(sorted(bins[:, middle]), ["0", *"z" * len(SIX)])
        self.assertEqual(set(bins[:, 1]), {"z"})

    def test_they_are_solved_adjusted_and_handed_over(self):
        take = self.drop(self.rows)
        work()
        client = signed_in("technician")
        run = self.solved(take)
        track = run.tracks.get(name="rigid bodies")
        on = dict(zip(track.details["names"], track.details["bones"], strict=True))
        self.assertEqual(on, {called(b, "Ines"): b for b in SIX} | {"lantern": ""})
        rotation = read_stream(run.tracks.get(name="body rotation"))
        self.assertEqual(len(rotation), len(read_stream(track)))
        self.assertTrue(np.isfinite(rotation).all())
        shown = client.get(f"/api/takes/{take.pk}/bench").json()
        told = next(s["details"] for s in shown["streams"] if s["name"] == "rigid bodies")
        before = dict(zip(told["joints"], told["turned_deg"], strict=True))
        tables = {t["name"] for p in shown["passes"] if p["name"] == "solve" for t in p["tables"]}
        self.assertEqual(tables, {"bodies_on", "stiffness"})

        settings = {"stiffness": {"spine": 1.0, "chest": 1.0, "upperChest": 1.0}}
        self.assertEqual(post(client, f"/takes/{take.pk}/passes/solve", {"parameters": settings}).status_code, 200)
        work()
        stiff = self.solved(take).tracks.get(name="rigid bodies").details
        after = dict(zip(stiff["joints"], stiff["turned_deg"], strict=True))
        self.assertLess(after["spine"], 0.6 * before["spine"])

        swapped = {n: b for n, b in on.items() if b and "Kopf" not in n}
        post(client, f"/takes/{take.pk}/passes/solve", {"parameters": {"bodies_on": swapped}})
        work()
        details = self.solved(take).tracks.get(name="rigid bodies").details
        self.assertEqual(details["left_out"][details["names"].index("Ines_Kopf")], "not in the map")

        hand, foot = (n for n, b in on.items() if b in ("leftHand", "rightFoot"))
        wrong = on | {hand: on[foot], foot: on[hand]}
        post(
            client,
            f"/takes/{take.pk}/passes/solve",
            {"parameters": {"bodies_on": {n: b for n, b in wrong.items() if b}}},
        )
        work()
        self.assertIn("is it on that limb", str(self.solved(take).snags))
        post(client, f"/takes/{take.pk}/passes/solve", {"parameters": {"bodies_on": swapped}})
        work()

        packed = package_take(take, take.appearances.get(), self.solved(take))
        self.assertEqual(len(packed.motion), len(rotation))

        post(client, f"/takes/{take.pk}/passes/solve", {"parameters": {"skeleton": 1}})
        work()
        self.assertIn("no calibration yet", take.runs.filter(name="solve").last().message)

    def test_what_makes_no_sense_is_refused_before_it_runs(self):
        take = self.drop(self.rows)
        take.runs.all().delete()  # nothing is at work
        client = signed_in("technician")
        for settings, words in (
            ({"bodies_on": {"lantern": "leftWing"}}, "'leftWing' for lantern"),
            ({"bodies_on": {"lantern": "hips", "Ines_Pelvis": "hips"}}, "both on hips"),
            ({"bodies_on": ["hips"]}, "a value for each"),
            ({"stiffness": {"chest": 2}}, "expected 0 to 1"),
            ({"stiffness": {"chest": True}}, "expected 0 to 1"),
            ({"stiffness": {"wing": 0.5}}, "there is no 'wing'"),
            ({"skeleton": 3}, "Bones, from rigid bodies"),
        ):
            answer = post(client, f"/takes/{take.pk}/passes/solve", {"parameters": settings})
            self.assertEqual(answer.status_code, 422, answer.content)
            self.assertIn(words, answer.json()["detail"])
