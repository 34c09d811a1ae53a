"""A worker: takes runs from the queue, has its child compute them, stops what is cancelled, and looks for lost work.

`python -m otrevo.server.work.worker`. Any number of them may run, on any number of machines; what they know of each
other is in the database. A worker says every HEARTBEAT_S that it lives; jobs of one that has said nothing for STALLED_S
go back to the queue.
"""

import asyncio
import contextlib
import importlib
import logging
import os
import signal
from concurrent.futures import ThreadPoolExecutor

import django

from otrevo.server.work.spawner import Spawner

log = logging.getLogger("otrevo.worker")
HEARTBEAT_S = float(os.environ.get("OTREVO_HEARTBEAT_S", 2.0))
STALLED_S = float(os.environ.get("OTREVO_STALLED_S", 12.0))
CLEAN_UP_S = float(os.environ.get("OTREVO_CLEAN_UP_S", 60.0))
LOOK_S = 0.15  # between two looks at whether a run is to stop
CHILD_FAULT = "ended by itself"


class Child:
    """The computing process, started when it is needed."""

    def __init__(self, spawner):
        self.spawner, self.connection = spawner, None

    def send(self, run_id):
        if self.connection is None or self.connection.poll():  # between runs it has nothing to say but that it is gone
            self.stop()
            self.start()
        self.connection.send(run_id)

    def start(self):
        try:
            self.connection = self.spawner.fork()
        except OSError:
            _end_without_spawner()

    def stop(self):
        if self.connection is not None:
            try:
                self.spawner.end()  # before its connection closes, which it might notice and come to an end of its own
            except OSError:
                _end_without_spawner()
            self.connection.close()
            self.connection = None

    def heard(self):
        """(newest share of progress or None, whether the run has ended). Raises EOFError when the process is gone."""
        share = None
        if self.spawner.is_gone():
            _end_without_spawner()
        while self.connection.poll():
            message = self.connection.recv()
            if message is None:
                return share, True
            share = message
        return share, False


def _end_without_spawner():
    """Nothing can be computed any more: end at once, as a killed worker does, and have this one's work taken up by another."""
    log.error("the process that starts computing processes is gone; this worker ends, to be started anew")
    os._exit(1)


DATABASE = ThreadPoolExecutor(1, thread_name_prefix="database")  # one thread, so one connection


def _in_thread(function):
    """Work with the database beside the event loop; a connection that was lost is opened anew the next time."""

    def work(*arguments):
        from django.db import DatabaseError, connection

        try:
            return function(*arguments)
        except DatabaseError:
            connection.close()
            raise

    return lambda *arguments: asyncio.get_running_loop().run_in_executor(DATABASE, work, *arguments)


def _look(run, share):
    """Enter the run's progress. Returns "stop" when it was asked to, "gone" when somebody else has claimed it, else "go on".

    A run that has ended goes on too: the child has just written its results and is about to say so.
    """
    from otrevo.server.work.models import ACTIVE, Run

    if share is not None:
        Run.objects.filter(pk=run.pk, claim=run.claim).update(progress=round(share, 3))
    now = Run.objects.filter(pk=run.pk).values_list("claim", "state", "cancel_asked").first()
    if now is None or (now[0] != run.claim and now[1] in ACTIVE):
        return "gone"
    return "stop" if now[2] and now[1] in ACTIVE else "go on"


async def _goes_on(run, share):
    from django.db import DatabaseError

    try:
        return await _in_thread(_look)(run, share)
    except DatabaseError:  # it is away: the computing goes on meanwhile
        return "go on"


def _cancelled(run):
    from otrevo.server.work.execution import CANCELLED, Superseded, finish
    from otrevo.server.work.models import Run

    with contextlib.suppress(Superseded):
        finish(run, run.claim, Run.State.CANCELLED, CANCELLED)


async def execute(child, run_id):
    """Have the child carry out one run, as often as it may be tried."""
    from otrevo.server.work.execution import claim, named, release

    while (run := await _in_thread(claim)(run_id)) is not None:
        try:
            child.send(run.pk)
            while True:
                await asyncio.sleep(LOOK_S)
                share, ended = child.heard()
                if ended:
                    return
                word = await _goes_on(run, share)
                if word != "go on":
                    child.stop()
                    if word == "stop":
                        await _in_thread(_cancelled)(run)
                    return
        except (EOFError, OSError):  # a crash in a library, or somebody killed it: claim it once more
            log.error("%s: the computing process %s", run, CHILD_FAULT, extra=named(run))
            child.stop()
        except asyncio.CancelledError:  # the worker is told to end: another may go on with it
            child.stop()
            await asyncio.shield(_in_thread(release)(run))
            raise


def rescue():
    """Put runs back into the queue that nobody works on although they are not over. Returns how many.

    Runs whose job the queue calls stalled are looked after by `worker`; here are those whose job is gone or has ended.
    """
    from django.db import transaction
    from procrastinate.contrib.django.models import ProcrastinateJob

    from otrevo.server.work.execution import named
    from otrevo.server.work.models import ACTIVE, Run
    from otrevo.server.work.queue import defer

    with transaction.atomic():
        active = Run.objects.select_for_update(of=("self",), skip_locked=True).filter(state__in=ACTIVE)
        live = ProcrastinateJob.objects.filter(status__in=("todo", "doing"))
        lost = list(active.exclude(job__in=live.values("id")))
        for run in lost:
            log.warning("%s was lost by the queue; queued again", run, extra=named(run))
            defer(run)
    return len(lost)


async def watch(app):
    """Give work of lost workers back to the queue, again and again."""
    while True:
        await asyncio.sleep(HEARTBEAT_S)
        try:
            for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_S):
                log.warning(
                    "job %s: its worker is lost; queued again", job.id, extra={"run": job.task_kwargs.get("run_id")}
                )
                with contextlib.suppress(Exception):  # another worker was quicker
                    await app.job_manager.retry_job_by_id_async(job.id, retry_at=_now())
            await _in_thread(rescue)()
        except Exception:  # the database may be away for a while
            log.exception("lost work could not be looked for")


async def keep_house():
    """Delete what is due, again and again; one of the workers does it."""
    from django.conf import settings
    from django.utils.module_loading import import_string

    apart = ThreadPoolExecutor(1, thread_name_prefix="keeping")

    def clean_up():
        from django.db import connection

        try:
            import_string(settings.CLEAN_UP)()
        finally:
            connection.close()

    while CLEAN_UP_S:  # 0: other workers do it
        await asyncio.sleep(CLEAN_UP_S)
        try:
            await asyncio.get_running_loop().run_in_executor(apart, clean_up)
        except Exception:
            log.exception("what is due could not be deleted; it is tried again")


def _now():
    from django.utils import timezone

    return timezone.now()


async def work(spawner):
    from procrastinate.contrib.django import app

    from otrevo.server.work.queue import QUEUE, TASK

    child = Child(spawner)
    child.start()
    with app.replace_connector(app.connector.get_worker_connector()) as running:

        @running.task(name=TASK, queue=QUEUE, retry=False)
        async def carry_out(run_id):
            await execute(child, run_id)

        async with running.open_async():
            beside = [asyncio.create_task(watch(running)), asyncio.create_task(keep_house())]
            try:
                await running.run_worker_async(
                    queues=[QUEUE], concurrency=1, update_heartbeat_interval=HEARTBEAT_S,
                    stalled_worker_timeout=STALLED_S, fetch_job_polling_interval=1.0, shutdown_graceful_timeout=0.5,
                )  # fmt: skip
            finally:
                for task in beside:
                    task.cancel()
                child.stop()


def load():
    """Load all that a worker and its computing processes need."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "otrevo.server.settings")
    django.setup()
    from otrevo.server.work.kinds import load_all

    load_all()  # for the computing processes, and because the first cancelling must not wait for it


def _load_scipy():
    """Load what SciPy loads when it is first asked for: a second that starting need not wait for, nor every process anew."""
    for part in ("interpolate", "linalg", "ndimage", "optimize", "signal", "sparse", "spatial", "special"):
        importlib.import_module(f"scipy.{part}")


def serve():
    """Work until this process is ended; everything is loaded."""
    from otrevo.server.work.child import compute

    spawner = Spawner(compute, at_leisure=_load_scipy)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    asyncio.run(work(spawner))


if __name__ == "__main__":
    load()
    serve()
