"""Ask for work, and ask that it stops. Runs are queued in the database, together with what they are about."""

from django.db import transaction
from django.utils import timezone
from procrastinate.contrib.django import app

from otrevo.server.version import code_version
from otrevo.server.work.kinds import kind_of
from otrevo.server.work.models import ACTIVE, Run

QUEUE = "work"
TASK = "carry_out"
BEHIND = -1  # the priority of work that nobody asked for: everything else goes first


@transaction.atomic
def queue(runs, behind=False):
    """Save Runs and hand them to the workers, each to begin when the one before it, or its `after`, has ended well. Returns them.

    What is about one performer, or one of their characters, does not wait for another: it follows the last one about the
    same or about all. behind: everything else that is queued, also later, goes first.
    """
    for number, run in enumerate(runs):
        run.after = next((r for r in reversed(runs[:number]) if _concerns(r, run)), run.after)
        run.code_version = code_version()
        run.save()
        defer(run, priority=BEHIND if behind else 0)
    return runs


def _concerns(earlier, later):
    """Whether a Run is about what a later one is about, or about more."""
    return all(
        there is None or here is None or here == there
        for here, there in ((earlier.performer_id, later.performer_id), (earlier.character_id, later.character_id))
    )


def defer(run, wait_s=0, priority=0):
    """Put a Run into the queue, to be looked at in wait_s seconds at the earliest; higher priorities go first."""
    later = {"schedule_in": {"seconds": wait_s}} if wait_s else {}
    task = app.configure_task(TASK, queue=QUEUE, lock=kind_of(run).lock(run), priority=priority, **later)
    run.job = task.defer(run_id=run.pk)
    run.save(update_fields=["job"])


@transaction.atomic
def cancel(runs):
    """Stop Runs (a queryset): those that wait end at once, those at work are stopped by their worker."""
    for run in runs.select_for_update(of=("self",)).filter(state__in=ACTIVE):
        if run.state == Run.State.QUEUED:
            end(run, Run.State.CANCELLED, "Cancelled before it began.")
        else:
            run.cancel_asked = True
            run.save(update_fields=["cancel_asked"])


def end(run, state, message):
    """Enter how a Run ended, and tell its kind."""
    run.state, run.message, run.finished_at, run.claim = state, message, timezone.now(), None
    if state == Run.State.DONE:
        run.progress = 1.0
    run.save(update_fields=["state", "message", "finished_at", "claim", "progress", "figures", "snags"])
    kind_of(run).ended(run)


def waiting():
    """How many runs are still to be worked through."""
    return Run.objects.filter(state__in=ACTIVE).count()
