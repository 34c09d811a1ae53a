"""Carry out one Run: claim it, do it, and end it in one transaction with its results.

Whoever claims a Run last may write its results. A worker that was taken for dead and comes back finds its claim gone
and leaves nothing behind, so nothing is done twice whatever happens to processes and machines.
"""

import logging
import uuid

from django.db import transaction
from django.utils import timezone

from otrevo.core.errors import InputError
from otrevo.server.work.kinds import kind_of
from otrevo.server.work.models import ACTIVE, Run
from otrevo.server.work.queue import defer, end

log = logging.getLogger("otrevo.work")
MOST_ATTEMPTS = 3
CANCELLED = "Cancelled."
ORDER_S = 1  # after which a run asks again whether the one before it has ended
LOST = f"Its worker was lost {MOST_ATTEMPTS} times, so it was given up; run it again, and see the worker's log."


class Superseded(Exception):
    """Another execution has claimed this Run, or it was ended meanwhile."""


class Stopped(Exception):
    """Somebody asked for this Run to stop before its results were written."""


@transaction.atomic
def claim(run_id):
    """The Run, ready to be carried out, or None when there is nothing to do any more."""
    run = Run.objects.select_for_update(of=("self",)).filter(pk=run_id).first()
    if run is None or run.state not in ACTIVE:
        return None
    if run.cancel_asked:
        end(run, Run.State.CANCELLED, CANCELLED)
        return None
    before = run.after
    if before is not None and before.state in (Run.State.FAILED, Run.State.CANCELLED):
        word = "did not succeed" if before.state == Run.State.FAILED else "was cancelled"
        end(run, Run.State.CANCELLED, f"Not begun, because '{before.name}' {word}.")
        return None
    if before is not None and before.state in ACTIVE:  # it was lost and is queued anew, behind this one
        defer(run, wait_s=ORDER_S)
        return None
    if run.attempts >= MOST_ATTEMPTS:
        end(run, Run.State.FAILED, LOST)
        log.error("%s failed after %s attempts", run, run.attempts, extra=named(run))
        return None
    run.attempts += 1
    run.state, run.claim, run.progress, run.begun_at = Run.State.RUNNING, uuid.uuid4(), 0.0, timezone.now()
    run.message = f"Taken up again after its worker was lost, attempt {run.attempts}." if run.attempts > 1 else ""
    run.save(update_fields=["attempts", "state", "claim", "progress", "begun_at", "message"])
    log.info("%s begins, attempt %s", run, run.attempts, extra=named(run))
    return run


def named(run):
    """What the log says of a Run beside its words."""
    about = {"run": run.pk, "take": run.take_id, "room": run.room_id, "package": run.package_id}
    return {key: value for key, value in about.items() if value is not None}


def release(run):
    """Give a claimed Run back to the queue, as if it had not been taken up."""
    mine = Run.objects.filter(pk=run.pk, claim=run.claim)
    mine.update(state=Run.State.QUEUED, claim=None, attempts=run.attempts - 1, progress=0.0, message="")


def carry_out(run, report):
    """Do a claimed Run and end it: done, failed, or cancelled if somebody asked for that before its results were there.

    Raises Superseded when somebody else has claimed it meanwhile.
    """
    mine = run.claim
    try:
        store = kind_of(run).carry_out(run, report)
        finish(run, mine, Run.State.DONE, "", store)
    except InputError as error:
        finish(run, mine, Run.State.FAILED, str(error))
    except Stopped:
        finish(run, mine, Run.State.CANCELLED, CANCELLED)
    except Superseded:
        log.warning("%s was claimed by another worker meanwhile", run)
        raise
    except Exception:
        log.exception("%s failed", run)
        words = f"{run.name.capitalize()} stopped because of a fault in Otrevo; the worker's log says more."
        finish(run, mine, Run.State.FAILED, words)


@transaction.atomic
def finish(run, mine, state, message, store=None):
    """End a Run whose claim is `mine`, with its results.

    Raises Superseded when the claim is another's by now, and Stopped, with no results kept, when one that would be done
    was asked to stop: who was told that it stops must not find it done.
    Results are written before the Run is locked: whoever wants to stop it must not wait for them.
    """
    if state != Run.State.DONE:
        run.figures, run.snags = {}, []
    if store is not None:
        store()
    now = Run.objects.select_for_update(of=("self",)).filter(pk=run.pk).values_list("claim", "cancel_asked").first()
    if now is None or now[0] != mine:
        raise Superseded
    if now[1] and state == Run.State.DONE:
        raise Stopped
    end(run, state, message)
    log.info("%s %s %s", run, state, message, extra=named(run))
