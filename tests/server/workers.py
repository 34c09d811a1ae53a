"""Real workers on the test database, started and killed as processes."""

import os
import signal
import subprocess
import sys
import time
from contextlib import contextmanager

from django.conf import settings
from django.db import connection

from otrevo.server.work.models import ACTIVE, Run

PATIENCE_S = 240


def start_worker(log=subprocess.DEVNULL):
    """A worker process; its whole group can be killed."""
    environment = os.environ | {
        "OTREVO_DB_NAME": connection.settings_dict["NAME"], "OTREVO_HEARTBEAT_S": "0.3", "OTREVO_STALLED_S": "1.5",
        "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "PYTHONPATH": str(settings.HOME / "src"),
    }  # fmt: skip
    command = [sys.executable, "-m", "otrevo.server.work.worker"]
    return subprocess.Popen(command, env=environment, stdout=log, stderr=log, cwd=settings.HOME)


def kill(process):
    """kill -9: the worker has no chance to say anything to anybody."""
    os.kill(process.pid, signal.SIGKILL)
    process.wait()


@contextmanager
def worker():
    """A worker that ends with the block."""
    process = start_worker()
    try:
        yield process
    finally:
        if process.poll() is None:
            kill(process)


def wait_until(true, what):
    """Look again and again until true() is; what never comes fails."""
    ends = time.monotonic() + PATIENCE_S
    while not (found := true()):
        if time.monotonic() > ends:
            raise AssertionError(f"{what} did not come about; runs: {told()}")
        time.sleep(0.02)
    return found


def told():
    return [(r.name, r.state, r.attempts, r.message) for r in Run.objects.all()]


def running(name):
    return Run.objects.filter(name=name, state=Run.State.RUNNING).exists()


def all_ended():
    return not Run.objects.filter(state__in=ACTIVE).exists()
