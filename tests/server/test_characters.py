"""Characters of a production: a file dropped, its map changed, who plays it, and the file it leaves on."""

import io
import json
import zipfile
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from procrastinate.contrib.django.models import ProcrastinateJob

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import Skeleton
from otrevo.core.characters.character import read_character
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.characters.write_bvh import write_bvh_motion
from otrevo.core.characters.write_gltf import read_gltf_motion, write_gltf_motion
from otrevo.core.retarget.transfer import retarget
from otrevo.core.sim.characters.files import FOLDER
from otrevo.server.cast.characters import warm_up_solve
from otrevo.server.cast.models import Character
from otrevo.server.handover.models import Package
from otrevo.server.takes.jobs import queue_all, queue_from
from otrevo.server.takes.material import latest
from otrevo.server.takes.mends import stored_motion
from otrevo.server.takes.streams import read_stream
from otrevo.server.work.models import Run
from tests.server.characters import WithCharacters, moving, pair, put, upload
from tests.server.production import make_production, work
from tests.server.test_server import post, signed_in


class Characters(WithCharacters):
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

    def test_a_take_leaves_on_the_character_its_performer_plays(self):
        out = self.added()
        players = f"/api/characters/{out['id']}/players"
        self.assertEqual(put(self.client, players, {"performer_ids": [10**6]}).status_code, 422)
        late = {"performer_ids": [], "before": [10**6]}
        self.assertEqual(put(self.client, players, late).status_code, 409)
        put(self.client, players, {"performer_ids": [self.slate.performer_id], "before": []})
        made = post(self.client, f"/productions/{self.production.pk}/packages",
                    {"name": "p", "take_ids": [self.take.pk], "formats": ["glb"], "rate": "30"}).json()  # fmt: skip
        work()
        casting = f"/api/takes/{self.take.pk}/characters"
        late = {"performer_id": self.slate.performer_id, "character_ids": [], "before": []}
        self.assertEqual(put(self.client, casting, late).json()["theirs"], {"character_ids": [out["id"]]})
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

        def removed(performer):  # by somebody else, while this is answered
            Character.objects.all().delete()
            return warm_up_solve(performer)

        with mock.patch("otrevo.server.cast.characters.warm_up_solve", removed):
            answer = self.client.get(path)
        self.assertEqual((answer.status_code, answer.json()["detail"]), (422, "Gull has just been removed."))

    def test_a_take_that_is_removed_while_its_warm_up_is_asked_for_is_said(self):
        out = self.added("gull.glb")
        path = f"/api/characters/{out['id']}/warm-ups/{self.slate.performer_id}"
        type(self.calibration).objects.update(warm_up=self.take)

        def removed(performer):  # by somebody else, while this is answered
            run = warm_up_solve(performer)
            type(self.take).objects.all().delete()
            return run

        with mock.patch("otrevo.server.cast.characters.warm_up_solve", removed):
            answer = self.client.get(path)
        said = f"The warm-up of {self.slate.performer.name} has just been removed."
        self.assertEqual((answer.status_code, answer.json()["detail"]), (422, said))

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

    def test_a_package_holds_the_characters_that_were_chosen(self):
        wick, gull = self.played("wick.glb", "gull.glb")
        body = {"name": "p", "take_ids": [self.take.pk], "formats": ["glb"], "rate": "30"}
        path = f"/productions/{self.production.pk}/packages"
        made = post(self.client, path, body | {"character_ids": [gull["id"]]}).json()
        work()
        files = Package.objects.get(pk=made["id"]).manifest["takes"][0]["files"]
        self.assertEqual([f.rsplit("_", 1)[1] for f in files], ["Gull.glb"])
        self.assertEqual(post(self.client, path, body | {"character_ids": [10**6]}).status_code, 422)
