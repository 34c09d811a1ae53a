"""What is removed: found nowhere, brought back, deleted; what room it had; and productions as files, and back."""

import hashlib
import json
import shutil
import tempfile
import zipfile
from datetime import timedelta
from fractions import Fraction
from pathlib import Path

import numpy as np
import pyarrow as pa
from django.contrib.auth.models import User
from django.db import connection, models
from django.db.models import F
from django.test import Client, TestCase, TransactionTestCase
from django.utils import timezone

from otrevo.core.errors import InputError
from otrevo.core.formats.centroids import Centroids
from otrevo.server.floor.models import Rolling
from otrevo.server.handover.models import Package
from otrevo.server.keeping import clean_up
from otrevo.server.keeping.archive import ROWS, fields_of, write_archive
from otrevo.server.keeping.bring_back import UNDER_WAY, bring_back_archive
from otrevo.server.keeping.models import Removal
from otrevo.server.shoot.models import Production, Slate
from otrevo.server.stage.actions import keep_recording
from otrevo.server.stage.models import Blinds
from otrevo.server.stage.room import room_of
from otrevo.server.takes.actions import change_take, make_take
from otrevo.server.takes.models import Mend, Piece, Stream, Take
from otrevo.server.takes.streams import read_stream, write_stream
from otrevo.server.work.models import Run
from tests.core.test_character_files import FOLDER
from tests.server.production import PASSWORD, make_production
from tests.server.test_server import post, signed_in


def samples(take, seed, count=3000, **about):
    values = np.random.default_rng(seed).normal(size=(count, 9, 3))
    return write_stream(take, about.pop("name", "optical"), "points", Fraction(120), values, **about)


class Removing(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, cls.slate = make_production()
        cls.take = make_take(cls.slate, None, duration_s=4.0, out_s=4.0)
        cls.stream = samples(cls.take, 1)
        cls.second = make_take(cls.slate, None, duration_s=4.0, out_s=4.0)

    def setUp(self):
        self.technician, self.supervisor = signed_in("technician"), signed_in("supervisor")

    def remove(self, what, item, client=None):
        return post(client or self.technician, "/removals", {"what": what, "id": item.pk})

    def storage(self):
        return self.technician.get(f"/api/productions/{self.production.pk}/storage").json()

    def numbers(self):
        board = self.technician.get(f"/api/productions/{self.production.pk}/board").json()
        return [t["number"] for s in (board["day"] or {"slates": []})["slates"] for t in s["takes"]]

    def test_a_removed_take_is_found_nowhere_and_can_be_brought_back(self):
        run = Run.objects.create(take=self.take, name="solve")
        removal = self.remove("take", self.take).json()
        self.assertEqual((removal["words"], removal["by"]), ("slate 15 take 1", "technician-SMS"))
        self.assertEqual(self.numbers(), [2])
        for path in (f"takes/{self.take.pk}/bench", f"takes/{self.take.pk}/changes", f"streams/{self.stream.pk}/data"):
            self.assertEqual(self.technician.get(f"/api/{path}").status_code, 404, path)
        self.assertEqual(post(self.technician, f"/runs/{run.pk}/cancel").status_code, 404)
        run.refresh_from_db()
        self.assertEqual(run.state, "cancelled")
        self.assertEqual(self.remove("take", self.take).status_code, 404)
        post(self.technician, f"/removals/{removal['id']}/bring-back")
        self.assertEqual(self.numbers(), [1, 2])
        self.assertEqual(self.technician.get(f"/api/streams/{self.stream.pk}/data").status_code, 200)
        self.assertEqual(self.storage()["removals"], [])

    def test_the_number_of_a_removed_take_is_not_given_again(self):
        self.remove("take", self.second)
        self.assertEqual(make_take(self.slate, None).number, 3)
        day = self.slate.day
        self.remove("slate", self.slate)
        answer = post(
            self.technician,
            f"/days/{day.pk}/slates",
            {"name": "15", "title": "x", "performer_id": self.slate.performer_id},
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("removed and can be brought back", answer.json()["detail"])

    def test_what_a_package_needs_stays(self):
        package = Package.objects.create(production=self.production, name="first look", rate="30", state="sent")
        package.takes.add(self.take)
        for what, item in (("take", self.take), ("slate", self.slate), ("day", self.slate.day)):
            answer = self.remove(what, item, self.supervisor)
            self.assertEqual(answer.status_code, 422)
            self.assertIn("is in package first look, which needs it", answer.json()["detail"])
        (slate, _) = self.storage()["days"][0]["slates"]
        self.assertEqual([t["needed_by"] for t in slate["takes"]], ["first look", ""])
        package.delete()
        self.assertEqual(self.remove("day", self.slate.day, self.supervisor).status_code, 200)

    def test_a_slate_that_rolls_stays(self):
        Rolling.objects.create(slate=self.slate, number=3, started_at=timezone.now(), first_timecode_frame=0)
        for what, item in (("slate", self.slate), ("day", self.slate.day), ("production", self.production)):
            self.assertIn("is rolling; cut it first", self.remove(what, item, self.supervisor).json()["detail"])

    def test_who_may_remove_what(self):
        for role, what, item, wanted in (
            ("animator", "take", self.take, 403), ("clean-up", "take", self.take, 403), ("technician", "day", self.slate.day, 403),
            ("technician", "production", self.production, 403), ("technician", "slate", self.slate, 200),
        ):  # fmt: skip
            with self.subTest(role=role, what=what):
                self.assertEqual(self.remove(what, item, signed_in(role)).status_code, wanted)
        removal = Removal.objects.get()
        self.assertEqual(post(self.technician, f"/removals/{removal.pk}/delete-now").status_code, 403)
        self.assertEqual(post(self.supervisor, f"/removals/{removal.pk}/delete-now").status_code, 200)

    def test_what_was_in_something_comes_back_after_it(self):
        first = self.remove("take", self.take).json()["id"]
        day = self.remove("day", self.slate.day, self.supervisor).json()["id"]
        self.assertEqual(self.numbers(), [])
        refused = post(self.technician, f"/removals/{first}/bring-back")
        self.assertIn("Bring back day 3 first", refused.json()["detail"])
        post(self.supervisor, f"/removals/{day}/bring-back")
        self.assertEqual(self.numbers(), [2])  # the one that was removed by itself stays so
        post(self.technician, f"/removals/{first}/bring-back")
        self.assertEqual(self.numbers(), [1, 2])

    def test_a_removed_production_is_the_administrators_to_bring_back(self):
        removal = self.remove("production", self.production, self.supervisor).json()["id"]
        path = f"/api/productions/{self.production.pk}/board"
        self.assertEqual(
            (self.supervisor.get(path).status_code, self.supervisor.get("/api/me").json()["memberships"]), (404, [])
        )
        self.assertEqual(post(self.supervisor, f"/removals/{removal}/bring-back").status_code, 404)
        administrator = Client()
        administrator.force_login(User.objects.create_superuser("maren", password=PASSWORD))
        (listed,) = administrator.get("/api/removals").json()
        self.assertEqual((listed["production"], listed["bytes"] > 0), ("Saltmarsh Signal", True))
        self.assertEqual(post(administrator, f"/removals/{removal}/bring-back").status_code, 200)
        self.assertEqual(self.supervisor.get(path).status_code, 200)

    def test_sizes_are_those_of_the_samples_and_what_is_shared_counts_once(self):
        samples(self.take, 1, name="again")  # the same samples in another stream
        held = sum(
            len(bytes(p)) for p in Piece.objects.filter(chunks__stream=self.stream).values_list("payload", flat=True)
        )
        (slate, _) = self.storage()["days"][0]["slates"]
        self.assertEqual([t["bytes"] for t in slate["takes"]], [held, 0])

    def test_removals_are_written_down_for_administrators(self):
        removal = self.remove("take", self.take).json()["id"]
        post(self.technician, f"/removals/{removal}/bring-back")
        administrator = Client()
        administrator.force_login(User.objects.create_superuser("maren", password=PASSWORD))
        deeds = [(e["name"], e["deed"]) for e in administrator.get("/api/audit?search=take 1").json()]
        self.assertEqual(deeds, [("technician-SMS", "brought back"), ("technician-SMS", "removed")])


class CleaningUp(TransactionTestCase):
    def setUp(self):
        self.production, self.slate = make_production()
        clean_up._last = -clean_up.THOROUGHLY_S

    def size(self):
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_total_relation_size('takes_piece')")
            return cursor.fetchone()[0]

    def test_what_is_due_goes_and_its_room_is_given_back(self):
        shared = samples(make_take(self.slate, None), 5, 500)
        gone = make_take(self.slate, None)
        samples(gone, 5, 500)
        for seed in range(12):
            samples(gone, 10 + seed, 72_000, name=f"{seed}")
        waiting = make_take(self.slate, None)
        kept = samples(waiting, 99)
        before = self.size()
        technician = signed_in("technician")
        for take in (gone, waiting):
            post(technician, "/removals", {"what": "take", "id": take.pk})
        Removal.objects.filter(words="slate 15 take 2").update(due_at=timezone.now() - timedelta(seconds=1))
        clean_up.clean_up()
        self.assertEqual(set(Take.everything.values_list("number", flat=True)), {1, 3})
        self.assertEqual(set(Stream.objects.filter(take__isnull=False)), {shared, kept})
        self.assertFalse(Piece.objects.filter(chunks=None).exists())
        self.assertEqual(read_stream(shared).shape, (500, 9, 3))
        self.assertGreater(before, 80e6)
        self.assertLess(self.size(), 10e6)  # the table itself, not only what is free in it
        self.assertEqual(Removal.objects.get().words, "slate 15 take 3")

    def test_a_whole_production_goes_with_everything_in_it(self):
        samples(make_take(self.slate, None), 5)
        other, _ = make_production("Night Tide", "NTD")
        package = Package.objects.create(production=self.production, name="x", rate="30", archive=b"z" * 100)
        package.takes.set(Take.objects.all())
        post(signed_in("supervisor"), "/removals", {"what": "production", "id": self.production.pk})
        Removal.objects.update(due_at=timezone.now() - timedelta(seconds=1))
        clean_up.clean_up()
        self.assertEqual(list(Production.everything.all()), [other])
        self.assertEqual((Package.objects.count(), Take.everything.count(), Slate.everything.count()), (0, 0, 2))
        self.assertFalse(Removal.objects.exists())

    def test_samples_that_a_roll_has_just_kept_stay(self):
        Rolling.objects.create(slate=self.slate, number=1, started_at=timezone.now(), first_timecode_frame=0)
        samples(make_take(self.slate, None), 5)
        Stream.objects.filter(take__isnull=False).delete()  # as if nobody had said yet what they are for
        unused = Piece.objects.filter(chunks=None)
        self.assertTrue(unused.exists())
        clean_up.clean_up()
        self.assertTrue(unused.exists())
        unused.update(kept_at=F("kept_at") - clean_up.UNUSED_FOR)
        clean_up._last = -clean_up.THOROUGHLY_S
        clean_up.clean_up()
        self.assertFalse(unused.exists())


class Archives(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.production, slate = make_production()
        cls.user = User.objects.get(username="technician-SMS")
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        gull = cls.production.characters.create(
            name="Gull",
            file_name="gull.glb",
            file=(FOLDER / "gull.glb").read_bytes(),
            document={"name": "gull"},
            added_by=cls.user,
        )
        gull.players.add(slate.performer)
        gull.maps.create(version=1, document={"pairs": []}, made_by=cls.user)
        room = room_of(cls.production)
        Blinds.objects.create(room=room, rows=[{"camera": "c01"}], words="drawn", made_by=cls.user)
        still = Centroids(np.arange(200), np.zeros(200, dtype=int), np.full((200, 2), 40.0), np.ones(200))
        keep_recording(room, "still", still, Fraction(120), cls.user)
        take = make_take(slate, cls.user, duration_s=4.0, out_s=4.0, note="Küste, „laut“")
        take.appearances.update(characters=[gull.pk])
        Take.objects.update(rolled_at=timezone.now() - timedelta(days=40))
        samples(take, 1)
        slate.performer.calibrations.create(version=1, document={"bones": []}, warm_up=take)
        first = Run.objects.create(take=take, name="label", state="done", figures={"a": 1.5})
        solve = Run.objects.create(take=take, name="solve", performer=slate.performer, after=first, asked_by=cls.user)
        samples(take, 2, run=solve, performer=slate.performer, name="markers")
        mend = Mend.objects.create(
            take=take, performer=slate.performer, document={"kind": "fill"}, words="fill", user=cls.user
        )
        take.changes.create(user=cls.user, words="fill", after={"mends": [mend.pk]})
        change_take(cls.user, take, {"status": "circled"})
        package = Package.objects.create(
            production=cls.production,
            name="first look",
            rate="30",
            state="sent",
            archive=b"PK" + bytes(range(256)),
            characters=[gull.pk],
        )
        package.takes.add(take)
        package.runs.add(solve)
        removed = make_take(slate, cls.user)
        samples(removed, 3)
        post(signed_in("technician"), "/removals", {"what": "take", "id": removed.pk})
        make_production("Night Tide", "NTD")
        cls.file = cls.folder / "sms.zip"
        write_archive(cls.file, cls.production)

    def rows(self, production):
        """{model: rows}, what they point to being told by its place among its kind."""
        found = {m: list(m.objects.filter(mine(production.pk)).order_by("pk")) for m, mine in ROWS.items()}
        place = {(m, row.pk): i for m, rows in found.items() for i, row in enumerate(rows)}

        def value(row, field):
            if isinstance(field, models.ForeignKey) and field.related_model in found:
                return place.get((field.related_model, getattr(row, field.attname)))
            value = getattr(row, field.attname)
            return bytes(value) if isinstance(value, memoryview) else value

        def document(model, row):
            plain, links, blobs, lists = fields_of(model)
            out = {f.name: value(row, f) for f in (*plain, *links, *blobs)}
            return out | {f.name: {place[f.related_model, o.pk] for o in getattr(row, f.name).all()} for f in lists}

        return {m: [document(m, row) for row in rows] for m, rows in found.items()}

    def test_everything_comes_back_as_it_was(self):
        back = bring_back_archive(self.file, User.objects.get(username="supervisor-SMS"), "Saltmarsh again")
        before, now = self.rows(self.production), self.rows(back)
        (mine,) = Run.objects.filter(take__slate__day__production=back, name="solve")
        self.assertEqual((mine.state, mine.message), ("cancelled", UNDER_WAY))  # it was still queued
        for rows in (before, now):
            rows[Production][0].pop("name")
            for key in ("state", "message", "finished_at"):
                rows[Run][1].pop(key)
        for model, rows in before.items():
            with self.subTest(model=model._meta.label):
                self.assertGreater(len(rows), 0)
                for was, is_now in zip(rows, now[model], strict=True):
                    for key, value in was.items():
                        if key in ("characters", "before", "after") and value:
                            continue  # numbers of this production's own: below
                        self.assertEqual(is_now[key], value, key)
        (gull,) = back.characters.all()
        take = Take.objects.get(slate__day__production=back)
        self.assertEqual(take.appearances.get().characters, [gull.pk])
        self.assertEqual(take.changes.first().after, {"mends": [take.mends.get().pk]})
        self.assertEqual(back.packages.get().characters, [gull.pk])
        for was, is_now in zip(Stream.objects.filter(take__slate__day__production=self.production, take__removal=None).order_by("pk"),
                               Stream.objects.filter(take__slate__day__production=back).order_by("pk"), strict=True):  # fmt: skip
            np.testing.assert_array_equal(read_stream(is_now), read_stream(was))

    def test_it_can_be_read_without_otrevo(self):
        with zipfile.ZipFile(self.file) as packed:
            for line in packed.read("checksums.txt").decode().splitlines():
                digest, name = line.split("  ")
                self.assertEqual(hashlib.sha256(packed.read(name)).hexdigest(), digest)
            self.assertEqual(
                set(packed.namelist()) - {"checksums.txt"},
                {line.split("  ")[1] for line in packed.read("checksums.txt").decode().splitlines()},
            )
            streams = [json.loads(x) for x in packed.read("rows/takes.Stream.jsonl").splitlines()]
            chunks = [json.loads(x) for x in packed.read("rows/takes.Chunk.jsonl").splitlines()]
            mine = next(s for s in streams if s["name"] == "markers")
            parts = [
                pa.ipc.open_stream(packed.read(f"pieces/{c['piece']}.arrow")).read_all().column(0).combine_chunks().flatten().to_numpy()
                for c in chunks if c["stream"] == mine["pk"]
            ]  # fmt: skip
            self.assertEqual(len(streams), 3)  # those of the removed take are not among them
        np.testing.assert_array_equal(
            np.concatenate(parts).reshape(-1, 9, 3),
            np.random.default_rng(2).normal(size=(3000, 9, 3)).astype(np.float32),
        )

    def test_people_who_are_not_there_are_entered_without_a_way_in(self):
        User.objects.filter(username="technician-SMS").update(username="elsewhere")
        back = bring_back_archive(self.file, User.objects.get(username="supervisor-SMS"), "Saltmarsh again")
        who = Take.objects.get(slate__day__production=back).rolled_by
        self.assertEqual((who.username, who.is_active, who.has_usable_password()), ("technician-SMS", False, False))
        self.assertEqual(
            list(back.memberships.values_list("user__username", "role")), [("supervisor-SMS", "supervisor")]
        )

    def test_what_is_damaged_or_something_else_is_refused_and_nothing_stays(self):
        whole, before = self.file.read_bytes(), Production.objects.count()
        spoilt = self.folder / "spoilt.zip"

        def with_file(name, change):
            with zipfile.ZipFile(self.file) as old, zipfile.ZipFile(spoilt, "w") as new:
                for n in old.namelist():
                    payload = old.read(n)
                    new.writestr(n, change(payload) if n == name else payload)

        def flipped(payload):
            return payload[:50] + bytes([payload[50] ^ 1]) + payload[51:]

        with zipfile.ZipFile(self.file) as packed:
            piece = next(n for n in packed.namelist() if n.startswith("pieces/"))
        cases = {
            "cut": (lambda: spoilt.write_bytes(whole[: len(whole) // 2]), "not a complete archive"),
            "nothing": (lambda: spoilt.write_bytes(b""), "not a complete archive"),
            "another zip": (lambda: shutil.copy(make_zip(self.folder), spoilt), "not a complete archive"),
            "a take changed": (lambda: with_file("rows/takes.Take.jsonl", flipped), "damaged|do not fit"),
            "a sample changed": (lambda: with_file(piece, flipped), "damaged"),
            "not as it says": (
                lambda: with_file("about.json", lambda p: p.replace(b"archive/1", b"archive/9")),
                "damaged",
            ),
            "twice": (lambda: shutil.copy(self.file, spoilt), "There is a production named Saltmarsh Signal already"),
        }
        for words, (spoil, sentence) in cases.items():
            with self.subTest(words):
                spoil()
                for here in Piece.objects.only("sha256"):  # none of those in it is here already
                    Piece.objects.filter(pk=here.pk).update(sha256=bytes(reversed(bytes(here.sha256))))
                with self.assertRaisesRegex(InputError, sentence):
                    bring_back_archive(spoilt, self.user, None if words == "twice" else "Anew")
                self.assertEqual(Production.objects.count(), before)
        with self.assertRaisesRegex(InputError, "there is no such file"):
            bring_back_archive(self.folder / "none.zip", self.user)


def make_zip(folder):
    path = folder / "other.zip"
    with zipfile.ZipFile(path, "w") as out:
        out.writestr("notes.txt", "no production")
    return path
