"""Characters of a production: a file dropped, its map changed, who plays it, and the file it leaves on."""

import io
import json
import zipfile
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase

from otrevo.core.characters.write_gltf import read_gltf_motion
from otrevo.core.sim.characters.files import FOLDER
from otrevo.server.cast.models import Character
from otrevo.server.handover.models import Package
from otrevo.server.takes.jobs import queue_from
from tests.server.production import calibrate, make_production, work
from tests.server.recording import streamed_take
from tests.server.test_server import post, signed_in


def upload(client, production, name, data):
    return client.post(f"/api/productions/{production.pk}/characters", {"file": SimpleUploadedFile(name, data)})


def put(client, path, body):
    return client.put(path, json.dumps(body), content_type="application/json")


class Characters(TestCase):
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
        answer = upload(self.client, self.production, name, (FOLDER / name).read_bytes())
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def test_a_file_is_kept_as_it_is_and_its_map_proposed(self):
        out = self.added()
        self.assertEqual((out["name"], out["up"], out["units_m"], out["skinned"]), ("Wick", "+Z", 0.01, True))
        self.assertEqual(bytes(Character.objects.get().file), (FOLDER / "wick.glb").read_bytes())
        pairs = {p["bone"]: p for p in out["map"]["pairs"]}
        self.assertEqual(pairs["leftUpperArm"]["target"], ["hero_rig_UpperArm_L"])
        self.assertAlmostEqual(pairs["leftUpperArm"]["degrees"], 42, delta=1)
        self.assertEqual(
            self.client.get(f"/api/productions/{self.production.pk}/characters").json()[0]["id"], out["id"]
        )

    def test_a_second_of_the_name_and_what_is_no_character_are_refused_in_a_sentence(self):
        self.added("gull.glb")
        for name, data, words in (
            ("gull.glb", (FOLDER / "gull.glb").read_bytes(), "already"),
            ("notes.txt", b"hello", "expected a character"),
            ("broken.glb", (FOLDER / "gull.glb").read_bytes()[:5000], "broken.glb"),
            ("empty.glb", b"", "file"),
            ("text.vrm", b"{}", "glTF"),
        ):
            answer = upload(self.client, self.production, name, data)
            self.assertEqual(answer.status_code, 422, name)
            self.assertIn(words, answer.json()["detail"])
            self.assertNotIn("/tmp", answer.json()["detail"])
        self.assertEqual(Character.objects.count(), 1)

    def test_only_desks_of_the_production_may(self):
        make_production("Night Tide", "NTD")
        data = (FOLDER / "gull.glb").read_bytes()
        self.assertEqual(upload(signed_in("technician", "NTD"), self.production, "gull.glb", data).status_code, 404)
        self.assertIn(upload(signed_in("animator"), self.production, "gull.glb", data).status_code, (403, 404))
        self.assertEqual(Character.objects.count(), 0)

    def test_a_map_is_changed_as_a_new_version(self):
        out = self.added()
        path = f"/api/characters/{out['id']}/map"
        changed = put(self.client, path, {"bone": "neck", "target": []}).json()
        self.assertEqual(changed["map"]["version"], 2)
        self.assertIn("neck", changed["map"]["missing"])
        self.assertIn("hero_rig_Neck_1", changed["map"]["unmapped"])
        wrong = put(self.client, path, {"bone": "neck", "target": ["hero_rig_Head"]})
        self.assertEqual(wrong.status_code, 422)
        self.assertIn("hero_rig_Head", wrong.json()["detail"])
        self.assertEqual(Character.objects.get().maps.count(), 2)

    def test_a_take_leaves_on_the_character_its_performer_plays(self):
        out = self.added()
        players = f"/api/characters/{out['id']}/players"
        self.assertEqual(put(self.client, players, {"performer_ids": [10**6]}).status_code, 422)
        put(self.client, players, {"performer_ids": [self.slate.performer_id]})
        made = post(self.client, f"/productions/{self.production.pk}/packages",
                    {"name": "p", "take_ids": [self.take.pk], "formats": ["glb"], "rate": "30"}).json()  # fmt: skip
        work()
        package = Package.objects.get(pk=made["id"])
        self.assertEqual((package.state, package.message), ("ready", ""))
        shown = self.client.get(f"/api/packages/{package.pk}").json()["manifest"]
        character = shown["takes"][0]["characters"][0]
        number = [f["path"] for f in shown["files"]].index(character["file"])
        data = self.client.get(f"/api/packages/{package.pk}/files/{number}").content
        with zipfile.ZipFile(io.BytesIO(bytes(package.archive))) as archive:
            self.assertEqual(archive.read(character["file"]), data, "what is played is what is delivered")
        with TemporaryDirectory() as folder:
            path = Path(folder) / "out.glb"
            path.write_bytes(data)
            times, joints, _, _ = read_gltf_motion(path)
        self.assertEqual(len(times), round((self.take.out_s - self.take.in_s) * 30))
        self.assertGreater(np.ptp(joints, axis=0).max(), 5, "it moves, in the file's centimetres")
        self.assertEqual(self.client.get(f"/api/packages/{package.pk}/files/999").status_code, 422)

    def test_a_warm_up_moves_on_the_character(self):
        out = self.added("gull.glb")
        path = f"/api/characters/{out['id']}/warm-ups/{self.slate.performer_id}"
        self.assertIn("no solved warm-up", self.client.get(path).json()["detail"])
        type(self.calibration).objects.update(warm_up=self.take)
        answer = self.client.get(path)
        self.assertEqual((answer.status_code, answer.content[:4]), (200, b"glTF"))
