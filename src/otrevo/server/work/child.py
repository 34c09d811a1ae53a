"""The process in which a worker does its computing: one at a time, run after run, so that compiled loops stay loaded.

A process of its own because it can be ended: cancelling must not wait for a compiled loop, and a library that ends its
process must not take the worker with it. It is forked from the worker's spawner with everything loaded.

Over the connection go run ids one way; the other way shares of progress and None when a run has ended.
"""

import contextlib
import os
import signal
import time

from otrevo.server.logs import about

REPORT_EVERY_S = 0.1
YIELDS = 10  # of the 19 that a process can: pages and recordings come before what is computed


def compute(connection):
    """Serve run ids from a multiprocessing Connection until it closes. Everything that carries out runs is loaded."""
    from otrevo.server.work.execution import Superseded, carry_out, named
    from otrevo.server.work.models import Run

    os.nice(YIELDS)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    while True:
        try:
            run_id = connection.recv()
        except EOFError:
            return
        told = 0.0

        def report(share):
            nonlocal told
            now = time.monotonic()
            if now - told >= REPORT_EVERY_S or share >= 1:
                told = now
                _tell(connection, float(share))

        run = Run.objects.get(pk=run_id)
        with about(**named(run)), contextlib.suppress(Superseded):
            carry_out(run, report)
        _tell(connection, None)


def _tell(connection, news):
    """Send to the worker. Where it no longer listens, it is gone or has stopped this run: end at once, and say nothing of the run.

    As an exception this would be taken for a fault of the run, and what was cancelled would read as failed.
    """
    try:
        connection.send(news)
    except OSError:
        os._exit(0)
