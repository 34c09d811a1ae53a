"""Takes of the simulated stage recorded without waiting for them, for the demo's data and for tests.

The same stand-ins send the same packets into the recorder's own sessions; only the clock on the wall is left out.
"""

import tempfile

from otrevo.core.devices.packets import DevicePacketReader
from otrevo.core.formats.camera_packets import PacketReader
from otrevo.server.recorder.database import announcement, kit_of, store_take
from otrevo.server.recorder.journal import Journal
from otrevo.server.recorder.session import Session
from otrevo.server.stage.room import rig_of, room_of
from otrevo.standins import cameras, kit


def record(take, seconds=None, **rehearsed):
    """Record a take that was made, for so many seconds or as long as its performance lasts.

    rehearsed: "seed", "facing_rad" and "hidden", where the simulated stage is not to choose them.
    """
    production, slate = take.production, take.slate
    announced = announcement(slate, take.number) | rehearsed
    zero_us = round(float(production.timecode_format.seconds(take.first_timecode_frame)) * 1_000_000)
    seconds = seconds or kit.lasts_s(announced)
    rig, rate = rig_of(room_of(production))
    session = Session("take", rig, rate, zero_us=zero_us)
    with tempfile.TemporaryDirectory(prefix="otrevo-rehearsal-") as folder:
        journal = Journal.begin(folder, {"kind": "take"})
        session.keep_in(journal)
        _record(take, session, announced, seconds, journal)
        journal.end()
    take.duration_s = take.out_s = seconds
    take.save(update_fields=["duration_s", "out_s"])


def _record(take, session, announced, seconds, journal):
    production, slate = take.production, take.slate
    if "optical" in slate.performer.kit:
        request = {"otrevo": "scene/1", "production": production.pk, "rate": str(session.rate), "scene": "take",
                   "take": announced, "zero_us": session.zero_us}  # fmt: skip
        session.take_in(PacketReader().feed(cameras.packets_at_once(request, seconds)))
        session.advance(whole=True)
    readings = []
    for one, request in kit_of(production, [slate.performer], announced):
        one.keep_in(journal)
        sent = kit.packets_at_once(request | {"zero_us": session.zero_us}, seconds)
        one.take_in(DevicePacketReader(one.device).feed(sent))
        readings.append(one)
    store_take(session, readings, take.pk, seconds)
