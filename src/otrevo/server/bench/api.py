"""Bench: one take's streams, runs, snags and mends; tracks as Arrow bytes."""

from dataclasses import asdict

import numpy as np
from django.db import transaction
from django.http import HttpResponse
from ninja import Query, Router, Schema
from ninja.errors import HttpError

from otrevo.core.errors import InputError
from otrevo.core.passes.catalogue import PASSES, pass_named
from otrevo.server.accounts.access import DESK_ROLES, EVERYONE, fetch, role_in
from otrevo.server.accounts.models import Role
from otrevo.server.given import Given
from otrevo.server.takes import mends
from otrevo.server.takes.jobs import (
    cast_in_take,
    need_nothing_at_work,
    need_settings_seen,
    passes_of_take,
    queue_from,
    solve_again,
)
from otrevo.server.takes.material import characters_of
from otrevo.server.takes.models import Stream
from otrevo.server.takes.rows import RunOut, StreamOut, TakeRow, fetch_take, run_out, runs_out, streams_out, take_row
from otrevo.server.takes.streams import stream_bytes
from otrevo.server.work.models import ACTIVE, Run
from otrevo.server.work.queue import cancel

router = Router(tags=["bench"])
LONGEST_RANGE = 2_000_000


class MendDocument(Schema):
    """A mend of a marker from frame `start` to before `end` (core.markers.mends)."""

    kind: str
    marker: str
    start: int
    end: int
    method: str | None = None


class SnagOut(Schema):
    kind: str
    stream: str
    start_s: float
    end_s: float
    severity: float
    text: str
    limit: str
    subject: str = ""
    proposal: MendDocument | None = None
    damage_mm: float | None = None
    from_pass: str
    performer: str
    character: str
    mended: bool


class MendOut(Schema):
    id: int
    words: str
    active: bool
    document: MendDocument


class ParameterOut(Schema):
    name: str
    words: str
    default: float
    low: float
    high: float
    step: float
    unit: str
    sentence: str
    whole: bool
    choices: list[str]
    over_time: bool


class SettingTableOut(Schema):
    """A setting with a value for each of several things: `of` these, or anything; a word of `choices`, or a number."""

    name: str
    words: str
    sentence: str
    of: list[str]
    choices: list[str]
    low: float
    high: float


class PassOut(Schema):
    """A pass that this take goes through; about: "take", "performer" or "character"."""

    name: str
    about: str
    words: str
    sentence: str
    parameters: list[ParameterOut]
    tables: list[SettingTableOut]


class AppearanceOut(Schema):
    performer_id: int
    performer: str
    kit: list[str]
    calibration_version: int | None
    character_ids: list[int]


class TakeOut(Schema):
    take: TakeRow
    passes: list[PassOut]
    appearances: list[AppearanceOut]
    production_id: int
    production: str
    day: int
    slate_id: int
    slate: str
    title: str
    timecode_rate: str
    drop_frame: bool
    streams: list[StreamOut]
    snags: list[SnagOut]
    mends: list[MendOut]


class MendIn(Given):
    """A mend of a performer's markers; performer: by name, the only one where none is given."""

    document: MendDocument
    words: str = ""
    performer: str = ""


class PreviewOut(Schema):
    """One marker from frame `first` on: positions in metres, null where hidden, before and after the mend."""

    first: int
    rate: str
    before: list[list[float] | None]
    after: list[list[float] | None]


def _snags(take):
    """Snags of the newest finished runs; those about gaps that a later mend filled are marked."""
    active = [(m.performer_id, m.document) for m in take.mends.all() if m.active]
    runs = _newest_runs(take)
    done = {(r.name, r.performer_id) for r in runs}
    out = []
    for run in runs:
        anew = {
            kind for later, kinds in pass_named(run.name).found_anew.items() if (later, run.performer_id) in done
            for kind in kinds
        }  # fmt: skip
        mine = [document for who, document in active if who in (None, run.performer_id)]
        about = {"from_pass": run.name, "performer": run.performer.name if run.performer_id else "",
                 "character": run.character.name if run.character_id else ""}  # fmt: skip
        out += [s | about | {"mended": _is_mended(s, mine)} for s in run.snags if s["kind"] not in anew]
    return sorted(out, key=lambda s: (s["mended"], -s["severity"], s["start_s"]))


def _newest_runs(take):
    """The newest finished run of every pass, for everybody it was run for."""
    runs = take.runs.filter(name__in=[p.name for p in PASSES], state=Run.State.DONE).defer("character__file")
    runs = runs.order_by("name", "performer_id", "character_id", "-id").distinct("name", "performer_id", "character_id")
    played = {(a.performer_id, c.pk) for a in take.appearances.select_related("performer") for c in characters_of(a)}
    # what was made for a character that is not played any more is not shown
    return [
        r
        for r in runs.select_related("performer", "character")
        if not r.character_id or (r.performer_id, r.character_id) in played
    ]


def _is_mended(snag, documents):
    proposal = snag.get("proposal")
    return bool(proposal) and any(
        m["marker"] == proposal["marker"] and m["start"] <= proposal["start"] and m["end"] >= proposal["end"]
        for m in documents
    )


def _streams(take):
    """Recorded streams, and the tracks of the newest run of every pass for everybody."""
    newest = [r.pk for r in _newest_runs(take)]
    rows = Stream.objects.filter(take=take, run=None) | Stream.objects.filter(take=take, run_id__in=newest)
    rows = rows.defer("run__figures", "run__snags", "run__character__file").select_related(
        "performer", "run__character"
    )
    return streams_out(take, list(rows.order_by("id")))


def pass_out(p):
    keys = ("name", "words", "default", "low", "high", "step", "unit", "sentence", "whole", "choices", "over_time")
    return {
        "name": p.name, "about": p.about, "words": p.words, "sentence": p.figure.sentence,
        "parameters": [{k: getattr(x, k) for k in keys} for x in p.parameters],
        "tables": [asdict(t) for t in p.tables],
    }  # fmt: skip


@router.get("/takes/{take_id}/bench", response=TakeOut)
def take(request, take_id: int):
    item = fetch_take(request, take_id)
    production = item.production
    appearances = item.appearances.select_related("performer", "calibration")
    return {
        "take": take_row(item), "passes": [pass_out(p) for p in passes_of_take(item)],
        "appearances": [
            {"performer_id": a.performer_id, "performer": a.performer.name, "kit": a.kit,
             "calibration_version": a.calibration.version if a.calibration else None,
             "character_ids": [c.pk for c in characters_of(a)]}
            for a in appearances
        ],
        "production_id": production.pk, "production": production.name, "day": item.slate.day.number,
        "slate_id": item.slate_id, "slate": item.slate.name, "title": item.slate.title,
        "timecode_rate": production.timecode_rate, "drop_frame": production.drop_frame,
        "streams": _streams(item), "snags": _snags(item),
        "mends": [{"id": m.pk, "words": m.words, "active": m.active, "document": m.document} for m in item.mends.all()],
    }  # fmt: skip


@router.get("/takes/{take_id}/runs", response=list[RunOut])
def runs(request, take_id: int):
    return runs_out(fetch_take(request, take_id).newest)


@router.get("/streams/{stream_id}/data")
def data(
    request, stream_id: int, start: int = Query(0, ge=0), end: int | None = None, step: int = Query(1, ge=1, le=10000)
):
    """Samples [start, end), every step-th, as an Arrow IPC stream."""
    streams = Stream.objects.select_related("take__slate__day")
    stream = fetch(request.user, streams, "take.production_id", EVERYONE, pk=stream_id)
    if role_in(request.user, stream.take.production_id) == Role.ANIMATOR and not _handed_over(stream):
        raise HttpError(404, "There is no such thing here, or it has not been sent to you.")
    last = stream.samples if end is None else min(end, stream.samples)
    if (last - start) / step > LONGEST_RANGE * 4:
        raise InputError("Too long a range at once; ask for less or a larger step.")
    response = HttpResponse(stream_bytes(stream, start, last, step), content_type="application/vnd.apache.arrow.stream")
    response["Cache-Control"] = "private, max-age=31536000, immutable"  # streams never change
    return response


def _handed_over(stream):
    return stream.run_id and stream.run.packages.filter(state__in=["sent", "accepted", "returned"]).exists()


class PassIn(Given):
    """character_id: where a pass that runs for each character is to run for one alone; based_on: the run whose settings were seen."""

    model_config = {"extra": "forbid"}
    parameters: dict | None = None
    character_id: int | None = None
    based_on: int | None = None


class CharactersIn(Given):
    """Who plays whom in one take: ids of characters, or None for as the production says; before: those that were seen."""

    performer_id: int
    character_ids: list[int] | None
    before: list[int] | None = None


@router.post("/takes/{take_id}/passes/{name}", response=RunOut)
def run_pass(request, take_id: int, name: str, payload: PassIn | None = None):
    """Run a pass again, and everything that builds on it; parameters as the pass declares them."""
    item = fetch_take(request, take_id)
    need_nothing_at_work(item)
    payload, name = payload or PassIn(), name.replace("-", " ")
    if payload.based_on is not None:
        need_settings_seen(item, name, payload.based_on)
    return run_out(queue_from(item, name, payload.parameters or {}, request.user, payload.character_id))


@router.put("/takes/{take_id}/characters", response=TakeOut)
def set_characters(request, take_id: int, payload: CharactersIn):
    """Say which characters a performer plays in this take; what is new among them is retargeted."""
    item = fetch_take(request, take_id)
    need_nothing_at_work(item)
    cast_in_take(item, payload.performer_id, payload.character_ids, request.user, payload.before)
    return take(request, take_id)


@router.post("/runs/{run_id}/cancel", response=RunOut)
def cancel_run(request, run_id: int):
    """Stop a run of a take, and all that waits for it."""
    runs = Run.objects.filter(take__isnull=False).select_related("take__slate__day")
    run = fetch(request.user, runs, "take.production_id", DESK_ROLES, pk=run_id)
    cancel(Run.objects.filter(take=run.take, state__in=ACTIVE))
    return run_out(Run.objects.get(pk=run.pk))


def _positions(path):
    return [row if np.isfinite(row[0]) else None for row in path.round(5).tolist()]


@router.post("/takes/{take_id}/mends/preview", response=PreviewOut)
def preview_mend(request, take_id: int, payload: MendIn):
    """What a mend would do to its marker, nothing being changed."""
    first, rate, before, after = mends.preview(
        fetch_take(request, take_id), payload.document.dict(exclude_none=True), payload.performer
    )
    return {"first": first, "rate": rate, "before": _positions(before), "after": _positions(after)}


@router.post("/takes/{take_id}/mends", response=TakeOut)
def add_mends(request, take_id: int, payload: list[MendIn]):
    """Accept mends: all of them or none. The body is solved again in the background."""
    item = fetch_take(request, take_id)
    rows = [(row.document.dict(exclude_none=True), row.words, row.performer) for row in payload]
    with transaction.atomic():  # a mend and the work that follows from it, or neither
        solve_again(item, mends.accept(item, request.user, rows), request.user)
    return take(request, take_id)
