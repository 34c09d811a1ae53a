"""The live path over real sockets: from the cameras through the recorder to takes and to the people who watch."""

import asyncio
import json
import os
import threading
import time
from unittest import mock

import numpy as np
from asgiref.testing import ApplicationCommunicator
from channels.db import database_sync_to_async
from django.contrib.auth.models import AnonymousUser, User
from django.contrib.sessions.models import Session
from django.db import connection
from django.test import Client, TransactionTestCase
from django.utils import timezone

from otrevo.core.errors import InputError
from otrevo.core.optics.wand import keeper_corner
from otrevo.server.accounts.models import Membership
from otrevo.server.floor.models import Rolling
from otrevo.server.live import address
from otrevo.server.live.consumer import Live
from otrevo.server.recorder import threads
from otrevo.server.recorder.journal import unfinished
from otrevo.server.stage.models import StageRecording
from otrevo.server.stage.room import room_of
from otrevo.server.takes.models import Take
from otrevo.server.takes.streams import read_centroids, read_stream, recorded
from otrevo.standins import cameras as standin
from tests.server.production import PASSWORD, calibrate, make_production, work
from tests.server.recording import Stage


class Running(Stage):
    """The stand-ins and the recorder, and somebody who watches."""

    async def watch(self, production, until, seconds=60.0):
        """Snapshots until one satisfies `until`."""
        reader, writer = await asyncio.open_connection("127.0.0.1", address.ports()[0], limit=1 << 22)
        writer.write(json.dumps(address.greeting() | {"do": "subscribe", "production": production}).encode() + b"\n")

        async def look():
            while True:
                snapshot = json.loads(await reader.readline())
                if until(snapshot):
                    return snapshot

        try:
            return await asyncio.wait_for(look(), seconds)
        finally:
            writer.close()


def ask(request):
    return asyncio.to_thread(address.ask, request)


class Recording(TransactionTestCase):
    def setUp(self):
        self.production, self.slate = make_production()
        self.user = User.objects.get(username="technician-SMS")

    def technician(self):
        """A coroutine by which a technician asks for something of the slate, by its path, in a thread of its own."""
        client = Client()
        client.login(username="technician-SMS", password=PASSWORD)

        def send(path):
            try:
                return client.post(f"/api/slates/{self.slate.pk}/{path}")
            finally:
                connection.close()  # of this thread

        return lambda path: asyncio.to_thread(send, path)

    def test_a_sweep_is_watched_recorded_and_kept(self):
        wand = keeper_corner().to_document()

        async def story():
            async with Running() as here:
                shown = await here.watch(self.production.pk, lambda s: s.get("frame", 0) > 20)
                self.assertEqual((shown["kind"], shown["recording"]), ("watch", False))
                start = {
                    "do": "start",
                    "production": self.production.pk,
                    "user": self.user.pk,
                    "kind": "sweep",
                    "wand": wand,
                }
                await ask(start)
                with self.assertRaisesRegex(InputError, "recording"):
                    await ask(start)
                shown = await here.watch(
                    self.production.pk, lambda s: s.get("kind") == "sweep" and s["seconds"] > 2 and s["sweep"]
                )
                self.assertGreater(max(c["readings"] for c in shown["sweep"]["cameras"]), 10)
                answer = await ask({"do": "stop", "production": self.production.pk, "keep": True})
                with self.assertRaisesRegex(InputError, "Nothing is being recorded"):
                    await ask({"do": "stop", "production": self.production.pk})
                return answer

        answer = asyncio.run(story())
        recording = StageRecording.objects.get(pk=answer["recording"])
        self.assertEqual(
            (recording.kind, recording.made_by, recording.wand["name"]), ("sweep", self.user, "quay corner")
        )
        self.assertGreater(recording.seconds, 2)
        seen = read_centroids(recording.stream)
        self.assertGreater(len(seen) / seen.frames, 12 * 2)
        self.assertTrue((np.diff(seen.frame) >= 0).all())

    def test_a_room_that_is_watched_for_long_is_asked_for_anew(self):
        async def story():
            async with Running() as here:
                with mock.patch.object(standin, "LONGEST_S", 1.0):
                    await here.watch(self.production.pk, lambda s: s.get("seconds", 0) > 0.7)
                    again = await here.watch(self.production.pk, lambda s: 0 < s.get("seconds", 9) < 0.5)
                self.assertIsNone(again["trouble"])

        asyncio.run(story())

    def test_what_is_dropped_leaves_nothing(self):
        async def story():
            async with Running() as here:
                await ask({"do": "start", "production": self.production.pk, "user": self.user.pk, "kind": "still"})
                await here.watch(self.production.pk, lambda s: s.get("recording") and s["seconds"] > 0.5)
                return await ask({"do": "stop", "production": self.production.pk, "keep": False})

        self.assertEqual(asyncio.run(story()), {"dropped": True})
        self.assertEqual(StageRecording.objects.count(), 0)

    def test_a_recording_that_nobody_stops_ends_by_itself_and_can_still_be_kept(self):
        async def story():
            async with Running() as here:
                await ask({"do": "start", "production": self.production.pk, "user": self.user.pk, "kind": "still"})
                await here.watch(self.production.pk, lambda s: "the most that is kept" in (s.get("trouble") or ""))
                return await ask({"do": "stop", "production": self.production.pk, "keep": True})

        with mock.patch("otrevo.server.recorder.session.MOST_SECONDS", 1.0):
            kept = StageRecording.objects.get(pk=asyncio.run(story())["recording"])
        self.assertGreater(kept.seconds, 0.9)
        self.assertLess(kept.seconds, 6.0)

    def test_what_takes_long_to_keep_is_kept_and_worked_through_all_the_same(self):
        calibrate(self.slate.performer)
        post, keep = self.technician(), threads.keep_take

        def slowly(*arguments):
            time.sleep(5.0)
            return keep(*arguments)

        async def story():
            async with Running() as here:
                await post("roll")
                await here.watch(self.production.pk, lambda s: s.get("kind") == "take" and s["seconds"] > 3)
                with mock.patch.object(threads, "keep_take", slowly), mock.patch.object(address, "PATIENCE_S", 1.0):
                    answer = await post("cut")
                    while unfinished(here.folder.name):
                        await asyncio.sleep(0.1)
                return answer

        answer = asyncio.run(story())
        self.assertEqual((answer.status_code, answer.json()["note"]), (200, ""))
        take = Take.objects.get()
        self.assertGreater(recorded(take, "cameras").details["frames"], 100)
        self.assertEqual({r.state for r in take.runs.all()}, {"queued"})

    def test_a_roll_that_nobody_waits_for_any_more_does_not_begin(self):
        post, prepare, given_up = self.technician(), threads.prepare, threading.Event()

        def slowly(*arguments):
            given_up.wait(60)
            return prepare(*arguments)

        async def story():
            async with Running() as here:
                with mock.patch.object(threads, "prepare", slowly), mock.patch.object(address, "PATIENCE_S", 1.0):
                    late = await post("roll")
                    given_up.set()
                again = await post("roll")
                await here.watch(self.production.pk, lambda s: s.get("kind") == "take" and s["seconds"] > 0.5)
                return late, again

        late, again = asyncio.run(story())
        self.assertIn("look again in a minute", late.json()["detail"])
        self.assertEqual(again.status_code, 200, again.content)

    def test_a_take_is_rolled_live_and_worked_through(self):
        calibrate(self.slate.performer)
        post = self.technician()

        async def story():
            async with Running() as here:
                self.assertEqual((await post("stand-by")).status_code, 200)
                self.assertEqual((await post("roll")).status_code, 200)
                shown = await here.watch(
                    self.production.pk,
                    lambda s: s.get("kind") == "take" and s["seconds"] > 5 and len(s["points"]) > 40
                    and all(d["hz"] > 0.8 * d["rate"] for d in s["devices"]),  # a busy machine loses packets now and then
                )  # fmt: skip
                devices = {d["id"]: d for d in shown["devices"]}
                self.assertEqual(set(devices), {"suit", "gloves", "face", "timecode", "room"})
                self.assertEqual((devices["suit"]["performer"], devices["room"]["performer"]), ("Ines", ""))
                self.assertEqual(shown["knocked"], [])
                return (await post("cut")).json()

        took = asyncio.run(story())
        self.assertFalse(Rolling.objects.exists())
        take = Take.objects.get(pk=took["id"])
        stream = recorded(take, "cameras")
        self.assertGreater(stream.details["frames"], 500)
        frame, second = stream.stamps[3]
        self.assertAlmostEqual(second - take.zero_s, frame / 120, places=2)
        work()
        self.assertEqual({r.state for r in take.runs.all()}, {"done"}, [(r.name, r.message) for r in take.runs.all()])
        self.assertEqual(recorded(take, "cameras").pk, stream.pk, "what was recorded live is what is worked on")
        claps = take.runs.get(name="line up").figures["claps_s"]
        suit = recorded(take, "suit")
        heard = np.isfinite(read_stream(suit)[245:300]).mean() > 0.9  # a suit now and then loses what it felt just then
        self.assertEqual(set(claps) - {"suit"}, {"optical", "room"})
        self.assertTrue("suit" in claps or not heard)
        self.assertLess(np.ptp(list(claps.values())), 0.03, f"all that show it say one time: {claps}")
        self.assertEqual((suit.performer, suit.shape), (self.slate.performer, [17, 7]))
        self.assertLess(take.runs.get(name="solve").figures["residual_rms_mm"], 6)

    def nothing(self):
        raise InputError("Nothing is being recorded.")

    def test_a_recorder_that_was_restarted_does_not_take_the_take_with_it(self):
        technician = Client()
        technician.login(username="technician-SMS", password=PASSWORD)
        with mock.patch(
            "otrevo.server.floor.api.ask",
            side_effect=lambda r: {"ok": True} if r["do"] == "roll" else self.nothing(),
        ):
            technician.post(f"/api/slates/{self.slate.pk}/roll")
            Rolling.objects.update(started_at=timezone.now() - timezone.timedelta(seconds=6))
            answer = technician.post(f"/api/slates/{self.slate.pk}/cut")
        self.assertEqual(answer.status_code, 200, answer.content)
        take = Take.objects.get()
        self.assertIn("The recording was lost: Nothing is being recorded.", take.note)
        self.assertEqual(take.runs.count(), 0, "there is nothing to work on")

    def test_a_wrong_key_is_not_answered(self):
        async def story():
            async with Running():
                reader, writer = await asyncio.open_connection("127.0.0.1", address.ports()[0])
                writer.write(
                    json.dumps(
                        {"key": "guess", "do": "start", "production": self.production.pk, "kind": "still"}
                    ).encode()
                    + b"\n"
                )
                self.assertEqual(await reader.read(), b"")
                writer.close()

        asyncio.run(story())

    def test_cameras_that_are_switched_off_are_told(self):
        async def story():
            async with Running() as here:
                here.cameras.close()
                here.recorder.cameras_port = 9  # nobody listens there
                shown = await here.watch(self.production.pk, lambda s: s.get("trouble"))
                self.assertIn("cannot be reached", shown["trouble"])

        asyncio.run(story())


class Socket(TransactionTestCase):
    def session(self, user):
        """A session of this user, as a browser has it that signed in."""
        client = Client()
        if user.pk:
            client.force_login(user)
        try:
            return client.session
        finally:
            connection.close()  # of this thread

    async def connected(self, user, production):
        scope = {
            "type": "websocket", "path": f"/live/{production}", "user": user, "session": await asyncio.to_thread(self.session, user),
            "url_route": {"kwargs": {"production": production}},
        }  # fmt: skip
        link = ApplicationCommunicator(Live.as_asgi(), scope)
        await link.send_input({"type": "websocket.connect"})
        self.assertEqual((await link.receive_output(5))["type"], "websocket.accept")
        return link

    def test_strangers_and_other_productions_are_turned_away(self):
        production, _ = make_production()
        make_production("Night Tide", "NTD")
        turned = [AnonymousUser(), *User.objects.filter(username__in=["technician-NTD", "animator-SMS"])]

        async def story(user):
            closed = await (await self.connected(user, production.pk)).receive_output(5)
            self.assertEqual((closed["type"], closed["code"]), ("websocket.close", 4403))

        for user in turned:
            with self.subTest(user.username):
                asyncio.run(story(user))

    def test_it_is_closed_when_somebody_signs_out_or_loses_their_part(self):
        production, _ = make_production()
        ends = {
            "technician-SMS": lambda: Session.objects.all().delete(),
            "clean-up-SMS": lambda: Membership.objects.filter(user__username="clean-up-SMS").update(role="animator"),
            "supervisor-SMS": lambda: User.objects.filter(username="supervisor-SMS").update(is_active=False),
        }

        async def story(user, end):
            link = await self.connected(user, production.pk)
            await asyncio.sleep(0.3)
            self.assertTrue(await link.receive_nothing(0.3))
            await database_sync_to_async(end)()
            closed = await link.receive_output(5)
            self.assertEqual((closed["type"], closed["code"]), ("websocket.close", 4403))

        with mock.patch("otrevo.server.live.consumer.LOOK_S", 0.1):
            for name, end in ends.items():
                with self.subTest(name):
                    asyncio.run(story(User.objects.get(username=name), end))

    def test_a_member_gets_snapshots_and_is_told_when_there_are_none(self):
        production, _ = make_production()
        room_of(production)
        user = User.objects.get(username="clean-up-SMS")

        async def story():
            with mock.patch.dict(os.environ, {"OTREVO_RECORDER_PORT": "9"}):
                link = await self.connected(user, production.pk)
                await link.send_input({"type": "websocket.receive", "text": '{"watch": true}'})
                self.assertIn("does not answer", json.loads((await link.receive_output(5))["text"])["trouble"])
                await link.send_input({"type": "websocket.disconnect", "code": 1000})
                await link.wait()
            async with Running():
                link = await self.connected(user, production.pk)
                await link.send_input({"type": "websocket.receive", "text": '{"watch": true}'})
                snapshot = json.loads((await link.receive_output(30))["text"])
                self.assertEqual(len(snapshot["cameras"]), 12)
                await link.send_input({"type": "websocket.disconnect", "code": 1000})
                await link.wait()

        asyncio.run(story())
