import io
import json
import zipfile
from datetime import timedelta
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import numpy as np
import pyarrow as pa
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client, TestCase, TransactionTestCase
from django.utils import timezone

from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import read_bvh
from otrevo.core.formats.c3d import write_c3d
from otrevo.core.formats.wav import write_wav
from otrevo.core.sim.audio import ltc_track
from otrevo.core.sim.stage import roll
from otrevo.server.bench import jobs
from otrevo.server.bench.jobs import queue, requeue_lost
from otrevo.server.bench.models import Mend, Run
from otrevo.server.bench.passes import latest
from otrevo.server.floor.models import Rolling
from otrevo.server.shoot.actions import change_take, make_take, undo
from otrevo.server.shoot.models import Slate, Take
from otrevo.server.streams.models import Chunk
from otrevo.server.streams.store import read_stream, recorded, stream_bytes, write_stream
from tests.server.production import PASSWORD, calibrate, make_production, work


def signed_in(role, code="SMS"):
    client = Client()
    assert client.login(username=f"{role}-{code}", password=PASSWORD)
    return client


def post(client, path, body=None):
    return client.post(f"/api{path}", json.dumps(body) if body is not None else "", content_type="application/json")


class Access(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.other, cls.other_slate = make_production("Night Tide", "NTD")
        cls.take = make_take(cls.slate, None, duration_s=10.0, out_s=10.0)
        cls.stream = write_stream(cls.take, "optical", "points", Fraction(120), np.zeros((20, 3, 3)))

    def paths(self):
        t, s, p = self.take.pk, self.slate.pk, self.production.pk
        return [
            f"/productions/{p}/board", f"/productions/{p}/cast", f"/productions/{p}/packages", f"/productions/{p}/rolling",
            f"/takes/{t}/bench", f"/takes/{t}/runs", f"/slates/{s}/floor", f"/streams/{self.stream.pk}/data",
        ]  # fmt: skip

    def test_nobody_gets_anything_without_signing_in(self):
        for path in self.paths():
            self.assertEqual(Client().get(f"/api{path}").status_code, 401, path)

    def test_another_production_is_invisible(self):
        outsider = signed_in("supervisor", "NTD")
        for path in self.paths():
            self.assertEqual(outsider.get(f"/api{path}").status_code, 404, path)
        changes = [(f"/slates/{self.slate.pk}/{w}", None) for w in ("roll", "cut", "abandon")]
        changes += [
            (f"/takes/{self.take.pk}/passes/solve", None),
            (f"/takes/{self.take.pk}/mends", []),
            (f"/takes/{self.take.pk}/undo", None),
        ]
        for path, body in changes:
            self.assertEqual(post(outsider, path, body).status_code, 404, path)
        change = outsider.patch(f"/api/takes/{self.take.pk}", '{"status": "circled"}', content_type="application/json")
        self.assertEqual(change.status_code, 404)

    def test_members_see_what_their_role_may(self):
        self.assertEqual(signed_in("clean-up").get(f"/api/productions/{self.production.pk}/board").status_code, 200)
        animator = signed_in("animator")
        self.assertEqual(animator.get(f"/api/productions/{self.production.pk}/board").status_code, 403)
        self.assertEqual(animator.get(f"/api/productions/{self.production.pk}/packages").json(), [])
        self.assertEqual(animator.get(f"/api/streams/{self.stream.pk}/data").status_code, 404)
        self.assertEqual(post(signed_in("clean-up"), f"/slates/{self.slate.pk}/roll").status_code, 403)

    def test_changes_need_the_csrf_token(self):
        strict = Client(enforce_csrf_checks=True)
        strict.login(username="technician-SMS", password=PASSWORD)
        self.assertEqual(post(strict, f"/slates/{self.slate.pk}/roll").status_code, 403)
        self.assertFalse(Rolling.objects.exists())

    def test_sign_in_and_out(self):
        client = Client()
        self.assertEqual(post(client, "/sign-in", {"name": "technician-SMS", "password": "no"}).status_code, 401)
        me = post(client, "/sign-in", {"name": "technician-SMS", "password": PASSWORD}).json()
        self.assertEqual([m["role"] for m in me["memberships"]], ["technician"])
        post(client, "/sign-out")
        self.assertEqual(client.get("/api/me").status_code, 401)

    def test_answers_carry_the_security_headers(self):
        answer = Client().get("/api/health")
        self.assertIn("default-src 'self'", answer["Content-Security-Policy"])
        self.assertEqual(answer["X-Frame-Options"], "DENY")
        self.assertEqual(Client().get("/assets/..%2Fsettings.py").status_code, 404)


class Store(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.take = make_take(cls.slate, None)

    def test_what_is_written_is_read_in_any_range(self):
        data = np.random.default_rng(0).normal(size=(7001, 57, 3)).astype(np.float32)
        data[100:200, 5] = np.nan
        stream = write_stream(self.take, "optical", "points", Fraction(120), data, stamps=[(0, 1.5), (30, 1.75)])
        self.assertGreater(stream.chunks.count(), 2)
        np.testing.assert_array_equal(read_stream(stream), data)
        for start, end in ((0, 1), (1500, 1600), (6990, 7001), (1530, 5000), (7001, 7001)):
            np.testing.assert_array_equal(read_stream(stream, start, end), data[start:end])
        self.assertEqual(stream.stamps, [[0.0, 1.5], [30.0, 1.75]])

    def test_bytes_are_plain_arrow_and_thinned(self):
        data = np.arange(3000, dtype=np.float32).reshape(1000, 3)
        stream = write_stream(self.take, "x", "places", Fraction(60), data)
        with pa.ipc.open_stream(stream_bytes(stream, 10, 900, 7)) as reader:
            column = reader.read_all().column("values").combine_chunks()
        np.testing.assert_array_equal(column.flatten().to_numpy().reshape(-1, 3), data[10:900:7])

    def test_thinned_sound_keeps_its_peaks(self):
        wave = np.zeros(48000, dtype=np.float32)
        wave[20001] = -0.9
        stream = write_stream(self.take, "room", "audio", Fraction(48000), wave)
        with pa.ipc.open_stream(stream_bytes(stream, step=480)) as reader:
            peaks = reader.read_all().column("values").combine_chunks().flatten().to_numpy()
        self.assertEqual(len(peaks), 100)
        self.assertAlmostEqual(float(peaks.max()), 0.9, places=6)

    def test_an_empty_stream_is_no_trouble(self):
        stream = write_stream(self.take, "gone", "points", Fraction(120), np.zeros((0, 4, 3)))
        self.assertEqual(read_stream(stream).shape, (0, 4, 3))

    def test_api_refuses_what_makes_no_sense(self):
        stream = write_stream(self.take, "x", "places", Fraction(60), np.zeros((10, 3)))
        client = signed_in("technician")
        self.assertEqual(client.get(f"/api/streams/{stream.pk}/data?start=-4").status_code, 422)
        self.assertEqual(client.get(f"/api/streams/{stream.pk}/data?step=0").status_code, 422)
        self.assertEqual(client.get("/api/streams/999999/data").status_code, 404)


class Takes(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.take = make_take(cls.slate, None, duration_s=10.0, out_s=10.0)

    def edit(self, **values):
        return signed_in("technician").patch(
            f"/api/takes/{self.take.pk}", json.dumps(values), content_type="application/json"
        )

    def test_circle_note_points_and_undo(self):
        self.edit(status="circled")
        self.edit(in_s=2.0)
        self.edit(out_s=8.0)
        client = signed_in("technician")
        self.assertEqual(post(client, f"/takes/{self.take.pk}/undo").json()["words"], "out point of take 1")
        self.take.refresh_from_db()
        self.assertEqual((self.take.status, self.take.in_s, self.take.out_s), ("circled", 2.0, 10.0))
        post(client, f"/takes/{self.take.pk}/undo?redo=true")
        self.take.refresh_from_db()
        self.assertEqual(self.take.out_s, 8.0)
        for _ in range(5):
            answer = post(client, f"/takes/{self.take.pk}/undo")
        self.assertIsNone(answer.json()["words"])
        self.take.refresh_from_db()
        self.assertEqual(self.take.status, "open")

    def test_a_new_change_ends_what_could_be_redone(self):
        change_take(None, self.take, {"note": "one"})
        undo(self.take)
        change_take(None, self.take, {"note": "two"})
        self.assertIsNone(undo(self.take, redo=True))

    def test_impossible_points_and_states_are_refused(self):
        for values in ({"in_s": 9.0, "out_s": 3.0}, {"out_s": 99.0}, {"in_s": -1.0}, {"status": "superb"}):
            answer = self.edit(**values)
            self.assertEqual(answer.status_code, 422)
            self.assertTrue(answer.json()["detail"].endswith("."))

    def test_two_takes_with_one_number_are_refused(self):
        with self.assertRaisesRegex(InputError, "next free number is 2"):
            make_take(self.slate, None, 1)

    def test_slates_have_one_name_a_day(self):
        client = signed_in("technician")
        body = {"name": "18", "title": "Ladder", "performer_id": self.slate.performer_id, "performance": "lantern"}
        self.assertEqual(post(client, f"/days/{self.slate.day_id}/slates", body).status_code, 200)
        self.assertIn("already has", post(client, f"/days/{self.slate.day_id}/slates", body).json()["detail"])


class Uploads(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()

    def drop(self, *files):
        return signed_in("technician").post(f"/api/slates/{self.slate.pk}/files", {"files": list(files)})

    def file(self, name, write):
        with TemporaryDirectory() as folder:
            path = Path(folder) / name
            write(path)
            return SimpleUploadedFile(name, path.read_bytes())

    def test_files_become_the_streams_of_a_take(self):
        points = np.random.default_rng(0).uniform(0.1, 1.7, (240, 12, 3))
        fmt = self.production.timecode_format
        code, _, _ = ltc_track(fmt, 1000, 2)
        answer = self.drop(
            self.file("a.c3d", lambda p: write_c3d(p, points, [f"*{i}" for i in range(12)], Fraction(120))),
            self.file("tc.wav", lambda p: write_wav(p, 48000, code)),
            SimpleUploadedFile("face.csv", b"time,jawOpen\n0,0.1\n0.016667,0.2\n0.033333,0.3\n"),
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        take = Take.objects.get(pk=answer.json()["id"])
        self.assertEqual(set(take.streams.values_list("name", flat=True)), {"optical", "timecode", "face"})
        self.assertEqual(take.made_from, "files")
        self.assertAlmostEqual(take.duration_s, 2.0)
        np.testing.assert_allclose(read_stream(recorded(take, "optical")), points, atol=1e-5)

    def test_one_bad_file_refuses_all_and_leaves_nothing(self):
        good = SimpleUploadedFile("face.csv", b"time,jawOpen\n0,0.1\n0.016667,0.2\n")
        for bad, words in (
            (SimpleUploadedFile("take.c3d", b"junk" * 200), "take.c3d: not a C3D"), (SimpleUploadedFile("x.bvh", b"HIER"), "x.bvh"),
            (SimpleUploadedFile("x.exe", b"MZ"), "x.exe: expected a C3D"), (SimpleUploadedFile("x.wav", b""), "x.wav"),
            (SimpleUploadedFile("twin.csv", b"time,jawOpen\n0,0.1\n0.1,0.2\n"), "would both be"),
        ):  # fmt: skip
            good.seek(0)
            answer = self.drop(good, bad)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.json()["detail"])
        self.assertEqual(Take.objects.count(), 0)
        self.assertEqual(Chunk.objects.count(), 0)

    def test_too_large_is_refused(self):
        with self.settings(MAX_UPLOAD_BYTES=10):
            self.assertIn("larger", self.drop(SimpleUploadedFile("a.csv", b"x" * 50)).json()["detail"])


class WholeLine(TransactionTestCase):
    """Roll, cut, line up, label, solve, mend, package, send, answer: through the API, with the real passes."""

    def setUp(self):
        self.production, self.slate = make_production()
        self.technician = signed_in("technician")
        calibrate(self.slate.performer)

    def cut(self, seconds=None):
        post(self.technician, f"/slates/{self.slate.pk}/roll")
        Rolling.objects.update(started_at=timezone.now() - timezone.timedelta(seconds=seconds or 60))
        return post(self.technician, f"/slates/{self.slate.pk}/cut").json()["id"]

    def test_from_roll_to_accepted(self):
        take = Take.objects.get(pk=self.cut())
        self.assertEqual([r.name for r in take.runs.all()], ["record", "rebuild", "line up", "label", "solve"])
        work()
        take.refresh_from_db()
        self.assertEqual({r.state for r in take.runs.all()}, {"done"}, [(r.name, r.message) for r in take.runs.all()])
        bench = self.technician.get(f"/api/takes/{take.pk}/bench").json()
        line = latest(take, "line up").figures
        self.assertEqual(set(line["streams"]), {"optical", "suit", "gloves", "face", "timecode", "room"})
        for name, fit in line["streams"].items():
            self.assertLess(fit["residual_ms"], 1.0, name)
            self.assertIsNone(fit["problem"])
        self.assertEqual(set(line["claps_s"]), {"optical", "suit", "room"})
        self.assertLess(np.ptp(list(line["claps_s"].values())), 0.03)
        self.assertLess(latest(take, "solve").figures["residual_rms_mm"], 6)
        self.assertTrue({"optical", "sound"} <= set(take.picture) | {"optical"})
        names = {s["name"] for s in bench["streams"]}
        self.assertTrue({"labelled", "mended", "body rotation", "body root", "residual"} <= names, names)

        self._mend(take, bench)
        self._hand_over(take)

    def _mend(self, take, bench):
        snag = next(s for s in bench["snags"] if s["proposal"])
        before = len([s for s in bench["snags"] if not s["mended"]])
        answer = post(
            self.technician, f"/takes/{take.pk}/mends", [{"document": snag["proposal"], "words": snag["text"]}]
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        work()
        after = self.technician.get(f"/api/takes/{take.pk}/bench").json()
        self.assertLess(len([s for s in after["snags"] if not s["mended"]]), before)
        self.assertEqual(latest(take, "solve").figures["mends"], 1)
        raw = recorded(take, "cameras")
        first = read_stream(raw).copy()
        undone = post(self.technician, f"/takes/{take.pk}/undo").json()
        self.assertTrue(undone["mend"])
        work()
        self.assertEqual(latest(take, "solve").figures["mends"], 0)
        np.testing.assert_array_equal(read_stream(raw), first)
        self.assertEqual(Mend.objects.filter(active=True).count(), 0)
        bad = [{"document": snag["proposal"]}, {"document": snag["proposal"] | {"marker": "nobody"}}]
        self.assertEqual(post(self.technician, f"/takes/{take.pk}/mends", bad).status_code, 422)
        self.assertEqual(Mend.objects.filter(active=True).count(), 0, "all or none")

    def _hand_over(self, take):
        change_take(None, take, {"in_s": 2.0})
        animator, path = signed_in("animator"), f"/productions/{self.production.pk}/packages"
        body = {"name": "Day 3/../x", "take_ids": [take.pk], "formats": ["bvh", "c3d", "face"], "rate": "30000/1001"}
        package = post(self.technician, path, body).json()
        self.assertEqual(package["name"], "Day-3-x")
        self.assertEqual(post(self.technician, f"/packages/{package['id']}/send").status_code, 422)
        work()
        ready = self.technician.get(f"/api/packages/{package['id']}").json()
        self.assertEqual((ready["state"], ready["message"]), ("ready", ""))
        self.assertLess(max(d.get("position_mm", 0) for d in ready["manifest"]["differences"]), 0.1)
        self.assertEqual(animator.get(f"/api/packages/{package['id']}").status_code, 403)
        post(self.technician, f"/packages/{package['id']}/send")
        seen = animator.get(f"/api{path}").json()
        self.assertEqual(len(seen), 1)
        track = seen[0]["takes"][0]["tracks"][0]
        self.assertEqual(animator.get(f"/api/streams/{track['stream_id']}/data").status_code, 200)
        file = animator.get(f"/api/packages/{package['id']}/file")
        with zipfile.ZipFile(io.BytesIO(file.content)) as archive, TemporaryDirectory() as folder:
            self.assertIn("SMS_15_t01_Ines.bvh", archive.namelist())
            motion = read_bvh(Path(archive.extract("SMS_15_t01_Ines.bvh", folder)))
        self.assertEqual(motion.rate, Fraction(30000, 1001))
        self.assertAlmostEqual(len(motion) / float(motion.rate), take.duration_s - 2.0, delta=0.1)
        self.assertEqual(post(animator, f"/packages/{package['id']}/return", {"note": " "}).status_code, 422)
        self.assertEqual(
            post(animator, f"/packages/{package['id']}/return", {"note": "left foot"}).json()["state"], "returned"
        )
        self.assertEqual(post(animator, f"/packages/{package['id']}/accept", {"note": ""}).json()["state"], "accepted")
        self.assertEqual(post(self.technician, f"/packages/{package['id']}/accept", {"note": ""}).status_code, 403)

    def test_half_kit_and_short_take(self):
        self.slate.performer.kit = ["optical"]
        self.slate.performer.save()
        take = Take.objects.get(pk=self.cut(seconds=6))
        work()
        self.assertEqual({r.state for r in take.runs.all()}, {"done"})
        take.refresh_from_db()
        self.assertLess(take.duration_s, 7)
        self.assertEqual(
            set(take.streams.filter(run=None).values_list("name", flat=True)), {"cameras", "timecode", "room"}
        )

    def test_cutting_at_once_or_rolling_twice_is_refused(self):
        self.assertEqual(post(self.technician, f"/slates/{self.slate.pk}/roll").status_code, 200)
        self.assertIn("is rolling", post(self.technician, f"/slates/{self.slate.pk}/roll").json()["detail"])
        self.assertIn("empty", post(self.technician, f"/slates/{self.slate.pk}/cut").json()["detail"])
        self.assertEqual(Take.objects.count(), 0)
        self.assertTrue(Rolling.objects.exists(), "a refused cut must not lose the roll")
        post(self.technician, f"/slates/{self.slate.pk}/abandon")
        self.assertIn("not rolling", post(self.technician, f"/slates/{self.slate.pk}/cut").json()["detail"])

    def test_what_is_noted_while_rolling_becomes_the_takes(self):
        address = f"/api/slates/{self.slate.pk}/rolling"

        def say(**values):
            return self.technician.patch(address, json.dumps(values), content_type="application/json")

        self.assertIn("not rolling any more", say(note="too early").json()["detail"])
        post(self.technician, f"/slates/{self.slate.pk}/roll")
        self.assertEqual(say(note="rope caught on the cleat").json()["note"], "rope caught on the cleat")
        self.assertTrue(say(circled=True).json()["circled"])
        floor = self.technician.get(f"/api/slates/{self.slate.pk}/floor").json()["rolling"]
        self.assertEqual(
            (floor["note"], floor["circled"]), ("rope caught on the cleat", True), "a reload loses nothing"
        )
        self.assertEqual(say(note="x" * 3000).status_code, 422)
        with mock.patch.object(Rolling, "save", side_effect=AssertionError("would write what was not said")):
            self.assertEqual(say(note="rope caught on the cleat").json()["circled"], True)
        Rolling.objects.update(started_at=timezone.now() - timedelta(seconds=5))
        take = post(self.technician, f"/slates/{self.slate.pk}/cut").json()
        self.assertEqual((take["note"], take["status"]), ("rope caught on the cleat", "circled"))

    def test_a_take_without_calibration_says_what_to_do(self):
        self.slate.performer.calibrations.all().delete()
        take = Take.objects.get(pk=self.cut(seconds=5))
        work()
        states = {r.name: (r.state, r.message) for r in take.runs.all()}
        self.assertEqual(states["line up"][0], "done")
        self.assertEqual(states["label"][0], "failed")
        self.assertIn("warm-up", states["label"][1])
        self.assertEqual(states["solve"][0], "cancelled")

    def test_a_stream_that_stops_early_and_a_wrong_rate_are_snags(self):
        fmt = self.production.timecode_format
        rolled = roll("rope haul", self.slate.performer.body_seed, 3, 1.7, fmt, 5000, kit=("optical", "face", "suit"))
        take = make_take(self.slate, None, duration_s=14.0, out_s=14.0, first_timecode_frame=5000)
        for name, stream in rolled.streams.items():
            count = len(stream.data) // 2 if name == "face" else len(stream.data)
            stamps = stream.stamps[stream.stamps[:, 0] < count].copy()
            if name == "suit":
                stamps[:, 1] = stamps[0, 1] + (stamps[:, 1] - stamps[0, 1]) / 1.001
            write_stream(take, name, stream.kind, stream.rate, stream.data[:count], stamps=stamps)
        queue(take, "line up")
        work()
        kinds = {(s["kind"], s["stream"]) for s in latest(take, "line up").snags}
        self.assertIn(("stops early", "face"), kinds)
        self.assertIn(("wrong rate", "suit"), kinds)

    def test_cancel_leaves_nothing_half_made(self):
        take = Take.objects.get(pk=self.cut(seconds=6))
        run = take.runs.get(name="label")
        post(self.technician, f"/runs/{run.pk}/cancel")
        work()
        self.assertEqual({r.state for r in take.runs.all()}, {"cancelled"})
        self.assertEqual(take.streams.filter(run__isnull=False).count(), 0)

    def test_a_lost_worker_in_mid_job_is_taken_up_again(self):
        take = Take.objects.get(pk=self.cut(seconds=6))
        with mock.patch.dict(jobs.WORK, {"label": mock.Mock(side_effect=SystemExit)}), self.assertRaises(SystemExit):
            work()
        self.assertEqual(take.runs.get(name="label").state, Run.State.RUNNING)
        self.assertEqual(requeue_lost(), 1)
        work()
        self.assertEqual({r.state for r in take.runs.all()}, {"done"})

    def test_a_fault_of_ours_is_said_plainly_and_logged(self):
        take = Take.objects.get(pk=self.cut(seconds=6))
        with (
            mock.patch.dict(jobs.WORK, {"label": mock.Mock(side_effect=ZeroDivisionError)}),
            self.assertLogs("otrevo.jobs", "ERROR"),
        ):
            work()
        run = take.runs.get(name="label")
        self.assertEqual(run.state, "failed")
        self.assertIn("fault of ours", run.message)

    def test_packaging_an_unsolved_take_is_refused_in_a_sentence(self):
        take = make_take(self.slate, None, duration_s=5.0, out_s=5.0)
        body = {"name": "x", "take_ids": [take.pk], "formats": ["bvh"], "rate": "30/1"}
        package = post(self.technician, f"/productions/{self.production.pk}/packages", body).json()
        work()
        made = self.technician.get(f"/api/packages/{package['id']}").json()
        self.assertEqual(made["state"], "faulty")
        self.assertIn("not solved", made["message"])
        for change in ({"rate": "0/1"}, {"rate": "fast"}, {"formats": []}, {"take_ids": []}, {"formats": ["exe"]}):
            self.assertEqual(
                post(self.technician, f"/productions/{self.production.pk}/packages", body | change).status_code, 422
            )

    def test_warm_up_calibrates_everything_worn(self):
        warm_up = Slate.objects.get(warm_up=True)
        post(self.technician, f"/slates/{warm_up.pk}/roll")
        Rolling.objects.update(started_at=timezone.now() - timezone.timedelta(seconds=60))
        take = Take.objects.get(pk=post(self.technician, f"/slates/{warm_up.pk}/cut").json()["id"])
        work()
        self.assertEqual({r.state for r in take.runs.all()}, {"done"}, [(r.name, r.message) for r in take.runs.all()])
        cast = self.technician.get(f"/api/productions/{self.production.pk}/cast").json()
        newest = cast[0]["calibrations"][0]
        self.assertEqual((newest["version"], newest["gloves"]), (2, True))
        self.assertGreaterEqual(len(newest["suit"]), 15)
        self.assertLess(np.median([s["residual_deg"] for s in newest["suit"].values()]), 4)
