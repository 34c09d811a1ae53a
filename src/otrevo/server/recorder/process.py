"""The recorder: a process of its own between the cameras and everybody who watches, so that no page and no web server that
goes away takes a recording with it.

`python -m otrevo.server.recorder.process`. What it records is in a journal on the disk as it comes (recorder.journal). Two of them
run: one holds the lock of the data folder and works, the other stands by with everything loaded, and takes the recording on
where the journal ends as soon as the first is gone.

It listens on loopback; every request is a line of JSON that begins with the key of this installation:

    {"key", "do": "subscribe", "production": 3}                       -> a snapshot a line, twelve a second
    {"key", "do": "start", "production": 3, "user": 1, "kind": "sweep", "wand": {...}}
    {"key", "do": "stand by", "production": 3, "slate": 6, "number": 2}            a take is about to roll
    {"key", "do": "roll", "production": 3, "user": 1, "slate": 6, "number": 2, "zero_us": 38526000000}
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
import shutil
import signal
import time
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import django

from otrevo.server.live.messages import Live, Trouble
from otrevo.server.recorder.journal import Journal, unfinished

log = logging.getLogger("otrevo.recorder")
SNAPSHOT_S = 1 / 12.5
LINGER_S = 6.0  # nobody watches: the cameras are let go
AGAIN_S = 0.25  # between two attempts to reach a device while recording
STORE_S = 0.5
RESUME_S = 120.0  # a take that was written to this short a time ago goes on rolling
ROOM_S = 1800.0  # of recording is told when there is no more room for it
ROOM_EVERY_S = 5.0
DISK_FULL = "The disk is full: what comes now is lost. Make room, and it goes on."


class Recorder:
    """One room at a time: the session, who watches, and the links to the cameras and the other devices."""

    def __init__(self, cameras_port, kit_port, journals):
        self.cameras_port, self.kit_port, self.journals = cameras_port, kit_port, Path(journals)
        self.journal, self.storing, self.storing_now, self.room = None, None, None, (0.0, None)
        self.readings, self.kit_links = [], []
        self.production = self.session = self.user = self.wand = self.link = self.trouble = None
        self.watchers, self.idle_since = {}, time.monotonic()
        # started afresh, not forked: a copy would keep this process's connections to the database
        self.apart = ProcessPoolExecutor(1, mp_context=get_context("spawn"))
        self.lock = asyncio.Lock()  # held while a session is stepped
        self.changing = asyncio.Lock()  # held while one scene gives way to another

    async def start(self, production, kind, user=None, wand=None, take=None, zero_us=None):
        """Begin a session, recording unless it is only watched; take: (slate, number). Raises InputError."""
        async with self.changing:
            await self._start(production, kind, user, wand, take, zero_us)

    async def _start(self, production, kind, user, wand, take, zero_us):
        from otrevo.core.errors import InputError

        if kind == "watch" and self.session:
            return  # somebody was quicker
        if self.session and self.session.recording:
            raise InputError(f"The cameras are recording ({self.session.kind}); stop that first.")
        if self.production not in (None, production) and self.watchers.get(self.production):
            raise InputError("The cameras are in use by another production; try again when its pages are closed.")
        await self._hang_up()
        journal = None
        if kind != "watch":
            slate, number = take or (None, None)
            about = {
                "production": production,
                "kind": kind,
                "user": user,
                "wand": wand,
                "slate": slate,
                "number": number,
                "zero_us": zero_us,
            }
            try:
                journal = await asyncio.to_thread(Journal.begin, self.journals, about)
            except OSError as error:
                raise InputError(f"Nothing can be recorded: {error.strerror}.") from None
        try:
            scene = await asyncio.to_thread(prepare, production, kind, wand, take)
        except Exception:
            if journal:
                journal.end()
            raise
        self._begin(scene, production, journal, user, wand, zero_us)

    def _begin(self, scene, production, journal=None, user=None, wand=None, zero_us=None, again=False):
        """Receive what a prepared scene sends, into a Journal if there is one; again: it has been received before."""
        from otrevo.server.recorder.database import storing_of

        session, request, kit = scene
        session.zero_us = zero_us
        self.readings = [readings for readings, _ in kit]
        if journal:
            session.keep_in(journal)
            if session.kind == "take":
                for readings in self.readings:
                    readings.keep_in(journal)
            self.storing = storing_of(session, self.readings if session.kind == "take" else ())
        self.production, self.session, self.user, self.wand, self.journal = production, session, user, wand, journal
        more = {"zero_us": zero_us} | (_since(journal) if again else {})
        self.link = asyncio.create_task(self._receive(session, request | more, journal))
        for readings, wanted in kit:
            self.kit_links.append(asyncio.create_task(self._hear(readings, wanted | more, journal)))

    async def take_up(self):
        """Go on with what a recorder that ended was recording, if its devices still send it; keep everything else it left."""
        for journal in unfinished(self.journals):
            try:
                about = journal.about
                rolls = about["kind"] == "take" and await asyncio.to_thread(is_rolling, about["slate"], about["number"])
                if rolls and journal.goes_on(RESUME_S) and self.session is None:
                    scene = await asyncio.to_thread(
                        prepare, about["production"], "take", None, (about["slate"], about["number"])
                    )
                    self._begin(scene, about["production"], journal, about["user"], None, about["zero_us"], again=True)
                    log.info(
                        "slate %s take %s goes on after %.2f s", about["slate"], about["number"], journal.runs_for_s()
                    )
                else:
                    log.info("left over: %s", await asyncio.to_thread(keep_left_over, journal))
                    journal.end()
            except Exception:
                log.exception("what is in %s could not be kept; it stays there", journal.folder)

    async def _store_on(self):
        """What has been recorded goes into the database while more of it comes; without a database it waits in the journal."""
        behind = False
        while True:
            await asyncio.sleep(0.0 if behind else STORE_S)
            storing, behind = self.storing, False
            if storing is None:
                continue
            self.storing_now = asyncio.create_task(asyncio.to_thread(go_on_storing, storing))
            try:
                behind = await self.storing_now
            except Exception as error:
                log.warning("storing waits: %s", error)
                await asyncio.sleep(2.0)

    async def _stand_by(self, production, take):
        """Tell the devices that a take is about to roll."""
        _, request, kit = await asyncio.to_thread(prepare, production, "take", None, take)
        told = [(self.cameras_port, request)] + [(self.kit_port, wanted) for _, wanted in kit]
        for port, wanted in told:
            try:
                _, writer = await asyncio.open_connection("127.0.0.1", port)
                writer.write(json.dumps(wanted | {"stand_by": True}).encode() + b"\n")
                writer.write_eof()
            except OSError:
                pass  # the roll will say so

    async def _hang_up(self):
        for link in [self.link, *self.kit_links]:
            if link:
                link.cancel()
        self.link, self.kit_links, self.readings = None, [], []
        self.session = self.trouble = self.journal = self.storing = None

    async def _hear(self, readings, request, journal):
        """Packets of one device into its readings until it stops; while recording, it is reached again."""
        await self._hear_once(readings, request)
        while journal:
            await asyncio.sleep(AGAIN_S)
            await self._hear_once(readings, request | _since(journal))

    async def _hear_once(self, readings, request):
        from otrevo.core.devices.packets import DevicePacketReader
        from otrevo.core.errors import InputError

        def take_in(packets):
            readings.take_in(packets)
            readings.trouble = DISK_FULL if readings.full else None

        try:
            await _packets(self.kit_port, request, DevicePacketReader(readings.device), take_in)
            readings.trouble = "has stopped sending"
        except InputError as error:
            readings.trouble = str(error)
        except OSError:
            readings.trouble = "cannot be reached; is it switched on?"

    async def _receive(self, session, request, journal):
        """Packets of the cameras into the session until it is over; while recording, they are reached again."""
        await self._receive_once(session, request)
        while journal:
            await asyncio.sleep(AGAIN_S)
            await self._receive_once(session, request | _since(journal))

    async def _receive_once(self, session, request):
        from otrevo.core.errors import InputError
        from otrevo.core.formats.camera_packets import PacketReader

        def take_in(packets):
            session.take_in(packets)
            self.trouble = None

        try:
            await _packets(self.cameras_port, request, PacketReader(), take_in)
            if session.kind == "watch" and session.done:
                self.session = None  # that scene is over: _look_after asks for it again
            else:
                self.trouble = "The cameras have stopped sending."
        except InputError as error:
            self.trouble = str(error)
        except OSError:
            self.trouble = "The cameras cannot be reached; are they switched on?"

    async def work(self):
        """Take up what was left, then run until cancelled."""
        storing = asyncio.create_task(self._store_on())
        try:
            while unfinished(self.journals) and not await asyncio.to_thread(has_database):
                await asyncio.sleep(AGAIN_S)
            await self.take_up()
            await self.run()
        finally:
            storing.cancel()

    async def run(self):
        """Work through what has come, and send snapshots."""
        from otrevo.server.recorder.session import MOST_SECONDS

        placing = None
        while True:
            began = time.monotonic()
            session = self.session
            if session:
                try:
                    async with self.lock:
                        snapshot = await asyncio.to_thread(_step, session)
                    if placing is None or placing.done():
                        placing = asyncio.create_task(self._place(session))
                    if session.recording and snapshot["seconds"] > MOST_SECONDS and self.link:
                        for link in [self.link, *self.kit_links]:
                            link.cancel()  # memory is bounded; what has been recorded is still to be kept or dropped
                        self.link = None
                        self.trouble = f"Recorded for {MOST_SECONDS:.0f} s, the most that is kept at one time; stop."
                    devices = [r.snapshot() for r in self.readings]
                    full = DISK_FULL if session.kept and session.kept.full else await self._room_left()
                    self._send(self.production, Live(**snapshot, devices=devices, trouble=full or self.trouble))
                except Exception:
                    log.exception("a step of the session failed")
            await self._look_after()
            await asyncio.sleep(max(0.005, SNAPSHOT_S - (time.monotonic() - began)))

    async def _room_left(self):
        """A sentence where the disk has room for less than ROOM_S of what is being recorded, now and then looked up."""
        looked_at, words = self.room
        if self.journal is None or time.monotonic() - looked_at < ROOM_EVERY_S:
            return words if self.journal else None
        left_s = await asyncio.to_thread(_lasts_s, self.journal)
        words = f"The disk has room for {left_s / 60:.0f} minutes more." if left_s < ROOM_S else None
        self.room = time.monotonic(), words
        return words

    async def _place(self, session):
        """Place the cameras by the sweep so far, in a process of its own: live views must not wait for it."""
        readings = session.to_place()
        if readings is not None:
            poses = await asyncio.get_running_loop().run_in_executor(self.apart, placed, readings)
            async with self.lock:
                session.coverage.place(poses)

    async def _look_after(self):
        """Watch when somebody wants to; let the cameras go when nobody does."""
        wanted = next((p for p, queues in self.watchers.items() if queues), None)
        if wanted is None:
            if self.session and not self.session.recording and time.monotonic() - self.idle_since > LINGER_S:
                await self._hang_up()
            return
        self.idle_since = time.monotonic()
        if self.session and not self.watchers.get(self.production) and not self.session.recording:
            await self._hang_up()  # nobody looks at that room any more
        for production in self.watchers:
            if self.session and production != self.production:
                self._send(production, Trouble(trouble="The cameras are in use by another production."))
        if self.session is None:
            try:
                await self.start(wanted, "watch")
            except Exception as error:
                log.warning("watching failed: %s", error)
                self._send(wanted, Trouble(trouble="The cameras cannot be watched now."))
                await asyncio.sleep(1.0)

    def _send(self, production, message):
        line = message.model_dump_json().encode() + b"\n"
        for queue in self.watchers.get(production, ()):
            if queue.full():
                queue.get_nowait()  # somebody slow gets the newest, not the oldest
            queue.put_nowait(line)

    async def stop(self, production, keep, take, seconds):
        """End a recording and keep it, for a take or for the room. Returns the answer.

        What cannot be stored now stays in its journal and is kept later.
        """
        from otrevo.core.errors import InputError

        session = self.session
        if session is None or not session.recording or self.production != production:
            raise InputError("Nothing is being recorded.")
        async with self.lock:
            session.recording = False
            if keep:
                # what is under way belongs to it
                await asyncio.to_thread(_finish, session)
        user, wand, readings, journal, storing = self.user, self.wand, self.readings, self.journal, self.storing
        await self._hang_up()
        if self.storing_now:
            await asyncio.wait([self.storing_now])
        try:
            if not keep:
                await asyncio.to_thread(forget, storing)
                answer = {"dropped": True}
            elif take is not None:
                answer = await asyncio.to_thread(store_take, session, readings, take, seconds, storing)
            else:
                answer = await asyncio.to_thread(store_room, session, production, user, wand)
        except InputError:
            journal.end()
            raise
        except Exception:
            log.exception("a recording could not be stored; it is in %s", journal.folder)
            raise InputError(
                "It could not be stored now; it is kept on the disk and stored when Otrevo starts again."
            ) from None
        journal.end()
        return answer

    async def serve(self, reader, writer):
        from django.conf import settings

        from otrevo.core.errors import InputError

        try:
            request = json.loads(await reader.readline())
            if not hmac.compare_digest(str(request.get("key", "")), settings.RECORDER_KEY):
                return
            if request["do"] == "subscribe":
                await self._subscribe(request["production"], writer)
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
        from otrevo.core.errors import InputError
        from otrevo.server.recorder.session import MOST_SECONDS

        production = request["production"]
        if request["do"] == "start":
            await self.start(production, request["kind"], request.get("user"), request.get("wand"))
        elif request["do"] == "roll":
            take = request["slate"], request["number"]
            await self.start(production, "take", request.get("user"), None, take, request["zero_us"])
        elif request["do"] == "stand by":
            take = request["slate"], request["number"]
            self.standing_by = asyncio.create_task(self._stand_by(production, take))
        elif request["do"] == "length":
            if self.session is None or self.session.kind != "take" or self.production != production:
                raise InputError("Nothing is being recorded.")
            return {"seconds": self.journal.runs_for_s()}
        elif request["do"] == "stop":
            seconds = request.get("seconds", MOST_SECONDS)
            return await self.stop(production, request.get("keep", True), request.get("take"), seconds)
        elif request["do"] == "again":
            idle = self.session and not self.session.recording
            if idle and self.production == production:
                await self._hang_up()
        return {"ok": True}

    async def _subscribe(self, production, writer):
        queue = asyncio.Queue(maxsize=2)
        self.watchers.setdefault(production, []).append(queue)
        try:
            while True:
                writer.write(await queue.get())
                await writer.drain()
        except (ConnectionError, asyncio.CancelledError):
            pass  # nobody listens any more
        finally:
            self.watchers[production].remove(queue)


async def _packets(port, request, packets, take_in):
    """Ask for something on a port and hand on the packets that come until it ends. Raises OSError, InputError."""
    if port is None:
        raise ConnectionRefusedError
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    try:
        writer.write(json.dumps(request).encode() + b"\n")
        await writer.drain()
        while data := await reader.read(1 << 18):
            take_in(packets.feed(data))
    finally:
        writer.close()


def _since(journal):
    """How a device is asked to go on: what it sent before is not wanted again."""
    return {"since_s": journal.runs_for_s()}


def _lasts_s(journal):
    """How long the disk has room for what a journal holds and its copy in the database, seconds."""
    written = sum(path.stat().st_size for path in journal.folder.iterdir())
    return shutil.disk_usage(journal.folder).free / max(2 * written / max(journal.runs_for_s(), 1.0), 1.0)


def _step(session):
    session.advance()
    return session.snapshot()


def _finish(session):
    session.recording = True
    session.advance(whole=True)
    session.recording = False


def placed(readings):
    """Poses of the cameras by single readings of the wand, {camera: (rotation, position)}."""
    import numpy as np

    from otrevo.core.optics.bootstrap import place_cameras

    return place_cameras(readings, np.random.default_rng(1))[0]


def _with_database(name):
    """A function of recorder.database in a thread of the pool: the connection it opened is closed when it is done."""

    def work(*arguments):
        from django.db import connection

        from otrevo.server.recorder import database

        try:
            return getattr(database, name)(*arguments)
        finally:
            connection.close()

    return work


prepare, store_take, store_room, is_rolling, keep_left_over, go_on_storing, forget, has_database = map(
    _with_database,
    ("prepare", "store_take", "store_room", "is_rolling", "keep_left_over", "go_on_storing", "forget", "has_database"),
)


async def main(journals):
    from otrevo.server.live.address import ports

    own, cameras, kit = ports()
    recorder = Recorder(cameras, kit, journals)
    server = await asyncio.start_server(recorder.serve, "127.0.0.1", own, limit=1 << 20)
    log.info("the recorder listens on 127.0.0.1:%s", own)
    running = asyncio.create_task(recorder.work())
    for name in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(name, running.cancel)
    try:
        async with server:
            await running
    except asyncio.CancelledError:
        log.info("the recorder ends")
    finally:
        await recorder._hang_up()
        recorder.apart.shutdown(wait=False, cancel_futures=True)


def alone(path):
    """Wait until no other process holds the lock of this file, and hold it as long as this one lives."""
    file = Path(path).open("ab")  # noqa: SIM115, closed when the process ends
    fcntl.flock(file, fcntl.LOCK_EX)
    return file


if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "otrevo.server.settings")
    django.setup()
    from django.conf import settings

    from otrevo.server.recorder import database  # noqa: F401, loaded before it is needed in a hurry
    from otrevo.server.recorder.ready import make_ready

    make_ready()
    folder = settings.DATA / "journal"
    folder.mkdir(parents=True, exist_ok=True)
    lock = alone(settings.DATA / "recorder.lock")
    asyncio.run(main(folder))
