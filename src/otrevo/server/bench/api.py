"""Bench: one take's streams, runs, snags and mends; tracks as Arrow bytes."""

import numpy as np
from django.db import transaction
from django.http import HttpResponse
from ninja import Field, Query, Router, Schema
from ninja.errors import HttpError

from otrevo.core.errors import InputError
from otrevo.core.markers.mends import check_mend
from otrevo.server.accounts.access import DESK_ROLES, EVERYONE, fetch, role_in
from otrevo.server.accounts.models import Role
from otrevo.server.bench.jobs import queue_from
from otrevo.server.bench.models import Mend, Run
from otrevo.server.bench.passes import latest, mend_preview
from otrevo.server.shoot.api import RunOut, TakeRow, busy, fetch_take, newest_runs, run_out, take_row
from otrevo.server.shoot.models import Change, Take
from otrevo.server.streams.models import Stream
from otrevo.server.streams.store import stream_bytes

router = Router(tags=["bench"])
LONGEST_RANGE = 2_000_000


class StreamOut(Schema):
    id: int
    name: str
    kind: str
    rate: str
    shape: list[int]
    samples: int
    details: dict
    computed: bool


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
    from_pass: str
    mended: bool


class MendOut(Schema):
    id: int
    words: str
    active: bool
    document: dict


class TakeOut(Schema):
    take: TakeRow
    production_id: int
    production: str
    day: int
    slate_id: int
    slate: str
    title: str
    performer: str
    timecode_rate: str
    drop_frame: bool
    calibration_version: int | None
    streams: list[StreamOut]
    snags: list[SnagOut]
    mends: list[MendOut]


class MendIn(Schema):
    document: dict
    words: str = ""


class PreviewOut(Schema):
    """One marker from frame `first` on: places in metres, null where hidden, before and after the mend."""

    first: int
    rate: str
    before: list[list[float] | None]
    after: list[list[float] | None]


def _snags(take):
    """Snags of the newest finished runs; those about gaps that a later mend filled are marked."""
    out = []
    active = [m.document for m in take.mends.all() if m.active]
    solved = latest(take, "solve") is not None
    for name in ("rebuild", "line up", "calibrate", "label", "solve"):
        run = latest(take, name)
        if run is None:
            continue
        for snag in run.snags:
            if name == "label" and solved and snag["kind"] in ("gap", "spike", "missing marker"):
                continue  # the solve run lists what is left of these after mending
            out.append(snag | {"from_pass": name, "mended": _is_mended(snag, active)})
    return sorted(out, key=lambda s: (s["mended"], -s["severity"], s["start_s"]))


def _is_mended(snag, mends):
    proposal = snag.get("proposal")
    return bool(proposal) and any(
        m["marker"] == proposal["marker"] and m["start"] <= proposal["start"] and m["end"] >= proposal["end"]
        for m in mends
    )


def _streams(take):
    newest = [r.pk for r in (latest(take, n) for n in ("rebuild", "label", "solve")) if r]
    rows = Stream.objects.filter(take=take).filter(run=None) | Stream.objects.filter(run_id__in=newest)
    return [
        {"id": s.pk, "name": s.name, "kind": s.kind, "rate": s.rate, "shape": s.shape, "samples": s.samples,
         "details": s.details, "computed": s.run_id is not None}
        for s in rows.order_by("id")
    ]  # fmt: skip


@router.get("/takes/{take_id}/bench", response=TakeOut)
def take(request, take_id: int):
    item = fetch_take(request, take_id)
    production = item.production
    return {
        "take": take_row(item), "production_id": production.pk, "production": production.name, "day": item.slate.day.number,
        "slate_id": item.slate_id, "slate": item.slate.name, "title": item.slate.title, "performer": item.slate.performer.name,
        "timecode_rate": production.timecode_rate, "drop_frame": production.drop_frame,
        "calibration_version": item.calibration.version if item.calibration else None,
        "streams": _streams(item), "snags": _snags(item),
        "mends": [{"id": m.pk, "words": m.words, "active": m.active, "document": m.document} for m in item.mends.all()],
    }  # fmt: skip


@router.get("/takes/{take_id}/runs", response=list[RunOut])
def runs(request, take_id: int):
    return newest_runs(fetch_take(request, take_id))


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


class RebuildLimits(Schema):
    """What the rebuild may be told: how many cameras must see a new point, how far off a sighting may lie."""

    min_cameras: int = Field(3, ge=2, le=12)
    residual_limit_px: float = Field(0.7, ge=0.2, le=10)


@router.post("/takes/{take_id}/passes/{name}", response=RunOut)
def run_pass(request, take_id: int, name: str, limits: RebuildLimits | None = None):
    item = fetch_take(request, take_id)
    name = name.replace("-", " ")
    if limits is not None and name != "rebuild":
        raise InputError(f"Limits are for the rebuild; {name} takes none.")
    if item.runs.filter(state__in=[Run.State.QUEUED, Run.State.RUNNING]).exists():
        raise InputError("A pass is already at work on this take; wait for it or cancel it.")
    newest = item.calibration and item.slate.performer.calibrations.first()
    if item.calibration is None and (newest := item.slate.performer.calibrations.first()):
        Take.objects.filter(pk=item.pk).update(calibration=newest)
    return run_out(queue_from(item, name, limits and limits.dict()))


@router.post("/runs/{run_id}/cancel", response=RunOut)
def cancel(request, run_id: int):
    runs = Run.objects.select_related("take__slate__day")
    run = fetch(request.user, runs, "take.production_id", DESK_ROLES, pk=run_id)
    run.take.runs.filter(state__in=[Run.State.QUEUED, Run.State.RUNNING]).update(cancel_asked=True)
    run.refresh_from_db()
    return run_out(run)


@router.post("/takes/{take_id}/mends/preview", response=PreviewOut)
def preview_mend(request, take_id: int, payload: MendIn):
    """What a mend would do to its marker, nothing being changed."""
    item = fetch_take(request, take_id)
    solve = latest(item, "solve")
    if solve is None:
        raise InputError("The take is not solved yet; a mend cannot be shown before it.")
    stream = solve.tracks.get(name="mended")
    check_mend(payload.document, stream.details["names"], stream.samples)
    first, before, after = mend_preview(item, solve, payload.document)

    def places(path):
        return [row if np.isfinite(row[0]) else None for row in path.round(5).tolist()]

    return {"first": first, "rate": stream.rate, "before": places(before), "after": places(after)}


@router.post("/takes/{take_id}/mends", response=TakeOut)
def add_mends(request, take_id: int, payload: list[MendIn]):
    """Accept mends: all of them or none. The body is solved again in the background."""
    item = fetch_take(request, take_id)
    solve = latest(item, "solve")
    if solve is None:
        raise InputError("The take is not solved yet; mends are checked against its markers.")
    stream = solve.tracks.get(name="mended")
    for row in payload:
        check_mend(row.document, stream.details["names"], stream.samples)
    with transaction.atomic():
        item.changes.filter(undone=True).delete()
        made = []
        for row in payload:
            words = row.words or f"{row.document['kind']} {row.document['marker']}"
            made.append(Mend.objects.create(take=item, document=row.document, words=words[:160], user=request.user))
        if made:  # accepted together, undone together
            more = f" and {len(made) - 1} more" if len(made) > 1 else ""
            Change.objects.create(
                take=item, user=request.user, words=made[0].words[:140] + more, after={"mends": [m.pk for m in made]}
            )
    if not busy(item):
        queue_from(item, "solve")
    return take(request, take_id)
