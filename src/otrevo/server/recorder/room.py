"""One production's room before the recorder: the session, its journal, who watches, and the links to cameras and devices."""

import asyncio
import json
import logging
import shutil
import time

import numpy as np

from otrevo.core.devices.packets import DevicePacketReader
from otrevo.core.errors import InputError
from otrevo.core.formats.camera_packets import PacketReader
from otrevo.core.optics.bootstrap import place_cameras
from otrevo.server.live.address import to_stage
from otrevo.server.live.messages import Live, Trouble
from otrevo.server.recorder import session as sessions
from otrevo.server.recorder import threads
from otrevo.server.recorder.database import storing_of
from otrevo.server.recorder.journal import Journal

log = logging.getLogger("otrevo.recorder")
SNAPSHOT_S = 1 / 12.5
LINGER_S = 6.0  # nobody watches: the cameras are let go
AGAIN_S = 0.25  # between two attempts to reach a device while recording
STORE_S = 0.5
AWAY_S = 2.0  # between two attempts to reach the database
ROOM_S = 1800.0  # of recording is told when there is no more room for it
ROOM_EVERY_S = 5.0
DISK_FULL = "The disk is full: what comes now is lost. Make room, and it goes on."


class Room:
    """production: its id; stage: where cameras and devices are, where journals go, and the process that computes apart."""

    def __init__(self, production, stage):
        self.production, self.stage = production, stage
        self.readings, self.kit_links = [], []
        self.session = self.journal = self.link = self.user = self.wand = self.trouble = None
        self.storing = self.storing_now = None
        self.watchers, self.idle_since, self.space = [], time.monotonic(), (0.0, None)
        self.lock = asyncio.Lock()  # held while a session is stepped
        self.changing = asyncio.Lock()  # held while one scene gives way to another

    async def start(self, kind, user=None, wand=None, take=None, zero_us=None, rolling=None):
        """Begin a session, recording unless it is only watched; take: (slate, number); rolling: the id of its Rolling. Raises InputError."""
        async with self.changing:
            await self._start(kind, user, wand, take, zero_us, rolling)

    async def _start(self, kind, user, wand, take, zero_us, rolling):
        if kind == "watch" and self.session:
            return  # somebody was quicker
        if self.session and self.session.recording:
            raise InputError(f"The cameras are recording ({self.session.kind}); stop that first.")
        await self.hang_up()
        journal = None
        if kind != "watch":
            slate, number = take or (None, None)
            about = {"production": self.production, "kind": kind, "user": user, "wand": wand, "slate": slate, "number": number,
                     "zero_us": zero_us}  # fmt: skip
            try:
                journal = await asyncio.to_thread(Journal.begin, self.stage.journals, about)
            except OSError as error:
                raise InputError(f"Nothing can be recorded: {error.strerror}.") from None
        try:
            scene = await asyncio.to_thread(threads.prepare, self.production, kind, wand, take)
            if kind == "take" and not await asyncio.to_thread(threads.is_waited_for, rolling):
                raise InputError("Whoever rolled this take does not wait for it any more.")
        except Exception:
            if journal:
                journal.end()
            raise
        self._begin(scene, journal, user, wand, zero_us)

    async def go_on(self, journal):
        """Go on with the take of a Journal that another recorder has begun."""
        about = journal.about
        take = about["slate"], about["number"]
        scene = await asyncio.to_thread(threads.prepare, self.production, "take", None, take)
        self._begin(scene, journal, about["user"], None, about["zero_us"], again=True)

    def _begin(self, scene, journal=None, user=None, wand=None, zero_us=None, again=False):
        """Receive what a prepared scene sends, into a Journal if there is one; again: it has been received before."""
        session, request, kit = scene
        session.zero_us = zero_us
        self.readings = [readings for readings, _ in kit]
        if journal:
            session.keep_in(journal)
            kept = self.readings if session.kind == "take" else []
            for readings in kept:
                readings.keep_in(journal)
            self.storing = storing_of(session, kept)
        self.session, self.user, self.wand, self.journal = session, user, wand, journal
        more = {"zero_us": zero_us}
        more |= _since(journal, more) if again else {}
        self.link = asyncio.create_task(self._receive(session, request | more, journal))
        for readings, wanted in kit:
            self.kit_links.append(asyncio.create_task(self._hear(readings, wanted | more, journal)))

    async def stand_by(self, take):
        """Tell the devices that a take is about to roll."""
        _, request, kit = await asyncio.to_thread(threads.prepare, self.production, "take", None, take)
        told = [(self.stage.cameras_port, request)] + [(self.stage.kit_port, wanted) for _, wanted in kit]
        for port, wanted in told:
            try:
                _, writer = await asyncio.open_connection("127.0.0.1", port)
                writer.write(json.dumps(to_stage(wanted | {"stand_by": True})).encode() + b"\n")
                writer.write_eof()
            except OSError:
                pass  # the roll will say so

    async def hang_up(self):
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
            await self._hear_once(readings, request | _since(journal, request))

    async def _hear_once(self, readings, request):
        def take_in(packets):
            readings.take_in(packets)
            readings.trouble = DISK_FULL if readings.full else None

        try:
            await _packets(self.stage.kit_port, request, DevicePacketReader(readings.device), take_in)
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
            await self._receive_once(session, request | _since(journal, request))

    async def _receive_once(self, session, request):
        def take_in(packets):
            session.take_in(packets)
            self.trouble = None

        try:
            await _packets(self.stage.cameras_port, request, PacketReader(), take_in)
            if session.kind == "watch" and session.done:
                self.session = None  # that scene is over: _watch asks for it again
            else:
                self.trouble = "The cameras have stopped sending."
        except InputError as error:
            self.trouble = str(error)
        except OSError:
            self.trouble = "The cameras cannot be reached; are they switched on?"

    async def store_on(self):
        """What has been recorded goes into the database while more of it comes; without a database it waits in the journal."""
        behind = False
        while True:
            await asyncio.sleep(0.0 if behind else STORE_S)
            storing, behind = self.storing, False
            if storing is None:
                continue
            self.storing_now = asyncio.create_task(asyncio.to_thread(threads.go_on_storing, storing))
            try:
                behind = await self.storing_now
            except Exception as error:
                log.warning("storing waits: %s", error, extra=self.named())
                await asyncio.sleep(AWAY_S)

    async def run(self):
        """Work through what has come, and send snapshots, until nobody wants anything of this room any more."""
        storing = asyncio.create_task(self.store_on())
        placing = None
        try:
            while not self._is_idle():
                began = time.monotonic()
                session = self.session
                if session:
                    try:
                        async with self.lock:
                            snapshot = await asyncio.to_thread(_step, session)
                        if placing is None or placing.done():
                            placing = asyncio.create_task(self._place(session))
                        await self._tell(session, snapshot)
                    except Exception:
                        log.exception("a step of the session failed", extra=self.named())
                await self._watch()
                await asyncio.sleep(max(0.005, SNAPSHOT_S - (time.monotonic() - began)))
        finally:
            self.stage.let_go(self)  # at once: whoever asks for something now gets another one
            storing.cancel()
            await self.hang_up()

    async def _tell(self, session, snapshot):
        """Send a snapshot to who watches, with what is wrong; a recording that is too long is received no longer."""
        if session.recording and snapshot["seconds"] > sessions.MOST_SECONDS and self.link:
            for link in [self.link, *self.kit_links]:
                link.cancel()  # what has been recorded is still to be kept or dropped
            self.link = None
            self.trouble = f"Recorded for {sessions.MOST_SECONDS:.0f} s, the most that is kept at one time; stop."
        devices = [r.snapshot() for r in self.readings]
        full = DISK_FULL if session.kept and session.kept.full else await self._space_left()
        self._send(Live(**snapshot, devices=devices, trouble=full or self.trouble))

    async def _space_left(self):
        """A sentence where the disk has room for less than ROOM_S of what is being recorded, now and then looked up."""
        looked_at, words = self.space
        if self.journal is None or time.monotonic() - looked_at < ROOM_EVERY_S:
            return words if self.journal else None
        left_s = await asyncio.to_thread(_lasts_s, self.journal)
        words = f"The disk has room for {left_s / 60:.0f} minutes more." if left_s < ROOM_S else None
        self.space = time.monotonic(), words
        return words

    async def _place(self, session):
        """Place the cameras by the sweep so far, in a process of its own: live views must not wait for it."""
        readings = session.to_place()
        if readings is not None:
            poses = await asyncio.get_running_loop().run_in_executor(self.stage.apart, placed, readings)
            async with self.lock:
                session.coverage.place(poses)

    def _is_idle(self):
        """Whether nobody has watched for a while and nothing is recorded."""
        if self.watchers or self.changing.locked() or (self.session and self.session.recording):
            self.idle_since = time.monotonic()
        return time.monotonic() - self.idle_since > LINGER_S

    async def _watch(self):
        """Watch the room where somebody wants to and nothing goes on in it."""
        if not self.watchers or self.session is not None:
            return
        try:
            await self.start("watch")
        except Exception as error:
            log.warning("watching failed: %s", error, extra=self.named())
            self._send(Trouble(trouble="The cameras cannot be watched now."))
            await asyncio.sleep(1.0)

    def named(self):
        """What the log says of this room and of what is recorded in it."""
        told = self.journal.about if self.journal else {}
        return {"production": self.production} | {k: told[k] for k in ("kind", "slate", "number") if k in told}

    def _send(self, message):
        line = message.model_dump_json().encode() + b"\n"
        for queue in self.watchers:
            if queue.full():
                queue.get_nowait()  # somebody slow gets the newest, not the oldest
            queue.put_nowait(line)

    def length(self):
        """{"seconds"} since the roll. Raises InputError when no take is recorded."""
        if self.session is None or self.session.kind != "take":
            raise InputError("Nothing is being recorded.")
        return {"seconds": self.journal.runs_for_s()}

    async def anew(self):
        """The room has changed: watch it anew."""
        if self.session and not self.session.recording:
            await self.hang_up()

    async def stop(self, keep, take, seconds):
        """End a recording and keep it, for a take or for the room. Returns the answer.

        What cannot be stored now stays in its journal and is kept later.
        """
        session = self.session
        if session is None or not session.recording:
            raise InputError("Nothing is being recorded.")
        async with self.lock:
            session.recording = False
            if keep:
                # what is under way belongs to it
                await asyncio.to_thread(_finish, session)
        user, wand, readings, journal, storing = self.user, self.wand, self.readings, self.journal, self.storing
        about = self.named()
        await self.hang_up()
        if self.storing_now:
            await asyncio.wait([self.storing_now])
        try:
            if not keep:
                await asyncio.to_thread(threads.forget, storing)
                answer = {"dropped": True}
            elif take is not None:
                answer = await asyncio.to_thread(threads.keep_take, session, readings, take, seconds, storing)
            else:
                answer = await asyncio.to_thread(threads.store_room, session, self.production, user, wand)
        except InputError:
            journal.end()
            raise
        except Exception:
            log.exception("a recording could not be stored; it is in %s", journal.folder, extra=about)
            raise InputError(
                "It could not be stored now; it is kept on the disk and stored when Otrevo starts again."
            ) from None
        await asyncio.to_thread(journal.is_kept)
        self.stage.later(journal.end)  # gigabytes are not deleted in no time
        log.info("a recording was %s", "kept" if keep else "dropped", extra=about)
        return answer

    async def subscribe(self, writer):
        """Send snapshots until nobody listens any more."""
        queue = asyncio.Queue(maxsize=2)
        self.watchers.append(queue)
        try:
            while True:
                writer.write(await queue.get())
                await writer.drain()
        except (ConnectionError, asyncio.CancelledError):
            pass
        finally:
            self.watchers.remove(queue)


async def _packets(port, request, packets, take_in):
    """Ask for something on a port and hand on the packets that come until it ends. Raises OSError, InputError."""
    if port is None:
        raise ConnectionRefusedError
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    try:
        writer.write(json.dumps(to_stage(request)).encode() + b"\n")
        await writer.drain()
        while data := await reader.read(1 << 18):
            take_in(packets.feed(data))
    finally:
        writer.close()


def _since(journal, request):
    """How whoever sends a take is asked to go on: what it sent before is not wanted again. A scene of the room begins anew."""
    return {} if request["zero_us"] is None else {"since_s": journal.runs_for_s()}


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
    return place_cameras(readings, np.random.default_rng(1))[0]
