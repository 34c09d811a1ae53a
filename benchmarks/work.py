"""Work through the queue with real workers: how soon cancelling reaches every kind of it, and what survives kill -9."""

import os
import random
import signal
import subprocess
import sys
import time
from fractions import Fraction

import numpy as np

from benchmarks.application import database


def _worker(stalled_s="3"):
    environment = os.environ | {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "OTREVO_HEARTBEAT_S": "0.3",
                                "OTREVO_STALLED_S": stalled_s}  # fmt: skip
    return subprocess.Popen(
        [sys.executable, "-m", "otrevo.server.work.worker"], env=environment, stderr=subprocess.DEVNULL
    )


def _wait(true, seconds=300):
    ends = time.monotonic() + seconds
    while not (found := true()):
        assert time.monotonic() < ends, "it did not come about"
        time.sleep(0.01)
    return found


def _sweep(room, seconds=30.0):
    """What a sweep of the room looks like, kept as a recording."""
    from otrevo.core.optics.wand import SHIPPED_WANDS
    from otrevo.core.sim.rig import Faults, film
    from otrevo.core.sim.scenes import scene
    from otrevo.server.stage.actions import keep_recording
    from otrevo.standins import world

    wand, truth = SHIPPED_WANDS["quay corner"], world.room(room.production_id)
    for kind, length in (("still", 10.0), ("sweep", seconds), ("wand on floor", 3.0)):
        seen, _ = film(truth.cameras, scene(kind, 3, length, 120.0, wand), 3, Faults(), lamps=truth.lamps)
        keep_recording(room, kind, seen, Fraction(120), None, None if kind == "still" else wand.to_document())


def cancelling(seeds):
    """From asking to the end of a run, at a random moment of every pass and step, seconds; long takes, one worker."""
    with database():
        from tests.server.production import calibrate, make_production

        from otrevo.server.rehearsal import record
        from otrevo.server.shoot.actions import make_slate
        from otrevo.server.stage.jobs import queue_step
        from otrevo.server.stage.room import room_of
        from otrevo.server.takes.actions import make_take
        from otrevo.server.takes.jobs import queue_all, queue_from
        from otrevo.server.work.models import ACTIVE, Run
        from otrevo.server.work.queue import cancel
        from otrevo.standins import world

        production, slate = make_production()
        calibrate(slate.performer)
        warm_up = slate.day.slates.get(warm_up=True)
        plain = make_slate(slate.day, "9", "All of it", slate.performer, ["lantern"])
        world.rehearse(plain.pk, "warm-up")
        room = room_of(production)
        _sweep(room)
        rng, worker, took = random.Random(list(seeds)[0]), _worker("20"), {}
        try:
            takes = {}
            for one in (warm_up, plain):
                takes[one.pk] = make_take(one, None)
                record(takes[one.pk], seed=5)
                queue_all(takes[one.pk])
            _wait(lambda: not Run.objects.filter(state__in=ACTIVE).exists())
            asks = [(n, lambda n=n: queue_from(takes[plain.pk], n)) for n in ("rebuild", "line up", "label", "solve")]
            asks.append(("warm-up", lambda: queue_from(takes[warm_up.pk], "warm-up")))
            asks += [(n, lambda n=n: queue_step(room, n, None)) for n in ("find blinds", "solve cameras", "level")]
            for name, ask in asks:
                lasted = (lambda r: (r.finished_at - r.begun_at).total_seconds())(
                    Run.objects.filter(name=name, state="done").last() or _done(ask, ACTIVE)
                )
                for _ in seeds:
                    run = ask()
                    _wait(lambda r=run: Run.objects.get(pk=r.pk).state == "running")
                    time.sleep(rng.uniform(0, 0.8 * lasted))
                    began = time.perf_counter()
                    cancel(Run.objects.filter(state__in=ACTIVE))
                    _wait(lambda r=run: Run.objects.get(pk=r.pk).state not in ACTIVE)
                    if Run.objects.get(pk=run.pk).state == "cancelled":
                        took.setdefault(name, []).append(time.perf_counter() - began)
                    _wait(lambda: not Run.objects.filter(state__in=ACTIVE).exists())
        finally:
            worker.kill()
    for name, seconds in took.items():
        print(f"{name}: {len(seconds)} stopped, median {np.median(seconds):.2f} s, worst {max(seconds):.2f} s")
    return {"worst_s": max(max(s) for s in took.values()), "stopped": sum(map(len, took.values()))}


def _done(ask, active):
    from otrevo.server.work.models import Run

    run = ask()
    _wait(lambda: Run.objects.get(pk=run.pk).state not in active)
    return Run.objects.get(pk=run.pk)


def kills(seeds, times=50):
    """Workers, web server and recorder killed with kill -9 at random moments while passes, steps and packages are at work."""
    with database():
        from tests.server.production import calibrate, make_production

        from otrevo.server.cluster import free_port
        from otrevo.server.handover.jobs import queue_package
        from otrevo.server.handover.models import Package
        from otrevo.server.rehearsal import record
        from otrevo.server.stage.jobs import queue_step
        from otrevo.server.stage.room import room_of
        from otrevo.server.takes.actions import make_take
        from otrevo.server.takes.jobs import queue_all
        from otrevo.server.takes.models import Stream
        from otrevo.server.work.models import ACTIVE, Run

        production, slate = make_production()
        calibrate(slate.performer)
        room = room_of(production)
        _sweep(room, 15.0)
        rng = random.Random(list(seeds)[0])
        port = free_port(8700)
        os.environ |= {"OTREVO_CAMERAS_PORT": str(free_port(47100)), "OTREVO_RECORDER_PORT": str(free_port(47400))}

        def start(name):
            if name.startswith("worker"):
                return _worker()
            command = {
                "web": ["otrevo.server.web.process", "--port", str(port)],
                "recorder": ["otrevo.server.recorder.process"],
            }[name]
            return subprocess.Popen(
                [sys.executable, "-m", *command], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )

        parts = {name: start(name) for name in ("worker 1", "worker 2", "web", "recorder")}
        killed = 0
        try:
            while killed < times:
                if Run.objects.filter(state__in=ACTIVE).count() < 6:
                    take = make_take(slate, None)
                    record(take, seed=killed)
                    queue_all(take)
                    if not room.runs.filter(state__in=ACTIVE).exists():
                        queue_step(room, "solve cameras", None)
                    solved = Run.objects.filter(name="solve", state="done").select_related("take").last()
                    if solved:
                        package = Package.objects.create(production=production, name="p", formats=["bvh"], rate="60")
                        package.takes.set([solved.take])
                        queue_package(package)
                time.sleep(rng.uniform(0.3, 6.0))
                name = rng.choice(["worker 1", "worker 2", "worker 1", "worker 2", "web", "recorder"])
                os.kill(parts[name].pid, signal.SIGKILL)
                parts[name].wait()
                parts[name] = start(name)
                killed += 1
            _wait(lambda: not Run.objects.filter(state__in=ACTIVE).exists(), 900)
        finally:
            for part in parts.values():
                part.kill()
        runs = list(Run.objects.all())
        for run in runs:
            assert run.state == "done" or run.message.endswith("."), (run.name, run.state, run.message)
        twice = [s.pk for s in Stream.objects.filter(run__isnull=False).exclude(run__state="done")]
        assert not twice, "tracks of runs that did not end well"
        assert not Package.objects.filter(state="building").exists()
    counts = {state: sum(r.state == state for r in runs) for state in ("done", "failed", "cancelled")}
    print(f"{killed} killed, {len(runs)} runs: {counts}; most attempts {max(r.attempts for r in runs)}")
    return counts | {"killed": killed, "runs": len(runs), "taken_up_again": sum(r.attempts > 1 for r in runs)}
