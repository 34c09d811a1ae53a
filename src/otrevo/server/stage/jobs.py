"""Steps that prepare the room, as background work: one after the other for each room."""

from django.db import transaction
from procrastinate.contrib.django import app

from otrevo.core.errors import InputError
from otrevo.server.stage.models import StageRun
from otrevo.server.stage.passes import STEPS
from otrevo.server.work import Work, carry_out, code_version, finish


def queue_step(room, name, user, parameters=None):
    """Queue a step. Returns its StageRun. Raises InputError for an unknown one, or while the same is at work."""
    if name not in STEPS:
        raise InputError(f"There is no step '{name}'; expected one of {', '.join(STEPS)}.")
    with transaction.atomic():
        type(room).objects.select_for_update().get(pk=room.pk)
        if room.runs.filter(name=name, state__in=[Work.State.QUEUED, Work.State.RUNNING]).exists():
            raise InputError(f"'{name.capitalize()}' is at work already; wait for it or cancel it.")
        run = StageRun.objects.create(
            room=room, name=name, parameters=parameters or {}, made_by=user, code_version=code_version()
        )
        execute_step.configure(lock=f"room-{room.pk}").defer(run_id=run.pk)
    return run


@app.task(name="execute_step", queue="passes", retry=False)
def execute_step(run_id):
    run = StageRun.objects.select_related("room__production", "made_by").get(pk=run_id)
    if run.cancel_asked:
        finish(run, Work.State.CANCELLED, "Cancelled before it began.")
    elif run.state != Work.State.DONE:
        carry_out(run, STEPS[run.name])


def requeue_lost_steps():
    """Steps that a lost worker left in the middle go back to the queue. Called when a worker starts and none is running."""
    lost = StageRun.objects.filter(state=Work.State.RUNNING)
    for run in lost:
        run.state, run.progress, run.message = Work.State.QUEUED, 0.0, "Taken up again after a lost worker."
        run.save(update_fields=["state", "progress", "message"])
        execute_step.configure(lock=f"room-{run.room_id}").defer(run_id=run.pk)
    return len(lost)
