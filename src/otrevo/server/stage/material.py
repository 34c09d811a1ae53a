"""A room's recordings, calibrations and takes as the core's passes want them."""

from fractions import Fraction

from otrevo.core.errors import InputError
from otrevo.core.optics.wand import wand_from_document
from otrevo.core.passes.room import RoomMaterial, RoomRecording
from otrevo.server.stage.models import StageRecording
from otrevo.server.stage.room import current_blinds, newest_calibration, rig_of, room_calibration
from otrevo.server.takes.material import latest
from otrevo.server.takes.models import Take
from otrevo.server.takes.streams import read_centroids, recorded

MOST_TAKES = 4  # that tell of one knocked camera


def recording_of(room, kind, number=None):
    """The room's StageRecording of that number, or the newest of its kind, or None."""
    found = room.recordings.filter(kind=kind).select_related("stream")
    return found.filter(pk=number).first() if number else found.order_by("-id").first()


def source_of(room, parameters):
    """The StageCalibration that a pass begins with: the one that was named, or the newest, or None."""
    return room.calibrations.filter(pk=parameters.get("calibration")).first() or newest_calibration(room)


def material_of(room, parameters):
    """The RoomMaterial of a room. parameters: what was named; what was not is the newest. Raises InputError."""
    kinds = StageRecording.Kind
    rig, rate = rig_of(room)
    source = source_of(room, parameters)
    levelled = next((c for c in room.calibrations.all() if c.document["world"] == "levelled"), None)
    floor = recording_of(room, kinds.FLOOR_MARKERS) if parameters.get("with_floor", True) else None
    return RoomMaterial(
        rig=tuple(rig),
        rate=rate,
        blinds=tuple(current_blinds(room)[1]),
        still=_seen(recording_of(room, kinds.STILL, parameters.get("recording"))),
        sweep=_seen(recording_of(room, kinds.SWEEP, parameters.get("recording"))),
        wand_on_floor=_seen(recording_of(room, kinds.WAND_ON_FLOOR, parameters.get("wand_recording"))),
        floor_markers=_seen(floor),
        calibration=source and room_calibration(source),
        levelled=levelled and room_calibration(levelled),
        camera=parameters.get("camera") or "",
        takes=tuple(_seen_in(t) for t in takes_of(room, parameters)),
    )


def _seen(recording):
    """A StageRecording as passes see it, or None."""
    if recording is None:
        return None
    stream = recording.stream
    wand = wand_from_document(recording.wand, "the recording's wand") if recording.wand else None
    return RoomRecording(
        lambda: read_centroids(stream), tuple(stream.details["cameras"]), Fraction(stream.rate), recording.seconds, wand,
        tuple(recording.notes),
    )  # fmt: skip


def _seen_in(take):
    stream = recorded(take, "cameras")
    if stream is None:
        raise InputError("This take has no camera recording, so there is nothing to place a camera by.")
    return RoomRecording(
        lambda: read_centroids(stream), tuple(stream.details["cameras"]), Fraction(stream.rate), take.duration_s,
        name=f"{take.slate.name} take {take.number}",
    )  # fmt: skip


def takes_of(room, parameters):
    """The take that was named and those since, by the same calibration, in which the same camera stands elsewhere too."""
    if parameters.get("take") is None:
        return []
    take = Take.objects.filter(pk=parameters["take"], slate__day__production=room.production).first()
    if take is None:
        raise InputError("There is no such take in this production.")
    later = Take.objects.filter(
        slate__day__production=room.production, stage_calibration=take.stage_calibration, rolled_at__gt=take.rolled_at
    ).order_by("rolled_at")
    out = []
    for one in later:
        rebuilt = latest(one, "rebuild")
        if rebuilt and any(k["camera"] == parameters.get("camera") for k in rebuilt.figures.get("knocked", [])):
            out.append(one)
    return [take, *out[: MOST_TAKES - 1]]
