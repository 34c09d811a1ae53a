"""The web socket of a production: what changes in it, and on request what the recorder sees, for whoever may see it.

Sent (live.messages): Changed, a few times a second at most; and, while the page has said {"watch": true}, the recorder's
Live or Trouble as they come.
"""

import asyncio
import json
import os

from channels.db import database_sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer
from django.contrib.auth import get_user_model
from django.db import DatabaseError
from ninja.errors import HttpError

from otrevo.server.accounts.access import DESK_ROLES, require
from otrevo.server.live.address import greeting, ports
from otrevo.server.live.changes import CHANGES
from otrevo.server.live.messages import Changed, Trouble

RETRY_S = 1.0
TOGETHER_S = 0.1  # changes this close are one message
LOOK_S = float(os.environ.get("OTREVO_RIGHTS_S", 5.0))  # between two looks at whether it may still be listened to
REFUSED = 4403  # of the range that is free for applications


class Live(AsyncWebsocketConsumer):
    telling = relay = guarding = None

    async def connect(self):
        self.production = self.scope["url_route"]["kwargs"]["production"]
        try:
            await database_sync_to_async(require)(self.scope["user"], self.production, DESK_ROLES)
        except (HttpError, TypeError):  # nobody signed in cannot be looked up
            await self.accept()
            await self.close(code=REFUSED)
            return
        await self.accept()
        self.telling = asyncio.create_task(self._tell())
        self.guarding = asyncio.create_task(self._guard())

    async def receive(self, text_data=None, bytes_data=None):
        try:
            watch = bool(json.loads(text_data)["watch"])
        except (KeyError, TypeError, ValueError):
            return
        if watch and self.relay is None and self.telling is not None:
            self.relay = asyncio.create_task(self._relay())
        elif not watch and self.relay is not None:
            self.relay.cancel()
            self.relay = None

    async def disconnect(self, code):
        for task in (self.telling, self.relay, self.guarding):
            if task:
                task.cancel()

    async def _guard(self):
        """Close it when the session has ended or the part in the production has gone."""
        while await database_sync_to_async(self._may_listen)():
            await asyncio.sleep(LOOK_S)
        await self.close(code=REFUSED)

    def _may_listen(self):
        session = self.scope["session"]
        try:
            user = get_user_model().objects.filter(pk=self.scope["user"].pk, is_active=True).first()
            if user is None or not session.exists(session.session_key):
                return False
            require(user, self.production, DESK_ROLES)
        except HttpError:
            return False
        except DatabaseError:  # it is away for a while
            pass
        return True

    async def _tell(self):
        with CHANGES.of(self.production) as queue:
            while True:
                changed = [await queue.get()]
                await asyncio.sleep(TOGETHER_S)
                while not queue.empty():
                    change = queue.get_nowait()
                    if change not in changed:
                        changed.append(change)
                await self.send(text_data=Changed(changed=changed).model_dump_json(exclude_none=True))

    async def _relay(self):
        while True:
            writer = None
            try:
                reader, writer = await asyncio.open_connection("127.0.0.1", ports()[0], limit=1 << 22)
                request = greeting() | {"do": "subscribe", "production": self.production}
                writer.write(json.dumps(request).encode() + b"\n")
                while line := await reader.readline():
                    await self.send(text_data=line.decode())
            except (OSError, OverflowError, TypeError):
                pass
            finally:
                if writer:
                    writer.close()
            trouble = Trouble(trouble="The recorder does not answer; trying again.")
            await self.send(text_data=trouble.model_dump_json())
            await asyncio.sleep(RETRY_S)
