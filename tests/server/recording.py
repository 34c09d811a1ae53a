"""Takes for server tests: recorded at once from the stand-ins, or rolled through stand-ins and a recorder on real sockets."""

import asyncio
import os
import tempfile
import threading
import time
from functools import cache
from unittest import mock

from otrevo.core.devices.catalogue import device_named
from otrevo.core.sim.stage import roll
from otrevo.server.live import address
from otrevo.server.recorder.process import Recorder
from otrevo.server.rehearsal import record
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.jobs import queue_all
from otrevo.server.takes.streams import write_stream
from otrevo.standins import cameras, kit, world


def recorded_take(slate, seconds=22.0, **rehearsed):
    """A take that was recorded and whose passes are queued, as after a cut."""
    take = make_take(slate, None, first_timecode_frame=5000)
    record(take, seconds, **rehearsed)
    queue_all(take)
    return take


@cache
def _rolled(motion, performer_seed, seed, height_m, code, frame, kit):
    return roll(motion, performer_seed, seed, height_m, code, frame, kit=kit)


def streamed_take(slate, motion, seconds, kit, seed=3, frame=5000, **values):
    """A take of points that need no rebuild, and of other devices, cut to so many seconds; nothing is queued."""
    performer = slate.performer
    code = slate.day.production.timecode_format
    rolled = _rolled(motion, world.body(performer.pk), seed, performer.height_m, code, frame, tuple(kit))
    take = make_take(slate, None, duration_s=seconds, out_s=seconds, first_timecode_frame=frame, **values)
    for name, stream in rolled.streams.items():
        device = device_named(name)
        count = int(seconds * stream.rate)
        stamps = stream.stamps[stream.stamps[:, 0] < count]
        whose = performer if device.worn and name != "optical" else None
        write_stream(take, name, stream.kind, stream.rate, stream.data[:count], stamps=stamps, details=device.details,
                     performer=whose)  # fmt: skip
    return take


class Stage:
    """The stand-ins and a recorder on sockets of their own; `async with` in this loop, `with` in a thread beside the test."""

    own_loop = False

    async def __aenter__(self):
        self.cameras = await asyncio.start_server(cameras._serve, "127.0.0.1", 0, limit=1 << 20)
        self.kit = await asyncio.start_server(kit._serve, "127.0.0.1", 0, limit=1 << 20)
        standins = [s.sockets[0].getsockname()[1] for s in (self.cameras, self.kit)]
        self.folder = tempfile.TemporaryDirectory(prefix="otrevo-journal-")
        self.recorder = Recorder(*standins, self.folder.name)
        self.server = await self.recorder.listen(0)
        port = self.server.sockets[0].getsockname()[1]
        self.patch = mock.patch.dict(os.environ, {
            "OTREVO_RECORDER_PORT": str(port), "OTREVO_CAMERAS_PORT": str(standins[0]), "OTREVO_KIT_PORT": str(standins[1]),
            "OTREVO_SECRET_KEY": address.greeting()["key"],
        })  # fmt: skip
        self.patch.start()
        return self

    async def __aexit__(self, *_):
        await self.recorder.end()
        for server in (self.server, self.cameras, self.kit):
            server.close()
        left = asyncio.all_tasks() - {asyncio.current_task()} if self.own_loop else ()
        for task in left:
            task.cancel()
        await asyncio.gather(*left, return_exceptions=True)
        self.folder.cleanup()
        self.patch.stop()

    def received(self, production_id, seconds, within_s=240):
        """Wait until so many seconds of a take have come from everything: on a busy machine, stand-ins are late."""
        room, ends = self.recorder.room(production_id), time.monotonic() + within_s
        while (least := self._least_s(room)) < seconds:
            assert time.monotonic() < ends, f"{least:.1f} of {seconds} seconds came within {within_s}"
            time.sleep(0.1)

    @staticmethod
    def _least_s(room):
        session, readings = room.session, room.readings
        if session is None:  # it is being prepared
            return 0.0
        return min(session.done / float(session.rate), *(r.next / float(r.device.rate) for r in readings))

    def __enter__(self):
        self.loop, self.own_loop = asyncio.new_event_loop(), True
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True)
        self.thread.start()
        self._wait(self.__aenter__())
        return self

    def __exit__(self, *_):
        self._wait(self.__aexit__())
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join()

    def _wait(self, what):
        return asyncio.run_coroutine_threadsafe(what, self.loop).result(60)
