"""Changes are pushed: the database tells, the web process hands on to those whose production it is, and to nobody else."""

import asyncio
import json
import os
from unittest import mock

from asgiref.testing import ApplicationCommunicator
from channels.db import database_sync_to_async
from django.contrib.auth.models import User
from django.test import TransactionTestCase

from otrevo.server.live.changes import Changes
from otrevo.server.live.consumer import Live
from otrevo.server.stage.room import room_of
from otrevo.server.takes.actions import change_take, make_take
from otrevo.server.work.models import Run
from tests.server.production import make_production

QUIET_S = 1.0


class Pushed(TransactionTestCase):
    def setUp(self):
        self.production, self.slate = make_production()
        self.other, self.other_slate = make_production("Night Tide", "NTD")
        self.take = make_take(self.slate, None, duration_s=4.0, out_s=4.0)

    async def told(self, change, role="technician", code="SMS", production=None):
        """What a member's page is told of a change that somebody makes."""
        user = await database_sync_to_async(User.objects.get)(username=f"{role}-{code}")
        number = (production or self.production).pk
        scope = {
            "type": "websocket",
            "path": f"/live/{number}",
            "user": user,
            "url_route": {"kwargs": {"production": number}},
        }
        hub = Changes()
        with mock.patch("otrevo.server.live.consumer.CHANGES", hub):
            link = ApplicationCommunicator(Live.as_asgi(), scope)
            await link.send_input({"type": "websocket.connect"})
            self.assertEqual((await link.receive_output(5))["type"], "websocket.accept")
            await asyncio.sleep(QUIET_S)  # until it listens
            await database_sync_to_async(change)()
            changes = []
            while not await link.receive_nothing(QUIET_S):
                changes += json.loads((await link.receive_output(1))["text"])["changed"]
            await link.send_input({"type": "websocket.disconnect", "code": 1000})
            await link.wait()
        return changes

    def test_a_take_a_run_and_its_progress_a_step_of_the_room_and_a_new_slate(self):
        def change():
            change_take(None, self.take, {"status": "circled"})
            run = Run.objects.create(take=self.take, name="label")
            Run.objects.filter(pk=run.pk).update(state="running", progress=0.4)
            Run.objects.create(kind="room step", room=room_of(self.production), name="level")
            self.slate.title = "Another title"
            self.slate.save()

        changes = asyncio.run(self.told(change))
        take = self.take.pk
        for expected in ({"table": "takes_take", "take": take, "slate": self.slate.pk},
                         {"table": "work_run", "take": take, "state": "queued"},
                         {"table": "work_run", "take": take, "state": "running"},
                         {"table": "work_run", "room": room_of(self.production).pk, "state": "queued"},
                         {"table": "shoot_slate", "day": self.slate.day_id}):  # fmt: skip
            self.assertIn(expected, changes)

    def test_another_production_hears_nothing_of_it(self):
        def change():
            change_take(None, self.take, {"note": "secret"})

        self.assertEqual(asyncio.run(self.told(change, code="NTD", production=self.other)), [])

    def test_what_is_rolled_back_is_not_told(self):
        def change():
            from django.db import transaction

            with transaction.atomic():
                change_take(None, self.take, {"note": "x"})
                transaction.set_rollback(True)

        self.assertEqual(asyncio.run(self.told(change)), [])

    def test_a_page_asks_for_the_cameras_and_may_say_nonsense(self):
        async def story():
            user = await database_sync_to_async(User.objects.get)(username="technician-SMS")
            number = self.production.pk
            scope = {"type": "websocket", "path": "/", "user": user, "url_route": {"kwargs": {"production": number}}}
            with mock.patch.dict(os.environ, {"OTREVO_RECORDER_PORT": "9"}):
                link = ApplicationCommunicator(Live.as_asgi(), scope)
                await link.send_input({"type": "websocket.connect"})
                await link.receive_output(5)
                for text in ("{", "[]", '{"watch"', '{"roll": true}', "3"):
                    await link.send_input({"type": "websocket.receive", "text": text})
                self.assertTrue(await link.receive_nothing(QUIET_S), "nobody has asked for the cameras")
                await link.send_input({"type": "websocket.receive", "text": '{"watch": true}'})
                self.assertIn("does not answer", json.loads((await link.receive_output(5))["text"])["trouble"])
                await link.send_input({"type": "websocket.receive", "text": '{"watch": false}'})
                self.assertTrue(await link.receive_nothing(2 * QUIET_S))
                await link.send_input({"type": "websocket.disconnect", "code": 1000})
                await link.wait()

        asyncio.run(story())
