"""Bench: one take's streams, runs, snags and mends; tracks as Arrow bytes."""

import numpy as np
from django.http import HttpResponse
from ninja import Query, Router, Schema
from ninja.errors import HttpError

from otrevo.core.errors import InputError
from otrevo.core.passes.catalogue import PASSES
from otrevo.server.accounts.access import DESK_ROLES, EVERYONE, fetch, role_in
from otrevo.server.accounts.models import Role
from otrevo.server.takes import mends
from otrevo.server.takes.jobs import need_nothing_at_work, passes_of_take, queue_from, solve_again
from otrevo.server.takes.material import clocks, latest
from otrevo.server.takes.models import Stream
from otrevo.server.takes.rows import RunOut, TakeRow, fetch_take, run_out, runs_out, take_row
from otrevo.server.takes.streams import stream_bytes
from otrevo.server.work.models import ACTIVE, Run
from otrevo.server.work.queue import cancel

router = Router(tags=["bench"])
LONGEST_RANGE = 2_000_000


class StreamOut(Schema):
    """One stream; start_s and rate_hz are its fitted clock: sample i lies at start_s + i / rate_hz seconds of the take."""

    id: int
    name: str
    kind: str
    rate: str
    shape: list[int]
    samples: int
    start_s: float
    rate_hz: float
    details: dict
    computed: bool
    performer: str
    prop: str


class SnagOut(Schema):
    kind: str
    stream: str
    start_s: float
    end_s: float
    severity: float
    text: str
    limit: str
    subject: str = ""
    proposal: dict | None = None
    damage_mm: float | None = None
    from_pass: str
    mended: bool


class MendOut(Schema):
    id: int
    words: str
    active: bool
    document: dict


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


class PassOut(Schema):
    """A pass that this take goes through."""

    name: str
    words: str
    sentence: str
    parameters: list[ParameterOut]


class AppearanceOut(Schema):
    performer_id: int
    performer: str
    kit: list[str]
    calibration_version: int | None


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


class MendIn(Schema):
    document: dict
    words: str = ""


class PreviewOut(Schema):
    """One marker from frame `first` on: positions in metres, null where hidden, before and after the mend."""

    first: int
    rate: str
    before: list[list[float] | None]
    after: list[list[float] | None]


def _snags(take):
    """Snags of the newest finished runs; those about gaps that a later mend filled are marked."""
    active = [m.document for m in take.mends.all() if m.active]
    runs = {p.name: latest(take, p.name) for p in PASSES}
    out = []
    for p in PASSES:
        anew = {kind for later, kinds in p.found_anew.items() if runs.get(later) for kind in kinds}
        for snag in runs[p.name].snags if runs[p.name] else ():
            if snag["kind"] not in anew:
                out.append(snag | {"from_pass": p.name, "mended": _is_mended(snag, active)})
    return sorted(out, key=lambda s: (s["mended"], -s["severity"], s["start_s"]))


def _is_mended(snag, documents):
    proposal = snag.get("proposal")
    return bool(proposal) and any(
        m["marker"] == proposal["marker"] and m["start"] <= proposal["start"] and m["end"] >= proposal["end"]
        for m in documents
    )


def _streams(take):
    """Recorded streams, and the tracks of the newest run of every pass for everybody."""
    performers = [a.performer for a in take.in_it]
    about = [(p.name, who) for p in PASSES for who in (performers if p.about == "performer" else [None])]
    newest = [r.pk for r in (latest(take, name, who) for name, who in about) if r]
    rows = Stream.objects.filter(take=take, run=None) | Stream.objects.filter(take=take, run_id__in=newest)
    rows = list(rows.select_related("performer").order_by("id"))
    clock = clocks(take, rows)
    return [stream_out(s, clock[s.pk]) for s in rows]


def stream_out(s, clock):
    return {
        "id": s.pk, "name": s.name, "kind": s.kind, "rate": s.rate, "shape": s.shape, "samples": s.samples,
        "start_s": clock.start_s, "rate_hz": clock.hz, "details": s.details, "computed": s.run_id is not None,
        "performer": s.performer.name if s.performer_id else "", "prop": s.prop,
    }  # fmt: skip


def pass_out(p):
    keys = ("name", "words", "default", "low", "high", "step", "unit", "sentence", "whole")
    return {
        "name": p.name, "words": p.words, "sentence": p.figure.sentence,
        "parameters": [{k: getattr(x, k) for k in keys} for x in p.parameters],
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
             "calibration_version": a.calibration.version if a.calibration else None}
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


class PassIn(Schema):
    model_config = {"extra": "forbid"}
    parameters: dict = {}


@router.post("/takes/{take_id}/passes/{name}", response=RunOut)
def run_pass(request, take_id: int, name: str, payload: PassIn | None = None):
    """Run a pass again, and everything that builds on it; parameters as the pass declares them."""
    item = fetch_take(request, take_id)
    need_nothing_at_work(item)
    return run_out(queue_from(item, name.replace("-", " "), payload.parameters if payload else {}, request.user))


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
    first, rate, before, after = mends.preview(fetch_take(request, take_id), payload.document)
    return {"first": first, "rate": rate, "before": _positions(before), "after": _positions(after)}


@router.post("/takes/{take_id}/mends", response=TakeOut)
def add_mends(request, take_id: int, payload: list[MendIn]):
    """Accept mends: all of them or none. The body is solved again in the background."""
    item = fetch_take(request, take_id)
    mends.accept(item, request.user, [(row.document, row.words) for row in payload])
    solve_again(item, request.user)
    return take(request, take_id)
