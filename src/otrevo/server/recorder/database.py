"""What the recorder reads from the database before it records, and what it stores afterwards."""

from django.contrib.auth.models import User
from django.db import transaction

from otrevo.core.devices.catalogue import of_the_room, worn
from otrevo.core.optics.coverage import SweepCoverage
from otrevo.core.optics.wand import wand_from_document
from otrevo.server.recorder.readings import Readings
from otrevo.server.recorder.session import Session
from otrevo.server.shoot.models import Production, Slate
from otrevo.server.stage.actions import keep_recording
from otrevo.server.stage.room import calibrated, current_blinds, newest_calibration, rig_of, room_of
from otrevo.server.takes.models import Take
from otrevo.server.takes.streams import write_centroids, write_stream


def prepare(production_id, kind, wand_document, take):
    """(Session, request to the cameras, [(Readings, request to the device)]) for a scene of a production's room.

    take: (slate id, number) of the take that rolls, or None.
    """
    production = Production.objects.get(pk=production_id)
    room = room_of(production)
    rig, rate = rig_of(room)
    _, room_blinds = current_blinds(room)
    newest = newest_calibration(room)
    cameras, blinds = calibrated(newest) if newest else ((), ())
    session = Session(kind, rig, rate, cameras, tuple(blinds), tuple(room_blinds))
    if kind == "sweep":
        wand = wand_from_document(wand_document, "the wand")
        session.coverage = SweepCoverage(rig, wand, rate, room_blinds, cameras)
    slate = take and Slate.objects.select_related("performer").get(pk=take[0])
    announced = slate and announcement(slate, take[1])
    request = {
        "otrevo": "scene/1", "production": production_id, "rate": room.rig["rate"], "wand": wand_document,
        "scene": {"watch": "still"}.get(kind, kind), "take": announced,
    }  # fmt: skip
    performers = [slate.performer] if slate else production.performers.all() if kind == "watch" else []
    kit = kit_of(production, performers, announced) if kind in ("watch", "take") else []
    return session, request, kit


def announcement(slate, number):
    """What every device is told of a take: which one it is, and who performs."""
    return {
        "slate": slate.pk, "name": slate.name, "title": slate.title, "number": number, "warm_up": slate.warm_up,
        "props": slate.props, "performer": _worn_by(slate.performer),
    }  # fmt: skip


def _worn_by(performer):
    return {"id": performer.pk, "name": performer.name, "height_m": performer.height_m, "kit": performer.kit}


def kit_of(production, performers, announced):
    """The room's devices and what the performers wear, each with the request that makes it send."""
    code = {"rate": production.timecode_rate, "drop": production.drop_frame}
    common = {"otrevo": "device/1", "production": production.pk, "timecode": code, "take": announced}
    out = [
        (
            Readings(device, performer.pk, performer.name),
            common | {"device": device.id, "performer": _worn_by(performer)},
        )
        for performer in performers
        for device in worn(performer.kit)
    ]
    return out + [(Readings(device), common | {"device": device.id}) for device in of_the_room()]


def store_take(session, readings, take_id, seconds):
    """Keep what was recorded of a take of so many seconds: what the cameras saw, and every device's readings."""
    take = Take.objects.get(pk=take_id)
    performers = {a.performer_id: a.performer for a in take.appearances.select_related("performer")}
    seen = session.recorded()
    seen = seen.only(seen.frame < int(seconds * session.rate))
    with transaction.atomic():
        if seen.frames and any("optical" in p.kit for p in performers.values()):
            write_centroids(take, "cameras", session.rate, seen, [c.name for c in session.rig], session.stamps)
        for one in readings:
            samples, stamps = one.recorded(seconds)
            if len(samples):
                write_stream(take, one.device.id, one.device.kind, one.device.rate, samples, stamps=stamps,
                             details=one.device.details, performer=performers.get(one.performer_id))  # fmt: skip
    return {"frames": seen.frames, "lost": sum(session.lost.values()) + session.late}


def store_room(session, production_id, user_id, wand):
    """Keep what a session recorded as a StageRecording."""
    lost = sum(session.lost.values()) + session.late
    notes = [f"{lost} pictures were lost on the way"] if lost else []
    recording = keep_recording(
        room_of(Production.objects.get(pk=production_id)), session.kind, session.recorded(), session.rate,
        User.objects.filter(pk=user_id).first(), wand, notes=notes, stamps=session.stamps,
    )  # fmt: skip
    return {"recording": recording.pk}
