"""Cast: performers, kits, warm-ups and what they gave."""

from datetime import datetime

from ninja import Router, Schema

from otrevo.server.accounts.access import DESK_ROLES, require
from otrevo.server.cast.models import Performer

router = Router(tags=["cast"])


class CalibrationOut(Schema):
    id: int
    version: int
    made_at: datetime
    warm_up_take_id: int | None
    figures: dict
    bones: list[dict]
    markers: list[dict]
    suit: dict
    face_weak: list[str]
    gloves: bool


class PerformerOut(Schema):
    id: int
    name: str
    height_m: float
    kit: list[str]
    warm_up_slate_id: int | None
    calibrations: list[CalibrationOut]


@router.get("/productions/{production_id}/cast", response=list[PerformerOut])
def cast(request, production_id: int):
    require(request.user, production_id, DESK_ROLES)
    performers = Performer.objects.filter(production_id=production_id).prefetch_related("calibrations", "slates")
    return [performer_out(p) for p in performers]


def performer_out(performer):
    warm_up = next((s for s in performer.slates.all() if s.warm_up), None)
    return {
        "id": performer.pk, "name": performer.name, "height_m": performer.height_m, "kit": performer.kit,
        "warm_up_slate_id": warm_up.pk if warm_up else None,
        "calibrations": [calibration_out(c) for c in performer.calibrations.all()],
    }  # fmt: skip


def calibration_out(calibration):
    d = calibration.document
    return {
        "id": calibration.pk, "version": calibration.version, "made_at": calibration.made_at,
        "warm_up_take_id": calibration.warm_up_id, "figures": d["figures"], "bones": d["bones"], "markers": d["markers"],
        "suit": d["suit"], "face_weak": (d["face"] or {}).get("weak", []), "gloves": bool(d["gloves"]),
    }  # fmt: skip
