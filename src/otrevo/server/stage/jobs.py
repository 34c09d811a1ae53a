"""Steps that prepare the room, as work: one after the other for each room."""

from django.db import transaction

from otrevo.core.errors import InputError
from otrevo.server.stage.steps import STEPS
from otrevo.server.work.kinds import Kind
from otrevo.server.work.models import ACTIVE, Run
from otrevo.server.work.queue import queue


@transaction.atomic
def queue_step(room, name, user, parameters=None):
    """Queue a step. Returns its Run. Raises InputError for an unknown one, or while the same is at work."""
    if name not in STEPS:
        raise InputError(f"There is no step '{name}'; expected one of {', '.join(STEPS)}.")
    type(room).objects.select_for_update().get(pk=room.pk)
    if room.runs.filter(name=name, state__in=ACTIVE).exists():
        raise InputError(f"'{name.capitalize()}' is at work already; wait for it or cancel it.")
    return queue([Run(kind="room step", room=room, name=name, parameters=parameters or {}, asked_by=user)])[0]


STEP = Kind(
    lock=lambda run: f"room-{run.room_id}",
    carry_out=lambda run, report: STEPS[run.name](run, report),
)
