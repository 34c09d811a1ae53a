"""What the recorder reads from the database before it records, and what it stores afterwards."""

from django.contrib.auth.models import User
from django.db import OperationalError, connection, transaction

from otrevo.core.devices.catalogue import of_the_room, worn
from otrevo.core.optics.coverage import SweepCoverage
from otrevo.core.optics.wand import wand_from_document
from otrevo.server.floor.models import Rolling
from otrevo.server.recorder.kept_frames import EVERY, WIDTH
from otrevo.server.recorder.readings import Readings
from otrevo.server.recorder.session import MOST_SECONDS, Session
from otrevo.server.shoot.models import Production, Slate
from otrevo.server.stage.actions import keep_recording
from otrevo.server.stage.room import calibrated, current_blinds, newest_calibration, rig_of, room_of
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.jobs import queue_all
from otrevo.server.takes.models import Piece, Take
from otrevo.server.takes.streams import frames_document, keep_pieces, per_piece_of, stream_of_pieces

PIECES_AT_ONCE = 16


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


class Storing:
    """Rows of a journal on their way into the database while they come, so that little is left to do at the cut.

    pieces: ids of those that are there, whole ones, in order.
    """

    def __init__(self, rows, kind):
        self.rows, self.kind, self.pieces, self.per_piece = rows, kind, [], per_piece_of(rows.width)

    def go_on(self, most=PIECES_AT_ONCE):
        """Store up to so many whole pieces more. True when others wait."""
        start = len(self.pieces) * self.per_piece
        end = min(start + most * self.per_piece, len(self.rows) // self.per_piece * self.per_piece)
        if end > start:
            self.pieces += keep_pieces(self.rows.read(start, end), self.kind)
        return end + self.per_piece <= len(self.rows)

    def until(self, end):
        """Ids of the pieces of the first `end` rows, all stored now."""
        while (len(self.pieces) + 1) * self.per_piece <= end:
            self.go_on()
        whole = end // self.per_piece
        left = self.rows.read(whole * self.per_piece, end)
        return self.pieces[:whole] + (keep_pieces(left, self.kind) if len(left) else [])

    def forget(self):
        """Nobody wants them."""
        Piece.objects.filter(pk__in=self.pieces, chunks=None).delete()


def storing_of(session, readings):
    """{name: Storing} of everything that is recorded."""
    return {"cameras": Storing(session.kept.rows, "centroids")} | {
        r.name: Storing(r.kept, r.device.kind) for r in readings
    }


def go_on_storing(storing):
    """Store some of everything that waits. True when there is more."""
    return any([one.go_on() for one in storing.values()])


def forget(storing):
    for one in storing.values():
        one.forget()


def store_take(session, readings, take_id, seconds, storing=None):
    """Store what was recorded of a take of so many seconds: what the cameras saw, and every device's readings.

    storing: what was stored of it while it came. Frames that nobody delivered are said in the stream of the cameras.
    """
    storing = storing or storing_of(session, readings)
    take = Take.objects.get(pk=take_id)
    performers = {a.performer_id: a.performer for a in take.appearances.select_related("performer")}
    kept, hz = session.kept, float(session.rate)
    last = int(seconds * session.rate)
    frames = min(last, kept.done)
    missing = [[round(a / hz, 4), round(b / hz, 4)] for a, b in kept.missing_before(last)]
    with transaction.atomic():
        if frames and any("optical" in p.kit for p in performers.values()):
            end = kept.rows_before(frames)
            edges = range(0, frames + EVERY, EVERY)
            details = frames_document(
                [c.name for c in session.rig], frames, [min(kept.rows_before(f), end) for f in edges], EVERY
            )
            stream_of_pieces(
                take, "cameras", "centroids", session.rate, (WIDTH,), end, storing["cameras"].until(end),
                [s for s in session.stamps if s[0] < frames], details | {"missing": missing},
            )  # fmt: skip
        for one in readings:
            end = min(len(one.kept), int(seconds * one.device.rate))
            if end:
                stream_of_pieces(
                    take, one.device.id, one.device.kind, one.device.rate, one.device.shape, end, storing[one.name].until(end),
                    one.stamps_before(end), one.device.details, performer=performers.get(one.performer_id),
                )  # fmt: skip
    return {"frames": frames, "lost": sum(session.lost.values()) + session.late, "missing_s": missing}


def keep_take(session, readings, take_id, seconds, storing=None):
    """Store what was recorded of a take, and queue its passes: whoever cut may no longer wait for that."""
    with transaction.atomic():
        told = store_take(session, readings, take_id, seconds, storing)
        take = Take.objects.get(pk=take_id)
        queue_all(take, take.rolled_by)
    return told


def store_room(session, production_id, user_id, wand, notes=()):
    """Keep what a session recorded as a StageRecording."""
    lost = sum(session.lost.values()) + session.late
    notes = [*notes, *([f"{lost} pictures were lost on the way"] if lost else [])]
    recording = keep_recording(
        room_of(Production.objects.get(pk=production_id)), session.kind, session.recorded(), session.rate,
        User.objects.filter(pk=user_id).first(), wand, notes=notes, stamps=session.stamps,
    )  # fmt: skip
    return {"recording": recording.pk}


def has_database():
    try:
        connection.ensure_connection()
    except OperationalError:
        return False
    return True


def is_waited_for(rolling_id):
    """Whether whoever rolled a take still waits for it: a roll that was not answered in time is taken back."""
    return Rolling.objects.filter(pk=rolling_id).exists()


def is_rolling(slate_id, number):
    """Whether nobody has cut that take."""
    return Rolling.objects.filter(slate_id=slate_id, number=number).exists()


def keep_left_over(journal):
    """Keep what a recorder that ended left in a Journal, as a take that is over. Returns words for the log."""
    about = journal.about
    if about["kind"] != "take":
        session, _, _ = prepare(about["production"], about["kind"], about["wand"], None)
        session.keep_in(journal)
        store_room(
            session, about["production"], about["user"], about["wand"], ["the recorder ended before it was stopped"]
        )
        return f"a {about['kind']} was kept"
    session, _, kit = prepare(about["production"], "take", None, (about["slate"], about["number"]))
    session.zero_us = about["zero_us"]
    readings = [one for one, _ in kit]
    for one in (session, *readings):
        one.keep_in(journal)
    with transaction.atomic():
        rolling = Rolling.objects.select_for_update().filter(slate_id=about["slate"], number=about["number"]).first()
        take = Take.objects.filter(slate_id=about["slate"], number=about["number"]).first()
        if take is None and rolling is None:
            return "a take that somebody gave up was left out"
        if take is None:
            heard = [session.done / session.rate, *(len(r.kept) / r.device.rate for r in readings)]
            seconds = round(min(float(max(heard)), MOST_SECONDS), 3)  # by what came, not by any clock
            take = make_take(
                rolling.slate, rolling.user, rolling.number, first_timecode_frame=rolling.first_timecode_frame,
                duration_s=seconds, out_s=seconds, note=_joined(rolling.note, ENDED),
                status=Take.Status.CIRCLED if rolling.circled else Take.Status.OPEN,
            )  # fmt: skip
            rolling.delete()
        if take.streams.exists():
            return f"{take} was kept before"
        keep_take(session, readings, take.pk, take.duration_s)
        said = "\n".join(line for line in take.note.splitlines() if not line.startswith((LOST, AWAY)))
        Take.objects.filter(pk=take.pk).update(note=said)  # what was said at the cut is not true any more
    return f"{take} was kept"


LOST = "The recording was lost:"
AWAY = "The recorder was away at the cut;"
ENDED = "Otrevo ended while this was rolling; kept is what had been received."


def _joined(note, more):
    return f"{note}\n{more}" if note else more
