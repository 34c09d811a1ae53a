"""Passes that prepare a room, as work: one after the other for each room."""

from django.contrib.auth.models import User
from django.db import transaction

from otrevo.core.errors import InputError
from otrevo.core.passes.catalogue import ROOM_PASSES, pass_named
from otrevo.server.stage.material import material_of, recording_of, source_of, takes_of
from otrevo.server.stage.models import Blinds, StageRecording
from otrevo.server.stage.room import current_blinds, rig_of, store_calibration
from otrevo.server.work.kinds import Kind
from otrevo.server.work.models import ACTIVE, Run
from otrevo.server.work.queue import queue


@transaction.atomic
def queue_step(room, name, user, parameters=None):
    """Queue a pass over a room. Returns its Run. Raises InputError for an unknown one, or while the same is at work.

    parameters: the pass's settings, and which recordings, calibration, take and camera it is about.
    """
    one, parameters = pass_named(name, ROOM_PASSES), parameters or {}
    one.checked(_settings(one, parameters))
    type(room).objects.select_for_update().get(pk=room.pk)
    if room.runs.filter(name=name, state__in=ACTIVE).exists():
        raise InputError(f"'{name.capitalize()}' is at work already; wait for it or cancel it.")
    return queue([Run(kind="room step", room=room, name=name, parameters=parameters, asked_by=user)])[0]


def _settings(one, parameters):
    return {p.name: parameters[p.name] for p in one.parameters if p.name in parameters}


def carry_out(run, report):
    """Run the pass over what the room has; what it gives becomes blinds or a new version of the calibration."""
    one, room = pass_named(run.name, ROOM_PASSES), run.room
    source, takes = source_of(room, run.parameters), takes_of(room, run.parameters)
    outcome = one.run(material_of(room, run.parameters), one.checked(_settings(one, run.parameters)), report)

    def store():
        run.figures = outcome.figures
        if outcome.used:
            run.figures |= {"takes": [takes[i].pk for i in outcome.used]}
        if outcome.blinds is not None:
            run.figures |= {"kept_by_hand": _store_blinds(room, outcome.blinds, _asker(run))}
        if outcome.calibration is not None:
            swept = outcome.calibration.how == "sweep"
            recording = (
                recording_of(room, StageRecording.Kind.SWEEP, run.parameters.get("recording")) if swept else None
            )
            made = store_calibration(room, outcome.calibration, _asker(run), None if swept else source, recording)
            run.figures |= {"version": made.version}

    return store


def _asker(run):
    """Who asked for a run, to be pointed at: a worker on another machine may not read who may sign in."""
    return User(pk=run.asked_by_id) if run.asked_by_id else None


def _store_blinds(room, found, user):
    """Blinds that were found replace those found before, and keep those drawn by hand. Returns how many these are."""
    rows, _ = current_blinds(room)
    kept = [r for r in rows if r.get("by_hand")]
    room.blinds.filter(undone=True).delete()
    names = [c.name for c in rig_of(room)[0]]
    Blinds.objects.create(
        room=room, rows=[b.to_document(names) for b in found] + kept, made_by=user,
        words=f"{len(found)} blinds found in the still room",
    )  # fmt: skip
    return len(kept)


STEP = Kind(lock=lambda run: f"room-{run.room_id}", carry_out=carry_out)
