"""Shoot: productions, days, slates, the board, one take's circle, note and points."""

from datetime import date, datetime

from django.db import transaction
from django.db.models import Count, Prefetch, Q
from ninja import Field, File, Router, Schema
from ninja.errors import HttpError
from ninja.files import UploadedFile

from otrevo.server.accounts.access import DESK_ROLES, EVERYONE, FLOOR_ROLES, fetch, require
from otrevo.server.accounts.models import Membership
from otrevo.server.given import Given
from otrevo.server.shoot.actions import make_day, make_production, make_slate
from otrevo.server.shoot.models import Production, ShootDay, Slate
from otrevo.server.takes.actions import change_take, undo
from otrevo.server.takes.jobs import passes_of_take, queue_from, solve_again
from otrevo.server.takes.models import Take
from otrevo.server.takes.rows import TakeRow, fetch_take, take_row, with_rows
from otrevo.server.takes.uploads import take_from_files

router = Router(tags=["shoot"])
MOST_NOTE_LETTERS = 2000
NEWEST = 4


class ProductionOut(Schema):
    id: int
    name: str
    code: str
    timecode_rate: str
    drop_frame: bool
    delivery_rate: str
    naming_pattern: str


class SlateRow(Schema):
    id: int
    name: str
    title: str
    performer: str
    performer_id: int
    kit: list[str]
    warm_up: bool
    props: list[str]
    takes: list[TakeRow]


class DayOut(Schema):
    id: int
    number: int
    date: date
    stage: str
    slates: list[SlateRow]


class DayHead(Schema):
    id: int
    number: int
    date: date
    stage: str
    takes: int


class NewestTake(Schema):
    id: int
    slate: str
    title: str
    number: int


class Board(Schema):
    """day: all of the one that was asked for, or of the last one; newest: takes of any day, the last one first."""

    production: ProductionOut
    days: list[DayHead]
    day: DayOut | None
    newest: list[NewestTake]


class TakeChange(Given):
    """version: of the take that is on the user's screen; where somebody has changed the same since, it is refused with 409."""

    version: int | None = None
    status: str | None = None
    note: str | None = Field(None, max_length=MOST_NOTE_LETTERS)
    in_s: float | None = None
    out_s: float | None = None


class SlateIn(Given):
    name: str
    title: str
    performer_id: int
    props: list[str] = []


class ProductionIn(Given):
    name: str = Field(max_length=80)
    code: str = Field(max_length=12)
    timecode_rate: str
    drop_frame: bool
    delivery_rate: str
    naming_pattern: str = Field("{production}_{slate}_t{take:02d}_{performer}", max_length=120)


class DayIn(Given):
    date: date
    stage: str = Field(max_length=60)


class ChangeOut(Schema):
    words: str
    by: str
    at: datetime
    undone: bool


class Undone(Schema):
    words: str | None
    mend: bool = False


def slate_row(slate):
    return {
        "id": slate.pk, "name": slate.name, "title": slate.title, "performer": slate.performer.name,
        "performer_id": slate.performer_id, "kit": slate.performer.kit, "warm_up": slate.warm_up, "props": slate.props, "takes": [take_row(t) for t in slate.takes.all()],
    }  # fmt: skip


@router.get("/productions/{production_id}/board", response=Board)
def board(request, production_id: int, day: int | None = None, slate: int | None = None):
    """The days of a production, and all of one of them: of that number, or with that slate, or the last one."""
    require(request.user, production_id, DESK_ROLES)
    production = Production.objects.get(pk=production_id)
    there = Q(slates__removal=None, slates__takes__removal=None)
    days = list(production.days.annotate(takes=Count("slates__takes", filter=there)).order_by("number"))
    wanted = [d for d in days if d.number == day]
    if slate is not None:
        of = Slate.objects.filter(pk=slate, day__production=production).values_list("day", flat=True).first()
        wanted = [d for d in days if d.pk == of]
    chosen = (wanted or days or [None])[-1]
    newest = Take.objects.filter(slate__day__production=production).select_related("slate").order_by("-pk")
    return {
        "production": production, "days": days, "day": chosen and _whole_day(chosen, production),
        "newest": [{"id": t.pk, "slate": t.slate.name, "title": t.slate.title, "number": t.number} for t in newest[:NEWEST]],
    }  # fmt: skip


def _whole_day(day, production):
    day.production = production
    return {
        "id": day.pk,
        "number": day.number,
        "date": day.date,
        "stage": day.stage,
        "slates": _slates(day, day.slates),
    }


def _slates(day, slates):
    """Slates of a day (a queryset) with their takes as rows."""
    rows = slates.select_related("performer").prefetch_related(Prefetch("takes", with_rows(Take.objects.all())))
    for slate in rows:
        slate.day = day
        for take in slate.takes.all():
            take.slate = slate
    return [slate_row(s) for s in rows]


@router.get("/slates/{slate_id}", response=SlateRow)
def one_slate(request, slate_id: int):
    slate = fetch(
        request.user, Slate.objects.select_related("day__production"), "day.production_id", DESK_ROLES, pk=slate_id
    )
    return _slates(slate.day, slate.day.slates.filter(pk=slate.pk))[0]


@router.post("/productions", response=ProductionOut)
def add_production(request, payload: ProductionIn):
    member = Membership.objects.filter(user=request.user, role__in=FLOOR_ROLES).exists()
    if not (member or request.user.is_superuser):
        raise HttpError(
            403, "Only an administrator, or a technician or supervisor of some production, can begin a new one."
        )
    return make_production(request.user, **payload.dict())


@router.post("/productions/{production_id}/days", response=DayOut)
def add_day(request, production_id: int, payload: DayIn):
    require(request.user, production_id, FLOOR_ROLES)
    day = make_day(Production.objects.get(pk=production_id), payload.date, payload.stage)
    return {"id": day.pk, "number": day.number, "date": day.date, "stage": day.stage, "slates": []}


@router.get("/takes/{take_id}/changes", response=list[ChangeOut])
def changes(request, take_id: int):
    """The take's history, newest first."""
    rows = fetch_take(request, take_id).changes.select_related("user").order_by("-id")[:200]
    return [{"words": c.words, "by": c.user.username if c.user else "", "at": c.at, "undone": c.undone} for c in rows]


@router.post("/days/{day_id}/slates", response=SlateRow)
def add_slate(request, day_id: int, payload: SlateIn):
    day = fetch(request.user, ShootDay.objects.all(), "production_id", FLOOR_ROLES, pk=day_id)
    performer = fetch(
        request.user, day.production.performers.all(), "production_id", FLOOR_ROLES, pk=payload.performer_id
    )
    return slate_row(make_slate(day, payload.name, payload.title, performer, payload.props))


@router.patch("/takes/{take_id}", response=TakeRow)
def edit_take(request, take_id: int, payload: TakeChange):
    take = fetch_take(request, take_id)
    change_take(request.user, take, payload.dict(exclude_none=True, exclude={"version"}), payload.version)
    return take_row(fetch_take(request, take_id))


@router.post("/takes/{take_id}/undo", response=Undone)
def undo_change(request, take_id: int, redo: bool = False):
    """Take back what the user changed last; what others did stays."""
    take = fetch_take(request, take_id)
    with transaction.atomic():  # the change and the work that follows from it, or neither
        change = undo(request.user, take, redo)
        if change is not None and "mends" in change.after:
            solve_again(take, take.mends.filter(pk__in=change.after["mends"]), request.user)
    return {"words": change.words if change else None, "mend": bool(change and "mends" in change.after)}


@router.post("/slates/{slate_id}/files", response=TakeRow)
def drop_files(request, slate_id: int, files: File[list[UploadedFile]]):
    slate = fetch(
        request.user,
        Slate.objects.select_related("day__production", "performer"),
        "day.production_id",
        FLOOR_ROLES,
        pk=slate_id,
    )
    take = take_from_files(slate, request.user, files)
    if any(p.name == "solve" for p in passes_of_take(take)):
        queue_from(take, "line up", user=request.user)
    return take_row(fetch_take(request, take.pk, EVERYONE))
