"""What a recorder that ended has left, and what goes on when a part of the stage, the disk or the database is away for a while."""

import asyncio
import json
import os
import tempfile
import time
from pathlib import Path
from unittest import mock

import numpy as np
from django.contrib.auth.models import User
from django.db import OperationalError, connection
from django.test import TestCase, TransactionTestCase
from django.utils import timezone

from otrevo.core.devices.packets import DevicePacketReader
from otrevo.core.errors import InputError
from otrevo.core.formats.camera_packets import PacketReader
from otrevo.server.cluster import free_port
from otrevo.server.floor.models import Rolling
from otrevo.server.live import address
from otrevo.server.recorder import database, process, room, threads
from otrevo.server.recorder.journal import Journal, unfinished
from otrevo.server.stage.models import StageRecording
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.models import Piece, Take
from otrevo.server.takes.streams import read_centroids, read_stream, recorded
from otrevo.standins import cameras, kit
from tests.server.production import make_production
from tests.server.recording import Stage
from tests.server.test_live import Running, ask

SECONDS, ZERO_US = 4.0, 40_000_000_000


def left_over(root, production, slate, number=1, seconds=SECONDS, kind="take"):
    """A Journal in `root` with so many seconds of the slate's performance in it, as a recorder leaves it that is killed."""
    take = (slate.pk, number) if kind == "take" else None
    session, request, devices = database.prepare(production.pk, kind, None, take)
    about = {
        "production": production.pk,
        "kind": kind,
        "user": None,
        "wand": None,
        "slate": slate.pk,
        "number": number,
        "zero_us": ZERO_US,
    }
    journal = Journal.begin(root, about)
    session.zero_us = ZERO_US
    session.keep_in(journal)
    session.take_in(PacketReader().feed(cameras.packets_at_once(request | {"zero_us": ZERO_US, "seed": 3}, seconds)))
    session.advance()
    for readings, wanted in devices if kind == "take" else ():
        readings.keep_in(journal)
        # otherwise the slate's number tells when devices begin and what they lose
        performed = wanted["take"] | {"seed": 3}
        sent = kit.packets_at_once(wanted | {"zero_us": ZERO_US, "take": performed}, seconds)
        readings.take_in(DevicePacketReader(readings.device).feed(sent))
    return journal


async def _opened(port):
    """(reader, writer) of a connection, None where nobody listens."""
    try:
        return await asyncio.open_connection("127.0.0.1", port)
    except OSError:
        return None


def rolling(slate, user=None, **values):
    """A take that somebody has rolled, as the recorder finds it in the database."""
    return Rolling.objects.create(
        slate=slate, number=1, started_at=timezone.now(), first_timecode_frame=5000, user=user, **values
    )


def roll_of(row):
    """What the recorder is asked for when a take is rolled, by its Rolling."""
    return {
        "do": "roll", "production": row.slate.day.production_id, "user": None, "slate": row.slate_id, "number": row.number,
        "rolling": row.pk, "zero_us": ZERO_US,
    }  # fmt: skip


class LeftOver(TransactionTestCase):
    def setUp(self):
        self.production, self.slate = make_production()
        self.user = User.objects.get(username="technician-SMS")
        self.root = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def take_up(self):
        """What a recorder does when it begins, without anybody to listen to."""

        async def story():
            recorder = process.Recorder(9, 9, self.root)
            await recorder.keep(await recorder.take_up())
            goes_on = any(room.session for room in recorder.rooms.values())
            await recorder.end()
            return goes_on

        try:
            return asyncio.run(story())
        finally:
            connection.close()

    def of_yesterday(self, journal):
        for path in journal.folder.iterdir():
            os.utime(path, (path.stat().st_atime - 90000, path.stat().st_mtime - 90000))

    def test_a_take_that_rolled_when_the_machine_went_down_is_kept_with_all_that_was_received(self):
        rolling(self.slate, self.user, note="wind in the rigging", circled=True)
        self.of_yesterday(left_over(self.root, self.production, self.slate))
        self.assertFalse(self.take_up())
        take = Take.objects.get()
        self.assertEqual(
            (take.number, take.status, take.rolled_by, take.first_timecode_frame), (1, "circled", self.user, 5000)
        )
        self.assertEqual(take.note, f"wind in the rigging\n{database.ENDED}")
        self.assertAlmostEqual(take.duration_s, SECONDS, delta=0.5)
        self.assertFalse(Rolling.objects.exists())
        self.assertEqual(unfinished(self.root), [])
        self.assertEqual(take.runs.first().name, "rebuild", "and it is worked on")
        centroids = read_centroids(recorded(take, "cameras"))
        self.assertGreater(centroids.frames, (SECONDS - 0.2) * 120)
        for name in ("suit", "gloves", "face", "timecode", "room"):
            stream = recorded(take, name)
            self.assertAlmostEqual(stream.samples / eval(stream.rate), SECONDS, delta=0.5, msg=name)  # noqa: S307
            self.assertGreater(np.isfinite(read_stream(stream)).mean(), 0.8, name)

    def test_one_that_was_written_to_just_now_rolls_on(self):
        rolling(self.slate, self.user)
        left_over(self.root, self.production, self.slate)
        self.assertTrue(self.take_up())
        self.assertTrue(Rolling.objects.exists())
        self.assertFalse(Take.objects.exists())
        self.assertEqual(len(unfinished(self.root)), 1)

    def test_whoever_watches_meanwhile_does_not_end_it(self):
        rolling(self.slate, self.user)
        left_over(self.root, self.production, self.slate)
        port, rolls = free_port(), threads.is_rolling

        def slowly(*take):
            time.sleep(1.0)
            return rolls(*take)

        async def story():
            recorder = process.Recorder(9, 9, self.root)
            with mock.patch.object(threads, "is_rolling", slowly):
                running = asyncio.create_task(recorder.work(port))
                while not (opened := await _opened(port)):
                    await asyncio.sleep(0.02)
                reader, writer = opened
                request = address.greeting() | {"do": "subscribe", "production": self.production.pk}
                writer.write(json.dumps(request).encode() + b"\n")
                seen = json.loads(await reader.readline())
                await asyncio.sleep(2.0)  # what was slow has its say
            writer.close()
            running.cancel()
            await asyncio.wait([running])
            await recorder.end()
            return seen

        try:
            seen = asyncio.run(story())
        finally:
            connection.close()
        self.assertEqual(seen["kind"], "take")
        self.assertTrue(Rolling.objects.exists())
        self.assertFalse(Take.objects.exists())

    def test_one_of_another_boot_does_not(self):
        rolling(self.slate, self.user)
        left_over(self.root, self.production, self.slate)
        with mock.patch("otrevo.server.recorder.journal.this_boot", return_value="another"):
            self.assertFalse(self.take_up())
        self.assertTrue(Take.objects.exists())

    def test_a_take_that_was_cut_while_the_recorder_was_away_gets_what_is_its(self):
        left_over(self.root, self.production, self.slate)
        note = f"good wind\n{database.AWAY} what it has received is kept when it is back."
        take = make_take(self.slate, self.user, 1, duration_s=3.0, out_s=3.0, first_timecode_frame=5000, note=note)
        self.assertFalse(self.take_up())
        self.assertEqual(Take.objects.get(), take)
        self.assertEqual(Take.objects.get().note, "good wind")
        self.assertEqual(recorded(take, "cameras").details["frames"], 360)
        self.assertEqual(recorded(take, "room").samples, 3 * 48000)
        left_over(self.root, self.production, self.slate)
        self.take_up()  # of a recorder that ended after it had stored it and before it said so
        self.assertEqual(take.streams.filter(name="cameras").count(), 1)

    def test_what_somebody_gave_up_and_what_nobody_can_read_leave_no_take(self):
        left_over(self.root, self.production, self.slate)
        broken = Journal.begin(self.root, {"kind": "take"})
        with self.assertLogs("otrevo.recorder", "ERROR"):
            self.take_up()
        self.assertFalse(Take.objects.exists())
        self.assertEqual(
            [j.folder for j in unfinished(self.root)], [broken.folder], "what could not be kept stays there"
        )

    def test_a_still_room_is_kept_too(self):
        left_over(self.root, self.production, self.slate, seconds=5.0, kind="still")
        self.take_up()
        kept = StageRecording.objects.get()
        self.assertEqual(kept.kind, "still")
        self.assertIn("the recorder ended before it was stopped", kept.notes)
        self.assertGreater(kept.seconds, 4.5)


class Stored(TestCase):
    """Rows go into the database while they come."""

    def test_pieces_that_were_stored_before_are_used_at_the_cut(self):
        production, slate = make_production()
        with tempfile.TemporaryDirectory() as root:
            journal = left_over(root, production, slate)
            session, _, devices = database.prepare(production.pk, "take", None, (slate.pk, 1))
            readings = [one for one, _ in devices]
            for one in (session, *readings):
                one.keep_in(journal)
            session.zero_us = ZERO_US
            storing = database.storing_of(session, readings)
            while database.go_on_storing(storing):
                pass
            before = set(Piece.objects.values_list("pk", flat=True))
            self.assertGreater(len(before), 5)
            take = make_take(slate, None, duration_s=3.5, out_s=3.5)
            told = database.store_take(session, readings, take.pk, 3.5, storing)
            self.assertEqual(told["frames"], 420)
            self.assertLess(Piece.objects.exclude(pk__in=before).count(), 2 + len(readings), "only what was not whole")
            whole = session.recorded()
            stored = read_centroids(recorded(take, "cameras"))
            np.testing.assert_array_equal(stored.frame, whole.frame[whole.frame < 420])
            np.testing.assert_array_equal(stored.xy, whole.xy[whole.frame < 420])
            marks = recorded(take, "cameras").details["marks"]
            np.testing.assert_array_equal(marks[:-1], np.searchsorted(stored.frame, np.arange(0, 420, 60)))
            database.forget(storing)
            self.assertEqual(
                read_centroids(recorded(take, "cameras")).frames, stored.frames, "what is used is not forgotten"
            )
            journal.end()

    def test_what_is_given_up_leaves_nothing(self):
        production, slate = make_production()
        with tempfile.TemporaryDirectory() as root:
            journal = left_over(root, production, slate)
            session, _, _ = database.prepare(production.pk, "take", None, (slate.pk, 1))
            session.keep_in(journal)
            storing = database.storing_of(session, ())
            while database.go_on_storing(storing):
                pass
            self.assertTrue(Piece.objects.exists())
            database.forget(storing)
            self.assertFalse(Piece.objects.exists())
            journal.end()


class GoesOn(TransactionTestCase):
    def setUp(self):
        self.production, self.slate = make_production()
        self.user = User.objects.get(username="technician-SMS")
        self.request = roll_of(rolling(self.slate, self.user))

    def roll(self):
        return ask(self.request)

    def cut(self, seconds):
        take = make_take(self.slate, self.user, 1, duration_s=seconds, out_s=seconds)
        answer = {"do": "stop", "production": self.production.pk, "take": take.pk, "seconds": seconds}
        return take, answer

    def test_cameras_that_went_away_are_reached_again_and_their_time_has_gone_on(self):
        async def story():
            async with Running() as here:
                await self.roll()
                await here.watch(self.production.pk, lambda s: s.get("recording") and s["seconds"] > 1.5)
                port, here.recorder.cameras_port = here.recorder.cameras_port, 9
                for writer in list(self.links):
                    writer.close()
                await here.watch(self.production.pk, lambda s: "cannot be reached" in (s.get("trouble") or ""))
                here.recorder.cameras_port = port
                kept = here.recorder.rooms[self.production.pk].session.kept

                def more_than_a_second_since(_):
                    return any(b - a > 12 and kept.done - b > 120 for a, b in kept.missing_before(kept.done))

                await here.watch(self.production.pk, more_than_a_second_since)
                length = (await ask({"do": "length", "production": self.production.pk}))["seconds"]
                take, request = await asyncio.to_thread(self._cut, length)
                return take, await ask(request)

        self.links, send = [], cameras._play

        async def play(showing, writer, *rest):
            self.links.append(writer)
            await send(showing, writer, *rest)

        with mock.patch("otrevo.standins.cameras._play", play):
            take, told = asyncio.run(story())
        gaps = [gap for gap in told["missing_s"] if gap[1] - gap[0] > 0.1 and gap[1] < take.duration_s - 0.3]
        self.assertEqual(len(gaps), 1, told)
        seen = read_centroids(recorded(take, "cameras")).frame / 120
        self.assertFalse(((seen > gaps[0][0] + 0.01) & (seen < gaps[0][1] - 0.01)).any())
        self.assertGreater(seen.max(), gaps[0][1] + 0.3)

    def _cut(self, seconds):
        try:
            return self.cut(seconds)
        finally:
            connection.close()

    def test_a_full_disk_is_said_and_a_database_that_is_away_is_waited_for(self):
        away = mock.Mock(side_effect=OperationalError("away"))

        async def story():
            async with Running() as here:
                await self.roll()
                with mock.patch.object(threads, "go_on_storing", away):
                    await here.watch(self.production.pk, lambda s: s.get("recording") and s["seconds"] > 2.5)
                kept = here.recorder.rooms[self.production.pk].session.kept
                with mock.patch.object(kept.rows, "add", side_effect=OSError(28, "full")):
                    shown = await here.watch(self.production.pk, lambda s: s.get("trouble"))
                    self.assertIn("The disk is full", shown["trouble"])
                    async with asyncio.timeout(90):  # frames come as quickly as the machine lets them
                        while max(end - first for first, end in kept.missing) < 60:
                            await asyncio.sleep(0.05)
                shown = await here.watch(self.production.pk, lambda s: not s["trouble"])
                with mock.patch.object(room, "_lasts_s", return_value=600.0):
                    shown = await here.watch(self.production.pk, lambda s: s.get("trouble"))
                    self.assertIn("room for 10 minutes more", shown["trouble"])
                length = (await ask({"do": "length", "production": self.production.pk}))["seconds"]
                take, request = await asyncio.to_thread(self._cut, length)
                return take, await ask(request)

        with mock.patch.object(room, "ROOM_EVERY_S", 0.2), self.assertLogs("otrevo.recorder", "WARNING"):
            take, told = asyncio.run(story())
        self.assertTrue(away.called)
        self.assertTrue([g for g in told["missing_s"] if g[1] - g[0] >= 0.5 and g[1] < take.duration_s], told)
        self.assertEqual(recorded(take, "cameras").details["missing"], told["missing_s"])

    def test_two_productions_roll_at_once_and_a_page_left_open_blocks_nobody(self):
        other, slate = make_production("Night Tide", "NTD")
        request = roll_of(rolling(slate))

        async def story():
            async with Running() as here:
                page = asyncio.create_task(
                    here.watch(other.pk, lambda s: s.get("kind") == "take" and s["seconds"] > 2.0)
                )
                await here.watch(self.production.pk, lambda s: s.get("kind") == "watch" and s["seconds"] > 0.5)
                await self.roll()
                await ask(request)
                both = await asyncio.gather(
                    page, here.watch(self.production.pk, lambda s: s.get("kind") == "take" and s["seconds"] > 2.0)
                )
                kept = [await asyncio.to_thread(self._made, s) for s in (self.slate, slate)]
                for production, take in zip((self.production, other), kept, strict=True):
                    await ask({"do": "stop", "production": production.pk, "take": take.pk, "seconds": 2.0})
                return both, kept

        both, kept = asyncio.run(story())
        self.assertTrue(all(s["recording"] for s in both))
        rigs = [{c["id"] for c in s["cameras"]} for s in both]
        self.assertEqual([len(r) for r in rigs], [12, 12])
        for take in kept:
            seen = read_centroids(recorded(take, "cameras"))
            self.assertGreater(seen.frames, 200, take)
            self.assertGreater(recorded(take, "suit").samples, 150)

    def _made(self, slate):
        try:
            return make_take(slate, self.user, 1, duration_s=2.0, out_s=2.0)
        finally:
            connection.close()

    def test_without_room_for_a_journal_nothing_rolls(self):
        async def story():
            async with Stage():
                full = mock.patch.object(Journal, "begin", side_effect=OSError(28, "No space left on device"))
                with full, self.assertRaisesRegex(InputError, "Nothing can be recorded: No space left on device"):
                    await self.roll()

        asyncio.run(story())
