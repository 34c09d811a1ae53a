"""Work through the real queue, with real workers that are really killed, whatever they were doing."""

import contextlib
import os
import signal
import subprocess
import sys
import time
import uuid
from fractions import Fraction
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.test import SimpleTestCase, TransactionTestCase

from otrevo.core.optics.wand import SHIPPED_WANDS
from otrevo.core.sim.rig import Faults, film
from otrevo.core.sim.scenes import scene
from otrevo.server.handover.jobs import queue_package
from otrevo.server.handover.models import Package
from otrevo.server.stage.actions import keep_recording
from otrevo.server.stage.jobs import queue_step
from otrevo.server.stage.room import room_of
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.jobs import queue_from
from otrevo.server.takes.material import latest
from otrevo.server.takes.models import Stream
from otrevo.server.work.execution import MOST_ATTEMPTS, Superseded, carry_out, claim, finish
from otrevo.server.work.models import Run
from otrevo.server.work.queue import cancel
from otrevo.server.work.worker import _look, rescue
from otrevo.standins import world
from tests.server.production import calibrate, make_production, work
from tests.server.recording import streamed_take
from tests.server.test_server import post, signed_in
from tests.server.workers import PATIENCE_S, all_ended, at_rest, kill, running, start_worker, told, wait_until, worker


class WithATake(TransactionTestCase):
    def setUp(self):
        self.production, self.slate = make_production()
        calibrate(self.slate.performer)
        self.take = streamed_take(self.slate, "rope haul", 10.0, ("optical", "suit"))

    def states(self):
        return {r.name: r.state for r in Run.objects.all()}

    def computing(self, process):
        """The process id of a worker's computing child, None before there is one."""
        return first_child(first_child(process.pid))

    def held_still(self, process):
        """The process id of a worker's computing child, stopped: what it is given now is surely not over too soon."""
        child = wait_until(lambda: self.computing(process), "the computing process")
        os.kill(child, signal.SIGSTOP)
        self.addCleanup(
            tell, child, signal.SIGKILL
        )  # stopped before it has asked to end with its parent, it would stay
        return child


def tell(process, what):
    """Send a signal to a process by its number, if it is still there."""
    with contextlib.suppress(ProcessLookupError):
        os.kill(process, what)


def first_child(parent):
    """The process id of the first child of a process; None when it has none, or is None itself."""
    children = Path(f"/proc/{parent}/task/{parent}/children")
    found = children.read_text().split() if parent and children.exists() else []
    return int(found[0]) if found else None


class KilledWorkers(WithATake):
    def test_in_the_middle_of_a_pass(self):
        queue_from(self.take, "line up")
        first = start_worker()
        wait_until(lambda: running("label"), "labelling")
        kill(first)
        self.assertEqual(self.states()["label"], "running", "nobody could say anything")
        with worker():
            wait_until(all_ended, "the end")
        self.assertEqual(set(self.states().values()), {"done"}, told())
        label = latest(self.take, "label")
        self.assertEqual(label.attempts, 2)
        self.assertEqual(self.take.streams.filter(name="labelled").count(), 1, "nothing is there twice")
        self.assertEqual(self.take.streams.filter(name="mended").count(), 1)

    def test_again_and_again_until_it_is_given_up(self):
        queue_from(self.take, "label")
        for attempt in range(MOST_ATTEMPTS):
            with worker() as process:
                self.held_still(process)
                wait_until(lambda n=attempt: Run.objects.filter(attempts=n + 1, state="running").exists(), "an attempt")
                kill(process)
        with worker():
            wait_until(all_ended, "the end")
        self.assertEqual(self.states(), {"label": "failed", "solve": "cancelled"})
        message = Run.objects.get(name="label").message
        self.assertRegex(message, r"^Its worker was lost 3 times.*\.$")
        self.assertFalse(Stream.objects.filter(run__isnull=False).exists())

    def test_only_the_computing_process(self):
        with worker() as process:
            child = self.held_still(process)
            queue_from(self.take, "label")
            wait_until(lambda: running("label"), "labelling")
            time.sleep(1.0)  # the worker hands the run over; to a process that is dead already it would hand nothing
            os.kill(child, signal.SIGKILL)
            wait_until(all_ended, "the end")
            self.assertTrue(process.is_alive(), "the worker goes on")
        self.assertEqual(self.states(), {"label": "done", "solve": "done"})
        self.assertEqual(Run.objects.get(name="label").attempts, 2)

    def test_only_the_process_that_starts_them(self):
        with worker() as process:
            self.held_still(process)
            spawner = first_child(process.pid)
            queue_from(self.take, "label")
            wait_until(lambda: running("label"), "labelling")
            os.kill(spawner, signal.SIGKILL)
            process.join(PATIENCE_S)
            self.assertEqual(process.exitcode, 1, "it ends, to be started anew")
        with worker():
            wait_until(all_ended, "the end")
        self.assertEqual(self.states(), {"label": "done", "solve": "done"})

    def test_in_the_middle_of_a_step_of_the_room(self):
        room = room_of(self.production)
        wand = SHIPPED_WANDS["quay corner"]
        truth = world.room(self.production.pk)
        seen, _ = film(truth.cameras, scene("sweep", 3, 20.0, 120.0, wand), 3, Faults(), lamps=truth.lamps)
        keep_recording(room, "sweep", seen, Fraction(120), None, wand.to_document())
        versions = room.calibrations.count()
        queue_step(room, "solve cameras", None)
        first = start_worker()
        wait_until(lambda: running("solve cameras"), "the solve")
        kill(first)
        with worker():
            wait_until(all_ended, "the end")
        self.assertEqual(self.states(), {"solve cameras": "done"}, told())
        self.assertEqual(room.calibrations.count(), versions + 1)

    def test_in_the_middle_of_a_package(self):
        queue_from(self.take, "line up")
        work()
        package = Package.objects.create(
            production=self.production, name="p", formats=["bvh", "c3d"], rate="30000/1001"
        )
        package.takes.set([self.take])
        queue_package(package)
        first = start_worker()
        wait_until(lambda: running("package"), "the package")
        kill(first)
        self.assertEqual(Package.objects.get().state, "building")
        with worker():
            wait_until(all_ended, "the end")
        package.refresh_from_db()
        self.assertEqual((package.state, package.message), ("ready", ""))
        self.assertGreater(package.archive_bytes, 1000)

    def test_one_computing_process_does_all_runs(self):
        with worker() as process:
            queue_from(self.take, "line up")
            wait_until(lambda: running("label"), "a pass")
            child = self.computing(process)
            wait_until(all_ended, "the end")
            for _ in range(2):
                queue_from(self.take, "label")
                wait_until(all_ended, "the end")
            self.assertEqual(self.computing(process), child, "another would have to load compiled loops again")

    def test_a_run_that_has_just_ended_is_not_taken_for_anothers(self):
        queue_from(self.take, "line up")
        mine = claim(Run.objects.get(name="line up").pk)
        self.assertEqual(_look(mine, 0.5), "go on")
        cancel(Run.objects.filter(pk=mine.pk))
        self.assertEqual(_look(mine, None), "stop")
        Run.objects.filter(pk=mine.pk).update(state="done", claim=None)
        self.assertEqual(_look(mine, None), "go on", "its computing process is about to say so")
        Run.objects.filter(pk=mine.pk).update(state="running", claim=uuid.uuid4())
        self.assertEqual(_look(mine, None), "gone")

    def test_a_worker_that_is_told_to_end_hands_its_work_over(self):
        first = start_worker()
        self.held_still(first)
        queue_from(self.take, "label")
        wait_until(lambda: running("label"), "labelling")
        first.terminate()
        first.join(120)
        self.assertEqual(Run.objects.get(name="label").attempts, 0, "that was no failure")
        with worker():
            wait_until(all_ended, "the end")
        self.assertEqual(self.states(), {"label": "done", "solve": "done"}, told())

    def test_two_workers_share_and_nothing_is_done_twice(self):
        takes = [self.take]
        for _ in range(3):
            other = make_take(self.slate, None, duration_s=10.0, out_s=10.0, first_timecode_frame=5000)
            for s in self.take.streams.filter(run=None):
                copy = Stream.objects.get(pk=s.pk)
                copy.pk, copy.take = None, other
                chunks = list(s.chunks.all())
                copy.save()
                for c in chunks:
                    c.pk, c.stream = None, copy
                    c.save()
            takes.append(other)
        for take in takes:
            queue_from(take, "line up")
        with worker() as one, worker():
            wait_until(lambda: Run.objects.filter(state="done").count() >= 3, "some work")
            kill(one)
            wait_until(all_ended, "the end")
        self.assertEqual({r.state for r in Run.objects.all()}, {"done"}, told())
        self.assertEqual(Stream.objects.filter(name="labelled").count(), 4)


class Cancelling(WithATake):
    def test_stops_a_pass_in_its_compiled_loops_and_the_worker_goes_on(self):
        client = signed_in("technician")
        with worker() as process:
            for name in ("label", "solve"):
                wait_until(at_rest, "the end of the work before")
                child = self.held_still(process)
                queue_from(self.take, name)
                run = wait_until(lambda n=name: Run.objects.filter(name=n, state="running").first(), name)
                self.assertEqual(post(client, f"/runs/{run.pk}/cancel").status_code, 200)
                tell(child, signal.SIGCONT)  # its worker may have ended it already
                wait_until(all_ended, "the end")
                run.refresh_from_db()
                self.assertEqual((run.state, run.message), ("cancelled", "Cancelled."))
                self.assertEqual(run.tracks.count(), 0)
                self.assertNotIn("failed", self.states().values())
                Run.objects.all().delete()
                queue_from(self.take, "line up")
                wait_until(all_ended, "the end")
                self.assertEqual(set(self.states().values()), {"done"}, "the same worker does the next work")

    def test_a_package_that_is_stopped_says_so(self):
        package = Package.objects.create(production=self.production, name="p", formats=["bvh"], rate="30")
        package.takes.set([self.take])
        queue_package(package)
        answer = post(signed_in("technician"), f"/packages/{package.pk}/cancel").json()
        self.assertEqual((answer["state"], answer["message"]), ("cancelled", "Cancelled before it began."))

    def test_what_waits_ends_at_once(self):
        first = queue_from(self.take, "line up")
        post(signed_in("technician"), f"/runs/{first.pk}/cancel")
        self.assertEqual(set(self.states().values()), {"cancelled"})


class Claims(WithATake):
    """What decides who may write, without processes."""

    def test_the_last_to_claim_writes_and_the_other_leaves_nothing(self):
        queue_from(self.take, "label")
        run = Run.objects.get(name="label")
        early, late = claim(run.pk), claim(run.pk)
        with self.assertRaises(Superseded):
            carry_out(early, lambda share: None)
        self.assertEqual(run.tracks.count(), 0)
        carry_out(late, lambda share: None)
        self.assertEqual(Run.objects.get(pk=run.pk).state, "done")
        with self.assertRaises(Superseded):
            finish(early, early.claim, Run.State.FAILED, "too late")
        self.assertIsNone(claim(run.pk), "what is done stays done")

    def test_what_is_asked_to_stop_at_the_last_moment_is_not_done_after_all(self):
        first = queue_from(self.take, "label")
        run = claim(first.pk)
        client = signed_in("technician")

        def ask(share):
            self.assertEqual(post(client, f"/runs/{run.pk}/cancel").status_code, 200)

        carry_out(run, ask)  # nobody looks whether it is to stop
        run.refresh_from_db()
        self.assertEqual((run.state, run.message), ("cancelled", "Cancelled."))
        self.assertEqual((run.tracks.count(), run.figures, run.snags), (0, {}, []))
        self.assertFalse(Stream.objects.filter(name="labelled").exists())

    def test_what_follows_something_that_failed_is_not_begun(self):
        queue_from(self.take, "label")
        with (
            mock.patch("otrevo.core.passes.label.label_take", side_effect=ZeroDivisionError),
            self.assertLogs("otrevo.work"),
        ):
            work()
        self.assertEqual(self.states(), {"label": "failed", "solve": "cancelled"})
        self.assertIn("'label' did not succeed", Run.objects.get(name="solve").message)

    def test_what_was_queued_anew_behind_its_follower_still_comes_first(self):
        queue_from(self.take, "label")
        label = Run.objects.get(name="label")
        Run.objects.filter(pk=label.pk).update(job=None)
        self.assertEqual(rescue(), 1)
        solve = Run.objects.get(name="solve")
        self.assertIsNone(claim(solve.pk))
        solve.refresh_from_db()
        self.assertEqual(solve.state, "queued")
        with worker():
            wait_until(all_ended, "the end")
        self.assertEqual(self.states(), {"label": "done", "solve": "done"}, told())


def printed(script):
    """What a Python script prints in a process of its own."""
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, timeout=PATIENCE_S,
        env=os.environ | {"PYTHONPATH": str(settings.HOME / "src")},
    )  # fmt: skip
    return done.stdout.strip() or done.stderr


class NobodyListens(SimpleTestCase):
    """A worker that stops a run no longer listens to it. That must not be taken for a fault of the run, which would fail."""

    SCRIPT = """
import os
from multiprocessing import Pipe
from unittest import mock
import django
django.setup()
from otrevo.server.work import child
ours, theirs = Pipe()
process = os.fork()
if process == 0:
    ours.close()
    def carry_out(run, report):
        try:
            while True:
                report(1.0)
        except Exception:
            os._exit(7)
    at = "otrevo.server.work."
    with (mock.patch(at + "execution.carry_out", carry_out), mock.patch(at + "execution.named", lambda run: {}),
          mock.patch(at + "models.Run")):
        child.compute(theirs)
theirs.close()
ours.send(1)
ours.recv()
ours.close()
print(os.waitstatus_to_exitcode(os.waitpid(process, 0)[1]))
"""

    def test_the_computing_process_ends_and_says_nothing_of_the_run(self):
        self.assertEqual(printed(self.SCRIPT), "0")


class AtLeisure(SimpleTestCase):
    """A spawner that nobody has asked for anything does once what takes its time, and its computing processes have it then."""

    SCRIPT = """
import sys, time
from otrevo.server.work import spawner
spawner.LEISURE_S = 0.2
def at_leisure():
    spawner.loaded = getattr(spawner, "loaded", 0) + 1
def compute(connection):
    connection.send(getattr(spawner, "loaded", 0))
asked = spawner.Spawner(compute, at_leisure)
found = [asked.fork().recv()]
for _ in range(2):
    time.sleep(1.0)
    found.append(asked.fork().recv())
print(found)
"""

    def test_what_takes_long_to_load_is_loaded_once_and_nothing_waits_for_it(self):
        self.assertEqual(printed(self.SCRIPT), "[0, 1, 1]")
