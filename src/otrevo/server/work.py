"""Background work in general: its state in the database, progress, cancelling, and errors in one plain sentence."""

import logging
import subprocess
import time
from functools import lru_cache

from django.conf import settings
from django.db import models
from django.utils import timezone

from otrevo.core.errors import InputError

log = logging.getLogger("otrevo.jobs")
REPORT_EVERY_S = 0.25


class Work(models.Model):
    """One execution of something that takes a while. Newer ones supersede; none is deleted."""

    class State(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    name = models.CharField(max_length=20)
    parameters = models.JSONField(default=dict)
    code_version = models.CharField(max_length=40, default="")
    state = models.CharField(max_length=10, choices=State.choices, default=State.QUEUED)
    progress = models.FloatField(default=0.0)
    message = models.TextField(blank=True)
    figures = models.JSONField(default=dict)
    cancel_asked = models.BooleanField(default=False)
    asked_at = models.DateTimeField(auto_now_add=True)
    finished_at = models.DateTimeField(null=True)

    class Meta:
        abstract = True
        ordering = ["id"]

    results = ("figures",)  # fields that hold what came out

    def clear(self):
        """Remove what was half made."""


class Cancelled(Exception):
    """The user asked for this work to stop."""


@lru_cache
def code_version():
    try:
        out = subprocess.run(["git", "rev-parse", "--short", "HEAD"], cwd=settings.HOME, capture_output=True, timeout=5)
        return out.stdout.decode().strip() or "unknown"
    except (OSError, subprocess.TimeoutExpired):
        return "unknown"


class Report:
    """Progress of some Work: writes at most a few times a second, and notices when the user cancels."""

    def __init__(self, work):
        self.mine, self.written = type(work).objects.filter(pk=work.pk), 0.0

    def __call__(self, share):
        now = time.monotonic()
        if now - self.written < REPORT_EVERY_S and share < 1:
            return
        self.written = now
        self.mine.update(progress=round(float(share), 3))
        if self.cancelled():
            raise Cancelled

    def cancelled(self):
        return self.mine.filter(cancel_asked=True).exists()


def carry_out(work, function):
    """Do `function(work, report)`. Returns None, or a sentence saying why what follows cannot go on."""
    type(work).objects.filter(pk=work.pk).update(state=Work.State.RUNNING, progress=0.0)
    work.clear()
    log.info("%s %s: %s begins", type(work).__name__, work.pk, work.name)
    try:
        function(work, Report(work))
    except Cancelled:
        finish(work, Work.State.CANCELLED, "Cancelled.")
        return "An earlier pass was cancelled."
    except (InputError, InterruptedError) as error:
        finish(work, Work.State.FAILED, str(error))
        return f"{work.name.capitalize()} did not succeed."
    except Exception:
        log.exception("%s %s: %s failed", type(work).__name__, work.pk, work.name)
        finish(
            work,
            Work.State.FAILED,
            f"{work.name.capitalize()} stopped by a fault of ours; the log of the worker says more.",
        )
        return f"{work.name.capitalize()} did not succeed."
    finish(work, Work.State.DONE, "")
    return None


def finish(work, state, message):
    """Enter how some Work ended."""
    work.state, work.message, work.finished_at = state, message, timezone.now()
    fields = ["state", "message", "finished_at", *work.results]
    if state == Work.State.DONE:
        work.progress = 1.0
        fields.append("progress")
    else:
        work.clear()  # nothing half made stays behind
    work.save(update_fields=fields)
    log.info("%s %s: %s %s %s", type(work).__name__, work.pk, work.name, state, message)
