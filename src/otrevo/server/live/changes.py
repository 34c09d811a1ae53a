"""What changes in the database, told to those whose production it is in.

The database notifies (migration 0001); one connection in every web process listens and hands each change on.
"""

import asyncio
import contextlib
import json
import logging

import psycopg
from channels.db import database_sync_to_async
from django.apps import apps
from django.db import connection

log = logging.getLogger("otrevo.live")
CHANNEL = "otrevo_changed"
AGAIN_S = 2.0
MOST_WAITING = 500
# how a change finds its production: by what it is about, where that leads to
PATHS = {
    "take": ("takes", "Take", "slate__day__production_id"),
    "room": ("stage", "Room", "production_id"),
    "slate": ("shoot", "Slate", "day__production_id"),
    "day": ("shoot", "ShootDay", "production_id"),
    "performer": ("cast", "Performer", "production_id"),
    "package": ("handover", "Package", "production_id"),
}


class Changes:
    """Who listens to which production, and the one task that hears the database."""

    def __init__(self):
        self.queues, self.task, self.known = {}, None, {}

    @contextlib.contextmanager
    def of(self, production):
        """A queue of the changes of a production, for as long as the block lasts."""
        queue = asyncio.Queue(MOST_WAITING)
        self.queues.setdefault(production, set()).add(queue)
        if self.task is None or self.task.done():
            self.task = asyncio.create_task(self._hear())
        try:
            yield queue
        finally:
            self.queues[production].discard(queue)
            if not any(self.queues.values()):
                self.task.cancel()

    async def _hear(self):
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(**_address(), autocommit=True) as link:
                    await link.execute(f"LISTEN {CHANNEL}")
                    async for told in link.notifies():
                        await self._hand_on(json.loads(told.payload))
            except psycopg.Error as error:
                log.warning("changes cannot be heard, trying again: %s", error)
                await asyncio.sleep(AGAIN_S)

    async def _hand_on(self, about):
        change = {k: v if k in ("table", "state") else int(v) for k, v in about.items()}
        production = await self._production(change)
        for queue in self.queues.get(production, ()):
            if queue.full():
                queue.get_nowait()
            queue.put_nowait(change)

    async def _production(self, change):
        if "production" in change:
            return change["production"]
        word = next((w for w in PATHS if w in change), None)
        key = (word, change.get(word))
        if key not in self.known:
            found = await database_sync_to_async(_look_up)(*key)
            if found is None:  # it was deleted together with what it was about
                return None
            self.known[key] = found
        return self.known[key]


def _look_up(word, number):
    app, model, path = PATHS[word]
    return apps.get_model(app, model).objects.filter(pk=number).values_list(path, flat=True).first()


def _address():
    settings = connection.settings_dict
    return {
        "host": settings["HOST"], "port": settings["PORT"], "user": settings["USER"], "password": settings["PASSWORD"],
        "dbname": settings["NAME"],
    }  # fmt: skip


CHANGES = Changes()
