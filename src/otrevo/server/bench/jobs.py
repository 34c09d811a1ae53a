"""Background work: passes, calibrations and recordings as procrastinate tasks with progress, cancel and plain errors."""

import logging
import subprocess
import time
from functools import lru_cache

from django.conf import settings
from django.db import transaction
from django.utils import timezone
from procrastinate.contrib.django import app

from otrevo.core.errors import InputError
from otrevo.core.snags import ranked
from otrevo.server.bench.models import Run
from otrevo.server.bench.passes import ORDER, PASSES
from otrevo.server.bench.picture import take_picture
from otrevo.server.cast.calibrate import run_calibrate
from otrevo.server.floor.record import run_record
from otrevo.server.shoot.models import Take

log = logging.getLogger("otrevo.jobs")
WORK = {**PASSES, "record": run_record, "calibrate": run_calibrate}
REPORT_EVERY_S = 0.25


class Cancelled(Exception):
    """The user asked for this run to stop."""


@lru_cache
def code_version():
    try:
        out = subprocess.run(["git", "rev-parse", "--short", "HEAD"], cwd=settings.HOME, capture_output=True, timeout=5)
        return out.stdout.decode().strip() or "unknown"
    except (OSError, subprocess.TimeoutExpired):
        return "unknown"


class Report:
    """Progress of a run: writes at most a few times a second, and notices when the user cancels."""

    def __init__(self, run):
        self.run, self.written = run, 0.0

    def __call__(self, share):
        now = time.monotonic()
        if now - self.written < REPORT_EVERY_S and share < 1:
            return
        self.written = now
        Run.objects.filter(pk=self.run.pk).update(progress=round(float(share), 3))
        if self.cancelled():
            raise Cancelled

    def cancelled(self):
        return Run.objects.filter(pk=self.run.pk, cancel_asked=True).exists()


def queue(take, *names, parameters=None):
    """Queue runs of passes over a take, one after the other. Returns the first Run."""
    with transaction.atomic():
        runs = [
            Run.objects.create(take=take, name=n, parameters=parameters or {}, code_version=code_version())
            for n in names
        ]
        defer(take, [r.pk for r in runs])
    return runs[0]


def defer(take, run_ids):
    """Hand runs to the workers. One performer's work is done in order, so that takes find the calibration made before."""
    execute.configure(lock=f"performer-{take.slate.performer_id}").defer(run_ids=run_ids)


def queue_from(take, name):
    """Queue a pass and every pass that builds on it."""
    return queue(take, *ORDER[ORDER.index(name) :])


@app.task(name="execute_runs", queue="passes", retry=False)
def execute(run_ids):
    """Execute runs in order; when one fails or is cancelled the later ones are cancelled too."""
    stopped = None
    for run_id in run_ids:
        run = Run.objects.select_related(
            "take__slate__day__production", "take__slate__performer", "take__calibration"
        ).get(pk=run_id)
        if stopped or run.cancel_asked:
            _finish(run, Run.State.CANCELLED, stopped or "Cancelled before it began.")
            stopped = stopped or "An earlier pass was cancelled."
            continue
        if run.state == Run.State.DONE:  # a second try after a lost worker: what is done stays done
            continue
        stopped = execute_one(run)


def execute_one(run):
    """Execute one run. Returns None, or a sentence saying why what follows cannot go on."""
    Run.objects.filter(pk=run.pk).update(state=Run.State.RUNNING, progress=0.0)
    run.tracks.all().delete()
    log.info("run %s take %s: %s begins", run.pk, run.take_id, run.name)
    try:
        snags = WORK[run.name](run, Report(run))
    except Cancelled:
        _finish(run, Run.State.CANCELLED, "Cancelled.")
        return "An earlier pass was cancelled."
    except (InputError, InterruptedError) as error:
        _finish(run, Run.State.FAILED, str(error))
        return f"{run.name.capitalize()} did not succeed."
    except Exception:
        log.exception("run %s take %s: %s failed", run.pk, run.take_id, run.name)
        _finish(
            run,
            Run.State.FAILED,
            f"{run.name.capitalize()} stopped by a fault of ours; the log of the worker says more.",
        )
        return f"{run.name.capitalize()} did not succeed."
    run.snags = [s.to_document() for s in ranked(snags or [])]
    run.progress = 1.0
    _finish(run, Run.State.DONE, "")
    take = Take.objects.get(pk=run.take_id)
    take.picture = take_picture(take)
    take.save(update_fields=["picture"])
    return None


def _finish(run, state, message):
    run.state, run.message, run.finished_at = state, message, timezone.now()
    if state != Run.State.DONE:
        run.tracks.all().delete()  # nothing half made stays behind
    Run.objects.filter(pk=run.pk).update(
        state=state, message=message, finished_at=run.finished_at, figures=run.figures, snags=run.snags,
        progress=1.0 if state == Run.State.DONE else run.progress,
    )  # fmt: skip
    log.info("run %s take %s: %s %s %s", run.pk, run.take_id, run.name, state, message)


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
