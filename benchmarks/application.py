"""The application as a whole on a database of its own: chunk store, a take from streams to package, cold start."""

import os
import resource
import subprocess
import sys
import tempfile
import time
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path

import numpy as np

HOME = Path(__file__).resolve().parents[1]


@contextmanager
def database():
    """Django on a fresh PostgreSQL cluster, gone afterwards."""
    from otrevo.server.cluster import Cluster

    with tempfile.TemporaryDirectory(prefix="otrevo-bench-") as folder:
        data = Path(folder)
        data.chmod(0o755)
        cluster = Cluster(data)
        os.environ.update(
            DJANGO_SETTINGS_MODULE="otrevo.server.settings", OTREVO_DATA=folder, OTREVO_SECRET_KEY="bench"
        )
        try:
            cluster.start()
            import django
            from django.core.management import call_command

            django.setup()
            call_command("migrate", verbosity=0)
            yield
        finally:
            from django.db import connections

            connections.close_all()
            cluster.stop()


def store(seeds):
    """Writing and reading 60 s of a body's markers through the ORM, committed to disk."""
    with database():
        from tests.server.production import make_production

        from otrevo.server.takes.actions import make_take
        from otrevo.server.takes.streams import read_stream, write_stream

        _, slate = make_production()
        take = make_take(slate, None, duration_s=60.0)
        data = np.random.default_rng(0).normal(size=(7200, 57, 3)).astype(np.float32)
        megabytes = data.nbytes / 1e6
        written, read = [], []
        for seed in seeds:
            began = time.perf_counter()
            stream = write_stream(take, f"take {seed}", "points", Fraction(120), data)
            written.append(megabytes / (time.perf_counter() - began))
            began = time.perf_counter()
            assert np.array_equal(read_stream(stream), data)
            read.append(megabytes / (time.perf_counter() - began))
    return {"write_mb_s": float(np.median(written)), "read_mb_s": float(np.median(read))}


def pipeline(seeds):
    """One performer's longest take from recorded streams to a package that has been read back, in one process; what cameras
    saw becomes points first, which is told apart."""
    with database():
        from tests.server.production import calibrate, make_production

        from otrevo.server.handover.jobs import queue_package
        from otrevo.server.handover.models import Package
        from otrevo.server.rehearsal import record
        from otrevo.server.shoot.actions import make_slate
        from otrevo.server.takes.actions import make_take
        from otrevo.server.takes.jobs import queue_all
        from otrevo.server.work.execution import carry_out, claim
        from otrevo.standins import world

        def timed(run):
            began = time.perf_counter()
            carry_out(claim(run.pk), lambda share: None)
            run.refresh_from_db()
            assert run.state == "done", run.message
            return time.perf_counter() - began

        production, slate = make_production()
        calibrate(slate.performer)
        slate = make_slate(slate.day, "9", "All of it", slate.performer, ["lantern"])
        world.rehearse(slate.pk, "warm-up")
        rows = []
        for seed in seeds:
            take = make_take(slate, None)
            record(take, seed=seed)
            queue_all(take)
            took = {run.name: timed(run) for run in take.runs.order_by("id")}
            rebuilt = took["rebuild"]
            package = Package.objects.create(
                production=production, name=f"p{seed}", formats=["bvh", "c3d", "face"], rate="60"
            )
            package.takes.add(take)
            seconds = sum(took[n] for n in ("line up", "label", "solve")) + timed(queue_package(package))
            package.refresh_from_db()
            assert package.state == "ready", package.message
            take.refresh_from_db()
            rows.append((seconds, rebuilt, take.duration_s))
            print(
                f"seed {seed}: {take.duration_s:.0f} s of take in {seconds:.1f} s, its points rebuilt in {rebuilt:.1f} s"
            )
    spent, rebuilt, lasted = np.array(rows).T
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return {
        "seconds_for_60_s": float(np.median(60 * spent / lasted)), "with_rebuild": float(np.median(60 * (spent + rebuilt) / lasted)),
        "peak_memory_mb": peak,
    }  # fmt: skip


def cold_start(seeds):
    """From process start to a labelled file, for 10 s of take, compiled loops cached."""
    from tests.core.stage import RATE, rolled, true_calibration

    from otrevo.core.formats.c3d import write_c3d
    from otrevo.core.formats.documents import write_document

    performer, _, optical = rolled("rope haul", 41)
    points = optical.points_m[:1200]
    took = []
    with tempfile.TemporaryDirectory() as folder:
        where = Path(folder)
        write_c3d(where / "take.c3d", points, [f"*{i}" for i in range(points.shape[1])], RATE)
        write_document(where / "performer.json", true_calibration(performer).to_document())
        for _ in seeds:
            began = time.perf_counter()
            subprocess.run(
                [sys.executable, "-m", "otrevo.cli", "label", "--points", where / "take.c3d", "--performer",
                 where / "performer.json", "--out", where / "named.c3d"], check=True, cwd=HOME,
            )  # fmt: skip
            took.append(time.perf_counter() - began)
    return {"seconds_to_first_result": float(np.median(took))}
