"""What a person can do to the room without waiting: keep a recording, draw blinds, take a blind back."""

import tempfile
from fractions import Fraction
from pathlib import Path

from django.conf import settings
from django.db import transaction

from otrevo.core.errors import InputError
from otrevo.core.formats.centroids import read_centroids
from otrevo.core.formats.csv_layout import TABLE_ENDINGS
from otrevo.core.optics.documents import blinds_from_rows
from otrevo.server.stage.models import Blinds, StageRecording
from otrevo.server.stage.room import newest_blinds, rig_of
from otrevo.server.takes.streams import write_centroids

SHORTEST_S = 1.0
MOST_BLINDS = 200


def keep_recording(room, kind, centroids, rate, user, wand=None, source="cameras", notes=(), stamps=()):
    """Store what the cameras saw as a StageRecording. Raises InputError when it is too short to be of use."""
    seconds = centroids.frames / float(rate)
    if seconds < SHORTEST_S:
        raise InputError(f"{seconds:.1f} s is too short; record at least {SHORTEST_S:.0f} s.")
    with transaction.atomic():
        recording = StageRecording.objects.create(
            room=room, kind=kind, wand=wand, source=source, seconds=seconds, notes=list(notes), made_by=user
        )
        names = [c["id"] for c in room.rig["cameras"]]
        write_centroids(None, kind, Fraction(rate), centroids, names, stamps, recording)
    return recording


def recording_from_file(room, kind, upload, user, wand=None):
    """A StageRecording from an uploaded table of centroids. Raises InputError naming what cannot be used."""
    if upload.size > settings.MAX_UPLOAD_BYTES:
        raise InputError(f"{upload.name}: larger than {settings.MAX_UPLOAD_BYTES // 2**20} MiB.")
    if not upload.name.lower().endswith(TABLE_ENDINGS):
        raise InputError(f"{upload.name}: expected centroids in a file that ends in {', '.join(TABLE_ENDINGS)}.")
    rig, rate = rig_of(room)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "centroids.csv"  # never a path from a user's name
        with path.open("wb") as out:
            for part in upload.chunks():
                out.write(part)
        try:
            centroids, notes = read_centroids(path, rig)
        except InputError as error:
            raise InputError(str(error).replace(path.name, upload.name)) from None
    return keep_recording(room, kind, centroids, rate, user, wand, Path(upload.name).name[:120], notes)


def draw_blinds(room, rows, words, user, based_on=None):
    """The blinds as somebody drew them: a new version that can be undone.

    based_on: the number of the version they were drawn over (0: there was none), where the drawer says. Raises InputError
    naming a row that is wrong, or when the blinds have changed since that version.
    """
    if len(rows) > MOST_BLINDS:
        raise InputError(f"{len(rows)} blinds; at most {MOST_BLINDS} can be kept.")
    rig, _ = rig_of(room)
    blinds_from_rows(rows, [c.name for c in rig], "blinds")
    keep = ("camera", "x", "y", "radius", "share", "by_hand")
    rows = [{k: r[k] for k in keep if k in r} for r in rows]
    with transaction.atomic():
        type(room).objects.select_for_update().get(pk=room.pk)
        newest = newest_blinds(room)
        if based_on is not None and based_on != (newest.pk if newest else 0):
            raise InputError(
                "The blinds have changed meanwhile, so yours were not drawn; look at them, then draw again."
            )
        room.blinds.filter(undone=True).delete()  # a new change ends what could be redone
        return Blinds.objects.create(room=room, rows=rows, words=words[:160], made_by=user)


def undo_blinds(room, redo=False):
    """Take back the last version of the blinds, or bring the last undone one back. Returns its words or None."""
    if redo:
        change = room.blinds.filter(undone=True).order_by("id").first()
    else:
        change = newest_blinds(room)
    if change is None:
        return None
    change.undone = not redo
    change.save(update_fields=["undone"])
    return change.words
