"""A production at its end, with 500 takes on 30 days, and ten people in it while takes are solved: through the real web server."""

import gzip
import http.client
import http.cookiejar
import json
import os
import random
import signal
import subprocess
import sys
import threading
import time
import urllib.request
from contextlib import contextmanager
from datetime import date, timedelta

import numpy as np

from benchmarks.application import HOME, database

DAYS, SLATES, TAKES = 30, 5, 500
PEOPLE, SECONDS, THINKS_S = 10, 60.0, 0.7


def _grown(production, slate, take):
    """Clone a take with its runs, changes and streams until there are TAKES of them on DAYS days."""
    from otrevo.server.shoot.models import ShootDay, Slate
    from otrevo.server.takes.models import Appearance, Chunk, Stream, Take
    from otrevo.server.work.models import Run

    runs, streams = list(take.runs.order_by("pk")), list(take.streams.order_by("pk"))
    chunks = {s.pk: list(s.chunks.all()) for s in streams}
    slates = []
    for number in range(DAYS):
        day = ShootDay.objects.create(
            production=production, number=100 + number, date=date(2026, 10, 1) + timedelta(number), stage="Quay stage"
        )
        slates += [
            Slate.objects.create(
                day=day, name=f"{number}{letter}", title="Hauling the mooring rope", performer=slate.performer
            )
            for letter in "ABCDE"[:SLATES]
        ]
    for i in range(TAKES - 1):
        at = slates[i % len(slates)]
        one = Take.objects.create(
            slate=at, number=1 + i // len(slates), duration_s=take.duration_s, out_s=take.out_s, picture=take.picture,
            note="good weight, watch the left hand", rolled_by=take.rolled_by, stage_calibration=take.stage_calibration,
        )  # fmt: skip
        Appearance.objects.create(take=one, performer=slate.performer, kit=slate.performer.kit)
        made = {}
        for run in runs:
            old, run.pk, run.take, run.after, run.job = run.pk, None, one, None, None
            run.save(force_insert=True)
            made[old] = run.pk
            run.pk = old
        for stream in streams:
            old, stream.pk, stream.take = stream.pk, None, one
            of, stream.run_id = stream.run_id, made.get(stream.run_id)
            stream.save(force_insert=True)
            Chunk.objects.bulk_create(
                Chunk(
                    stream_id=stream.pk,
                    number=c.number,
                    first_sample=c.first_sample,
                    samples=c.samples,
                    piece_id=c.piece_id,
                )
                for c in chunks[old]
            )
            stream.pk, stream.run_id = old, of
    assert Stream.objects.filter(take__isnull=False).count() == TAKES * len(streams)
    assert Run.objects.filter(take__isnull=False).count() == TAKES * len(runs)


@contextmanager
def _production():
    """(production, slate, a solved take, port of a web server): a database with a production that has 500 takes."""
    with database():
        from tests.server.production import calibrate, make_production, work

        from otrevo.server.cluster import free_port
        from otrevo.server.rehearsal import record
        from otrevo.server.takes.actions import make_take
        from otrevo.server.takes.jobs import queue_all

        production, slate = make_production()
        calibrate(slate.performer)
        take = make_take(slate, None)
        record(take, seed=3)
        queue_all(take)
        work()
        take.refresh_from_db()
        _grown(production, slate, take)
        port = free_port(8700)
        web = subprocess.Popen(
            [sys.executable, "-m", "otrevo.server.web.process", "--port", str(port)], cwd=HOME, stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )  # fmt: skip
        try:
            yield production, slate, take, port
        finally:
            web.kill()
            web.wait()


class Person:
    """Somebody signed in, whose browser keeps its line open."""

    def __init__(self, port, role="technician"):
        from tests.server.production import PASSWORD

        jar = http.cookiejar.CookieJar()
        client = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
        base = f"http://127.0.0.1:{port}/api"
        for _ in range(200):
            try:
                token = json.load(client.open(f"{base}/csrf"))["token"]
                break
            except OSError:
                time.sleep(0.1)
        body = json.dumps({"name": f"{role}-SMS", "password": PASSWORD}).encode()
        client.open(
            urllib.request.Request(f"{base}/sign-in", body, {"Content-Type": "application/json", "X-CSRFToken": token})
        )
        cookies = {c.name: c.value for c in jar}
        self.headers = {
            "Cookie": "; ".join(f"{k}={v}" for k, v in cookies.items()), "X-CSRFToken": cookies["csrftoken"],
            "Content-Type": "application/json", "Accept-Encoding": "gzip",
        }  # fmt: skip
        self.port, self.line = port, None

    def ask(self, method, path, body=None):
        """(seconds until the whole answer is there, its bytes on the line, the answer)."""
        self.line = self.line or http.client.HTTPConnection("127.0.0.1", self.port, timeout=60)
        began = time.perf_counter()
        try:
            self.line.request(method, f"/api{path}", None if body is None else json.dumps(body), self.headers)
            answer = self.line.getresponse()
            data = answer.read()
        except (http.client.HTTPException, OSError):  # the server has closed a line that was idle
            self.line.close()
            self.line = None
            return self.ask(method, path, body)
        took = time.perf_counter() - began
        assert answer.status == 200, (path, answer.status, data[:300])
        text = gzip.decompress(data) if answer.headers.get("Content-Encoding") == "gzip" else data
        kind = answer.headers.get("Content-Type", "")
        return took, len(data), json.loads(text) if kind.startswith("application/json") else None


def five_hundred(seeds):
    """Board, stage, storage and a take of a production with 500 takes: milliseconds, kilobytes on the line, database queries."""
    with _production() as (production, _, take, port):
        from django.db import connection
        from django.test import Client
        from django.test.utils import CaptureQueriesContext
        from tests.server.production import PASSWORD

        person, inside, out = Person(port), Client(HTTP_HOST="127.0.0.1"), {}
        inside.login(username="technician-SMS", password=PASSWORD)
        for name, path in (
            ("board", f"/productions/{production.pk}/board"), ("stage", f"/productions/{production.pk}/stage"),
            ("storage", f"/productions/{production.pk}/storage"), ("bench", f"/takes/{take.pk}/bench"),
            ("cast", f"/productions/{production.pk}/cast"), ("packages", f"/productions/{production.pk}/packages"),
        ):  # fmt: skip
            answers = [person.ask("GET", path) for _ in range(3 + 5 * len(seeds))][3:]
            with CaptureQueriesContext(
                connection,
            ) as queries:
                inside.get(f"/api{path}")
            took = 1000 * np.array([a[0] for a in answers])
            out |= {
                f"{name}_ms": float(np.median(took)),
                f"{name}_kb": answers[0][1] / 1000,
                f"{name}_queries": len(queries),
            }
            print(
                f"{name}: {np.median(took):.0f} ms, at most {took.max():.0f}; {answers[0][1] / 1000:.0f} kB; {len(queries)} queries"
            )
    return out


def ten_people(seeds):
    """Ten people look, note and circle for a minute while two takes are solved, again and again: the slowest calls."""
    with _production() as (production, slate, take, port):
        from otrevo.server.takes.jobs import queue_all
        from otrevo.server.takes.models import Take
        from otrevo.server.work.models import ACTIVE, Run

        environment = os.environ | {"OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}
        workers = [
            subprocess.Popen([sys.executable, "-m", "otrevo.server.work.worker"], env=environment, cwd=HOME, stdout=subprocess.DEVNULL,
                             stderr=subprocess.DEVNULL) for _ in range(2)
        ]  # fmt: skip
        takes = list(Take.objects.order_by("pk")[:40])
        recorded = take.streams.filter(run=None)
        ids = [s.pk for s in take.streams.all()]
        took, over = {}, time.monotonic() + SECONDS + 15
        roles = ("technician", "supervisor", "clean-up")

        def live(number):
            chance = random.Random(1000 * number + seeds[0])
            person = Person(port, roles[number % 3])
            base = f"/productions/{production.pk}"
            while time.monotonic() < over:
                one = chance.choice(takes)
                for name, method, path, body in chance.choice((
                    (("board", "GET", f"{base}/board", None),), (("stage", "GET", f"{base}/stage", None),),
                    (("bench", "GET", f"/takes/{take.pk}/bench", None), ("samples", "GET", f"/streams/{chance.choice(ids)}/data?end=3000", None)),
                    (("runs", "GET", f"/takes/{one.pk}/runs", None), ("history", "GET", f"/takes/{one.pk}/changes", None)),
                    (("note", "PATCH", f"/takes/{one.pk}", {"note": f"note {chance.random():.3f}"}),),
                    (("circle", "PATCH", f"/takes/{one.pk}", {"status": chance.choice(["circled", "hold", "open"])}),),
                    (("packages", "GET", f"{base}/packages", None), ("cast", "GET", f"{base}/cast", None)),
                )):  # fmt: skip
                    seconds = person.ask(method, path, body)[0]
                    if time.monotonic() > over - SECONDS:
                        took.setdefault(name, []).append(seconds)
                time.sleep(chance.uniform(0.3, 1.7) * THINKS_S)

        people = [threading.Thread(target=live, args=(n,)) for n in range(PEOPLE)]
        try:
            for one in people:
                one.start()
            solved = 0
            while any(p.is_alive() for p in people):
                if Run.objects.filter(state__in=ACTIVE).count() < 2:
                    for one in takes[1:3]:
                        one.runs.filter(state__in=ACTIVE).exists() or queue_all(one)
                        solved += 1
                time.sleep(0.3)
        finally:
            for worker in workers:
                worker.send_signal(signal.SIGKILL)
        assert recorded.exists()
    for name, seconds in sorted(took.items()):
        milliseconds = 1000 * np.array(seconds)
        print(
            f"{name}: {len(seconds)} calls, median {np.median(milliseconds):.0f} ms, p99 {np.percentile(milliseconds, 99):.0f}, most {milliseconds.max():.0f}"
        )
    all_of_them = 1000 * np.concatenate(list(took.values()))
    worst = max(np.percentile(1000 * np.array(s), 99) for s in took.values())
    return {
        "calls": len(all_of_them),
        "p99_ms": float(np.percentile(all_of_them, 99)),
        "p99_of_the_slowest_call_ms": float(worst),
        "solves_begun": solved,
    }
