"""The web socket of a production's live view: snapshots of the recorder, for whoever may see them."""

import asyncio
import json

from channels.db import database_sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer
from ninja.errors import HttpError

from otrevo.server.accounts.access import DESK_ROLES, require
from otrevo.server.live.address import greeting, ports

RETRY_S = 1.0
REFUSED = 4403  # of the range that is free for applications


class Live(AsyncWebsocketConsumer):
    relay = None

    async def connect(self):
        production = self.scope["url_route"]["kwargs"]["production"]
        try:
            await database_sync_to_async(require)(self.scope["user"], production, DESK_ROLES)
        except (HttpError, TypeError):  # nobody signed in cannot be looked up
            await self.accept()
            await self.close(code=REFUSED)
            return
        await self.accept()
        self.relay = asyncio.create_task(self._relay(production))

    async def disconnect(self, code):
        if self.relay:
            self.relay.cancel()

    async def _relay(self, production):
        while True:
            writer = None
            try:
                reader, writer = await asyncio.open_connection("127.0.0.1", ports()[0], limit=1 << 22)
                writer.write(json.dumps(greeting() | {"do": "subscribe", "production": production}).encode() + b"\n")
                while line := await reader.readline():
                    await self.send(text_data=line.decode())
            except (OSError, OverflowError, TypeError):
                pass
            finally:
                if writer:
                    writer.close()
            await self.send(text_data=json.dumps({"trouble": "The recorder does not answer; trying again."}))
            await asyncio.sleep(RETRY_S)
