"""Data of an Otrevo from before takes had an app of their own comes through its migrations whole."""

import json
import os
import tempfile
from pathlib import Path
from unittest import mock

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase

BEFORE = [
    ("accounts", "0002_initial"), ("shoot", "0003_take_stage_calibration"), ("bench", "0002_initial"),
    ("streams", "0003_stream_recording"), ("stage", "0001_initial"), ("handover", "0001_initial"),
    ("cast", "0002_initial"), ("floor", "0003_rolling_circled_rolling_note"),
]  # fmt: skip


class FromBefore(TransactionTestCase):
    def setUp(self):
        executor = MigrationExecutor(connection)
        self.after = executor.loader.graph.leaf_nodes()
        # there is no way back through a data migration, so the schema of then is made from nothing
        with connection.cursor() as cursor:
            cursor.execute("DROP SCHEMA public CASCADE; CREATE SCHEMA public")
        procrastinate = [n for n in self.after if n[0] in ("procrastinate", "auth", "contenttypes", "sessions")]
        executor = MigrationExecutor(connection)
        executor.migrate(BEFORE + procrastinate)
        self.then = MigrationExecutor(connection).loader.project_state(BEFORE + procrastinate).apps

    def tearDown(self):
        executor = MigrationExecutor(connection)
        executor.migrate(self.after)

    def make(self, app, model, **values):
        return self.then.get_model(app, model).objects.create(**values)

    def test_everything_is_still_there_and_says_whom_it_is_about(self):
        production = self.make("shoot", "Production", name="Saltmarsh Signal", code="SMS")
        day = self.make("shoot", "ShootDay", production=production, number=1, date="2026-11-19", stage="Quay")
        performer = self.make(
            "cast", "Performer", production=production, name="Ines", height_m=1.7, kit=["optical", "suit"]
        )
        calibration = self.make("cast", "PerformerCalibration", performer=performer, version=1, document={})
        slate = self.make("shoot", "Slate", day=day, name="14", title="x", performer=performer, performance="lantern")
        take = self.make("shoot", "Take", slate=slate, number=1, calibration=calibration, note="kept",
                         picture={"optical": [[1.0, None, 0.5]], "jaw": [0.0]})  # fmt: skip
        figures = {"streams": {"optical": {"offset_ms": 250.0, "drift_ppm": 12.0}}}
        self.make("bench", "Run", take=take, name="line up", state="done", figures=figures)
        solve = self.make("bench", "Run", take=take, name="solve", state="done")
        self.make("bench", "Run", take=take, name="calibrate", state="running", progress=0.4)
        rows = dict(kind="x", rate="120/1", shape=[3], samples=1)
        for name, run in (("suit", None), ("cameras", None), ("body root", solve), ("prop lantern", solve),
                          ("prop lantern markers", solve)):  # fmt: skip
            stream = self.make("streams", "Stream", take=take, run=run, name=name, **rows)
            self.make("streams", "Chunk", stream=stream, number=0, first_sample=0, samples=1, payload=b"bytes")
        self.make("bench", "Mend", take=take, document={"kind": "cut"}, words="a cut")
        self.make("shoot", "Change", take=take, words="a change")
        room = self.make("stage", "Room", production=production, rig={"cameras": []}, seed=1)
        self.make("stage", "StageRun", room=room, name="level", state="queued")
        package = self.make("handover", "Package", production=production, name="p", rate="30", state="building")
        package.takes.set([take])
        package.runs.set([solve])

        executor = MigrationExecutor(connection)
        stage = Path(self.enterContext(tempfile.TemporaryDirectory())) / "stage.json"
        with mock.patch.dict(os.environ, OTREVO_STAGE=str(stage)):
            executor.migrate(self.after)
        self.assertEqual(json.loads(stage.read_text()), {
            "rooms": {str(production.pk): {"seed": 1, "cameras": 0, "knocks": []}}, "bodies": {str(performer.pk): 1},
            "performances": {str(slate.pk): "lantern"},
        })  # fmt: skip
        now = executor.loader.project_state(self.after).apps
        take = now.get_model("takes", "Take").objects.get()
        self.assertEqual((take.note, take.slate.name), ("kept", "14"))
        self.assertEqual(take.picture, {"optical": ["z.i"], "jaw": "0"})
        appearance = take.appearances.get()
        self.assertEqual((appearance.performer.name, appearance.kit, appearance.calibration.version),
                         ("Ines", ["optical", "suit"], 1))  # fmt: skip
        streams = {(s.name, s.prop, s.performer and s.performer.name) for s in take.streams.all()}
        self.assertEqual(streams, {("suit", "", "Ines"), ("cameras", "", None), ("body root", "", "Ines"),
                                   ("prop pose", "lantern", None), ("prop markers", "lantern", None)})  # fmt: skip
        self.assertEqual(bytes(take.streams.get(name="suit").chunks.get().piece.payload), b"bytes")
        self.assertEqual(now.get_model("takes", "Piece").objects.count(), 1, "what is the same is kept once")
        self.assertEqual(take.streams.get(name="body root").clock, {"offset_s": 0.25, "drift_ppm": 12.0})
        self.assertIsNone(take.streams.get(name="suit").clock)
        self.assertEqual((take.mends.get().performer.name, take.changes.get().words), ("Ines", "a change"))
        runs = {(r.kind, r.name): (r.state, r.progress) for r in now.get_model("work", "Run").objects.all()}
        self.assertEqual(runs, {
            ("pass", "line up"): ("done", 0.0), ("pass", "solve"): ("done", 0.0), ("pass", "warm-up"): ("queued", 0.0),
            ("room step", "level"): ("queued", 0.0), ("package", "package"): ("queued", 0.0),
        })  # fmt: skip
        package = now.get_model("handover", "Package").objects.get()
        self.assertEqual((package.takes.get().pk, package.runs.get().name), (take.pk, "solve"))
