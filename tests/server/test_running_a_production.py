"""Beginning productions, days and performers; props from the stage to the package; what a mend would do; the history."""

import io
import json
import zipfile
from datetime import date
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import generic_skeleton
from otrevo.core.characters.guarded import read_guarded
from otrevo.core.conventions import quaternion_from_rotvec
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import read_bvh, write_bvh
from otrevo.core.formats.c3d import read_c3d
from otrevo.core.package.check import check_package
from otrevo.core.sim.characters.files import FOLDER
from otrevo.server.accounts.models import Membership
from otrevo.server.cast.actions import make_performer, warm_up_slate
from otrevo.server.cast.characters import keep_character, set_players
from otrevo.server.cast.models import Performer
from otrevo.server.shoot.actions import make_day, make_slate
from otrevo.server.shoot.models import Production, ShootDay, Slate
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.material import latest
from otrevo.server.takes.mends import stored_motion
from otrevo.server.takes.models import Mend, Piece, Take
from otrevo.server.takes.streams import pieces_of, read_stream, write_stream
from otrevo.standins import world
from tests.server.production import calibrate, make_production, work
from tests.server.recording import recorded_take
from tests.server.test_server import post, signed_in

NEW = {
    "name": "Low Water", "code": "LOW", "timecode_rate": "25", "drop_frame": False, "delivery_rate": "50",
    "naming_pattern": "{production}_{slate}_{take:03d}",
}  # fmt: skip


class Beginning(TestCase):
    def setUp(self):
        self.production, self.slate = make_production()
        self.technician = signed_in("technician")

    def test_a_production_has_its_maker_its_first_day_and_its_settings(self):
        answer = post(self.technician, "/productions", NEW)
        self.assertEqual(answer.status_code, 200, answer.content)
        made = Production.objects.get(name="Low Water")
        self.assertEqual((made.timecode_rate, made.delivery_rate, made.drop_frame), ("25", "50", False))
        self.assertEqual([d.number for d in made.days.all()], [1])
        board = self.technician.get(f"/api/productions/{made.pk}/board")
        self.assertEqual(board.status_code, 200)
        self.assertEqual(board.json()["day"]["slates"], [])
        names = [m["production"] for m in self.technician.get("/api/me").json()["memberships"]]
        self.assertEqual(names, ["Low Water", "Saltmarsh Signal"])
        self.assertEqual(signed_in("supervisor").get(f"/api/productions/{made.pk}/board").status_code, 404)

    def test_settings_that_make_no_sense_are_refused_in_a_sentence(self):
        for change, words in (
            ({"name": " "}, "needs a name"), ({"code": ""}, "short code"), ({"timecode_rate": "29"}, "not a timecode rate"),
            ({"delivery_rate": "1000"}, "not a delivery rate"), ({"drop_frame": True}, "rop-frame"),
            ({"naming_pattern": "{slate}"}, "must contain"), ({"naming_pattern": "{slate}{take}{director}"}, "director"),
            ({"name": "Saltmarsh Signal"}, "already"),
        ):  # fmt: skip
            with self.subTest(**change):
                answer = post(self.technician, "/productions", NEW | change)
                self.assertEqual(answer.status_code, 422, answer.content)
                self.assertIn(words, answer.json()["detail"])
        self.assertEqual(Production.objects.count(), 1)
        self.assertEqual(post(self.technician, "/productions", NEW | {"name": "x" * 500}).status_code, 422)

    def test_an_animator_begins_nothing(self):
        animator = signed_in("animator")
        self.assertEqual(post(animator, "/productions", NEW).status_code, 403)
        self.assertEqual(
            post(animator, f"/productions/{self.production.pk}/days", {"date": "2026-11-23", "stage": "x"}).status_code,
            403,
        )
        body = {"name": "Mo", "height_m": 1.7, "kit": ["optical"]}
        self.assertEqual(post(animator, f"/productions/{self.production.pk}/performers", body).status_code, 403)
        self.assertEqual(post(animator, f"/performers/{Performer.objects.get().pk}/warm-up").status_code, 403)
        Membership.objects.all().delete()
        self.assertEqual(post(self.technician, "/productions", NEW).status_code, 403)

    def test_days_are_numbered_on(self):
        path = f"/productions/{self.production.pk}/days"
        day = post(self.technician, path, {"date": "2026-11-24", "stage": " Breakwater "}).json()
        self.assertEqual((day["number"], day["stage"], day["date"]), (4, "Breakwater", "2026-11-24"))
        self.assertEqual(make_day(self.production, date(2026, 11, 25), "Quay").number, 5)
        self.assertEqual(post(self.technician, path, {"date": "2026-11-24", "stage": " "}).status_code, 422)
        self.assertEqual(post(self.technician, path, {"date": "tomorrow", "stage": "Quay"}).status_code, 422)
        self.assertEqual(ShootDay.objects.filter(production=self.production).count(), 3)

    def test_another_productions_days_and_performers_are_out_of_reach(self):
        other, other_slate = make_production("Night Tide", "NTD")
        self.assertEqual(
            post(self.technician, f"/productions/{other.pk}/days", {"date": "2026-11-24", "stage": "x"}).status_code,
            404,
        )
        self.assertEqual(post(self.technician, f"/performers/{other_slate.performer_id}/warm-up").status_code, 404)
        body = {"name": "9", "title": "x", "performer_id": other_slate.performer_id, "performance": "semaphore"}
        self.assertEqual(post(self.technician, f"/days/{self.slate.day_id}/slates", body).status_code, 404)
        take = make_take(other_slate, None, duration_s=3.0)
        self.assertEqual(self.technician.get(f"/api/takes/{take.pk}/changes").status_code, 404)


class Casting(TestCase):
    def setUp(self):
        self.production, self.slate = make_production()
        self.technician = signed_in("technician")
        self.path = f"/productions/{self.production.pk}/performers"

    def test_a_performer_gets_a_body_a_kit_and_a_warm_up_slate(self):
        body = {"name": " Odalys ", "height_m": 1.62, "kit": ["face", "optical"]}
        made = post(self.technician, self.path, body).json()
        self.assertEqual((made["name"], made["kit"], made["warm_up_slate_id"]), ("Odalys", ["optical", "face"], None))
        performer = Performer.objects.get(name="Odalys")
        self.assertNotEqual(world.body(performer.pk), world.body(Performer.objects.get(name="Ines").pk))
        ready = post(self.technician, f"/performers/{performer.pk}/warm-up").json()
        slate = Slate.objects.get(pk=ready["warm_up_slate_id"])
        self.assertEqual((slate.name, slate.warm_up), ("W2", True))
        again = post(self.technician, f"/performers/{performer.pk}/warm-up").json()
        self.assertEqual(again["warm_up_slate_id"], slate.pk, "one warm-up slate a day is enough")
        day = make_day(self.production, date(2026, 11, 24), "Quay")
        self.assertEqual(warm_up_slate(performer).day, day)

    def test_refusals(self):
        for change, words in (
            ({"name": ""}, "needs a name"), ({"name": "Ines"}, "already"), ({"height_m": 170}, "metres"),
            ({"height_m": 0.2}, "metres"), ({"kit": ["gloves", "face"]}, "optical"), ({"kit": ["optical", "sonar"]}, "optical"),
            ({"measures": {"arm_span_m": 9.0}}, "arm span"), ({"measures": {"ear_m": 0.1}}, "ear_m"),
        ):  # fmt: skip
            with self.subTest(**change):
                answer = post(self.technician, self.path, {"name": "Mo", "height_m": 1.7, "kit": ["optical"]} | change)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, answer.json()["detail"])
        with self.assertRaises(InputError):
            make_performer(self.production.pk, "Mo", float("nan"), ["optical"])

    def test_without_a_day_there_is_no_warm_up_yet(self):
        Slate.objects.all().delete()
        self.production.days.all().delete()
        with self.assertRaisesRegex(InputError, "no shoot day"):
            warm_up_slate(Performer.objects.get())

    def test_slates_name_known_performances_and_props(self):
        day, performer = self.slate.day, self.slate.performer
        self.assertEqual(make_slate(day, "20", "x", performer, ["lantern"]).props, ["lantern"])
        with self.assertRaisesRegex(InputError, "no prop 'oar'"):
            make_slate(day, "21", "x", performer, ["oar"])


class WithALantern(TestCase):
    """One take with a prop, from the floor to the package, and its mends."""

    @classmethod
    def setUpTestData(cls):
        cls.production, slate = make_production()
        calibrate(slate.performer)
        cls.slate = make_slate(slate.day, "17", "Lifting the lantern", slate.performer, ["lantern"])
        cls.take = recorded_take(cls.slate, 19.0)
        work()

    def setUp(self):
        self.technician = signed_in("technician")
        self.bench = self.technician.get(f"/api/takes/{self.take.pk}/bench").json()

    def test_the_prop_is_named_and_solved(self):
        self.assertEqual({r.state for r in self.take.runs.all()}, {"done"}, [r.message for r in self.take.runs.all()])
        figures = latest(self.take, "solve").figures["props"]["lantern"]
        self.assertLess(figures["residual_rms_mm"], 2)
        self.assertGreater(latest(self.take, "label").figures["props"]["lantern"]["seen_share"], 0.8)
        pose = next(s for s in self.bench["streams"] if (s["name"], s["prop"]) == ("prop pose", "lantern"))
        self.assertEqual((pose["shape"], pose["prop"]), ([7], "lantern"))
        self.assertEqual(len(pose["details"]["offsets_m"]), 5)
        self.assertTrue(any((s["name"], s["prop"]) == ("prop markers", "lantern") for s in self.bench["streams"]))

    def test_it_goes_along_in_the_hands_of_a_character(self):
        gull = keep_character(
            self.production,
            None,
            "gull.glb",
            (FOLDER / "gull.glb").read_bytes(),
            *read_guarded(FOLDER / "gull.glb", "gull.glb"),
        )
        set_players(gull, [self.slate.performer_id], None)
        work()
        bench = self.technician.get(f"/api/takes/{self.take.pk}/bench").json()
        carried = next(s for s in bench["streams"] if s["name"] == "character prop")
        self.assertEqual((carried["character"], carried["prop"], carried["shape"]), ("Gull", "lantern", [7]))
        run = latest(self.take, "retarget", self.slate.performer, gull)
        mine = read_stream(latest(self.take, "solve").tracks.get(name="prop pose")).astype(float)
        theirs = read_stream(run.tracks.get(name="character prop")).astype(float)
        np.testing.assert_allclose(theirs[:, 3:], mine[:, 3:], atol=1e-5)
        lifted = [np.ptp(x[:, 1]) for x in (mine, theirs)]
        self.assertGreater(lifted[0], 0.5, "it is lifted")
        self.assertLess(lifted[1], 0.8 * lifted[0], "by a small creature not so high")
        body = {"name": "small", "take_ids": [self.take.pk], "formats": ["bvh"], "rate": "30"}
        package = post(self.technician, f"/productions/{self.production.pk}/packages", body).json()
        work()
        ready = self.technician.get(f"/api/packages/{package['id']}").json()
        self.assertEqual((ready["state"], ready["message"]), ("ready", ""))
        self.assertIn("SMS_17_t01_Ines_Gull_lantern.bvh", ready["manifest"]["takes"][0]["files"])

    def test_it_is_in_the_package_as_a_motion_and_as_markers(self):
        body = {"name": "day3", "take_ids": [self.take.pk], "formats": ["bvh", "c3d"], "rate": "60"}
        package = post(self.technician, f"/productions/{self.production.pk}/packages", body).json()
        work()
        ready = self.technician.get(f"/api/packages/{package['id']}").json()
        self.assertEqual((ready["state"], ready["message"]), ("ready", ""))
        shapes = {t["name"]: t["shape"] for t in ready["takes"][0]["tracks"]}
        self.assertEqual(shapes, {"body rotation": [52, 4], "body root": [3], "prop pose": [7]})
        content = self.technician.get(f"/api/packages/{package['id']}/file").content
        with TemporaryDirectory() as folder:
            path = Path(folder) / "p.zip"
            path.write_bytes(content)
            check = check_package(path)
            self.assertTrue(check.ok, check.faults)
            with zipfile.ZipFile(io.BytesIO(content)) as archive:
                prop = read_bvh(Path(archive.extract("SMS_17_t01_Ines_lantern.bvh", folder)))
                markers = read_c3d(Path(archive.extract("SMS_17_t01_Ines.c3d", folder)))
                manifest = json.loads(archive.read("manifest.json"))
                report = archive.read("quality-report.html").decode()
        self.assertEqual((prop.skeleton.names, prop.rate), (("lantern",), Fraction(60)))
        self.assertGreater(np.ptp(prop.root_position_m[:, 1]), 0.4)
        self.assertEqual(
            markers.names[-5:], tuple(f"lantern {n}" for n in ("cap", "vent", "pane left", "pane right", "foot"))
        )
        self.assertIn("SMS_17_t01_Ines_lantern.bvh", manifest["takes"][0]["files"])
        self.assertIn("lantern: markers to prop", report)

    def test_a_mend_is_shown_before_it_is_made(self):
        snag = next(s for s in self.bench["snags"] if s["kind"] == "gap")
        document, path = snag["proposal"], f"/takes/{self.take.pk}/mends/preview"
        shown = post(self.technician, path, {"document": document}).json()
        inside = slice(document["start"] - shown["first"], document["end"] - shown["first"])
        self.assertTrue(all(p is None for p in shown["before"][inside]))
        self.assertTrue(all(p is not None for p in shown["after"][inside]))
        outside = [i for i in range(len(shown["before"])) if not inside.start <= i < inside.stop]
        self.assertTrue(all(shown["before"][i] == shown["after"][i] for i in outside))
        self.assertEqual(Mend.objects.count(), 0)
        other = post(self.technician, path, {"document": document | {"method": "curve"}}).json()
        self.assertNotEqual(
            other["after"], post(self.technician, path, {"document": document | {"method": "body"}}).json()["after"]
        )
        bad = post(self.technician, path, {"document": document | {"marker": "nobody"}})
        self.assertEqual((bad.status_code, "nobody" in bad.json()["detail"]), (422, True))

    def test_what_was_shown_is_what_is_made(self):
        snag = next(s for s in self.bench["snags"] if s["kind"] == "gap" and s["proposal"]["method"] == "body")
        document = snag["proposal"]
        shown = post(self.technician, f"/takes/{self.take.pk}/mends/preview", {"document": document}).json()
        post(self.technician, f"/takes/{self.take.pk}/mends", [{"document": document, "words": snag["text"]}])
        work()
        stream = latest(self.take, "solve").tracks.get(name="mended")
        m = stream.details["names"].index(document["marker"])
        made = read_stream(stream, document["start"], document["end"])[:, m]
        first = document["start"] - shown["first"]
        apart = np.linalg.norm(made - np.array(shown["after"][first : first + len(made)]), axis=1)
        self.assertLess(apart.max(), 1e-4)

    def test_a_mend_stores_only_what_it_touched(self):
        before = latest(self.take, "solve").tracks.get(name="body rotation")
        kept = Piece.objects.count()
        gaps = [s for s in self.bench["snags"] if s["kind"] == "gap"]
        short = min(gaps, key=lambda s: s["end_s"] - s["start_s"])
        body = [{"document": short["proposal"], "words": short["text"], "performer": short["performer"]}]
        self.assertEqual(post(self.technician, f"/takes/{self.take.pk}/mends", body).status_code, 200)
        work()
        run = latest(self.take, "solve")
        self.assertLess(run.figures["frames_solved"], run.figures["frames"])
        pieces = pieces_of([before, after := run.tracks.get(name="body rotation")])
        common = set(pieces[before.pk][1]) & set(pieces[after.pk][1])
        self.assertGreaterEqual(len(common), len(pieces[before.pk][1]) - 2)
        new = sum(len(ids) for _, ids in pieces_of(list(run.tracks.all())).values())
        self.assertLess(Piece.objects.count() - kept, new / 2)

    def test_a_mend_names_somebody_who_is_in_the_take(self):
        gap = next(s for s in self.bench["snags"] if s["kind"] == "gap")
        body = [{"document": gap["proposal"], "words": "", "performer": "Nobody"}]
        answer = post(self.technician, f"/takes/{self.take.pk}/mends", body)
        self.assertEqual((answer.status_code, answer.json()["detail"]), (422, "Nobody is not in this take."))

    def test_several_mends_are_accepted_and_undone_together(self):
        gaps = [s for s in self.bench["snags"] if s["kind"] == "gap"][:4]
        body = [{"document": s["proposal"], "words": s["text"]} for s in gaps]
        post(self.technician, f"/takes/{self.take.pk}/mends", body)
        self.assertEqual(Mend.objects.filter(active=True).count(), 4)
        self.assertEqual(self.take.changes.count(), 1)
        history = self.technician.get(f"/api/takes/{self.take.pk}/changes").json()
        self.assertIn("and 3 more", history[0]["words"])
        self.assertEqual((history[0]["by"], history[0]["undone"]), ("technician-SMS", False))
        self.assertTrue(post(self.technician, f"/takes/{self.take.pk}/undo").json()["mend"])
        self.assertEqual(Mend.objects.filter(active=True).count(), 0)
        self.assertTrue(self.technician.get(f"/api/takes/{self.take.pk}/changes").json()[0]["undone"])
        post(self.technician, f"/takes/{self.take.pk}/undo?redo=true")
        self.assertEqual(Mend.objects.filter(active=True).count(), 4)

    def test_any_stretch_of_the_motion_can_be_read(self):
        run = latest(self.take, "solve")
        whole, part = stored_motion(run), stored_motion(run, 200, 260)
        np.testing.assert_array_equal(part.rotation_local, whole.rotation_local[200:260])
        self.assertEqual(len(part), 60)


class MotionFiles(TestCase):
    def test_a_dropped_bvh_can_be_drawn(self):
        production, slate = make_production()
        rng = np.random.default_rng(1)
        skeleton = generic_skeleton(1.6)
        motion = Motion(
            skeleton, Fraction(60), rng.normal(0, 0.1, (90, 3)) + [0, 0.9, 0],
            quaternion_from_rotvec(rng.normal(0, 0.2, (90, len(skeleton.names), 3))),
        )  # fmt: skip
        with TemporaryDirectory() as folder:
            path = Path(folder) / "walk.bvh"
            write_bvh(path, motion)
            upload = SimpleUploadedFile("walk.bvh", path.read_bytes())
        client = signed_in("technician")
        row = client.post(f"/api/slates/{slate.pk}/files", {"files": upload}).json()
        bench = client.get(f"/api/takes/{row['id']}/bench").json()
        stream = next(s for s in bench["streams"] if s["name"] == "body file")
        d = stream["details"]
        self.assertEqual(stream["shape"], [3 + 4 * len(d["bones"])])
        self.assertEqual((len(d["parents"]), len(d["offsets_m"])), (52, 52))
        data = read_stream(Take.objects.get(pk=row["id"]).streams.get(name="body file")).astype(float)
        again = Motion(type(skeleton)(tuple(d["bones"]), np.array(d["parents"]), np.array(d["offsets_m"])), Fraction(60),
                       data[:, :3], data[:, 3:].reshape(90, -1, 4))  # fmt: skip
        a, _ = motion_joints(again)
        b, _ = motion_joints(motion)
        order = [d["bones"].index(n) for n in skeleton.names]
        self.assertLess(np.abs(a[:, order] - b).max(), 1e-4)


class LargeStreams(TestCase):
    def test_ranges_across_chunk_borders(self):
        _, slate = make_production()
        take = make_take(slate, None, duration_s=60.0)
        data = np.random.default_rng(2).normal(size=(7200, 57, 3)).astype(np.float32)
        data[100:200, 3] = np.nan
        stream = write_stream(take, "optical", "points", Fraction(120), data)
        self.assertGreater(stream.chunks.count(), 3)
        for start, end in ((0, 7200), (1520, 1560), (7190, 9000), (7200, 7300), (0, 1), (1532, 1533)):
            np.testing.assert_array_equal(read_stream(stream, start, end), data[start:end])
