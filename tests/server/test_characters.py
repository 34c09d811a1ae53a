"""Characters of a production: a file dropped, its map changed, who plays it, and the file it leaves on."""

import io
import json
import zipfile
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import pyarrow as pa
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from procrastinate.contrib.django.models import ProcrastinateJob

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import Skeleton
from otrevo.core.characters.character import read_character
from otrevo.core.characters.guarded import read_guarded
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.characters.write_bvh import write_bvh_motion
from otrevo.core.characters.write_gltf import read_gltf_motion, write_gltf_motion
from otrevo.core.conventions import quaternion_multiply
from otrevo.core.retarget.transfer import retarget
from otrevo.core.sim.characters.files import FOLDER
from otrevo.server.cast.characters import keep_character
from otrevo.server.cast.models import Character
from otrevo.server.handover.models import Package
from otrevo.server.takes.jobs import queue_all, queue_from
from otrevo.server.takes.material import latest
from otrevo.server.takes.mends import stored_motion
from otrevo.server.takes.streams import read_stream
from otrevo.server.work.models import Run
from tests.server.production import calibrate, make_production, work
from tests.server.recording import streamed_take
from tests.server.test_server import post, signed_in


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
        """A character as its upload leaves it; the file is read once for all tests."""
        made = keep_character(self.production, None, name, (FOLDER / name).read_bytes(), *found_out(name))
        return next(c for c in self.listed() if c["id"] == made.pk)

    def listed(self):
        return self.client.get(f"/api/productions/{self.production.pk}/characters").json()

    def test_a_file_is_kept_as_it_is_and_its_map_proposed(self):
        out = upload(self.client, self.production, "wick.glb", (FOLDER / "wick.glb").read_bytes()).json()
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
        about, rows = moving(self.client.get(path).content)
        bones, own = len(about["character"]["bones"]), len(about["performer"]["bones"])
        wide = 3 + 4 * bones + 3 + 4 * own + len(about["shapes"])
        self.assertEqual(rows.shape, (round(self.take.duration_s * 30), wide))
        np.testing.assert_allclose(np.linalg.norm(rows[:, 3 : 3 + 4 * bones].reshape(-1, 4), axis=1), 1, atol=1e-5)
        self.assertLess(about["figures"]["directions_deg"]["arms"], 0.5)
        put(self.client, f"/api/characters/{out['id']}/map", {"bone": "leftLowerArm", "target": []})
        about, changed = moving(self.client.get(path).content)
        self.assertEqual(about["map_version"], 2)
        elbow = 3 + 4 * about["character"]["bones"].index(pair(out, "leftLowerArm")["target"][0])
        self.assertGreater(np.abs(changed - rows)[:, elbow : elbow + 4].max(), 0.05, "the elbow rests now")

    def played(self, *names):
        out = [self.added(name) for name in names]
        for one in out:
            put(self.client, f"/api/characters/{one['id']}/players", {"performer_ids": [self.slate.performer_id]})
        return out

    def bench(self):
        return self.client.get(f"/api/takes/{self.take.pk}/bench").json()

    def test_who_plays_a_character_is_retargeted_onto_it_take_by_take(self):
        self.assertNotIn("retarget", [p["name"] for p in self.bench()["passes"]])
        wick, gull = self.played("wick.glb", "gull.glb")
        work()
        bench = self.bench()
        runs = {r["character"]: r for r in bench["take"]["runs"] if r["name"] == "retarget"}
        self.assertEqual({n: r["state"] for n, r in runs.items()}, {"Wick": "done", "Gull": "done"})
        self.assertTrue(runs["Gull"]["figure"]["good"], runs["Gull"]["figure"])
        self.assertEqual(runs["Gull"]["map_version"], 1, "so that a map that has changed since is told")
        streams = {(s["character"], s["name"]): s for s in bench["streams"] if s["character"]}
        self.assertEqual(len(streams), 4)
        solved = next(s for s in bench["streams"] if s["name"] == "body rotation")
        turned = streams["Gull", "character rotation"]
        self.assertEqual((turned["samples"], turned["start_s"]), (solved["samples"], solved["start_s"]))
        self.assertEqual(len(turned["details"]["parents"]), turned["shape"][0])

    def test_a_changed_map_has_its_takes_made_anew_behind_all_other_work(self):
        wick, gull = self.played("wick.glb", "gull.glb")
        work()
        put(self.client, f"/api/characters/{gull['id']}/map", {"bone": "leftLowerArm", "target": []})
        put(self.client, f"/api/characters/{gull['id']}/map", {"bone": "neck", "target": []})
        (waiting,) = Run.objects.filter(state=Run.State.QUEUED)  # one for both changes, and none for Wick
        self.assertEqual((waiting.name, waiting.character_id), ("retarget", gull["id"]))
        job = ProcrastinateJob.objects.get(pk=waiting.job)
        queue_all(self.take)
        others = Run.objects.filter(state=Run.State.QUEUED).exclude(pk=waiting.pk)
        self.assertTrue(others)
        for run in others:
            self.assertGreater(ProcrastinateJob.objects.get(pk=run.job).priority, job.priority)
        work()
        newest = latest(self.take, "retarget", self.slate.performer, Character.objects.get(name="Gull"))
        self.assertEqual(newest.figures["map_version"], 3)
        put(self.client, f"/api/characters/{gull['id']}/map-version", {"version": 1})
        self.assertEqual(Run.objects.filter(state=Run.State.QUEUED, character_id=gull["id"]).count(), 1)

    def test_settings_of_a_take_stay_with_it_when_it_is_solved_again(self):
        wick, gull = self.played("wick.glb", "gull.glb")
        work()
        path = f"/takes/{self.take.pk}/passes/retarget"
        wrong = post(self.client, path, {"parameters": {"hips_height": 9}, "character_id": gull["id"]})
        self.assertIn("from 0.5 to 1.5", wrong.json()["detail"])
        self.assertEqual(post(self.client, path, {"character_id": 10**6}).status_code, 422)
        done = post(self.client, path, {"parameters": {"hips_height": 1.2, "path": 1}, "character_id": gull["id"]})
        self.assertEqual(done.json()["character"], "Gull")
        work()

        def height(who="Gull"):
            newest = latest(self.take, "retarget", self.slate.performer, Character.objects.get(name=who))
            return newest.parameters["hips_height"], read_stream(newest.tracks.get(name="character root"))[:, 1].mean()

        raised = height()
        queue_from(self.take, "solve")
        work()
        self.assertEqual(height(), raised)
        self.assertEqual(raised[0], 1.2)
        post(
            self.client,
            path,
            {"parameters": {"hips_height": 0.9, "left_hand": [[0, 0], [2, 1]]}, "character_id": wick["id"]},
        )
        work()
        self.assertEqual((height("Wick")[0], height("Gull")), (0.9, raised), "each has its own")

    def test_a_take_can_have_its_own_casting(self):
        wick, gull = self.played("wick.glb", "gull.glb")
        work()
        path = f"/api/takes/{self.take.pk}/characters"
        answer = put(self.client, path, {"performer_id": self.slate.performer_id, "character_ids": [gull["id"]]}).json()
        self.assertEqual(answer["appearances"][0]["character_ids"], [gull["id"]])
        self.assertEqual({s["character"] for s in answer["streams"]}, {"", "Gull"})
        self.assertEqual(put(self.client, path, {"performer_id": 10**6, "character_ids": []}).status_code, 422)
        other = make_production("Night Tide", "NTD")[0]
        theirs = upload(
            signed_in("technician", "NTD"), other, "keeper.glb", (FOLDER / "keeper.glb").read_bytes()
        ).json()
        foreign = put(self.client, path, {"performer_id": self.slate.performer_id, "character_ids": [theirs["id"]]})
        self.assertIn("not in this production", foreign.json()["detail"])
        answer = put(self.client, path, {"performer_id": self.slate.performer_id, "character_ids": None}).json()
        self.assertEqual({s["character"] for s in answer["streams"]}, {"", "Wick", "Gull"})

    def test_characters_leave_in_every_format_that_their_file_allows(self):
        self.played("gull.glb")
        made = post(self.client, f"/productions/{self.production.pk}/packages",
                    {"name": "p", "take_ids": [self.take.pk], "formats": ["glb", "usd", "vrma", "character_bvh"], "rate": "30"}).json()  # fmt: skip
        work()
        package = Package.objects.get(pk=made["id"])
        self.assertEqual((package.state, package.message), ("ready", ""))
        files = package.manifest["takes"][0]["files"]
        self.assertEqual(sorted(Path(f).suffix for f in files), [".bvh", ".glb", ".vrma"])
        for difference in package.manifest["differences"]:
            self.assertLess(difference["position_mm"], 0.1)
            self.assertLess(difference["rotation_deg"], 0.01)

    def test_a_map_goes_out_and_comes_in_and_an_earlier_version_comes_back(self):
        out = self.added("gull.glb")
        path = f"/api/characters/{out['id']}"
        document = self.client.get(f"{path}/map-document").json()
        self.assertEqual(document["otrevo"], "map/1")
        put(self.client, f"{path}/map", {"bone": "neck", "target": []})

        def bring(data, name="map.json"):
            return self.client.post(f"{path}/map-document", {"file": SimpleUploadedFile(name, data)})

        back = bring(json.dumps(document).encode()).json()
        self.assertEqual((back["map"]["version"], pair(back, "neck")["target"]), (3, pair(out, "neck")["target"]))
        self.assertEqual(put(self.client, f"{path}/map-version", {"version": 2}).json()["map"]["version"], 4)
        self.assertEqual(put(self.client, f"{path}/map-version", {"version": 77}).status_code, 422)
        document["pairs"][0]["target"] = ["nobody"]
        for data, words in ((b"{", "no JSON"), (b"[]", "map/1"), (json.dumps(document).encode(), "no bone 'nobody'")):
            answer = bring(data)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.json()["detail"])
        self.assertEqual(Character.objects.get().maps.count(), 4)

    def test_a_character_is_renamed_and_removed_with_what_was_made_for_it(self):
        wick, gull = self.played("wick.glb", "gull.glb")
        work()

        def name(words):
            return self.client.patch(
                f"/api/characters/{gull['id']}", json.dumps({"name": words}), content_type="application/json"
            )

        self.assertIn("already", name("Wick").json()["detail"])
        self.assertEqual(name(" ").status_code, 422)
        self.assertEqual(name("  Old   Gull ").json()["name"], "Old Gull")
        self.assertEqual(self.client.delete(f"/api/characters/{gull['id']}").status_code, 204)
        self.assertEqual({s["character"] for s in self.bench()["streams"]}, {"", "Wick"})
        self.assertFalse(self.take.runs.filter(character=gull["id"]).exists())

    def test_motion_on_a_foreign_skeleton_dropped_on_a_slate_becomes_a_body_and_is_retargeted(self):
        self.played("gull.glb")
        work()
        motion = stored_motion(latest(self.take, "solve")).window(0, 240)
        joint, _ = motion_joints(motion)
        names = motion.skeleton.names
        arm = joint[:, names.index("leftLowerArm")] - joint[:, names.index("leftUpperArm")]
        character, proposal = read_character(FOLDER / "wick.glb")
        foreign = retarget(motion, character, propose_sheet(character, proposal))
        with TemporaryDirectory() as folder:
            bvh, glb = Path(folder) / "foreign.bvh", Path(folder) / "foreign.glb"
            write_bvh_motion(bvh, foreign)
            write_gltf_motion(glb, FOLDER / "wick.glb", foreign)
            files = {path.name: path.read_bytes() for path in (bvh, glb)}
        for name, data in files.items():
            with self.subTest(name):
                path = f"/api/slates/{self.slate.pk}/files"
                answer = self.client.post(path, {"files": [SimpleUploadedFile(name, data)]})
                self.assertEqual(answer.status_code, 200, answer.content)
                work()
                take = self.slate.takes.order_by("-number").first()
                body = take.streams.get(name="body file")
                self.assertEqual(body.samples, 240)
                self.assertIn("leftUpperArm", body.details["bones"])
                rows = read_stream(body).astype(float)
                details = body.details
                skeleton = Skeleton(
                    tuple(details["bones"]), np.array(details["parents"]), np.array(details["offsets_m"])
                )
                back = Motion(skeleton, motion.rate, rows[:, :3], rows[:, 3:].reshape(240, -1, 4))
                theirs, _ = motion_joints(back)
                found = theirs[:, skeleton.index("leftLowerArm")] - theirs[:, skeleton.index("leftUpperArm")]
                cosine = (found * arm).sum(1) / np.linalg.norm(found, axis=1) / np.linalg.norm(arm, axis=1)
                self.assertLess(np.degrees(np.arccos(np.clip(cosine, -1, 1))).max(), 1.0)
                run = take.runs.get(name="retarget")
                self.assertEqual((run.state, run.message), ("done", ""))
                self.assertEqual(run.tracks.get(name="character root").samples, 240)
        body = {"name": "theirs", "take_ids": [take.pk], "formats": ["bvh", "c3d", "glb"], "rate": "30"}
        made = post(self.client, f"/productions/{self.production.pk}/packages", body).json()
        work()
        package = Package.objects.get(pk=made["id"])
        self.assertEqual((package.state, package.message), ("ready", ""))
        files = [f.rsplit("_", 1)[1] for f in package.manifest["takes"][0]["files"]]
        self.assertEqual(files, ["Ines.bvh", "Gull.glb"], "a body and its character, and no markers")

    def test_an_earlier_map_is_compared_with_the_newest(self):
        out = self.added("wick.glb")
        path = f"/api/characters/{out['id']}"
        self.assertEqual(self.client.get(f"{path}/map-versions/1").json(), [])
        put(self.client, f"{path}/map", {"bone": "neck", "target": []})
        put(self.client, f"{path}/rest", {"bone": "leftFoot", "degrees": [12, 0, 0]})
        put(self.client, f"{path}/effectors", {"effectors": [{"effector": "leftHand", "target": "grip"}]})
        drivers = [d | {"gain": 0.5} if d["target"] == "wick_face_JawOpen" else d for d in out["map"]["drivers"]]
        put(self.client, f"{path}/shapes", {"drivers": drivers})
        told = {d["subject"]: (d["before"], d["now"]) for d in self.client.get(f"{path}/map-versions/1").json()}
        self.assertEqual(told.pop("neck"), (pair(out, "neck")["target"][0], "nothing"))
        foot = f"{pair(out, 'leftFoot')['target'][0]}, at rest"
        self.assertEqual(told.pop(foot), ("as matched", "by hand, 12° from there"))
        self.assertEqual(told.pop("leftHand, effector"), ("not named", "grip"))
        self.assertEqual(told, {"wick_face_JawOpen by jawOpen": ("×1.00", "×0.50")})
        put(self.client, f"{path}/map-version", {"version": 1})
        self.assertEqual(self.client.get(f"{path}/map-versions/1").json(), [])
        self.assertEqual(len(self.client.get(f"{path}/map-versions/2").json()), 1)
        self.assertIn("no map of version 9", self.client.get(f"{path}/map-versions/9").json()["detail"])

    def test_effectors_are_named_and_a_chain_is_shared_by_hand(self):
        out = self.added("wick.glb")
        path = f"/api/characters/{out['id']}"
        named = put(self.client, f"{path}/effectors", {"effectors": [{"effector": "leftHand", "target": "grip"},
                                                                     {"effector": "hips", "target": " "}]}).json()  # fmt: skip
        self.assertEqual(
            [e for e in named["map"]["effectors"] if e["target"]], [{"effector": "leftHand", "target": "grip"}]
        )
        self.assertEqual(len(named["map"]["effectors"]), 9)
        wrong = put(self.client, f"{path}/effectors", {"effectors": [{"effector": "tail", "target": "x"}]})
        self.assertIn("'tail' is none", wrong.json()["detail"])
        chain = max((p for p in out["map"]["pairs"] if p["bone"] in ("spine", "chest")), key=lambda p: len(p["target"]))
        self.assertGreater(len(chain["target"]), 1)
        body = {"bone": chain["bone"], "target": chain["target"], "shares": [0.1, 1.0]}
        self.assertEqual(pair(put(self.client, f"{path}/map", body).json(), chain["bone"])["shares"], [0.1, 1.0])
        wrong = put(self.client, f"{path}/map", body | {"shares": [0.9, 0.2]}).json()["detail"]
        self.assertIn("turns back along its chain", wrong)
        document = self.client.get(f"{path}/map-document").json()
        self.assertEqual(
            document["effectors"], [{"effector": "leftHand", "target": "grip"}], "other changes leave them"
        )

    def test_a_rest_pose_is_corrected_by_hand_and_stays_when_the_map_changes_elsewhere(self):
        out = self.added("wick.glb")
        path = f"/api/characters/{out['id']}"
        turned = put(self.client, f"{path}/rest", {"bone": "leftUpperArm", "degrees": [0, 0, 30]}).json()
        np.testing.assert_allclose(pair(turned, "leftUpperArm")["rest_turn"], [0, 0, 30], atol=0.01)
        self.assertEqual(turned["map"]["version"], 2)

        def rest():
            rows = Character.objects.get().maps.first().document["rest_pose"]
            return next(r for r in rows if r["bone"] == pair(out, "leftUpperArm")["target"][0])

        by_hand = np.array(rest()["rotation_xyzw"])
        put(self.client, f"{path}/map", {"bone": "neck", "target": []})
        np.testing.assert_allclose(rest()["rotation_xyzw"], by_hand, atol=1e-6)
        back = put(self.client, f"{path}/rest", {"bone": "leftUpperArm", "degrees": None}).json()
        self.assertIsNone(pair(back, "leftUpperArm")["rest_turn"])
        between = quaternion_multiply(by_hand, np.array(rest()["rotation_xyzw"]) * [-1, -1, -1, 1])
        self.assertAlmostEqual(np.degrees(2 * np.arccos(abs(between[3]))), 30, places=3)
        for wrong in (
            {"bone": "tail", "degrees": [0, 0, 0]},
            {"bone": "head", "degrees": [0, 900, 0]},
            {"bone": "head", "degrees": [1]},
        ):
            self.assertEqual(put(self.client, f"{path}/rest", wrong).status_code, 422)

    def test_one_side_of_a_map_mirrors_to_the_other(self):
        for name in ("wick.glb", "gull.glb"):
            out = self.added(name)
            path = f"/api/characters/{out['id']}"
            for bone in ("rightUpperArm", "rightLowerLeg", "rightIndexProximal"):
                put(self.client, f"{path}/map", {"bone": bone, "target": []})
            back = put(self.client, f"{path}/mirror", {"side": "left"}).json()
            self.assertEqual(back["map"]["version"], 5)
            for one in out["map"]["pairs"]:
                if one["bone"].startswith("right"):
                    self.assertEqual(pair(back, one["bone"])["target"], one["target"], f"{name} {one['bone']}")
            self.assertEqual(put(self.client, f"{path}/mirror", {"side": "up"}).status_code, 422)

    def test_a_package_holds_the_characters_that_were_chosen(self):
        wick, gull = self.played("wick.glb", "gull.glb")
        body = {"name": "p", "take_ids": [self.take.pk], "formats": ["glb"], "rate": "30"}
        path = f"/productions/{self.production.pk}/packages"
        made = post(self.client, path, body | {"character_ids": [gull["id"]]}).json()
        work()
        files = Package.objects.get(pk=made["id"]).manifest["takes"][0]["files"]
        self.assertEqual([f.rsplit("_", 1)[1] for f in files], ["Gull.glb"])
        self.assertEqual(post(self.client, path, body | {"character_ids": [10**6]}).status_code, 422)

    def test_what_moves_the_face_is_changed_with_gains_and_mixtures(self):
        out = self.added("gull.glb")
        self.assertEqual(out["map"]["drivers"], [], "its shapes have names of their own")
        target = out["shapes"][0]
        rows = [
            {"shape": "jawOpen", "target": target, "gain": 0.5},
            {"shape": "mouthPucker", "target": target, "high": 0.8},
        ]
        path = f"/api/characters/{out['id']}"
        now = put(self.client, f"{path}/shapes", {"drivers": rows}).json()["map"]
        self.assertEqual((now["version"], [(d["shape"], d["gain"], d["high"]) for d in now["drivers"]]),
                         (2, [("jawOpen", 0.5, 1.0), ("mouthPucker", 1.0, 0.8)]))  # fmt: skip
        put(self.client, f"{path}/map", {"bone": "neck", "target": []})
        kept = Character.objects.get().maps.first().document["shapes"]
        self.assertEqual(len(kept), 2, "a change of a bone leaves the face")
        for wrong in ({"shape": "grin", "target": target}, {"shape": "jawOpen", "target": "nose"},
                      {"shape": "jawOpen", "target": target, "low": 1, "high": 0}):  # fmt: skip
            answer = put(self.client, f"{path}/shapes", {"drivers": [wrong]})
            self.assertEqual(answer.status_code, 422)
            self.assertIn("shapes[0]", answer.json()["detail"])
