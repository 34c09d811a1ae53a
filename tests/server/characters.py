"""What tests about characters share: a production with a solved take, and characters added to it."""

import json
from functools import cache

import numpy as np
import pyarrow as pa
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase

from otrevo.core.characters.guarded import read_guarded
from otrevo.core.sim.characters.files import FOLDER
from otrevo.server.cast.characters import keep_character
from otrevo.server.takes.jobs import queue_from
from tests.server.production import calibrate, make_production, work
from tests.server.recording import streamed_take
from tests.server.test_server import signed_in


def upload(client, production, name, data):
    return client.post(f"/api/productions/{production.pk}/characters", {"file": SimpleUploadedFile(name, data)})


@cache
def found_out(name):
    return read_guarded(FOLDER / name, name)


def put(client, path, body):
    return client.put(path, json.dumps(body), content_type="application/json")


def moving(content):
    """(about, rows) of an Arrow IPC stream whose metadata tell of it."""
    with pa.ipc.open_stream(content) as reader:
        table = reader.read_all()
        about = json.loads(reader.schema.metadata[b"about"])
    return about, np.array(table.column("values").to_pylist(), dtype=float)


def pair(character, bone):
    return next(p for p in character["map"]["pairs"] if p["bone"] == bone)


class WithCharacters(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.calibration = calibrate(cls.slate.performer)
        cls.take = streamed_take(cls.slate, "rope haul", 6.0, ("optical",))
        queue_from(cls.take, "line up")
        work()

    def setUp(self):
        self.client = signed_in("technician")

    def added(self, name="wick.glb"):
        """A character as its upload leaves it; the file is read once for all tests."""
        made = keep_character(self.production, None, name, (FOLDER / name).read_bytes(), *found_out(name))
        return next(c for c in self.listed() if c["id"] == made.pk)

    def listed(self):
        return self.client.get(f"/api/productions/{self.production.pk}/characters").json()
