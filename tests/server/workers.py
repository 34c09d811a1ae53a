"""Real workers on the test database, started and killed as processes.

They are forked from a process that has loaded what every worker loads, which would take longer than most of their tests.
Elsewhere, as in tests.server.product, workers start as they do in the product.
"""

import multiprocessing
import os
import signal
import time
from contextlib import contextmanager
from unittest import mock

from django.conf import settings
from django.db import connection
from procrastinate.contrib.django.models import ProcrastinateJob

from otrevo.server.work.models import ACTIVE, Run
from otrevo.server.work.spawner import die_with

PATIENCE_S = 240
FORKING = multiprocessing.get_context("forkserver")
FORKING.set_forkserver_preload(["tests.server.loaded_worker"])


def _be_a_worker():
    from otrevo.server.work.worker import serve

    die_with(os.getppid())
    serve()


def start_worker():
    """A worker process."""
    environment = {
        "OTREVO_DB_NAME": connection.settings_dict["NAME"], "OTREVO_HEARTBEAT_S": "0.3", "OTREVO_STALLED_S": "1.5",
        "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "PYTHONPATH": f"{settings.HOME / 'src'}:{settings.HOME}",
    }  # fmt: skip
    with mock.patch.dict(os.environ, environment):  # of the process that forks, which the first worker starts
        process = FORKING.Process(target=_be_a_worker)
        process.start()
    return process


def kill(process):
    """kill -9: the worker has no chance to say anything to anybody."""
    os.kill(process.pid, signal.SIGKILL)
    process.join()


@contextmanager
def worker():
    """A worker that ends with the block."""
    process = start_worker()
    try:
        yield process
    finally:
        if process.is_alive():
            kill(process)


def wait_until(true, what):
    """Look again and again until true() is; what never comes fails."""
    ends = time.monotonic() + PATIENCE_S
    while not (found := true()):
        if time.monotonic() > ends:
            raise AssertionError(f"{what} did not come about; runs: {told()}")
        time.sleep(0.02)
    return found


def at_rest():
    """Whether no worker has anything in hand.

    A run has ended a moment before its computing process says so; held still in between, it would keep its worker for ever.
    """
    return not ProcrastinateJob.objects.filter(status="doing").exists()


def told():
    return [(r.name, r.state, r.attempts, r.message) for r in Run.objects.all()]


def running(name):
    return Run.objects.filter(name=name, state=Run.State.RUNNING).exists()


def all_ended():
    return not Run.objects.filter(state__in=ACTIVE).exists()
