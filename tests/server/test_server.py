import gzip
import json
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import pyarrow as pa
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client, TestCase

from otrevo.core.errors import InputError
from otrevo.core.formats.c3d import write_c3d
from otrevo.core.formats.wav import write_wav
from otrevo.core.sim.audio import ltc_track
from otrevo.server.floor.models import Rolling
from otrevo.server.takes.actions import change_take, make_take, undo
from otrevo.server.takes.models import Chunk, Piece, Take
from otrevo.server.takes.streams import pieces_of, read_stream, recorded, stream_bytes, write_stream
from tests.core.test_foreign_bvh import foreign, walked
from tests.server.production import PASSWORD, make_production


def signed_in(role, code="SMS"):
    client = Client()
    assert client.login(username=f"{role}-{code}", password=PASSWORD)
    return client


def post(client, path, body=None):
    return client.post(f"/api{path}", json.dumps(body) if body is not None else "", content_type="application/json")


def patch(client, path, body):
    return client.patch(f"/api{path}", json.dumps(body), content_type="application/json")


class Access(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.other, cls.other_slate = make_production("Night Tide", "NTD")
        cls.take = make_take(cls.slate, None, duration_s=10.0, out_s=10.0)
        cls.stream = write_stream(cls.take, "optical", "points", Fraction(120), np.zeros((20, 3, 3)))

    def paths(self):
        t, s, p = self.take.pk, self.slate.pk, self.production.pk
        return [
            f"/productions/{p}/board", f"/productions/{p}/cast", f"/productions/{p}/packages", f"/productions/{p}/rolling",
            f"/takes/{t}/bench", f"/takes/{t}/runs", f"/slates/{s}/floor", f"/streams/{self.stream.pk}/data",
        ]  # fmt: skip

    def test_nobody_gets_anything_without_signing_in(self):
        for path in self.paths():
            self.assertEqual(Client().get(f"/api{path}").status_code, 401, path)

    def test_another_production_is_invisible(self):
        outsider = signed_in("supervisor", "NTD")
        for path in self.paths():
            self.assertEqual(outsider.get(f"/api{path}").status_code, 404, path)
        changes = [(f"/slates/{self.slate.pk}/{w}", None) for w in ("roll", "cut", "abandon")]
        changes += [
            (f"/takes/{self.take.pk}/passes/solve", None),
            (f"/takes/{self.take.pk}/mends", []),
            (f"/takes/{self.take.pk}/undo", None),
        ]
        for path, body in changes:
            self.assertEqual(post(outsider, path, body).status_code, 404, path)
        change = outsider.patch(f"/api/takes/{self.take.pk}", '{"status": "circled"}', content_type="application/json")
        self.assertEqual(change.status_code, 404)

    def test_members_see_what_their_role_may(self):
        self.assertEqual(signed_in("clean-up").get(f"/api/productions/{self.production.pk}/board").status_code, 200)
        animator = signed_in("animator")
        self.assertEqual(animator.get(f"/api/productions/{self.production.pk}/board").status_code, 403)
        self.assertEqual(animator.get(f"/api/productions/{self.production.pk}/packages").json(), [])
        self.assertEqual(animator.get(f"/api/streams/{self.stream.pk}/data").status_code, 404)
        self.assertEqual(post(signed_in("clean-up"), f"/slates/{self.slate.pk}/roll").status_code, 403)

    def test_changes_need_the_csrf_token(self):
        strict = Client(enforce_csrf_checks=True)
        strict.login(username="technician-SMS", password=PASSWORD)
        self.assertEqual(post(strict, f"/slates/{self.slate.pk}/roll").status_code, 403)
        self.assertFalse(Rolling.objects.exists())

    def test_sign_in_and_out(self):
        client = Client()
        self.assertEqual(post(client, "/sign-in", {"name": "technician-SMS", "password": "no"}).status_code, 401)
        me = post(client, "/sign-in", {"name": "technician-SMS", "password": PASSWORD}).json()
        self.assertEqual([m["role"] for m in me["memberships"]], ["technician"])
        post(client, "/sign-out")
        self.assertEqual(client.get("/api/me").status_code, 401)

    def test_answers_carry_the_security_headers(self):
        answer = Client().get("/api/health")
        self.assertIn("default-src 'self'", answer["Content-Security-Policy"])
        self.assertEqual(answer["X-Frame-Options"], "DENY")
        self.assertEqual(Client().get("/assets/..%2Fsettings.py").status_code, 404)


class Store(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.take = make_take(cls.slate, None)

    def test_what_is_written_is_read_in_any_range(self):
        data = np.random.default_rng(0).normal(size=(7001, 57, 3)).astype(np.float32)
        data[100:200, 5] = np.nan
        stream = write_stream(self.take, "optical", "points", Fraction(120), data, stamps=[(0, 1.5), (30, 1.75)])
        self.assertGreater(stream.chunks.count(), 2)
        np.testing.assert_array_equal(read_stream(stream), data)
        for start, end in ((0, 1), (1500, 1600), (6990, 7001), (1530, 5000), (7001, 7001)):
            np.testing.assert_array_equal(read_stream(stream, start, end), data[start:end])
        self.assertEqual(stream.stamps, [[0.0, 1.5], [30.0, 1.75]])

    def test_what_cameras_saw_is_packed_and_comes_back_to_the_last_bit(self):
        rng = np.random.default_rng(3)
        frame = np.repeat(np.arange(600), 60).astype(np.float32)
        data = np.column_stack(
            [frame, np.tile(np.arange(60) // 5, 600), rng.normal(500, 200, (36000, 2)), rng.normal(2, 0.1, 36000)]
        ).astype(np.float32)
        stream = write_stream(self.take, "cameras", "centroids", Fraction(120), data)
        np.testing.assert_array_equal(read_stream(stream), data)
        np.testing.assert_array_equal(read_stream(stream, 12000, 30001), data[12000:30001])
        kept = sum(len(c.piece.payload) for c in stream.chunks.select_related("piece"))
        self.assertLess(kept, 0.6 * data.nbytes)
        with pa.ipc.open_stream(
            stream_bytes(stream, 13000, 13500)
        ) as reader:  # to whoever asks it goes as all others do
            column = reader.read_all().column("values").combine_chunks()
        np.testing.assert_array_equal(column.flatten().to_numpy().reshape(-1, 5), data[13000:13500])

    def test_what_two_streams_have_in_common_is_kept_once(self):
        data = np.random.default_rng(0).normal(size=(7001, 57, 3)).astype(np.float32)
        one = write_stream(self.take, "one", "points", Fraction(120), data)
        kept = Piece.objects.count()
        data[3000] += 1
        two = write_stream(self.take, "two", "points", Fraction(120), data)
        self.assertEqual(Piece.objects.count(), kept + 1)
        pieces = pieces_of([one, two])
        differ = [a != b for a, b in zip(pieces[one.pk][1], pieces[two.pk][1], strict=True)]
        self.assertEqual([i for i, d in enumerate(differ) if d], [3000 // pieces[one.pk][0]])
        one.delete()
        np.testing.assert_array_equal(read_stream(two), data)

    def test_bytes_are_plain_arrow_and_thinned(self):
        data = np.arange(3000, dtype=np.float32).reshape(1000, 3)
        stream = write_stream(self.take, "x", "places", Fraction(60), data)
        with pa.ipc.open_stream(stream_bytes(stream, 10, 900, 7)) as reader:
            column = reader.read_all().column("values").combine_chunks()
        np.testing.assert_array_equal(column.flatten().to_numpy().reshape(-1, 3), data[10:900:7])

    def test_thinned_sound_keeps_its_peaks(self):
        wave = np.zeros(48000, dtype=np.float32)
        wave[20001] = -0.9
        stream = write_stream(self.take, "room", "audio", Fraction(48000), wave)
        with pa.ipc.open_stream(stream_bytes(stream, step=480)) as reader:
            peaks = reader.read_all().column("values").combine_chunks().flatten().to_numpy()
        self.assertEqual(len(peaks), 100)
        self.assertAlmostEqual(float(peaks.max()), 0.9, places=6)

    def test_an_empty_stream_is_no_trouble(self):
        stream = write_stream(self.take, "gone", "points", Fraction(120), np.zeros((0, 4, 3)))
        self.assertEqual(read_stream(stream).shape, (0, 4, 3))

    def test_api_refuses_what_makes_no_sense(self):
        stream = write_stream(self.take, "x", "places", Fraction(60), np.zeros((10, 3)))
        client = signed_in("technician")
        self.assertEqual(client.get(f"/api/streams/{stream.pk}/data?start=-4").status_code, 422)
        self.assertEqual(client.get(f"/api/streams/{stream.pk}/data?step=0").status_code, 422)
        self.assertEqual(client.get("/api/streams/999999/data").status_code, 404)


class Takes(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.take = make_take(cls.slate, None, duration_s=10.0, out_s=10.0)

    def edit(self, **values):
        return signed_in("technician").patch(
            f"/api/takes/{self.take.pk}", json.dumps(values), content_type="application/json"
        )

    def test_circle_note_points_and_undo(self):
        self.edit(status="circled")
        self.edit(in_s=2.0)
        self.edit(out_s=8.0)
        client = signed_in("technician")
        self.assertEqual(post(client, f"/takes/{self.take.pk}/undo").json()["words"], "out point of take 1")
        self.take.refresh_from_db()
        self.assertEqual((self.take.status, self.take.in_s, self.take.out_s), ("circled", 2.0, 10.0))
        post(client, f"/takes/{self.take.pk}/undo?redo=true")
        self.take.refresh_from_db()
        self.assertEqual(self.take.out_s, 8.0)
        for _ in range(5):
            answer = post(client, f"/takes/{self.take.pk}/undo")
        self.assertIsNone(answer.json()["words"])
        self.take.refresh_from_db()
        self.assertEqual(self.take.status, "open")

    def test_a_new_change_ends_what_could_be_redone(self):
        change_take(None, self.take, {"note": "one"})
        undo(None, self.take)
        change_take(None, self.take, {"note": "two"})
        self.assertIsNone(undo(None, self.take, redo=True))

    def test_the_second_writer_is_told_and_shown_what_the_first_one_wrote(self):
        seen = self.take.version
        path = f"/takes/{self.take.pk}"
        first, second = signed_in("technician"), signed_in("supervisor")
        self.assertEqual(patch(first, path, {"note": "rope slipped", "version": seen}).json()["version"], seen + 1)
        refused = patch(second, path, {"note": "good one", "version": seen})
        self.assertEqual(refused.status_code, 409)
        self.assertEqual(refused.json()["theirs"], {"note": "rope slipped"})
        self.assertIn("technician-SMS changed the note of take 1 meanwhile", refused.json()["detail"])
        self.take.refresh_from_db()
        self.assertEqual(self.take.note, "rope slipped")
        # another field, or the same with both seen, or the same words, goes through
        for said in (
            {"status": "circled", "version": seen},
            {"note": "both", "version": refused.json()["version"]},
            {"note": "both", "version": seen},
        ):
            self.assertEqual(patch(second, path, said).status_code, 200, said)

    def test_texts_have_no_characters_that_cannot_be_seen(self):
        client, day = signed_in("technician"), f"/days/{self.slate.day_id}/slates"
        slate = {"name": "19", "title": "Coiling", "performer_id": self.slate.performer_id}
        for field, text, said in (
            ("name", "1\u00002", "U+0000"), ("title", "Coil\ning", "U+000A"), ("title", "gpj.\u202egnilioC", "U+202E"), ("props", ["lan\u0007tern"], "U+0007"),
        ):  # fmt: skip
            answer = post(client, day, slate | {field: text})
            self.assertEqual(answer.status_code, 422)
            self.assertEqual(answer.json()["detail"], f"{field} has a character that cannot be seen ({said}).")
        self.assertEqual(patch(client, f"/takes/{self.take.pk}", {"note": "two\nlines\tand a tab"}).status_code, 200)
        self.assertEqual(patch(client, f"/takes/{self.take.pk}", {"note": "bell\u0007"}).status_code, 422)

    def test_one_undoes_ones_own_and_nothing_of_others(self):
        path = f"/takes/{self.take.pk}"
        first, second = signed_in("technician"), signed_in("supervisor")
        patch(first, path, {"note": "mine"})
        patch(second, path, {"status": "circled"})
        self.assertEqual(post(first, f"{path}/undo").json()["words"], "note on take 1")
        self.take.refresh_from_db()
        self.assertEqual((self.take.note, self.take.status), ("", "circled"))
        self.assertIsNone(post(first, f"{path}/undo").json()["words"])
        post(first, f"{path}/undo?redo=true")
        patch(second, path, {"note": "theirs"})
        refused = post(first, f"{path}/undo")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("Somebody else has changed the note of take 1 since", refused.json()["detail"])

    def test_impossible_points_and_states_are_refused(self):
        for values in ({"in_s": 9.0, "out_s": 3.0}, {"out_s": 99.0}, {"in_s": -1.0}, {"status": "superb"}):
            answer = self.edit(**values)
            self.assertEqual(answer.status_code, 422)
            self.assertTrue(answer.json()["detail"].endswith("."))

    def test_two_takes_with_one_number_are_refused(self):
        with self.assertRaisesRegex(InputError, "next free number is 2"):
            make_take(self.slate, None, 1)

    def test_slates_have_one_name_a_day(self):
        client = signed_in("technician")
        body = {"name": "18", "title": "Ladder", "performer_id": self.slate.performer_id, "performance": "lantern"}
        self.assertEqual(post(client, f"/days/{self.slate.day_id}/slates", body).status_code, 200)
        self.assertIn("already has", post(client, f"/days/{self.slate.day_id}/slates", body).json()["detail"])


class Uploads(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()

    def drop(self, *files):
        return signed_in("technician").post(f"/api/slates/{self.slate.pk}/files", {"files": list(files)})

    def file(self, name, write):
        with TemporaryDirectory() as folder:
            path = Path(folder) / name
            write(path)
            return SimpleUploadedFile(name, path.read_bytes())

    def test_files_become_the_streams_of_a_take(self):
        points = np.random.default_rng(0).uniform(0.1, 1.7, (240, 12, 3))
        fmt = self.production.timecode_format
        code, _, _ = ltc_track(fmt, 1000, 2)
        answer = self.drop(
            self.file("a.c3d", lambda p: write_c3d(p, points, [f"*{i}" for i in range(12)], Fraction(120))),
            self.file("tc.wav", lambda p: write_wav(p, 48000, code)),
            SimpleUploadedFile("face.csv", b"time,jawOpen\n0,0.1\n0.016667,0.2\n0.033333,0.3\n"),
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        take = Take.objects.get(pk=answer.json()["id"])
        self.assertEqual(set(take.streams.values_list("name", flat=True)), {"optical", "timecode", "face"})
        self.assertEqual(take.made_from, "files")
        self.assertAlmostEqual(take.duration_s, 2.0)
        np.testing.assert_allclose(read_stream(recorded(take, "optical")), points, atol=1e-5)

    def test_a_damaged_c3d_is_one_sentence_and_the_server_goes_on(self):
        def damaged(path):
            write_c3d(path, np.ones((30, 9, 3)), [f"*{i}" for i in range(9)], Fraction(120))
            data = bytearray(path.read_bytes())
            at = data.index(b"USED", data.index(b"ROTATION"))
            data[at + 6] = 255  # the type of ROTATION:USED: text instead of a number
            path.write_bytes(data)

        answer = self.drop(self.file("day 3, slate 4.c3d", damaged))
        self.assertEqual(answer.status_code, 422)
        self.assertRegex(answer.json()["detail"], r"^day 3, slate 4\.c3d: the C3D is damaged \(.*\)\.$")
        self.assertEqual(Take.objects.count(), 0)

    def test_what_was_odd_about_a_file_is_kept(self):
        text = foreign(walked(), per_metre=1.0, z_up=True)
        answer = self.drop(SimpleUploadedFile("theirs.bvh", (text + text.rstrip().rsplit("\n", 1)[1]).encode()))
        self.assertEqual(answer.status_code, 200, answer.content)
        details = Take.objects.get(pk=answer.json()["id"]).streams.get(name="body file").details
        self.assertEqual(len(details["notes"]), 3)
        self.assertEqual(details["file"], "theirs.bvh")

    def test_one_bad_file_refuses_all_and_leaves_nothing(self):
        good = SimpleUploadedFile("face.csv", b"time,jawOpen\n0,0.1\n0.016667,0.2\n")
        for bad, words in (
            (SimpleUploadedFile("take.c3d", b"junk" * 200), "take.c3d: not a C3D"), (SimpleUploadedFile("x.bvh", b"HIER"), "x.bvh"),
            (SimpleUploadedFile("x.exe", b"MZ"), "x.exe: expected a file that ends in"), (SimpleUploadedFile("x.wav", b""), "x.wav"),
            (SimpleUploadedFile("twin.csv", b"time,jawOpen\n0,0.1\n0.1,0.2\n"), "would both be"),
            (SimpleUploadedFile("notes.txt", b"remember the rope\n"), "notes.txt: no line in it is the header of a table that is known here; expected time,jaw"),
            (SimpleUploadedFile("suit.tsv", b"time\tsensor\tqx\tqy\tqz\tqw\tax\tay\n0\thead\t0\t0\t0\t1\t0\t9.8\n"), "suit.tsv: no column 'az'"),
            (SimpleUploadedFile("tracker.csv", b"time,body,px\n0,head,1\n"), "tracker.csv: no column 'py'"),
            (SimpleUploadedFile("face.csv.gz", gzip.compress(b"time,jawOpen\n" + b"0.1,0.1\n" * 999)[:-20]), "face.csv.gz: the compressed file is damaged"),
        ):  # fmt: skip
            good.seek(0)
            answer = self.drop(good, bad)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.json()["detail"])
        self.assertEqual(Take.objects.count(), 0)
        self.assertEqual(Chunk.objects.count(), 0)

    def test_too_large_is_refused(self):
        with self.settings(MAX_UPLOAD_BYTES=10):
            self.assertIn("larger", self.drop(SimpleUploadedFile("a.csv", b"x" * 50)).json()["detail"])
