"""The recorder: a process of its own between the cameras and everybody who watches, so that no page and no web server that
goes away takes a recording with it.

`python -m otrevo.server.recorder.process`. What it records is in a journal on the disk as it comes (recorder.journal). Two of them
run: one holds the lock of the data folder and works, the other stands by with everything loaded, and takes the recording on
where the journal ends as soon as the first is gone.

It listens on loopback; every request is a line of JSON that begins with the key of this installation:

    {"key", "do": "subscribe", "production": 3}                       -> a snapshot a line, twelve a second
    {"key", "do": "start", "production": 3, "user": 1, "kind": "sweep", "wand": {...}}
    {"key", "do": "stand by", "production": 3, "slate": 6, "number": 2}            a take is about to roll
    {"key", "do": "roll", "production": 3, "user": 1, "slate": 6, "number": 2, "rolling": 4, "zero_us": 38526000000}
    {"key", "do": "length", "production": 3}                          -> {"seconds": 22.5} since the roll
    {"key", "do": "stop", "production": 3, "keep": true, "take": 17, "seconds": 22.5}  -> {"recording": 5} or {"frames": 5400}
    {"key", "do": "again", "production": 3}                           the room has changed: watch it anew
"""

import asyncio
import fcntl
import hmac
import json
import logging
import os
import signal
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import django

from otrevo.server.recorder.journal import forget_kept, unfinished

log = logging.getLogger("otrevo.recorder")
RESUME_S = 120.0  # a take that was written to this short a time ago goes on rolling
AGAIN_S = 0.25


class Recorder:
    """The rooms that something goes on in, and whoever asks for something. cameras_port, kit_port: of the stage; journals: a folder."""

    def __init__(self, cameras_port, kit_port, journals):
        self.cameras_port, self.kit_port, self.journals = cameras_port, kit_port, Path(journals)
        self.rooms, self.tasks = {}, set()
        # started afresh, not forked: a copy would keep this process's connections to the database
        self.apart = ProcessPoolExecutor(1, mp_context=get_context("spawn"))

    def room(self, production):
        """The Room of a production, which goes when nobody wants anything of it."""
        from otrevo.server.recorder.room import Room

        if production not in self.rooms:
            self.rooms[production] = room = Room(production, self)
            self.beside(room.run())
        return self.rooms[production]

    def later(self, function):
        """Have something done in a thread that nobody waits for."""
        self.beside(asyncio.to_thread(function))

    def beside(self, coroutine):
        """Have a coroutine run that nobody waits for, until this recorder ends."""
        task = asyncio.create_task(coroutine)
        self.tasks.add(task)
        task.add_done_callback(self.tasks.discard)

    def let_go(self, room):
        """Nobody wants anything of a Room any more."""
        if self.rooms.get(room.production) is room:
            del self.rooms[room.production]

    async def take_up(self):
        """Go on with what a recorder that ended was recording, if its devices still send it. Returns the Journals of all else."""
        from otrevo.server.recorder import threads

        left = []
        for journal in unfinished(self.journals):
            about = journal.about
            try:
                rolls = about["kind"] == "take" and await asyncio.to_thread(
                    threads.is_rolling, about["slate"], about["number"]
                )
                room = self.room(about["production"]) if rolls and journal.goes_on(RESUME_S) else None
                if room is None or room.session is not None:
                    left.append(journal)
                else:
                    await room.go_on(journal)
                    log.info("a take goes on after %.2f s", journal.runs_for_s(), extra=room.named())
            except Exception:
                log.exception("what is in %s could not be taken up; it stays there", journal.folder)
        return left

    async def keep(self, left):
        """Keep what is in Journals that nobody goes on with."""
        from otrevo.server.recorder import threads

        for journal in left:
            try:
                log.info("left over: %s", await asyncio.to_thread(threads.keep_left_over, journal))
                await asyncio.to_thread(journal.end)
            except Exception:
                log.exception("what is in %s could not be kept; it stays there", journal.folder)

    async def listen(self, port):
        """Go on with what was being recorded, then listen on a port of loopback. Returns the asyncio server.

        Not before: whoever has a page open comes back at once, and a room that they watch would keep its take from going on.
        """
        from otrevo.server.recorder import threads

        while unfinished(self.journals) and not await asyncio.to_thread(threads.has_database):
            await asyncio.sleep(AGAIN_S)
        self.later(lambda: forget_kept(self.journals))
        self.beside(self.keep(await self.take_up()))
        return await asyncio.start_server(self.serve, "127.0.0.1", port, limit=1 << 20)

    async def work(self, port):
        """Listen until cancelled."""
        async with await self.listen(port) as server:
            log.info("the recorder listens on 127.0.0.1:%s", port)
            await server.serve_forever()

    async def end(self):
        """Let go of everything; what was recorded is in its journal."""
        for task in list(self.tasks):
            task.cancel()
        await asyncio.gather(*self.tasks, return_exceptions=True)
        self.apart.shutdown(wait=False, cancel_futures=True)

    async def serve(self, reader, writer):
        from django.conf import settings

        from otrevo.core.errors import InputError

        try:
            line = await reader.readline()
            if not line:  # somebody only looked whether there is anybody
                return
            request = json.loads(line)
            if not hmac.compare_digest(str(request.get("key", "")), settings.RECORDER_KEY):
                return
            if request["do"] == "subscribe":
                await self.room(request["production"]).subscribe(writer)
                return
            try:
                answer = await self._answer(request)
            except InputError as error:
                answer = {"error": str(error)}
            writer.write(json.dumps(answer).encode() + b"\n")
            await writer.drain()
        except (ValueError, KeyError, ConnectionError) as error:
            log.warning("a request was refused: %s", error)
        finally:
            writer.close()

    async def _answer(self, request):
        from otrevo.server.recorder.session import MOST_SECONDS

        room, take = self.room(request["production"]), (request.get("slate"), request.get("number"))
        if request["do"] == "start":
            await room.start(request["kind"], request.get("user"), request.get("wand"))
        elif request["do"] == "roll":
            await room.start("take", request.get("user"), None, take, request["zero_us"], request["rolling"])
        elif request["do"] == "stand by":
            self.standing_by = asyncio.create_task(room.stand_by(take))
        elif request["do"] == "length":
            return room.length()
        elif request["do"] == "stop":
            return await room.stop(request.get("keep", True), request.get("take"), request.get("seconds", MOST_SECONDS))
        elif request["do"] == "again":
            await room.anew()
        return {"ok": True}


async def main(journals):
    from otrevo.server.live.address import ports

    own, cameras, kit = ports()
    recorder = Recorder(cameras, kit, journals)
    running = asyncio.create_task(recorder.work(own))
    for name in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(name, running.cancel)
    try:
        await running
    except asyncio.CancelledError:
        log.info("the recorder ends")
    finally:
        await recorder.end()


def alone(path):
    """Wait until no other process holds the lock of this file, and hold it as long as this one lives."""
    file = Path(path).open("ab")  # noqa: SIM115, closed when the process ends
    fcntl.flock(file, fcntl.LOCK_EX)
    return file


if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "otrevo.server.settings")
    django.setup()
    from django.conf import settings

    from otrevo.server.recorder import room  # noqa: F401, loaded before it is needed in a hurry
    from otrevo.server.recorder.ready import make_ready

    make_ready()
    folder = settings.DATA / "journal"
    folder.mkdir(parents=True, exist_ok=True)
    lock = alone(settings.DATA / "recorder.lock")
    asyncio.run(main(folder))
