"""Stage: the room, its recordings, blinds and calibrations; what is recorded now; takes that need their points anew."""

import json

import numpy as np
from django.db import transaction
from django.db.models import Count
from django.http import HttpResponse
from ninja import File, Form, Query, Router
from ninja.files import UploadedFile

from otrevo.core.errors import InputError
from otrevo.core.formats.documents import parse_document
from otrevo.core.optics.accuracy import expected_sd, seen_by
from otrevo.core.optics.trust import compare
from otrevo.core.optics.wand import SHIPPED_WANDS, wand_from_document
from otrevo.server.accounts.access import DESK_ROLES, FLOOR_ROLES, fetch, require
from otrevo.server.live.address import ask, ask_cameras
from otrevo.server.shoot.models import Production
from otrevo.server.stage.actions import draw_blinds, recording_from_file, undo_blinds
from otrevo.server.stage.jobs import queue_step
from otrevo.server.stage.models import StageCalibration, StageRecording
from otrevo.server.stage.room import (
    adjust,
    calibrated,
    covariance_of,
    newest_blinds,
    newest_calibration,
    resize,
    room_of,
)
from otrevo.server.stage.schemas import (
    AdjustIn,
    BlindsIn,
    CalibrationRow,
    CompareOut,
    KnockIn,
    PlanOut,
    RebuildIn,
    RecordIn,
    RecordingOut,
    RoomOut,
    SizeIn,
    StageCalibrationOut,
    StageRunOut,
    StepIn,
    StopIn,
    TrustOut,
    TrustRow,
    Words,
)
from otrevo.server.takes.jobs import busy, queue_from
from otrevo.server.takes.material import latest
from otrevo.server.takes.models import Take
from otrevo.server.takes.streams import frame_rows, recorded, stream_bytes
from otrevo.server.work.models import ACTIVE, Run
from otrevo.server.work.queue import cancel

router = Router(tags=["stage"])
GRID_M, REACH_M = 0.5, 4.0
LONGEST_FRAMES = 2400


def _room(request, production_id, roles):
    require(request.user, production_id, roles)
    return room_of(Production.objects.get(pk=production_id))


def _calibration(request, calibration_id, roles=DESK_ROLES):
    rows = StageCalibration.objects.select_related("room", "made_by")
    return fetch(request.user, rows, "room.production_id", roles, pk=calibration_id)


def run_out(run):
    keys = ("name", "state", "progress", "message", "asked_at")
    return {"id": run.pk} | {k: getattr(run, k) for k in keys}


def recording_out(recording):
    return {
        "id": recording.pk, "kind": recording.kind, "wand": (recording.wand or {}).get("name"), "source": recording.source,
        "seconds": recording.seconds, "notes": recording.notes, "made_at": recording.made_at,
        "made_by": recording.made_by.username if recording.made_by else "", "stream_id": recording.stream.pk,
        "frames": recording.stream.details["frames"],
    }  # fmt: skip


def calibration_row(calibration, takes=0):
    return {
        "id": calibration.pk, "version": calibration.version, "how": calibration.how, "words": calibration.words,
        "world": calibration.document["world"], "cameras": len(calibration.document["cameras"]),
        "failed": len(calibration.failed), "reprojection_rms_px": calibration.figures.get("reprojection_rms_px"),
        "wand_rms_mm": calibration.document.get("wand_rms_mm"),
        "position_limit_mm": calibration.figures.get("position_limit_mm"), "made_at": calibration.made_at,
        "made_by": calibration.made_by.username if calibration.made_by else "", "source_id": calibration.source_id,
        "takes": takes,
    }  # fmt: skip


def _trust_rows(room):
    """Every take that cameras recorded, newest first, with what its newest rebuild said of the calibration."""
    takes = Take.objects.filter(
        slate__day__production_id=room.production_id, streams__name="cameras", streams__run=None
    )
    newest = newest_calibration(room)
    rebuilds = Run.objects.filter(take__in=takes, kind="pass", name="rebuild", state=Run.State.DONE).order_by(
        "take", "-pk"
    )
    knocked = dict(rebuilds.distinct("take").values_list("take", "figures__knocked"))
    at_work = set(Run.objects.filter(take__in=takes, state__in=ACTIVE).values_list("take", flat=True))
    fields = ("pk", "slate__name", "number", "stage_calibration", "stage_calibration__version")
    return [
        {
            "take_id": take, "slate": slate, "number": number, "calibration_id": calibration,
            "calibration_version": version, "knocked": knocked.get(take) or [], "busy": take in at_work,
            "older": bool(calibration and newest and calibration != newest.pk),
        }
        for take, slate, number, calibration, version in takes.order_by("-rolled_at", "-pk").values_list(*fields)
    ]  # fmt: skip


def room_out(room):
    runs = {}
    for run in room.runs.order_by("id"):  # before what they made: a step that is done must not come without its result
        runs[run.name] = run
    blinds = newest_blinds(room)
    calibrations = list(room.calibrations.select_related("made_by"))
    takes = dict(
        Take.objects.filter(stage_calibration__room=room)
        .order_by()
        .values_list("stage_calibration")
        .annotate(Count("pk"))
    )
    return {
        "id": room.pk, "cameras": room.rig["cameras"], "rate": room.rig["rate"], "blinds": blinds.rows if blinds else [],
        "blinds_version": blinds.pk if blinds else 0, "blinds_words": blinds.words if blinds else None,
        "can_undo_blinds": blinds is not None,
        "can_redo_blinds": room.blinds.filter(undone=True).exists(),
        "wands": [w.to_document() for w in SHIPPED_WANDS.values()],
        "recordings": [recording_out(r) for r in room.recordings.select_related("stream", "made_by").order_by("-id")],
        "calibrations": [calibration_row(c, takes.get(c.pk, 0)) for c in calibrations],
        "runs": [run_out(r) for r in runs.values()], "takes": _trust_rows(room), "simulated": bool(room.rig.get("simulated")),
    }  # fmt: skip


@router.get("/productions/{production_id}/stage", response=RoomOut)
def stage(request, production_id: int):
    return room_out(_room(request, production_id, DESK_ROLES))


@router.post("/productions/{production_id}/stage/record", response=Words)
def record(request, production_id: int, payload: RecordIn):
    """Begin a recording of the room; its progress comes over the live socket."""
    room = _room(request, production_id, FLOOR_ROLES)
    wand = None
    if payload.kind in (StageRecording.Kind.SWEEP, StageRecording.Kind.WAND_ON_FLOOR):
        wand = _wand(payload.wand).to_document()
    ask({"do": "start", "production": room.production_id, "user": request.user.pk, "kind": payload.kind, "wand": wand})
    return {"words": f"Recording the {payload.kind}."}


def _wand(given):
    """A shipped wand by name, or one described by a wand/1 document. Raises InputError."""
    if isinstance(given, dict):
        return wand_from_document(given, "the wand")
    if given not in SHIPPED_WANDS:
        raise InputError(f"There is no wand '{given}'; choose one of {', '.join(SHIPPED_WANDS)}, or load a wand file.")
    return SHIPPED_WANDS[given]


@router.post("/productions/{production_id}/stage/stop", response=RecordingOut | None)
def stop(request, production_id: int, payload: StopIn):
    """End the recording; with keep false nothing of it stays."""
    room = _room(request, production_id, FLOOR_ROLES)
    answer = ask({"do": "stop", "production": room.production_id, "keep": payload.keep})
    if "recording" not in answer:
        return None
    return recording_out(StageRecording.objects.select_related("stream", "made_by").get(pk=answer["recording"]))


@router.post("/productions/{production_id}/stage/files", response=RecordingOut)
def load_recording(
    request, production_id: int, file: File[UploadedFile], kind: Form[str], wand: Form[str] = "", wand_file: File[UploadedFile] = None
):  # fmt: skip
    """A recorded sweep, still room or floor from a centroids CSV."""
    room = _room(request, production_id, FLOOR_ROLES)
    if kind not in StageRecording.Kind.values:
        raise InputError(f"'{kind}' is not a kind of recording; expected {', '.join(StageRecording.Kind.values)}.")
    document = None
    if kind in (StageRecording.Kind.SWEEP, StageRecording.Kind.WAND_ON_FLOOR):
        if wand_file is not None:
            if wand_file.size > 100_000:
                raise InputError(f"{wand_file.name}: larger than a wand file can be.")
            document = wand_from_document(parse_document(wand_file.read(), "wand/1", wand_file.name), wand_file.name)
        else:
            document = _wand(wand)
        document = document.to_document()
    return recording_out(recording_from_file(room, kind, file, request.user, document))


@router.get("/stage-recordings/{recording_id}/frames")
def recording_frames(request, recording_id: int, first: int = Query(0, ge=0), last: int = Query(120, ge=0)):
    """Centroids of frames [first, last) of a recording of the room, Arrow rows (frame, camera, x, y, radius)."""
    rows = StageRecording.objects.select_related("room", "stream")
    recording = fetch(request.user, rows, "room.production_id", DESK_ROLES, pk=recording_id)
    return _frames(recording.stream, first, last)


@router.get("/takes/{take_id}/frames")
def take_frames(request, take_id: int, first: int = Query(0, ge=0), last: int = Query(120, ge=0)):
    """Centroids of frames [first, last) of a take, Arrow rows (frame, camera, x, y, radius)."""
    take = fetch(request.user, Take.objects.select_related("slate__day"), "production_id", DESK_ROLES, pk=take_id)
    stream = recorded(take, "cameras")
    if stream is None:
        raise InputError("This take has no camera recording.")
    return _frames(stream, first, last)


def _frames(stream, first, last):
    if last - first > LONGEST_FRAMES:
        raise InputError(f"{last - first} frames at once; ask for at most {LONGEST_FRAMES}.")
    start, end = frame_rows(stream, first, last)
    response = HttpResponse(stream_bytes(stream, start, end), content_type="application/vnd.apache.arrow.stream")
    response["Cache-Control"] = "private, max-age=31536000, immutable"  # recordings never change
    return response


@router.post("/productions/{production_id}/stage/steps", response=StageRunOut)
def run_step(request, production_id: int, payload: StepIn):
    room = _room(request, production_id, FLOOR_ROLES)
    return run_out(queue_step(room, payload.name, request.user, payload.parameters.dict(exclude_none=True)))


@router.post("/stage-runs/{step_id}/cancel", response=StageRunOut)
def cancel_step(request, step_id: int):
    rows = Run.objects.filter(room__isnull=False).select_related("room")
    run = fetch(request.user, rows, "room.production_id", FLOOR_ROLES, pk=step_id)
    cancel(Run.objects.filter(pk=run.pk))
    return run_out(Run.objects.get(pk=run.pk))


@router.put("/productions/{production_id}/stage/blinds", response=RoomOut)
def set_blinds(request, production_id: int, payload: BlindsIn):
    room = _room(request, production_id, FLOOR_ROLES)
    draw_blinds(room, payload.rows, payload.words, request.user, payload.based_on)
    return room_out(room)


@router.post("/productions/{production_id}/stage/blinds/undo", response=Words)
def undo(request, production_id: int, redo: bool = False):
    return {"words": undo_blinds(_room(request, production_id, FLOOR_ROLES), redo)}


@router.get("/stage-calibrations/{calibration_id}", response=StageCalibrationOut)
def calibration(request, calibration_id: int):
    item = _calibration(request, calibration_id)
    distances = [d | {"first": d["from"], "last": d["to"]} for d in item.figures.get("distances", [])]
    return {
        "row": calibration_row(item, item.takes.count()), "cameras": item.document["cameras"], "rows": item.rows,
        "figures": item.figures | {"distances": distances}, "failed": item.failed, "notes": item.notes,
    }  # fmt: skip


@router.get("/stage-calibrations/{calibration_id}/plan", response=PlanOut)
def plan(request, calibration_id: int, height_m: float = Query(1.0, ge=-2, le=6)):
    """How many cameras see each place at a height, and how well a marker is found there."""
    item = _calibration(request, calibration_id)
    cameras, blinds = calibrated(item)
    steps = np.arange(-REACH_M, REACH_M + GRID_M / 2, GRID_M)
    x, z = np.meshgrid(steps, steps)
    points = np.stack([x.ravel(), np.full(x.size, height_m), z.ravel()], axis=1)
    count = seen_by(cameras, points, blinds).sum(axis=0).reshape(x.shape)
    noise = item.figures.get("reprojection_rms_px") or 0.1
    sd = 1000 * expected_sd(cameras, points, noise, covariance_of(item), blinds).reshape(x.shape)
    return {
        "x_m": steps.tolist(), "z_m": steps.tolist(), "height_m": height_m, "cameras": count.tolist(),
        "sd_mm": [[None if not np.isfinite(v) else round(float(v), 3) for v in row] for row in sd],
    }  # fmt: skip


@router.get("/stage-calibrations/{calibration_id}/compare/{other_id}", response=CompareOut)
def compare_versions(request, calibration_id: int, other_id: int):
    before, after = _calibration(request, calibration_id), _calibration(request, other_id)
    if before.room_id != after.room_id:
        raise InputError("These are calibrations of two rooms; compare two of one room.")
    old, new = calibrated(before)[0], calibrated(after)[0]
    names = [{c.name for c in old}, {c.name for c in new}]
    rows, world = compare(old, new)
    return {
        "before": before.version, "after": after.version, "rows": rows, "world_turned_deg": world["turned_deg"],
        "world_moved_mm": world["moved_mm"],
        "only_before": sorted(names[0] - names[1]), "only_after": sorted(names[1] - names[0]),
    }  # fmt: skip


@router.post("/stage-calibrations/{calibration_id}/adjust", response=CalibrationRow)
def adjust_calibration(request, calibration_id: int, payload: AdjustIn):
    item = _calibration(request, calibration_id, FLOOR_ROLES)
    return calibration_row(adjust(item, payload.quarter_turns, payload.raise_mm, request.user))


@router.get("/stage-calibrations/{calibration_id}/file")
def calibration_file(request, calibration_id: int):
    """The calibration as a `calibration/1` document."""
    item = _calibration(request, calibration_id)
    response = HttpResponse(json.dumps(item.document, indent=1), content_type="application/json")
    response["Content-Disposition"] = f'attachment; filename="calibration-{item.version}.json"'
    return response


@router.get("/takes/{take_id}/trust", response=TrustOut | None)
def trust(request, take_id: int):
    """What the newest rebuild of a take measured of the calibration; null before there is one."""
    take = fetch(request.user, Take.objects.select_related("slate__day"), "production_id", DESK_ROLES, pk=take_id)
    run = latest(take, "rebuild")
    if run is None:
        return None
    figures = run.figures
    return {"calibration_version": figures["calibration"], "cameras": figures["cameras"]} | figures["trust"]


@router.post("/productions/{production_id}/stage/rebuild", response=list[TrustRow])
def rebuild_takes(request, production_id: int, payload: RebuildIn):
    """Give takes the newest calibration and work them through again from their cameras."""
    room = _room(request, production_id, FLOOR_ROLES)
    newest = newest_calibration(room)
    if newest is None:
        raise InputError("The stage has no calibration yet.")
    with transaction.atomic():
        found = Take.objects.filter(pk__in=payload.takes, slate__day__production_id=production_id)
        for take in found.select_related("slate__day__production__room"):
            if busy(take):
                continue
            take.stage_calibration = newest
            take.save(update_fields=["stage_calibration"])
            queue_from(take, "rebuild", user=request.user)
    return _trust_rows(room)


@router.put("/productions/{production_id}/stage/size", response=RoomOut)
def set_size(request, production_id: int, payload: SizeIn):
    """How many cameras hang in the simulated room, before anything was recorded in it."""
    room = _room(request, production_id, FLOOR_ROLES)
    resize(room, payload.cameras)
    ask({"do": "again", "production": room.production_id})
    return room_out(room)


@router.post("/productions/{production_id}/stage/knock", response=Words)
def knock(request, production_id: int, payload: KnockIn):
    """In the simulated room somebody runs into a camera."""
    room = _room(request, production_id, FLOOR_ROLES)
    answer = ask_cameras({"do": "knock", "production": room.production_id, "camera": payload.camera})
    ask({"do": "again", "production": room.production_id})
    return {"words": answer["words"]}
