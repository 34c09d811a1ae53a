"""Takes measured against the calibration of their room: a knock found, the camera placed anew, takes rebuilt."""

import json

import numpy as np
from django.test import TestCase

from otrevo.core.sim.rig import film
from otrevo.core.sim.scenes import scene
from otrevo.server.stage.actions import draw_blinds
from otrevo.server.stage.room import (
    calibrated,
    current_blinds,
    new_version,
    rig_of,
    room_of,
)
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.streams import read_centroids, read_stream, recorded, write_centroids
from otrevo.server.work.models import Run
from otrevo.standins import world
from tests.server.production import ROOM_SEED, calibrate, make_production, work
from tests.server.recording import Stage, recorded_take
from tests.server.test_server import post, signed_in
from tests.server.test_stage import RATE, carried_out


class Trust(TestCase):
    """Takes measured against their calibration; a knock found, the camera placed anew, takes rebuilt."""

    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.room = room_of(cls.production)
        calibrate(cls.slate.performer)
        world.build(cls.production.pk, ROOM_SEED)
        cls.true = cls.rolled()

    def setUp(self):
        world.build(self.production.pk, ROOM_SEED)  # whatever another test did to it

    @classmethod
    def rolled(cls):
        take = recorded_take(cls.slate, 7.0)
        work()
        take.refresh_from_db()
        return take

    def test_a_knock_is_found_placed_anew_and_the_take_rebuilt(self):
        technician = signed_in("technician")
        self.assertEqual(self.true.stage_calibration.version, 1)
        self.assertEqual(self.true.runs.get(name="rebuild").figures["knocked"], [])
        with Stage():
            path = f"/productions/{self.production.pk}/stage/knock"
            self.assertIn("ran into c05", post(technician, path, {"camera": "c05"}).json()["words"])
            self.assertIn("no camera c99", post(technician, path, {"camera": "c99"}).json()["detail"])
        self.assertIn("cannot be reached", post(technician, path, {"camera": "c05"}).json()["detail"])
        take = self.rolled()
        rebuild = take.runs.get(name="rebuild")
        self.assertEqual([k["camera"] for k in rebuild.figures["knocked"]], ["c05"])
        self.assertEqual([s["subject"] for s in rebuild.snags], ["c05"])
        self.assertIn("camera c05", [s["text"][:10] for s in rebuild.snags][0])
        trust = technician.get(f"/api/takes/{take.pk}/trust").json()
        self.assertEqual(np.shape(trust["shift_px"]), (12, len(trust["start_s"])))
        self.assertGreater(np.median(trust["shift_px"][4]), 2)
        self.assertLess(np.median(trust["shift_px"][3]), 0.1)

        later = self.rolled()
        run = carried_out(self.room, "place again", take=take.pk, camera="c05")
        self.assertEqual(run.state, "done", run.message)
        self.assertEqual(run.figures["takes"], [take.pk, later.pk], "every take since the knock tells of it")
        newest = self.room.calibrations.first()
        self.assertIn("and 1 more", newest.words)
        hangs, found = world.room(self.production.pk).cameras[4], calibrated(newest)[0][4]
        self.assertLess(np.linalg.norm(hangs.position_m - found.position_m), 0.001)
        rows = {r["take_id"]: r for r in technician.get(f"/api/productions/{self.production.pk}/stage").json()["takes"]}
        self.assertTrue(rows[take.pk]["older"])
        answer = post(technician, f"/productions/{self.production.pk}/stage/rebuild", {"takes": [take.pk]})
        self.assertEqual(answer.status_code, 200, answer.content)
        work()
        take.refresh_from_db()
        self.assertEqual(take.stage_calibration, newest)
        again = take.runs.filter(name="rebuild").last()
        self.assertEqual((again.state, again.figures["knocked"]), ("done", []))
        self.assertGreater(again.figures["used_share"], rebuild.figures["used_share"])

    def test_the_limits_of_the_rebuild_are_asked_for_and_told(self):
        technician, take = signed_in("technician"), self.true
        usual = take.runs.get(name="rebuild").figures
        self.assertEqual((usual["min_cameras"], usual["residual_limit_px"]), (3, 0.7))
        limits = {"min_cameras": 9, "residual_limit_px": 0.3}
        self.assertEqual(post(technician, f"/takes/{take.pk}/passes/rebuild", {"parameters": limits}).status_code, 200)
        work()
        run = take.runs.filter(name="rebuild").last()
        self.assertEqual(run.figures | limits, run.figures)
        self.assertLess(run.figures["points_mean"], usual["points_mean"])
        self.assertEqual(take.runs.filter(name="solve").last().parameters, {})
        for path, wrong in (("rebuild", {"min_cameras": 1}), ("rebuild", {"residual_limit_px": 0}), ("solve", limits)):
            answer = post(technician, f"/takes/{take.pk}/passes/{path}", {"parameters": wrong})
            self.assertEqual(answer.status_code, 422)
            self.assertRegex(answer.json()["detail"], "expected a|has no setting")
        self.assertEqual(post(technician, f"/takes/{take.pk}/passes/rebuild", limits).status_code, 422)

    def test_an_empty_room_takes_another_number_of_cameras(self):
        technician = signed_in("technician")
        path = f"/api/productions/{self.production.pk}/stage/size"
        send = lambda n: technician.put(path, json.dumps({"cameras": n}), content_type="application/json")  # noqa: E731
        self.assertIn("in use", send(24).json()["detail"])
        self.true.delete()
        self.room.calibrations.all().delete()
        draw_blinds(self.room, [{"camera": "c12", "x": 9, "y": 9, "radius": 9}], "one", None)
        with Stage():
            send(24)
        self.room.refresh_from_db()
        self.assertEqual((len(rig_of(self.room)[0]), len(world.room(self.production.pk).cameras)), (24, 24))
        self.assertEqual(current_blinds(self.room)[0], [])
        self.assertEqual(send(5).status_code, 422)

    def test_a_take_without_a_calibrated_room_says_what_is_missing(self):
        self.true.delete()
        self.room.calibrations.all().delete()
        take = self.rolled()
        rebuild = take.runs.get(name="rebuild")
        self.assertEqual(rebuild.state, "failed")
        self.assertIn("sweep and solve its cameras in Stage", rebuild.message)
        self.assertEqual(take.runs.get(name="solve").state, "cancelled")
        technician = signed_in("technician")
        self.assertIsNone(technician.get(f"/api/takes/{take.pk}/trust").json())
        new_version(self.room, "level", "later", world.room(self.production.pk).cameras, "levelled", [], None)
        self.assertEqual(post(technician, f"/takes/{take.pk}/passes/rebuild").status_code, 200)
        work()
        self.assertEqual(take.runs.filter(name="solve").last().state, "done")

    def test_the_wrong_calibration_is_told(self):
        wrong = [
            c.moved(np.eye(3), np.array([0.3 * i, 0, 0])) for i, c in enumerate(world.room(self.production.pk).cameras)
        ]
        new_version(self.room, "level", "wrong", wrong, "levelled", [], None)
        take = self.rolled()
        rebuild = take.runs.get(name="rebuild")
        if rebuild.state == "done":  # chance meetings of rays are few
            self.assertLess(rebuild.figures["used_share"], 0.5)
        else:
            self.assertIn("calibration", rebuild.message)

    def test_points_carry_their_uncertainty(self):
        run = self.true.runs.get(name="rebuild")
        points = read_stream(run.tracks.get(name="optical"))
        scatter = read_stream(run.tracks.get(name="uncertainty"))
        self.assertEqual(points.shape[:2], scatter.shape)
        np.testing.assert_array_equal(np.isfinite(points[..., 0]), np.isfinite(scatter))
        self.assertTrue(0.00003 < np.nanmedian(scatter) < 0.0005)

    def test_a_take_from_files_has_nothing_to_rebuild(self):
        take = make_take(self.slate, None, made_from="files", duration_s=3.0, out_s=3.0)
        technician = signed_in("technician")
        answer = post(technician, f"/takes/{take.pk}/passes/rebuild")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("line up", answer.json()["detail"])
        self.assertEqual(technician.get(f"/api/takes/{take.pk}/frames").status_code, 422)
        run = carried_out(self.room, "place again", take=take.pk, camera="c01")
        self.assertIn("no camera recording", run.message)
        self.assertIn("no such take", carried_out(self.room, "place again", take=10**6, camera="c01").message)

    def test_cameras_nobody_calibrated_are_left_out(self):
        cameras = world.room(self.production.pk).cameras
        new_version(self.room, "level", "ten of them", cameras[:10], "levelled", [], None)
        take = self.rolled()
        figures = take.runs.get(name="rebuild").figures
        self.assertEqual(figures["cameras"], [c.name for c in cameras[:10]])
        self.assertEqual(Run.objects.filter(take=take, state="done").count(), 4)

    def test_stored_centroids_come_back(self):
        take = make_take(self.slate, None, duration_s=2.0, out_s=2.0)
        rig, _ = rig_of(self.room)
        seen, _ = film(world.room(self.production.pk).cameras, scene("floor markers", 1, 2.0), 1)
        write_centroids(take, "cameras", RATE, seen, [c.name for c in rig])
        back = read_centroids(recorded(take, "cameras"))
        np.testing.assert_array_equal(back.frame, seen.frame)
        np.testing.assert_allclose(back.xy, seen.xy, atol=2e-4)
