"""Stage: the room prepared step by step, versions kept, takes measured against them, and everything refused in a sentence."""

import gzip
import io
import json
from fractions import Fraction

import numpy as np
import pyarrow as pa
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase

from otrevo.core.errors import InputError
from otrevo.core.optics.wand import keeper_corner, keeper_line
from otrevo.core.sim.rig import Faults, film
from otrevo.core.sim.scenes import scene
from otrevo.server.stage.actions import draw_blinds, keep_recording, undo_blinds
from otrevo.server.stage.jobs import queue_step
from otrevo.server.stage.models import Room, StageCalibration
from otrevo.server.stage.room import (
    calibrated,
    current_blinds,
    new_version,
    room_calibration,
    room_of,
    store_calibration,
)
from otrevo.server.takes.models import Stream
from otrevo.server.takes.streams import frame_rows, read_centroids
from otrevo.standins import world
from tests.server.production import ROOM_SEED, make_production, work
from tests.server.test_server import post, signed_in

WAND = keeper_corner()
RATE = Fraction(120)


def small_room(production, cameras=5):
    """A room of few cameras, so that a sweep is solved quickly; its calibration from make_production is taken away."""
    room = room_of(production)
    room.calibrations.all().delete()
    world.build(production.pk, ROOM_SEED, cameras)
    room.rig = world.rig(production.pk)
    room.save()
    return room


def filmed(room, kind, seconds, seed=1, wand=WAND, faults=None):
    """A StageRecording of a scene in the simulated room."""
    truth = world.room(room.production_id)
    centroids, _ = film(
        truth.cameras, scene(kind, seed, seconds, 120.0, wand), seed, faults or Faults(), lamps=truth.lamps
    )
    document = wand.to_document() if kind in ("sweep", "wand on floor") else None
    return keep_recording(room, kind, centroids, RATE, None, document)


def carried_out(room, name, **parameters):
    """A step, queued and executed as a worker would; the Run afterwards."""
    run = queue_step(room, name, None, parameters)
    work()
    run.refresh_from_db()
    return run


class Preparing(TestCase):
    """From a still room to a levelled one."""

    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.room = small_room(cls.production)
        filmed(cls.room, "still", 4.0)
        filmed(cls.room, "sweep", 16.0, 2)
        filmed(cls.room, "wand on floor", 1.5, 3)
        filmed(cls.room, "floor markers", 1.5, 4)

    def test_the_whole_way(self):
        run = carried_out(self.room, "find blinds")
        self.assertEqual(run.state, "done", run.message)
        rows, blinds = current_blinds(self.room)
        lamps = world.room(self.room.production_id).lamps
        self.assertEqual(len(blinds), sum(len(lamp) for lamp in lamps))
        for blind in blinds:
            self.assertLess(np.linalg.norm(lamps[blind.camera] - blind.xy, axis=1).min(), 1.0)

        run = carried_out(self.room, "solve cameras")
        self.assertEqual(run.state, "done", run.message)
        solved = self.room.calibrations.get()
        self.assertEqual((solved.how, solved.document["world"], solved.version), ("sweep", "free", 1))
        self.assertEqual(len(solved.document["blinds"]), len(blinds))
        self.assertLess(abs(solved.figures["reprojection_rms_px"] - 0.1), 0.01)
        ups = [-c.rotation[1] for c in calibrated(solved)[0]]
        self.assertGreater(np.mean(ups, axis=0)[1], 0.8, "the room stands up")

        run = carried_out(self.room, "level")
        self.assertEqual(run.state, "done", run.message)
        levelled = self.room.calibrations.first()
        self.assertEqual((levelled.document["world"], levelled.source_id), ("levelled", solved.pk))
        true = world.room(self.room.production_id).cameras
        found = calibrated(levelled)[0]
        heights = np.array([[c.position_m[1] for c in cameras] for cameras in (found, true)])
        self.assertLess(np.abs(heights[0] - heights[1]).max(), 0.004)  # the floor markers are 0.8 mm off a plane
        apart = [
            [np.linalg.norm(a.position_m - b.position_m) for a in cameras for b in cameras] for cameras in (found, true)
        ]
        np.testing.assert_allclose(*apart, atol=0.002)

        plan = signed_in("clean-up").get(f"/api/stage-calibrations/{levelled.pk}/plan?height_m=1").json()
        self.assertEqual(np.shape(plan["cameras"]), (17, 17))
        self.assertEqual(plan["cameras"][8][8], 5, "everybody sees the middle")
        middle, corner = plan["sd_mm"][8][8], plan["sd_mm"][0][0]
        self.assertTrue(0.03 < middle < 0.5, middle)
        self.assertTrue(corner is None or corner > middle)

    def test_a_new_sweep_keeps_the_origin_of_a_levelled_room(self):
        first = new_version(
            self.room, "level", "true", world.room(self.room.production_id).cameras, "levelled", [], None
        )
        self.assertEqual(carried_out(self.room, "solve cameras").state, "done")
        newest = self.room.calibrations.first()
        self.assertEqual(newest.document["world"], "levelled")
        self.assertIn(f"version {first.version}", newest.words)
        for a, b in zip(calibrated(newest)[0], calibrated(first)[0], strict=True):
            self.assertLess(np.linalg.norm(a.position_m - b.position_m), 0.002)

    def test_a_step_without_what_it_needs_says_so(self):
        self.room.recordings.all().delete()
        for name, words in (("find blinds", "still"), ("solve cameras", "sweep"), ("level", "sweep and solve")):
            run = carried_out(self.room, name)
            self.assertEqual(run.state, "failed")
            self.assertIn(words, run.message)
        with self.assertRaisesRegex(InputError, "no pass 'polish'"):
            queue_step(self.room, "polish", None)

    def test_a_sweep_with_another_wand_fails_in_a_sentence_and_leaves_no_version(self):
        recording = filmed(self.room, "sweep", 6.0, 5, keeper_line())
        recording.wand = WAND.to_document()
        recording.save()
        run = carried_out(self.room, "solve cameras", recording=recording.pk)
        self.assertEqual(run.state, "failed")
        self.assertIn("wand", run.message)
        self.assertFalse(self.room.calibrations.exists())

    def test_cancelled_before_it_began(self):
        run = queue_step(self.room, "solve cameras", None)
        with self.assertRaisesRegex(InputError, "at work already"):
            queue_step(self.room, "solve cameras", None)
        self.assertTrue(post(signed_in("technician"), f"/stage-runs/{run.pk}/cancel").status_code == 200)
        run.refresh_from_db()
        self.assertEqual(run.state, "cancelled", "at once, without a worker")
        work()
        run.refresh_from_db()
        self.assertEqual(run.state, "cancelled")

    def test_hand_drawn_blinds_outlive_a_new_search(self):
        draw_blinds(
            self.room, [{"camera": "c01", "x": 5.0, "y": 6.0, "radius": 9.0, "by_hand": True, "junk": 1}], "drawn", None
        )
        carried_out(self.room, "find blinds")
        rows, _ = current_blinds(self.room)
        self.assertIn({"camera": "c01", "x": 5.0, "y": 6.0, "radius": 9.0, "by_hand": True}, rows)


class Blinds(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, _ = make_production()
        cls.room = room_of(cls.production)

    def test_draw_undo_redo(self):
        one = {"camera": "c02", "x": 100.0, "y": 50.0, "radius": 12.0, "share": 1.0, "by_hand": True}
        technician = signed_in("technician")
        answer = technician.put(
            f"/api/productions/{self.production.pk}/stage/blinds", json.dumps({"rows": [one], "words": "added"}),
            content_type="application/json",
        )  # fmt: skip
        self.assertEqual(answer.json()["blinds"], [one])
        draw_blinds(self.room, [], "removed", None)
        base = f"/productions/{self.production.pk}/stage/blinds/undo"
        self.assertEqual(post(technician, base).json()["words"], "removed")
        self.assertEqual(current_blinds(self.room)[0], [one])
        self.assertEqual(post(technician, base + "?redo=true").json()["words"], "removed")
        self.assertEqual(current_blinds(self.room)[0], [])
        undo_blinds(self.room)
        draw_blinds(self.room, [one, one], "added again", None)
        self.assertIsNone(undo_blinds(self.room, redo=True), "a new change ends what could be redone")

    def test_blinds_drawn_over_an_older_version_are_not_kept(self):
        one = {"camera": "c02", "x": 100.0, "y": 50.0, "radius": 12.0, "share": 1.0, "by_hand": True}
        technician, address = signed_in("technician"), f"/api/productions/{self.production.pk}/stage"
        seen = technician.get(address).json()["blinds_version"]
        self.assertEqual(seen, 0)
        first = draw_blinds(self.room, [one, one], "drawn by somebody else", None, seen)

        def put(version):
            body = json.dumps({"rows": [one], "words": "added", "based_on": version})
            return technician.put(f"{address}/blinds", body, content_type="application/json")

        refused = put(seen)
        self.assertEqual(refused.status_code, 422)
        self.assertIn("changed meanwhile", refused.json()["detail"])
        self.assertEqual(current_blinds(self.room)[0], [one, one])
        kept = put(first.pk)
        self.assertEqual(kept.json()["blinds"], [one])
        self.assertGreater(kept.json()["blinds_version"], first.pk)

    def test_rows_that_are_wrong_are_named(self):
        good = {"camera": "c02", "x": 1.0, "y": 1.0, "radius": 2.0}
        for wrong in ({"camera": "c99"}, {"radius": 0}, {"x": "left"}, {"y": None}):
            with self.assertRaisesRegex(InputError, r"blinds\[1\]"):
                draw_blinds(self.room, [good, good | wrong], "", None)
        with self.assertRaisesRegex(InputError, "at most 200"):
            draw_blinds(self.room, [good] * 201, "", None)
        self.assertFalse(self.room.blinds.exists())

    def test_a_clean_up_artist_looks_and_changes_nothing(self):
        odile = signed_in("clean-up")
        self.assertEqual(odile.get(f"/api/productions/{self.production.pk}/stage").status_code, 200)
        for path, body in (
            ("blinds/undo", {}),
            ("steps", {"name": "level"}),
            ("record", {"kind": "still"}),
            ("knock", {"camera": "c01"}),
        ):
            self.assertEqual(post(odile, f"/productions/{self.production.pk}/stage/{path}", body).status_code, 403)


class Files(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, _ = make_production()
        cls.room = room_of(cls.production)

    def drop(self, name, data, **fields):
        return signed_in("technician").post(
            f"/api/productions/{self.production.pk}/stage/files",
            {"file": SimpleUploadedFile(name, data), "kind": "sweep", "wand": "harbour line"} | fields,
        )

    def csv(self, frames=200):
        rows = [f"{f},c0{1 + f % 3},{10 + f % 7}.5,20.25,2.0" for f in range(frames)]
        return ("frame,camera,x,y,radius\n" + "\n".join(rows) + "\n").encode()

    def test_a_recorded_sweep_is_kept_as_it_was(self):
        for name, data in (("a.csv", self.csv()), ("b.csv.gz", gzip.compress(self.csv()))):
            answer = self.drop(name, data)
            self.assertEqual(answer.status_code, 200, answer.content)
            self.assertEqual(
                (answer.json()["source"], answer.json()["frames"], answer.json()["wand"]), (name, 200, "harbour line")
            )
        seen = read_centroids(self.room.recordings.first().stream)
        self.assertEqual(len(seen), 200)
        self.assertEqual(seen.xy[8].tolist(), [11.5, 20.25])

    def test_a_wand_of_ones_own(self):
        wand = {"otrevo": "wand/1", "name": "mine", "markers_m": [[0, 0, 0], [0.2, 0, 0], [0.7, 0, 0]]}
        file = SimpleUploadedFile("wand.json", json.dumps(wand).encode())
        self.assertEqual(self.drop("a.csv", self.csv(), wand_file=file).json()["wand"], "mine")
        file = SimpleUploadedFile("wand.json", b'{"otrevo": "chart/1"}')
        self.assertIn("expected", self.drop("a.csv", self.csv(), wand_file=file).json()["detail"])

    def test_what_cannot_be_used_is_refused_in_a_sentence_and_leaves_nothing(self):
        cases = (
            ("a.pdf", self.csv(), {}, "expected centroids"), ("a.csv", b"", {}, "a.csv"), ("a.csv", b"x,y\n1,2\n", {}, "no column"),
            ("a.csv", self.csv(20), {}, "too short"), ("a.csv", self.csv().replace(b"c01", b"c77"), {}, "c77"),
            ("a.csv.gz", gzip.compress(self.csv())[:80], {}, "a.csv.gz"), ("a.csv", self.csv(), {"wand": "broom"}, "broom"),
            ("a.csv", self.csv(), {"kind": "dance"}, "not a kind of recording"), ("a.csv", self.csv().replace(b"20.25", b"9999"), {}, "outside"),
        )  # fmt: skip
        for name, data, fields, words in cases:
            answer = self.drop(name, data, **fields)
            self.assertEqual(answer.status_code, 422, words)
            self.assertIn(words, answer.json()["detail"])
        self.assertFalse(self.room.recordings.exists())
        self.assertFalse(Stream.objects.exists())

    def test_frames_come_in_pieces(self):
        answer = self.drop("a.csv", self.csv(1000)).json()
        technician = signed_in("technician")
        data = technician.get(f"/api/stage-recordings/{answer['id']}/frames?first=130&last=200").content
        rows = np.array(pa.ipc.open_stream(io.BytesIO(data)).read_all()["values"].combine_chunks().flatten()).reshape(
            -1, 5
        )
        self.assertTrue({*range(130, 200)} <= set(rows[:, 0]))
        self.assertLess(len(rows), 200)
        self.assertEqual(
            technician.get(f"/api/stage-recordings/{answer['id']}/frames?first=0&last=9000").status_code, 422
        )
        stream = Stream.objects.get(recording=answer["id"])
        self.assertEqual(frame_rows(stream, 2000, 3000), (1000, 1000))


class Versions(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.room = room_of(cls.production)
        cls.first = cls.room.calibrations.get()

    def test_adjusting_makes_a_version_and_turns_its_world(self):
        technician = signed_in("technician")
        turned = post(technician, f"/stage-calibrations/{self.first.pk}/adjust", {"quarter_turns": 1}).json()
        raised = post(technician, f"/stage-calibrations/{turned['id']}/adjust", {"raise_mm": 12.5}).json()
        self.assertEqual([turned["version"], raised["version"]], [2, 3])
        before, after = (calibrated(StageCalibration.objects.get(pk=k))[0] for k in (self.first.pk, raised["id"]))
        x, y, z = before[3].position_m
        np.testing.assert_allclose(after[3].position_m, [z, y + 0.0125, -x], atol=1e-9)
        for wrong in ({}, {"quarter_turns": 4}, {"raise_mm": 900}):
            self.assertEqual(post(technician, f"/stage-calibrations/{self.first.pk}/adjust", wrong).status_code, 422)
        moved = technician.get(f"/api/stage-calibrations/{self.first.pk}/compare/{raised['id']}").json()
        self.assertAlmostEqual(moved["world_turned_deg"], 90, places=6)
        self.assertLess(max(r["moved_mm"] for r in moved["rows"]), 1e-3)

    def test_a_version_is_a_file_that_the_command_line_reads(self):
        answer = signed_in("technician").get(f"/api/stage-calibrations/{self.first.pk}/file")
        self.assertIn("calibration-1.json", answer["Content-Disposition"])
        self.assertEqual(json.loads(answer.content)["otrevo"], "calibration/1")
        self.assertEqual(len(json.loads(answer.content)["cameras"]), 12)

    def test_rooms_of_two_productions_are_not_compared(self):
        other, _ = make_production("Night Tide", "NTD")
        theirs = room_of(other).calibrations.get()
        answer = signed_in("technician").get(f"/api/stage-calibrations/{self.first.pk}/compare/{theirs.pk}")
        self.assertEqual(answer.status_code, 404)
        self.assertEqual(Room.objects.count(), 2)

    def test_covariance_follows_the_world(self):
        size = 15 * 12
        root = np.random.default_rng(1).normal(0, 1e-4, (size, size))
        made = new_version(
            self.room, "sweep", "", calibrated(self.first)[0], "free", [], None, covariance=root @ root.T
        )
        turn = np.array([[0.0, 0, 1], [0, 1, 0], [-1, 0, 0]])
        moved = store_calibration(self.room, room_calibration(made).moved(turn, np.array([1.0, 0, 2])), None)
        technician = signed_in("technician")
        one, two = (
            technician.get(f"/api/stage-calibrations/{c.pk}/plan?height_m=1").json()["sd_mm"] for c in (made, moved)
        )
        self.assertAlmostEqual(one[8][8], two[12][10], delta=0.002)  # the origin went to (1, 2)
