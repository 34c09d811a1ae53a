"""Every route of the API, taken from its own description: closed to strangers, and to members of other productions."""

import json
import re
from fractions import Fraction

import numpy as np
from django.test import Client, TestCase

from otrevo.core.formats.centroids import Centroids
from otrevo.server.api import api
from otrevo.server.handover.models import Package
from otrevo.server.keeping.actions import remove
from otrevo.server.stage.actions import keep_recording
from otrevo.server.stage.room import room_of
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.streams import write_stream
from otrevo.server.work.models import Run
from tests.server.production import PASSWORD, make_production
from tests.server.test_server import signed_in

OPEN = {"/api/health", "/api/csrf", "/api/sign-in", "/api/welcome", "/api/worker-settings"}
ADMINISTRATION = ("/api/users", "/api/audit", "/api/parts")
LISTS = {("get", "/api/removals")}  # of the installation, though what is in them is a production's
OWN = {
    "/api/password",
    "/api/devices",
    "/api/formats",
    "/api/measures",
    "/api/me",
    "/api/sign-out",
    "/api/productions",
}  # about the user, or checked by role in any production
UPLOADS = {  # take files, not JSON: who may send them is tested beside them
    ("post", "/api/slates/{slate_id}/files"),
    ("post", "/api/productions/{production_id}/stage/files"),
    ("post", "/api/productions/{production_id}/characters"),
    ("post", "/api/characters/{character_id}/map-document"),
}
BODIES = {
    "slates": {"name": "9", "title": "x", "performer_id": 1},
    "mends": [], "preview": {"document": {"kind": "cut", "marker": "crown", "start": 1, "end": 5}}, "days": {"date": "2026-11-23", "stage": "Quay"},
    "performers": {"name": "Mo", "height_m": 1.7, "kit": ["optical"]},
    "packages": {"name": "p", "take_ids": [1], "formats": ["bvh"], "rate": "30"},
    "players": {"performer_ids": []}, "map-version": {"version": 1}, "map": {"bone": "head", "target": []},
    "users": {"name": "x"}, "roles": {"production_id": 1, "role": None}, "welcome": {"user_id": 1, "token": "x", "password": "x"},
    "password": {"old": "x", "new": "x"},
    "record": {"kind": "still"}, "steps": {"name": "level"}, "blinds": {"rows": []}, "rebuild": {"takes": []},
    "cancel": {}, "knock": {"camera": "c01"}, "size": {"cameras": 12}, "accept": {"note": "x"}, "return": {"note": "x"}, "takes": {"note": "x"},
    "removals": {"what": "take", "id": 1},
    "productions": {"name": "x", "code": "x", "timecode_rate": "25", "drop_frame": False, "delivery_rate": "25"},
}  # fmt: skip

NAMED = {  # where the last word of the path says too little
    ("patch", "/api/characters/{character_id}"): {"name": "x"},
    ("put", "/api/characters/{character_id}/shapes"): {"drivers": []},
    ("put", "/api/characters/{character_id}/mirror"): {"side": "left"},
    ("put", "/api/characters/{character_id}/effectors"): {"effectors": [{"effector": "hips", "target": "body"}]},
    ("put", "/api/characters/{character_id}/rest"): {"bone": "hips", "degrees": None},
    ("put", "/api/takes/{take_id}/characters"): {"performer_id": 1, "character_ids": None},
}


class EveryRoute(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        make_production("Night Tide", "NTD")
        take = make_take(cls.slate, None, duration_s=4.0, out_s=4.0)
        run = Run.objects.create(take=take, name="label")
        stream = write_stream(take, "optical", "points", Fraction(120), np.zeros((20, 3, 3)))
        room = room_of(cls.production)
        still = Centroids(np.arange(200), np.zeros(200, dtype=int), np.full((200, 2), 40.0), np.ones(200))
        recording = keep_recording(room, "still", still, Fraction(120), None)
        removal = remove(None, "take", make_take(cls.slate, None))
        step = Run.objects.create(kind="room step", room=room, name="level")
        package = Package.objects.create(
            production=cls.production, name="p", formats=["bvh"], rate="30", state=Package.State.SENT
        )
        bones = [{"name": n, "parent": p, "rest_position_m": [0, p + 1, 0], "rest_rotation_xyzw": [0, 0, 0, 1]}
                 for n, p in (("hips", -1), ("spine", 0))]  # fmt: skip
        document = {"otrevo": "character/1", "name": "Wick", "bones": bones, "units_m": 1.0, "unit_evidence": "metadata",
                    "up": "+Y", "facing": "+Z", "rest_from": "bind", "from_file": {"scale": 1.0, "rotation_xyzw": [0, 0, 0, 1]},
                    "floor_m": 0.0, "sole_m": 0.0, "shapes": [], "notes": []}  # fmt: skip
        character = cls.production.characters.create(name="Wick", file_name="wick.glb", file=b"-", document=document)
        sheet = {
            "otrevo": "map/1",
            "pairs": [{"bone": "hips", "target": ["hips"], "confidence": 1.0, "doubt": ""}],
            "helpers": [],
            "unmapped": [],
            "rest_pose": [],
        }
        character.maps.create(version=1, document=sheet)
        cls.numbers = {
            "production_id": cls.production.pk, "slate_id": cls.slate.pk, "day_id": cls.slate.day_id, "take_id": take.pk,
            "run_id": run.pk, "stream_id": stream.pk, "package_id": package.pk, "performer_id": cls.slate.performer_id,
            "name": "solve", "recording_id": recording.pk, "step_id": step.pk, "calibration_id": room.calibrations.get().pk,
            "user_id": 1, "character_id": character.pk, "version": 1, "number": 0, "removal_id": removal.pk, "other_id": room.calibrations.get().pk,
        }  # fmt: skip
        cls.routes = [
            (method, path)
            for path, item in api.get_openapi_schema(path_prefix="/api/")["paths"].items()
            for method in item
            if method in ("get", "post", "patch", "delete", "put")
        ]

    def call(self, client, method, path, numbers=None):
        filled = re.sub(r"{(\w+)}", lambda m: str((numbers or self.numbers)[m[1]]), path)
        words = [w for w in path.split("/") if w and not w.startswith("{")]
        known = NAMED.get((method, path)) or BODIES.get(words[-1], {})
        body = json.dumps(known)
        send = getattr(client, method)
        return send(filled) if method == "get" else send(filled, body, content_type="application/json")

    def test_there_are_routes_and_each_number_is_known(self):
        self.assertGreater(len(self.routes), 25)
        for _, path in self.routes:
            for name in re.findall(r"{(\w+)}", path):
                self.assertIn(name, self.numbers, path)

    def test_strangers_get_nothing(self):
        for method, path in self.routes:
            if path in OPEN:
                continue
            with self.subTest(f"{method} {path}"):
                self.assertEqual(self.call(Client(), method, path).status_code, 401)

    def test_members_of_another_production_see_nothing(self):
        other = signed_in("supervisor", "NTD")
        for method, path in self.routes:
            if path in OPEN | OWN or (method, path) in UPLOADS:
                continue
            with self.subTest(f"{method} {path}"):
                answer = self.call(other, method, path)
                self.assertEqual(
                    answer.status_code,
                    403 if path.startswith(ADMINISTRATION) or (method, path) in LISTS else 404,
                    answer.content,
                )
                self.assertNotIn(b"Saltmarsh", answer.content)

    def test_what_does_not_exist_is_not_there(self):
        own = signed_in("technician")
        nowhere = {k: "nothing" if k == "name" else 10**9 for k in self.numbers}
        for method, path in self.routes:
            if path in OPEN | OWN or (method, path) in UPLOADS or "{" not in path:
                continue
            with self.subTest(f"{method} {path}"):
                answer = self.call(own, method, path, nowhere)
                self.assertEqual(
                    answer.status_code,
                    403 if path.startswith(ADMINISTRATION) or (method, path) in LISTS else 404,
                    answer.content,
                )
                self.assertNotIn(b"Traceback", answer.content)

    def test_changes_without_the_token_are_refused_everywhere(self):
        guarded = Client(enforce_csrf_checks=True)
        guarded.login(username="technician-SMS", password=PASSWORD)
        for method, path in self.routes:
            if method == "get" or path in OPEN:
                continue
            with self.subTest(f"{method} {path}"):
                self.assertEqual(self.call(guarded, method, path).status_code, 403)
        body = json.dumps({"name": "technician-SMS", "password": PASSWORD})
        stranger = Client(enforce_csrf_checks=True)
        refused = stranger.post("/api/sign-in", body, content_type="application/json")
        self.assertEqual(refused.status_code, 403, "nor may a foreign page sign anybody in")
        token = stranger.get("/api/csrf").json()["token"]
        answer = stranger.post("/api/sign-in", body, content_type="application/json", headers={"X-CSRFToken": token})
        self.assertEqual(answer.status_code, 200)
