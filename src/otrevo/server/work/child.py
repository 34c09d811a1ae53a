"""The process in which a worker does its computing: one at a time, run after run, so that compiled loops stay loaded.

A process of its own because it can be ended: cancelling must not wait for a compiled loop, and a library that ends its
process must not take the worker with it. It dies with its worker.

Over the connection go run ids one way; the other way shares of progress and None when a run has ended.
"""

import contextlib
import ctypes
import os
import signal
import time

import django

REPORT_EVERY_S = 0.1
PR_SET_PDEATHSIG = 1
YIELDS = 10  # of the 19 that a process can: pages and recordings come before what is computed


def main(connection, parent):
    """Serve run ids from a multiprocessing Connection until it closes."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:
        return
    os.nice(YIELDS)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    django.setup()
    from otrevo.server.logs import about
    from otrevo.server.work.execution import Superseded, carry_out, named
    from otrevo.server.work.kinds import load_all
    from otrevo.server.work.models import Run

    load_all()

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
                connection.send(float(share))

        run = Run.objects.get(pk=run_id)
        with about(**named(run)), contextlib.suppress(Superseded):
            carry_out(run, report)
        connection.send(None)
