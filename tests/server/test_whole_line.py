"""A take from the roll to the answer on its package, through the jobs as workers carry them out."""

import io
import json
import time
import zipfile
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import numpy as np
from django.test import TransactionTestCase

from otrevo.core.formats.bvh import read_bvh
from otrevo.core.sim.stage import roll
from otrevo.server.cast.models import PerformerCalibration
from otrevo.server.floor.api import SHORTEST_TAKE_S
from otrevo.server.floor.models import Rolling
from otrevo.server.recorder.session import MOST_SECONDS
from otrevo.server.shoot.models import Slate
from otrevo.server.takes.actions import change_take, make_take
from otrevo.server.takes.jobs import queue_all, queue_from
from otrevo.server.takes.material import latest
from otrevo.server.takes.models import Mend, Take
from otrevo.server.takes.streams import read_stream, recorded, write_stream
from tests.server.production import BODY_SEED, calibrate, make_production, work
from tests.server.recording import Stage, recorded_take, streamed_take
from tests.server.test_server import post, signed_in


class WholeLine(TransactionTestCase):
    """Roll, cut, line up, label, solve, mend, package, send, answer: through the API, with the real passes."""

    def setUp(self):
        self.production, self.slate = make_production()
        self.technician = signed_in("technician")
        calibrate(self.slate.performer)

    def test_a_take_nobody_cut_for_longer_is_as_long_as_its_recording_can_be(self):
        with mock.patch("otrevo.server.floor.api.ask", return_value={"seconds": MOST_SECONDS + 30}):
            post(self.technician, f"/slates/{self.slate.pk}/roll")
            take = post(self.technician, f"/slates/{self.slate.pk}/cut").json()
        self.assertEqual(take["duration_s"], MOST_SECONDS)

    def test_without_a_recorder_nothing_rolls(self):
        self.assertIn("recorder", post(self.technician, f"/slates/{self.slate.pk}/roll").json()["detail"])
        self.assertFalse(Rolling.objects.exists())

    def test_from_roll_to_accepted(self):
        take = recorded_take(self.slate)
        self.assertEqual([r.name for r in take.runs.all()], ["rebuild", "line up", "label", "solve"])
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
        # cut after the performance was over: everybody stood there until then, and nothing stopped early
        self.assertAlmostEqual(take.duration_s, 22.0, delta=1.0)
        self.assertNotIn("stops early", {s["kind"] for s in latest(take, "line up").snags})
        self.assertLess(np.ptp(list(line["claps_s"].values())), 0.03)
        self.assertLess(latest(take, "solve").figures["residual_rms_mm"], 6)
        self.assertTrue({"optical", "sound"} <= set(take.picture) | {"optical"})
        names = {s["name"] for s in bench["streams"]}
        self.assertTrue({"labelled", "mended", "body rotation", "body root", "residual"} <= names, names)

        self._mend(take, bench)
        self._hand_over(take)

    def _mend(self, take, bench):
        snag = next(s for s in bench["snags"] if s["proposal"])
        answer = post(
            self.technician, f"/takes/{take.pk}/mends", [{"document": snag["proposal"], "words": snag["text"]}]
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        work()
        after = self.technician.get(f"/api/takes/{take.pk}/bench").json()
        still = [
            s
            for s in after["snags"]
            if not s["mended"] and (s["kind"], s["subject"]) == (snag["kind"], snag["subject"])
        ]
        self.assertFalse([s for s in still if s["start_s"] < snag["end_s"] and s["end_s"] > snag["start_s"]])
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
        body = {
            "name": "Day 3/../x",
            "take_ids": [take.pk],
            "formats": ["bvh", "c3d", "face", "readings"],
            "rate": "30000/1001",
        }
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
        self.assertEqual(animator.get(f"/api/streams/{track['id']}/data").status_code, 200)
        file = animator.get(f"/api/packages/{package['id']}/file")
        with zipfile.ZipFile(io.BytesIO(file.content)) as archive, TemporaryDirectory() as folder:
            names = {
                f"SMS_15_t01_Ines{end}"
                for end in (".bvh", "_face_readings.csv", "_suit_readings.csv", "_gloves_readings.csv")
            }
            self.assertLessEqual(names, set(archive.namelist()))
            motion = read_bvh(Path(archive.extract("SMS_15_t01_Ines.bvh", folder)))
        self.assertEqual(motion.rate, Fraction(30000, 1001))
        self.assertAlmostEqual(len(motion) / float(motion.rate), take.duration_s - 2.0, delta=0.1)
        self.assertEqual(post(animator, f"/packages/{package['id']}/return", {"note": " "}).status_code, 422)
        self.assertEqual(
            post(animator, f"/packages/{package['id']}/return", {"note": "left foot"}).json()["state"], "returned"
        )
        again = post(animator, f"/packages/{package['id']}/accept", {"note": ""})
        self.assertIn("one answer stays", again.json()["detail"])
        self.assertEqual(post(self.technician, f"/packages/{package['id']}/accept", {"note": ""}).status_code, 403)

    def test_half_kit_and_short_take(self):
        self.slate.performer.kit = ["optical"]
        self.slate.performer.save()
        take = recorded_take(self.slate, 6.0)
        work()
        self.assertEqual({r.state for r in take.runs.all()}, {"done"})
        take.refresh_from_db()
        self.assertLess(take.duration_s, 7)
        self.assertEqual(
            set(take.streams.filter(run=None).values_list("name", flat=True)), {"cameras", "timecode", "room"}
        )

    def test_cutting_at_once_or_rolling_twice_is_refused(self):
        with mock.patch("otrevo.server.floor.api.SHORTEST_TAKE_S", 60.0), Stage():  # at once, on a busy machine
            self._cut_at_once_and_roll_twice()

    def _cut_at_once_and_roll_twice(self):
        self.assertEqual(post(self.technician, f"/slates/{self.slate.pk}/roll").status_code, 200)
        self.assertIn("is rolling", post(self.technician, f"/slates/{self.slate.pk}/roll").json()["detail"])
        self.assertIn("empty", post(self.technician, f"/slates/{self.slate.pk}/cut").json()["detail"])
        self.assertEqual(Take.objects.count(), 0)
        self.assertTrue(Rolling.objects.exists(), "a refused cut must not lose the roll")
        post(self.technician, f"/slates/{self.slate.pk}/abandon")
        self.assertIn("not rolling", post(self.technician, f"/slates/{self.slate.pk}/cut").json()["detail"])

    def test_what_is_noted_while_rolling_becomes_the_takes(self):
        with Stage():
            self._note_while_rolling()

    def _note_while_rolling(self):
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
        time.sleep(SHORTEST_TAKE_S + 0.2)
        take = post(self.technician, f"/slates/{self.slate.pk}/cut").json()
        self.assertEqual((take["note"], take["status"]), ("rope caught on the cleat", "circled"))

    def test_a_take_without_calibration_says_what_to_do(self):
        self.slate.performer.calibrations.all().delete()
        take = recorded_take(self.slate, 5.0)
        work()
        states = {r.name: (r.state, r.message) for r in take.runs.all()}
        self.assertEqual(states["line up"][0], "done")
        self.assertEqual(states["label"][0], "failed")
        self.assertIn("warm-up", states["label"][1])
        self.assertEqual(states["solve"][0], "cancelled")

    def test_a_stream_that_stops_early_and_a_wrong_rate_are_snags(self):
        fmt = self.production.timecode_format
        rolled = roll("rope haul", BODY_SEED, 3, 1.7, fmt, 5000, kit=("optical", "face", "suit"))
        take = make_take(self.slate, None, duration_s=14.0, out_s=14.0, first_timecode_frame=5000)
        for name, stream in rolled.streams.items():
            count = len(stream.data) // 2 if name == "face" else len(stream.data)
            stamps = stream.stamps[stream.stamps[:, 0] < count].copy()
            if name == "suit":
                stamps[:, 1] = stamps[0, 1] + (stamps[:, 1] - stamps[0, 1]) / 1.001
            write_stream(take, name, stream.kind, stream.rate, stream.data[:count], stamps=stamps)
        queue_from(take, "line up")
        work()
        kinds = {(s["kind"], s["stream"]) for s in latest(take, "line up").snags}
        self.assertIn(("stops early", "face"), kinds)
        self.assertIn(("wrong rate", "suit"), kinds)

    def test_cancel_leaves_nothing_half_made(self):
        take = recorded_take(self.slate, 6.0)
        run = take.runs.get(name="label")
        post(self.technician, f"/runs/{run.pk}/cancel")
        work()
        self.assertEqual({r.state for r in take.runs.all()}, {"cancelled"})
        self.assertEqual(take.streams.filter(run__isnull=False).count(), 0)

    def test_a_fault_of_ours_is_said_plainly_and_logged(self):
        take = recorded_take(self.slate, 6.0)
        with (
            mock.patch("otrevo.core.passes.label.label_take", side_effect=ZeroDivisionError),
            self.assertLogs("otrevo.work", "ERROR"),
        ):
            work()
        run = take.runs.get(name="label")
        self.assertEqual(run.state, "failed")
        self.assertIn("fault in Otrevo", run.message)

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
        kit = ("optical", "suit", "gloves", "face", "timecode", "room")
        take = streamed_take(warm_up, "warm-up", 44.0, kit)
        queue_all(take)
        work()
        self.assertEqual({r.state for r in take.runs.all()}, {"done"}, [(r.name, r.message) for r in take.runs.all()])
        cast = self.technician.get(f"/api/productions/{self.production.pk}/cast").json()
        newest = cast[0]["calibrations"][0]
        self.assertEqual(newest["version"], 2)
        self.assertEqual([d["id"] for d in newest["devices"]], ["suit", "gloves", "face"])
        suit = PerformerCalibration.objects.get(pk=newest["id"]).document["suit"]
        self.assertGreaterEqual(len(suit), 15)
        self.assertLess(np.median([s["residual_deg"] for s in suit.values()]), 4)
        self.assertRegex(newest["devices"][0]["said"], r"^\d+ sensors, \d\.\d°$")
