"""Background work: passes, calibrations and recordings as procrastinate tasks with progress, cancel and plain errors."""

from django.db import transaction
from procrastinate.contrib.django import app

from otrevo.core.errors import InputError
from otrevo.core.snags import ranked
from otrevo.server.bench.models import Run
from otrevo.server.bench.passes import PASSES, passes_of
from otrevo.server.bench.picture import take_picture
from otrevo.server.cast.calibrate import run_calibrate
from otrevo.server.floor.record import run_record
from otrevo.server.shoot.models import Take
from otrevo.server.work import carry_out, code_version, finish

WORK = {**PASSES, "record": run_record, "calibrate": run_calibrate}


def queue(take, *names, parameters=None):
    """Queue runs of passes over a take, one after the other; parameters are the first one's. Returns the first Run."""
    with transaction.atomic():
        runs = [
            Run.objects.create(take=take, name=n, parameters=p, code_version=code_version())
            for n, p in zip(names, [parameters or {}] + [{}] * len(names), strict=False)
        ]
        defer(take, [r.pk for r in runs])
    return runs[0]


def defer(take, run_ids):
    """Hand runs to the workers. One performer's work is done in order, so that takes find the calibration made before."""
    execute.configure(lock=f"performer-{take.slate.performer_id}").defer(run_ids=run_ids)


def queue_from(take, name, parameters=None):
    """Queue a pass, with its parameters, and every pass that builds on it."""
    passes = passes_of(take)
    if name not in passes:
        raise InputError(f"There is no pass '{name}' for this take; expected {', '.join(passes)}.")
    return queue(take, *passes[passes.index(name) :], parameters=parameters)


@app.task(name="execute_runs", queue="passes", retry=False)
def execute(run_ids):
    """Execute runs in order; when one fails or is cancelled the later ones are cancelled too."""
    stopped = None
    for run_id in run_ids:
        run = Run.objects.select_related(
            "take__slate__day__production", "take__slate__performer", "take__calibration", "take__stage_calibration"
        ).get(pk=run_id)
        if stopped or run.cancel_asked:
            finish(run, Run.State.CANCELLED, stopped or "Cancelled before it began.")
            stopped = stopped or "An earlier pass was cancelled."
            continue
        if run.state == Run.State.DONE:  # a second try after a lost worker: what is done stays done
            continue
        stopped = execute_one(run)


def execute_one(run):
    """Execute one run. Returns None, or a sentence saying why what follows cannot go on."""

    def work(run, report):
        run.snags = [s.to_document() for s in ranked(WORK[run.name](run, report) or [])]

    if stopped := carry_out(run, work):
        return stopped
    take = Take.objects.get(pk=run.take_id)
    take.picture = take_picture(take)
    take.save(update_fields=["picture"])
    return None


def requeue_lost():
    """Runs that a lost worker left in the middle go back to the queue. Called when a worker starts and none is running."""
    lost = Run.objects.filter(state=Run.State.RUNNING)
    takes = {r.take_id: r.take for r in lost}
    for take in takes.values():
        ids = list(take.runs.filter(state__in=[Run.State.RUNNING, Run.State.QUEUED]).values_list("pk", flat=True))
        Run.objects.filter(pk__in=ids).update(
            state=Run.State.QUEUED, progress=0.0, message="Taken up again after a lost worker."
        )
        defer(take, ids)
    return len(takes)
