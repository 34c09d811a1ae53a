"""Cast: performers, kits, warm-ups and what they gave."""

from dataclasses import asdict
from datetime import datetime

from ninja import Field, Router, Schema

from otrevo.core.devices.catalogue import DEVICES
from otrevo.core.inertial.measures import MEASURES
from otrevo.server.accounts.access import DESK_ROLES, FLOOR_ROLES, fetch, require
from otrevo.server.cast.actions import make_performer, warm_up_slate
from otrevo.server.cast.models import Performer
from otrevo.server.given import Given

router = Router(tags=["cast"])


class CalibratedDevice(Schema):
    """What a warm-up gave for a device, in a few words and in full."""

    id: str
    words: str
    said: str
    details: str


class BoneOut(Schema):
    """A bone; offset_m: from its parent's joint in T-pose, metres."""

    name: str
    offset_m: list[float]


class ChartMarkerOut(Schema):
    """A marker; offset_m: from the joint of the bone it rides on in T-pose, metres."""

    name: str
    bone: str
    offset_m: list[float]


class WarmUpFigures(Schema):
    residual_rms_mm: float | None = None
    named_share: float | None = None
    suit_residual_deg: float | None = None
    joints_hardly_moved: list[str] = []
    markers_never_seen: list[str] = []
    notes: list[str] = []


class SensorOut(Schema):
    """A sensor of a suit; residual_deg: how far the warm-up's poses are off; sd_deg: how well its seat is known, one sigma.

    exchanged_with: the sensor that was worn in its place, "" for none.
    """

    bone: str
    residual_deg: float
    sd_deg: float
    exchanged_with: str = ""


class MeasureOut(Schema):
    """Something to measure on a performer, in metres; share: of the height where nobody measured it."""

    name: str
    words: str
    share: float
    least_m: float
    most_m: float


class CalibrationOut(Schema):
    id: int
    version: int
    made_at: datetime
    warm_up_take_id: int | None
    figures: WarmUpFigures
    bones: list[BoneOut]
    markers: list[ChartMarkerOut]
    devices: list[CalibratedDevice]
    sensors: list[SensorOut]


class PerformerOut(Schema):
    id: int
    name: str
    height_m: float
    measures: dict[str, float]
    kit: list[str]
    warm_up_slate_id: int | None
    calibrations: list[CalibrationOut]


class PerformerIn(Given):
    name: str = Field(max_length=60)
    height_m: float
    kit: list[str]
    measures: dict[str, float] = {}


class CurveOut(Schema):
    """One curve of a lane; channel: of the flattened sample."""

    channel: int
    side: str
    line: str


class LaneOut(Schema):
    """How a device's stream is drawn on the Bench (core.devices.contract.Lane)."""

    detail: str
    height: int
    draws: str
    parts: int
    curves: list[CurveOut]
    least_span: float


class DeviceOut(Schema):
    """A device as it declares itself; worn: it can be part of a performer's kit; channels: names of what it delivers, where they have any."""

    id: str
    words: str
    worn: bool
    channels: list[str]
    lane: LaneOut | None


@router.get("/devices", response=list[DeviceOut])
def devices(request):
    """All devices there are, in the order of their lanes."""
    return [
        {
            "id": d.id,
            "words": d.words,
            "worn": d.worn,
            "channels": list(d.channels),
            "lane": None if d.lane is None else asdict(d.lane),
        }
        for d in DEVICES
    ]


@router.get("/measures", response=list[MeasureOut])
def measures(request):
    """What may be measured on a performer."""
    return [
        {"name": name, "words": words, "share": share, "least_m": least, "most_m": most}
        for name, (words, share, least, most) in MEASURES.items()
    ]


@router.get("/productions/{production_id}/cast", response=list[PerformerOut])
def cast(request, production_id: int):
    require(request.user, production_id, DESK_ROLES)
    performers = Performer.objects.filter(production_id=production_id).prefetch_related("calibrations", "slates")
    return [performer_out(p) for p in performers]


@router.post("/productions/{production_id}/performers", response=PerformerOut)
def add_performer(request, production_id: int, payload: PerformerIn):
    require(request.user, production_id, FLOOR_ROLES)
    return performer_out(make_performer(production_id, payload.name, payload.height_m, payload.kit, payload.measures))


@router.post("/performers/{performer_id}/warm-up", response=PerformerOut)
def add_warm_up(request, performer_id: int):
    """The slate on which the performer's next warm-up is rolled, on the newest day; made if there is none."""
    performer = fetch(request.user, Performer.objects.all(), "production_id", FLOOR_ROLES, pk=performer_id)
    warm_up_slate(performer)
    return performer_out(Performer.objects.get(pk=performer_id))


def performer_out(performer):
    warm_up = max((s for s in performer.slates.all() if s.warm_up), key=lambda s: s.pk, default=None)
    return {
        "id": performer.pk, "name": performer.name, "height_m": performer.height_m, "kit": performer.kit, "measures": performer.measures,
        "warm_up_slate_id": warm_up.pk if warm_up else None,
        "calibrations": [calibration_out(c) for c in performer.calibrations.all()],
    }  # fmt: skip


def calibration_out(calibration):
    d = calibration.document
    return {
        "id": calibration.pk, "version": calibration.version, "made_at": calibration.made_at,
        "warm_up_take_id": calibration.warm_up_id, "figures": d["figures"], "bones": d["bones"], "markers": d["markers"],
        "devices": [
            dict(zip(("said", "details"), device.says(d[device.id]), strict=True)) | {"id": device.id, "words": device.words}
            for device in DEVICES if device.says and d.get(device.id)
        ],
        "sensors": [{"bone": bone, **row} for bone, row in d.get("suit", {}).items() if "sd_deg" in row],
    }  # fmt: skip
