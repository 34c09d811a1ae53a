"""Floor: what is rolling, the devices, roll and cut."""

from contextlib import suppress
from datetime import datetime
from time import sleep

from django.db import IntegrityError, transaction
from django.utils import timezone
from ninja import Field, Router, Schema

from otrevo.core.devices.catalogue import of_the_room, worn
from otrevo.core.errors import InputError
from otrevo.server.accounts.access import DESK_ROLES, FLOOR_ROLES, fetch, require
from otrevo.server.conflicts import Conflict
from otrevo.server.floor.models import Rolling
from otrevo.server.given import Given
from otrevo.server.live.address import NoRecorder, RecorderBusy, ask
from otrevo.server.recorder.database import AWAY, LOST
from otrevo.server.recorder.session import MOST_SECONDS
from otrevo.server.shoot.models import Slate
from otrevo.server.takes.actions import make_take, next_number
from otrevo.server.takes.models import Take
from otrevo.server.takes.rows import TakeRow, fetch_take, take_row

router = Router(tags=["floor"])
SHORTEST_TAKE_S = 2.0
PATIENCE_S, AGAIN_S = 8.0, 0.25
KEPT_S = 3.0


class KitDevice(Schema):
    """A device of the slate's kit or of the room; how it is doing comes over the live socket."""

    id: str
    words: str
    worn: bool
    rate_hz: float


class RollingOut(Schema):
    slate_id: int
    slate: str
    number: int
    started_at: datetime
    now: datetime
    first_timecode: str
    note: str
    version: int
    circled: bool


class RollingIn(Given):
    """version: of the note that is on the user's screen."""

    version: int | None = None
    note: str | None = Field(None, max_length=2000)
    circled: bool | None = None


class FloorOut(Schema):
    now: datetime
    rolling: RollingOut | None
    devices: list[KitDevice]
    next_number: int
    calibrated: bool


def _slate(request, slate_id, roles):
    slates = Slate.objects.select_related("day__production", "performer")
    return fetch(request.user, slates, "day.production_id", roles, pk=slate_id)


def _rolling_out(rolling):
    fmt = rolling.slate.day.production.timecode_format
    return {
        "slate_id": rolling.slate_id, "slate": rolling.slate.name, "number": rolling.number, "now": timezone.now(),
        "started_at": rolling.started_at, "first_timecode": fmt.label(rolling.first_timecode_frame),
        "note": rolling.note, "version": rolling.version, "circled": rolling.circled,
    }  # fmt: skip


@router.get("/productions/{production_id}/rolling", response=RollingOut | None)
def rolling_now(request, production_id: int):
    require(request.user, production_id, DESK_ROLES)
    rolling = Rolling.objects.filter(slate__day__production_id=production_id).first()
    return _rolling_out(rolling) if rolling else None


@router.get("/slates/{slate_id}/floor", response=FloorOut)
def floor(request, slate_id: int):
    slate = _slate(request, slate_id, DESK_ROLES)
    rolling = Rolling.objects.filter(slate__day__production=slate.day.production).first()
    kit = [*worn(slate.performer.kit), *of_the_room()]
    return {
        "now": timezone.now(),
        "rolling": _rolling_out(rolling) if rolling else None,
        "devices": [{"id": d.id, "words": d.words, "worn": d.worn, "rate_hz": float(d.rate)} for d in kit],
        "next_number": next_number(slate),
        "calibrated": slate.performer.calibrations.exists(),
    }


@router.post("/slates/{slate_id}/stand-by")
def stand_by(request, slate_id: int):
    """The countdown has begun: whoever performs takes their place before the cameras."""
    slate = _slate(request, slate_id, FLOOR_ROLES)
    with suppress(NoRecorder, RecorderBusy):
        ask({"do": "stand by", "production": slate.day.production_id, "slate": slate.pk, "number": next_number(slate)})
    return {"ok": True}


@router.post("/slates/{slate_id}/roll", response=RollingOut)
def roll(request, slate_id: int):
    slate = _slate(request, slate_id, FLOOR_ROLES)
    fmt = slate.day.production.timecode_format
    now = timezone.now()
    # of UTC; the page's timecode is the same while nothing rolls
    midnight = now.replace(hour=0, minute=0, second=0, microsecond=0)
    frame = round((now - midnight).total_seconds() * fmt.rate) % fmt.frames_per_day
    already = Rolling.objects.filter(slate__day__production=slate.day.production).select_related("slate").first()
    if already:
        raise InputError(f"Slate {already.slate.name} take {already.number} is rolling; cut it first.")
    number = next_number(slate)
    try:
        with transaction.atomic():
            rolling = Rolling.objects.create(
                slate=slate, number=number, started_at=now, first_timecode_frame=frame, user=request.user
            )
    except IntegrityError:
        raise InputError(f"Slate {slate.name} is rolling already.") from None
    try:
        ask({
            "do": "roll", "production": slate.day.production_id, "user": request.user.pk,
            "zero_us": round(float(fmt.seconds(frame)) * 1_000_000), "slate": slate.pk, "number": number, "rolling": rolling.pk,
        })  # fmt: skip
    except InputError:
        rolling.delete()
        raise
    return _rolling_out(rolling)


@router.patch("/slates/{slate_id}/rolling", response=RollingOut)
def note_rolling(request, slate_id: int, payload: RollingIn):
    """What is said of a take while it rolls: its note, and whether it is circled."""
    slate = _slate(request, slate_id, FLOOR_ROLES)
    said = payload.dict(exclude_none=True, exclude={"version"})
    with transaction.atomic():
        rolling = Rolling.objects.select_for_update(of=("self",)).filter(slate=slate).first()
        if rolling is None:
            raise InputError(f"Slate {slate.name} is not rolling any more; note it on the take.")
        if said.get("note", rolling.note) != rolling.note:
            if payload.version is not None and payload.version < rolling.version:
                sentence = "Somebody else changed the note of this take meanwhile; yours was not saved."
                raise Conflict(sentence, {"note": rolling.note}, version=rolling.version)
            said["version"] = rolling.version + 1
        # only what was said: a note and a circle on their way at one time must both stay
        Rolling.objects.filter(pk=rolling.pk).update(**said)
    rolling.refresh_from_db()
    return _rolling_out(rolling)


def _ask_patiently(request):
    """Ask the recorder; one that has just ended is followed by another."""
    for _ in range(round(PATIENCE_S / AGAIN_S)):
        with suppress(NoRecorder):
            return ask(request)
        sleep(AGAIN_S)
    return ask(request)


def _length_s(rolling):
    """How long it has been rolling: by the recorder, whose clock nobody sets, or by the time of day."""
    try:
        return _ask_patiently({"do": "length", "production": rolling.slate.day.production_id})["seconds"]
    except (InputError, KeyError):
        return (timezone.now() - rolling.started_at).total_seconds()


@router.post("/slates/{slate_id}/cut", response=TakeRow)
def cut(request, slate_id: int):
    """End the take. Its streams are written and its passes begin at once; a warm-up is calibrated as well."""
    slate = _slate(request, slate_id, FLOOR_ROLES)
    with transaction.atomic():
        rolling = Rolling.objects.select_for_update().filter(slate=slate).first()
        if rolling is None:
            raise InputError(f"Slate {slate.name} is not rolling.")
        seconds = _length_s(rolling)
        if seconds < SHORTEST_TAKE_S:
            raise InputError(
                f"Rolling for {seconds:.1f} s; cut no earlier than {SHORTEST_TAKE_S:.0f} s, or the take is empty."
            )
        seconds = min(seconds, MOST_SECONDS)
        take = make_take(
            slate, request.user, rolling.number, first_timecode_frame=rolling.first_timecode_frame, note=rolling.note,
            duration_s=seconds, out_s=seconds, status=Take.Status.CIRCLED if rolling.circled else Take.Status.OPEN,
        )  # fmt: skip
        rolling.delete()
    try:
        _ask_patiently({"do": "stop", "production": slate.day.production_id, "take": take.pk, "seconds": seconds})
    except RecorderBusy:
        pass  # it keeps the take and has it worked through, whoever waits for it
    except NoRecorder:
        _note(take, f"{AWAY} what it has received is kept when it is back.")
    except InputError as error:  # the number is used up and what was noted stays
        if not _is_kept(take):
            _note(take, f"{LOST} {error}")
    return take_row(fetch_take(request, take.pk))


def _is_kept(take):
    """Whether another recorder has kept the take after the one that was asked had ended."""
    for _ in range(round(KEPT_S / AGAIN_S)):
        if take.streams.exists():
            return True
        sleep(AGAIN_S)
    return False


def _note(take, words):
    Take.objects.filter(pk=take.pk).update(note=f"{take.note}\n{words}" if take.note else words)


@router.post("/slates/{slate_id}/abandon")
def abandon(request, slate_id: int):
    """Stop rolling without keeping a take."""
    slate = _slate(request, slate_id, FLOOR_ROLES)
    rolling = Rolling.objects.filter(slate=slate).first()
    if rolling:
        rolling.delete()
        with suppress(InputError):  # it has stopped by itself
            ask({"do": "stop", "production": slate.day.production_id, "keep": False})
    return {"ok": True}
