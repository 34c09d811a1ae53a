"""Mends of a take: shown before they are made, accepted together, taken back together."""

from fractions import Fraction

import numpy as np
from django.db import transaction

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.performer import performer_from_document
from otrevo.core.body.skeleton import Skeleton
from otrevo.core.errors import InputError
from otrevo.core.markers.mends import apply_mends, check_mend
from otrevo.core.solve.body import markers_on
from otrevo.server.takes.material import appearance_of, latest
from otrevo.server.takes.models import Change, Mend
from otrevo.server.takes.streams import read_stream

PREVIEW_FRAMES = 30


def solved(take, performer=""):
    """The newest solve of a take, of a performer by name. Raises InputError: mends are checked against its markers."""
    who = None
    if performer:
        who = next((a.performer for a in take.appearances.all() if a.performer.name == performer), None)
        if who is None:
            raise InputError(f"{performer} is not in this take.")
    run = latest(take, "solve", who)
    if run is None:
        raise InputError("The take is not solved yet; mends are checked against its markers.")
    return run


def stored_motion(run, first=0, last=None):
    """The Motion that a finished solve stored, frames [first, last)."""
    stream = run.tracks.get(name="body rotation")
    d = stream.details
    skeleton = Skeleton(tuple(d["bones"]), np.array(d["parents"]), np.array(d["offsets_m"]))
    root = read_stream(run.tracks.get(name="body root"), first, last).astype(float)
    rotation = read_stream(stream, first, last).astype(float)
    rotation /= np.linalg.norm(rotation, axis=-1, keepdims=True)
    return Motion(skeleton, Fraction(stream.rate), root, rotation)


def mended_markers(run):
    """The Stream of a solve's markers. Raises InputError for a body from a suit alone."""
    stream = run.tracks.filter(name="mended").first()
    if stream is None:
        raise InputError("This performer wore no markers, so there is nothing to mend.")
    return stream


def preview(take, document, performer=""):
    """What a mend would do to its marker: (first frame, rate, path before (T, 3), path after), metres."""
    run = solved(take, performer)
    stream = mended_markers(run)
    check_mend(document, stream.details["names"], stream.samples)
    first = max(0, document["start"] - PREVIEW_FRAMES)
    last = min(stream.samples, document["end"] + PREVIEW_FRAMES)
    m = stream.details["names"].index(document["marker"])
    before = read_stream(stream, first, last).astype(float)[:, m : m + 1]
    appearance = appearance_of(take, run.performer)
    calibration = performer_from_document(appearance.calibration.document, f"{appearance.performer.name}'s calibration")
    predicted = markers_on(calibration, stored_motion(run, first, last))[:, m]
    moved = document | {"start": document["start"] - first, "end": document["end"] - first}
    after = apply_mends(before, [document["marker"]], [moved], predicted[:, None])
    return first, stream.rate, before[:, 0], after[:, 0]


@transaction.atomic
def accept(take, user, rows):
    """Accept mends, rows of (document, words, performer's name): all of them or none; they are one entry of the history.

    Returns the Mends.
    """
    if not rows:
        return []
    runs = {name: solved(take, name) for name in {name for _, _, name in rows}}
    streams = {name: mended_markers(run) for name, run in runs.items()}
    for document, _, name in rows:
        check_mend(document, streams[name].details["names"], streams[name].samples)
    take.changes.filter(undone=True, user=user).delete()
    made = Mend.objects.bulk_create(
        Mend(
            take=take, performer=runs[name].performer, document=document, user=user,
            words=(words or f"{document['kind']} {document['marker']}")[:160],
        )
        for document, words, name in rows
    )  # fmt: skip
    more = f" and {len(made) - 1} more" if len(made) > 1 else ""
    after = {"mends": [m.pk for m in made]}
    Change.objects.create(take=take, user=user, words=made[0].words[:140] + more, after=after)
    return made
