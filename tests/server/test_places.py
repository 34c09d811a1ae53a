"""The places' smaller promises: pictures, fronts, runs, mends, packages seen by the right people."""

from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import numpy as np
from django.contrib.auth.models import User
from django.test import Client, TestCase

from otrevo.core.conventions import quaternion_from_rotvec
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.passes import line_up
from otrevo.core.snags import Snag
from otrevo.core.solve.suit import resample_sensor
from otrevo.server.cast.models import PerformerCalibration
from otrevo.server.demo import PERFORMERS, SIGN_INS, SLATES, load_demo, record_takes
from otrevo.server.handover.jobs import take_name
from otrevo.server.handover.models import Package
from otrevo.server.shoot.actions import make_slate
from otrevo.server.shoot.models import Production
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.jobs import need_settings_seen, use_newest_calibrations
from otrevo.server.takes.material import material_of
from otrevo.server.takes.models import Take
from otrevo.server.takes.picture import BINS, take_picture
from otrevo.server.takes.streams import write_stream
from otrevo.server.work.models import Run
from otrevo.server.work.queue import waiting
from otrevo.standins import world
from tests.server.production import make_production
from tests.server.test_server import post, signed_in


class Front(TestCase):
    def test_every_address_gives_the_page_with_its_policy(self):
        with TemporaryDirectory() as folder:
            (Path(folder) / "web" / "dist" / "assets").mkdir(parents=True)
            (Path(folder) / "web" / "dist" / "index.html").write_text("<title>Otrevo</title>")
            (Path(folder) / "web" / "dist" / "assets" / "a.js").write_text("1")
            with self.settings(HOME=Path(folder)):
                for path in ("/", "/p/1/bench/4?t=2.5"):
                    answer = Client().get(path)
                    self.assertContains(answer, "Otrevo")
                    self.assertEqual(answer["Cache-Control"], "no-store")
                    self.assertIn("csrftoken", answer.cookies)
                script = Client().get("/assets/a.js")
                self.assertEqual(script["Content-Type"], "text/javascript")
                self.assertIn("immutable", script["Cache-Control"])
                script.close()
                self.assertEqual(Client().get("/assets/b.js").status_code, 404)

    def test_an_unbuilt_front_says_so(self):
        with TemporaryDirectory() as folder, self.settings(HOME=Path(folder)):
            answer = Client().get("/")
            self.assertEqual(answer.status_code, 503)
            self.assertIn(b"./otrevo demo", answer.content)


class Pictures(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.take = make_take(cls.slate, None, duration_s=4.0, out_s=4.0)

    def test_show_what_was_recorded_and_leave_out_what_was_not(self):
        points = np.ones((480, 10, 3))
        points[240:, :5] = np.nan
        write_stream(self.take, "optical", "points", Fraction(120), points)
        face = np.zeros((240, 52))
        face[120:, FACE_SHAPES.index("jawOpen")] = 0.5
        face[60:90] = np.nan
        write_stream(self.take, "face", "shapes", Fraction(60), face)
        picture = take_picture(self.take)
        self.assertEqual(set(picture), {"optical", "jaw"})
        self.assertEqual(len(picture["optical"][0]), BINS)
        self.assertEqual((picture["optical"][0][10], picture["optical"][0][-10]), ("z", "i"))
        self.assertEqual(picture["jaw"][BINS * 75 // 240], ".")
        self.assertEqual(picture["jaw"][-1], "i")

    def test_of_an_empty_take_is_empty(self):
        self.assertEqual(take_picture(self.take), {})


class LineUp(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.take = make_take(cls.slate, None, duration_s=20.0, out_s=20.0, first_timecode_frame=10 * 3600 * 30)

    def line_up(self):
        return line_up.run(material_of(self.take), {}, lambda share: None)

    def write(self, name, shift=0.0, samples=1200, rate=60):
        number = np.arange(0, samples, 15.0)
        stamps = np.stack([number, self.take.zero_s + 0.2 + shift + number / rate], 1)
        return write_stream(self.take, name, "shapes", Fraction(rate), np.zeros((samples, 3)), stamps=stamps)

    def test_drop_frame_mixed_with_non_drop_is_found_at_this_hour(self):
        self.write("optical")
        self.write("face", shift=3.6 * self.take.zero_s / 3600)
        outcome = self.line_up()
        figures = outcome.figures
        mixed = [s for s in outcome.snags if s.kind == "drop-frame mixed"]
        self.assertEqual([s.stream for s in mixed], ["face"])
        self.assertAlmostEqual(figures["streams"]["optical"]["offset_ms"], 200, delta=0.1)

    def test_streams_without_stamps_are_unsure_and_not_refused(self):
        write_stream(self.take, "face", "shapes", Fraction(60), np.zeros((1200, 3)))
        figures = self.line_up().figures
        self.assertLess(figures["streams"]["face"]["confidence"], 0.5)

    def test_drop_outs_become_snags_and_fits_come_back_from_a_run(self):
        stream = np.zeros((1200, 3))
        stream[300:360] = np.nan
        number = np.arange(0, 1200, 15.0)
        stamps = np.stack([number, self.take.zero_s + number / 60], 1)
        write_stream(self.take, "face", "shapes", Fraction(60), stream, stamps=stamps)
        outcome = self.line_up()
        self.assertEqual(
            [(s.kind, round(s.start_s, 1), round(s.end_s, 1)) for s in outcome.snags], [("drop-out", 5.0, 6.0)]
        )
        Run.objects.create(take=self.take, name="line up", state="done", figures=outcome.figures)
        clock = material_of(self.take).recorded("face").clock
        np.testing.assert_allclose(clock.times(3), [0, 1 / 60, 2 / 60], atol=1e-6)

    def test_sensors_are_resampled_across_a_few_lost_packets_and_no_more(self):
        own = np.arange(100) / 100
        q = np.tile([0.0, 0, 0, 1], (100, 2, 1))
        q[40:60, 1] = np.nan
        out = resample_sensor(own, q, np.arange(0, 118) / 120)
        self.assertTrue(np.isfinite(out[:, 0]).all())
        self.assertTrue(np.isnan(out[55:65, 1]).all())
        self.assertTrue(np.isfinite(out[80, 1]).all())
        turning = quaternion_from_rotvec(np.outer(np.sin(own), [0.3, 0.0, 0.9]))[:, None].repeat(2, axis=1)
        shown = turning.copy()
        shown[30:34, 0], shown[60:70, 0] = np.nan, np.nan
        out = resample_sensor(own, shown, own)
        np.testing.assert_allclose(out[:60, 0], turning[:60, 0], atol=1e-4)
        self.assertTrue(np.isnan(out[60:70, 0]).all())


class Bench(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.take = make_take(cls.slate, None, duration_s=4.0, out_s=4.0)

    def test_unknown_passes_and_passes_on_busy_takes_are_refused(self):
        client = signed_in("clean-up")
        write_stream(self.take, "optical", "points", Fraction(120), np.zeros((10, 4, 3), dtype=np.float32))
        self.assertIn("no pass", post(client, f"/takes/{self.take.pk}/passes/paint").json()["detail"])
        self.assertEqual(post(client, f"/takes/{self.take.pk}/passes/line-up").status_code, 200)
        self.assertEqual([r.name for r in self.take.runs.all()], ["line up", "label", "solve"])
        self.assertIn("already at work", post(client, f"/takes/{self.take.pk}/passes/solve").json()["detail"])

    def test_settings_that_somebody_has_changed_meanwhile_are_not_overwritten(self):
        write_stream(self.take, "optical", "points", Fraction(120), np.zeros((10, 4, 3), dtype=np.float32))
        who = {"take": self.take, "name": "solve", "performer": self.slate.performer, "state": "done"}
        seen = Run.objects.create(**who, parameters={"smoothing": 1})
        Run.objects.create(**who, parameters={"smoothing": 1})  # the same settings once more: nothing is lost
        client, path = signed_in("clean-up"), f"/takes/{self.take.pk}/passes/solve"
        need_settings_seen(self.take, "solve", seen.pk)
        theirs = Run.objects.create(
            **who, parameters={"smoothing": 3}, asked_by=User.objects.get(username="technician-SMS")
        )
        refused = post(client, path, {"based_on": seen.pk})
        self.assertEqual((refused.status_code, refused.json()["theirs"]), (409, {"parameters": {"smoothing": 3}}))
        self.assertIn("technician-SMS ran 'solve' with other settings", refused.json()["detail"])
        self.assertEqual(post(client, path, {"based_on": theirs.pk}).status_code, 200)

    def test_mends_need_a_solved_take(self):
        answer = post(
            signed_in("clean-up"),
            f"/takes/{self.take.pk}/mends",
            [{"document": {"kind": "cut", "marker": "crown", "start": 1, "end": 5}}],
        )
        self.assertIn("not solved", answer.json()["detail"])

    def test_snags_come_worst_first_and_mended_ones_last(self):
        proposal = {"kind": "fill", "method": "curve", "marker": "a", "start": 3, "end": 9}
        snags = [
            Snag("gap", "optical", 1, 2, 2.0, "a", "x", "a", proposal).to_document(),
            Snag("spike", "optical", 1, 2, 5.0, "b", "x").to_document(),
        ]
        Run.objects.create(take=self.take, name="solve", state="done", snags=snags)
        Run.objects.create(
            take=self.take, name="line up", state="done", snags=[Snag("x", "y", 0, 1, 9.0, "c", "x").to_document()]
        )
        self.take.mends.create(document=proposal, words="a")
        seen = signed_in("technician").get(f"/api/takes/{self.take.pk}/bench").json()["snags"]
        self.assertEqual([(s["text"], s["mended"]) for s in seen], [("c", False), ("b", False), ("a", True)])
        self.assertEqual(seen[0]["from_pass"], "line up")

    def test_a_take_without_a_calibration_takes_the_newest_one(self):
        with self.assertRaisesRegex(InputError, "roll a warm-up"):
            material_of(self.take).calibrated_performer()
        from otrevo.core.body.performer import PerformerCalibration as Calibration
        from otrevo.core.body.skeleton import generic_skeleton
        from otrevo.core.markers.chart import shipped_chart

        chart = shipped_chart()
        document = Calibration(
            1.7, generic_skeleton(1.7), chart.name, chart.names, chart.bones, chart.offset_m
        ).to_document()
        PerformerCalibration.objects.create(performer=self.slate.performer, version=1, document=document)
        use_newest_calibrations(self.take)
        self.assertEqual(material_of(self.take).calibrated_performer().marker_names, chart.names)


class Handover(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.take = make_take(cls.slate, None, duration_s=4.0, out_s=4.0)

    def package(self, state):
        return Package.objects.create(production=self.production, name="p", formats=["bvh"], rate="30", state=state)

    def test_names_come_from_the_slate(self):
        self.assertEqual(take_name(self.take, self.slate.performer), "SMS_15_t01_Ines")
        self.slate.day.production.naming_pattern = "{slate}"
        with self.assertRaisesRegex(InputError, "{take}"):
            take_name(Take(slate=self.slate, number=1), self.slate.performer)

    def test_only_what_was_sent_can_be_answered_or_taken_back(self):
        supervisor, technician = signed_in("supervisor"), signed_in("technician")
        ready, sent = self.package("ready"), self.package("sent")
        self.assertEqual(post(supervisor, f"/packages/{ready.pk}/accept", {"note": ""}).status_code, 422)
        self.assertEqual(post(technician, f"/packages/{ready.pk}/take-back").status_code, 422)
        self.assertEqual(post(technician, f"/packages/{sent.pk}/take-back").json()["state"], "ready")
        self.assertEqual(post(technician, f"/packages/{sent.pk}/send").json()["state"], "sent")
        self.assertEqual(technician.get(f"/api/packages/{sent.pk}/file").status_code, 422)

    def test_an_animator_sees_sent_ones_only(self):
        for state in ("building", "ready", "faulty", "sent", "returned"):
            self.package(state)
        seen = signed_in("animator").get(f"/api/productions/{self.production.pk}/packages").json()
        self.assertEqual({p["state"] for p in seen}, {"sent", "returned"})


class InThisProcess:
    """Instead of a pool of processes, which would not see what this test has not committed."""

    def __init__(self, *_, **__):
        self.map = map

    def __enter__(self):
        return self

    def __exit__(self, *_):
        pass


class Demo(TestCase):
    def test_loads_once_and_queues_its_takes(self):
        self.assertTrue(load_demo())
        self.assertFalse(load_demo())
        production = Production.objects.get(name="Saltmarsh Signal")
        self.assertEqual(production.performers.count(), len(PERFORMERS))
        takes = sum(len(s[5]) for s in SLATES)
        self.assertEqual(Take.objects.count(), takes)
        planned = world.planned()
        self.assertLessEqual(set(Take.objects.values_list("pk", flat=True)), set(planned), "to be recorded")
        take = Take.objects.filter(slate__name="15").first()
        one = mock.patch.object(world, "planned", return_value={take.pk: planned[take.pk]})
        with one, mock.patch("otrevo.server.demo.ProcessPoolExecutor", InThisProcess):
            record_takes()
        self.assertEqual(waiting(), 5, "its passes are queued, and its performer plays one character")
        self.assertNotIn(take.pk, world.planned())
        self.assertGreater(take.streams.get(name="cameras").details["frames"], 1000)
        for name, password, _ in SIGN_INS:
            self.assertTrue(Client().login(username=name, password=password))

    def test_slate_names_are_checked(self):
        _, slate = make_production("Other", "OTH")
        for name in ("", " ", "far too long a name"):
            with self.assertRaisesRegex(InputError, "1 to 12"):
                make_slate(slate.day, name, "x", slate.performer)
