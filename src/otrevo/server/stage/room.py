"""The room of a production, the calibration that counts, and new versions of it."""

from dataclasses import replace
from fractions import Fraction

import numpy as np
from django.db import transaction

from otrevo.core.errors import InputError
from otrevo.core.optics.documents import blinds_from_rows, calibration_from_document, calibration_to_document
from otrevo.core.optics.level import quarter_turned
from otrevo.core.optics.rig import rig_from_document
from otrevo.core.passes.room import RoomCalibration
from otrevo.server.live.address import ask_cameras
from otrevo.server.stage.models import Room, StageCalibration


def room_of(production):
    """The production's Room; its cameras are asked who they are when it is used for the first time. Raises InputError."""
    room = Room.objects.filter(production=production).first()
    if room is None:
        rig = ask_cameras({"do": "who", "production": production.pk})["rig"]
        room, _ = Room.objects.get_or_create(production=production, defaults={"rig": rig})
    return room


def resize(room, cameras):
    """Hang another number of cameras in the simulated room. Raises InputError once anything was recorded or solved in it."""
    if room.recordings.exists() or room.calibrations.exists():
        raise InputError("This room is in use: its recordings and calibrations know the cameras it has.")
    room.rig = ask_cameras({"do": "hang", "production": room.production_id, "cameras": cameras})["rig"]
    room.blinds.all().delete()
    room.save(update_fields=["rig"])


def rig_of(room):
    """(RigCameras, rate) of the room."""
    return rig_from_document(room.rig, "the room's cameras")


def newest_blinds(room):
    """The version of the blinds that counts now, or None."""
    return room.blinds.filter(undone=False).order_by("-id").first()


def current_blinds(room):
    """(rows, Blinds over the rig's cameras) that count now."""
    newest = newest_blinds(room)
    rows = newest.rows if newest else []
    return rows, blinds_from_rows(rows, [c.name for c in rig_of(room)[0]], "the room's blinds")


def calibrated(calibration):
    """(cameras, Blinds over them) of a StageCalibration."""
    return calibration_from_document(calibration.document, f"calibration {calibration.version}")


def newest_calibration(room):
    """The newest calibration, levelled or not, or None."""
    return room.calibrations.order_by("-version").first()


def covariance_of(calibration):
    """(15 C, 15 C) float64, or None where it is not known."""
    if calibration.covariance is None:
        return None
    size = 15 * len(calibration.document["cameras"])
    stored = bytes(calibration.covariance)
    short = len(stored) == 4 * size * size  # versions of before it was needed in full
    return np.frombuffer(stored, dtype=np.float32 if short else np.float64).reshape(size, size).astype(float)


@transaction.atomic
def new_version(room, how, words, cameras, world, blinds, user, rows=(), wand_rms_mm=None, covariance=None, **values):
    """The next version of the room's calibration. `cameras` as solved, `blinds` numbered over them."""
    type(room).objects.select_for_update().get(pk=room.pk)  # two at once must not take one number
    version = 1 + max([c.version for c in room.calibrations.all()], default=0)
    rate = Fraction(room.rig["rate"])
    return StageCalibration.objects.create(
        room=room, version=version, how=how, words=words, rows=list(rows), made_by=user,
        document=calibration_to_document(cameras, wand_rms_mm, world, blinds, rows, rate),
        covariance=None if covariance is None else np.asarray(covariance, dtype=np.float64).tobytes(), **values,
    )  # fmt: skip


def room_calibration(stored):
    """A StageCalibration as the core's passes see it."""
    cameras, blinds = calibrated(stored)
    return RoomCalibration(
        cameras=tuple(cameras), blinds=tuple(blinds), levelled=stored.document["world"] == "levelled", version=stored.version,
        how=stored.how, words=stored.words, covariance=covariance_of(stored), rows=tuple(stored.rows), failed=stored.failed,
        notes=tuple(stored.notes), figures=stored.figures, wand_rms_mm=stored.document.get("wand_rms_mm"),
    )  # fmt: skip


def store_calibration(room, made, user, source=None, recording=None):
    """The next version of the room's calibration from a RoomCalibration; source: the one it was made from."""
    return new_version(
        room, made.how, made.words, made.cameras, "levelled" if made.levelled else "free", made.blinds, user, made.rows,
        made.wand_rms_mm, made.covariance, figures=made.figures, failed=made.failed, notes=list(made.notes), source=source,
        recording=recording or (source and source.recording),
    )  # fmt: skip


def adjust(calibration, quarter_turns, raise_mm, user):
    """Turn the world's front by quarters and raise it: a new version at once."""
    if not -3 <= quarter_turns <= 3 or not -500 <= raise_mm <= 500 or (quarter_turns, raise_mm) == (0, 0):
        raise InputError("Turn by 1 to 3 quarters, or raise by up to 500 mm.")
    said = [f"turned by {90 * quarter_turns}°"] * bool(quarter_turns) + [f"raised by {raise_mm:g} mm"] * bool(raise_mm)
    moved = room_calibration(calibration).moved(quarter_turned(quarter_turns), np.array([0, raise_mm / 1000, 0]))
    adjusted = replace(moved, how="adjust", words=" and ".join(said))
    return store_calibration(calibration.room, adjusted, user, source=calibration)
