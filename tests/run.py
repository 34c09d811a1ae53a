"""Run the tests: `python -m tests.run core|django|all`. The last line is `N passed, N failed, N skipped`."""

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
import unittest
import warnings
from pathlib import Path

HOME = Path(__file__).resolve().parents[1]
YIELDS = 6  # of the 19 that a process can: what only computes fills the time in which the others wait
MOSTLY_WAIT = ("test_killed_parts",)  # for other processes; beside tests that compute, that takes no time of its own


class Timed(unittest.TextTestResult):
    """Says at the end which tests took longest, with the preparation of the classes they are in."""

    SHOWN = 12

    def __init__(self, *arguments, **named):
        super().__init__(*arguments, **named)
        self.took, self.last = [], time.monotonic()

    def stopTest(self, test):
        super().stopTest(test)
        now = time.monotonic()
        self.took.append((now - self.last, test.id()))
        self.last = now

    def stopTestRun(self):
        super().stopTestRun()
        for seconds, name in sorted(self.took, reverse=True)[: self.SHOWN]:
            self.stream.writeln(f"{seconds:6.1f} s  {name}")


class Tally:
    def __init__(self):
        self.passed = self.failed = self.skipped = 0

    def add_result(self, result):
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        self.failed += failed
        self.skipped += len(result.skipped)
        self.passed += max(0, result.testsRun - failed - len(result.skipped))

    def command(self, words, *command, cwd=HOME):
        """One check that is a command: it passes when it exits 0."""
        began = time.monotonic()
        done = subprocess.run(command, cwd=cwd, capture_output=True, text=True)
        good = done.returncode == 0
        self.passed += good
        self.failed += not good
        print(f"{'ok  ' if good else 'FAIL'} {words} ({time.monotonic() - began:.1f} s)", flush=True)
        if not good:
            print((done.stdout + done.stderr)[-4000:])
        return done

    def close(self):
        print(f"{self.passed} passed, {self.failed} failed, {self.skipped} skipped")
        return 1 if self.failed or not self.passed else 0


class Beside:
    """Tests in a process of their own, beside the others."""

    def __init__(self, which, *more):
        self.which = which
        self.folder = tempfile.TemporaryDirectory(prefix="otrevo-beside-")
        self.log, self.counts = Path(self.folder.name) / "log", Path(self.folder.name) / "counts.json"
        with self.log.open("wb") as out:
            command = [sys.executable, "-m", "tests.run", which, "--counts", str(self.counts), *more]
            self.process = subprocess.Popen(command, cwd=HOME, stdout=out, stderr=subprocess.STDOUT)

    def join(self, tally):
        self.process.wait()
        print(self.log.read_text(errors="replace"), flush=True)
        if self.counts.exists():
            passed, failed, skipped = json.loads(self.counts.read_text())
            tally.passed, tally.failed, tally.skipped = (
                tally.passed + passed,
                tally.failed + failed,
                tally.skipped + skipped,
            )
        else:
            tally.failed += 1
            print(f"FAIL the tests of the {self.which} ended before they could be counted")
        self.folder.cleanup()


class Shared(unittest.TestSuite):
    """Tests of some folders below tests/ that no other process has taken: module by module, or class by class. Those that
    share tests have a folder for their claims in common."""

    def __init__(self, claims, *folders, by_class=False):
        super().__init__()
        self.claims, self.folders, self.by_class = Path(claims), folders, by_class
        self._cleanup = False  # nothing is held that would have to be let go

    def __iter__(self):
        for name in self.modules():
            if self.by_class:
                for number, tests in enumerate(self.loaded(name)):
                    if self.claimed(f"{name}.{number}"):
                        self.begin(name)
                        yield tests
            elif self.claimed(name):
                yield from self.loaded(name)

    def begin(self, name):
        """For a runner that has something to do before the tests of a module."""

    def modules(self):
        """Names below tests/: first those that mostly wait, what is small last."""

        def order(file):
            return file.stem not in MOSTLY_WAIT, self.folders.index(file.parent.name), -file.stat().st_size

        files = [f for folder in self.folders for f in (HOME / "tests" / folder).glob("test_*.py")]
        return [f"{file.parent.name}.{file.stem}" for file in sorted(files, key=order)]

    def loaded(self, name):
        return unittest.defaultTestLoader.loadTestsFromName(f"tests.{name}")

    def claimed(self, name):
        """Whether this process is the first to ask for tests of that name."""
        try:
            (self.claims / name).touch(exist_ok=False)
        except FileExistsError:
            return False
        return True


def run_core(tally, claims):
    """The core's tests wait for nothing; those of the server and the interface do, so these come first."""
    os.nice(YIELDS)
    warnings.filterwarnings(
        "error", category=RuntimeWarning
    )  # such as a division by zero, which whoever runs a pass would read
    runner = unittest.TextTestRunner(verbosity=1, resultclass=Timed, warnings="")  # no filters besides
    tally.add_result(runner.run(Shared(claims, "core")))


def run_django(tally, claims):
    """Tests of the interface and of the server on a PostgreSQL cluster of their own, which goes when they end."""
    from otrevo.server.cluster import Cluster

    with tempfile.TemporaryDirectory(prefix="otrevo-test-") as folder:
        data = Path(folder)
        data.chmod(0o755)
        cluster = Cluster(data, fsync=False)
        os.environ.update(
            DJANGO_SETTINGS_MODULE="otrevo.server.settings", OTREVO_DATA=folder, OTREVO_SECRET_KEY="tests"
        )
        try:
            cluster.start()
            import django
            from django.test.runner import DiscoverRunner

            django.setup()
            from django.conf import settings
            from django.contrib.contenttypes.management import create_contenttypes
            from django.db.models.signals import post_migrate

            from tests.interface.browser import Open

            settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]  # quick sign-in in tests
            # nobody asks for Django's permissions; each test that empties the database would have them made again
            post_migrate.disconnect(dispatch_uid="django.contrib.auth.management.create_permissions")
            post_migrate.disconnect(create_contenttypes)

            class Suite(Shared):
                def begin(self, name):
                    if not name.startswith("interface."):  # whose tests are all in a browser
                        Open.end()

            class Runner(DiscoverRunner):
                def build_suite(self, *_, **__):
                    return Suite(claims, "interface", "server", by_class=True)

                def get_databases(self, suite):
                    return {"default": False}  # without looking into tests that nobody has taken yet

                def get_resultclass(self):
                    return Timed

                def suite_result(self, suite, result, **kwargs):
                    tally.add_result(result)
                    return super().suite_result(suite, result, **kwargs)

            Runner(verbosity=1, interactive=False, keepdb=True).run_tests([])
            Open.end()
        finally:
            cluster.stop()


def run_checks(tally):
    bin = Path(sys.executable).parent
    tally.command("lint", str(bin / "ruff"), "check", "src", "tests", "benchmarks")
    tally.command("import rules", str(bin / "lint-imports"), "--no-cache")
    web = HOME / "web"
    tally.command(
        "API types can be made", "npm", "run", "--silent", "types", cwd=web
    )  # made, never kept: they follow the description
    tally.command("front-end types", "npm", "run", "--silent", "check", cwd=web)
    report = Path(tempfile.mkdtemp()) / "vitest.json"
    done = subprocess.run(
        ["npx", "--no-install", "vitest", "run", "--reporter=json", f"--outputFile={report}"],
        cwd=web,
        capture_output=True,
        text=True,
    )
    if report.exists():
        counts = json.loads(report.read_text())
        tally.passed += counts["numPassedTests"]
        tally.failed += counts["numFailedTests"] + (counts["numTotalTests"] == 0)
        tally.skipped += counts["numPendingTests"]
        print(
            f"{'ok  ' if not counts['numFailedTests'] else 'FAIL'} front-end unit tests: {counts['numPassedTests']} passed"
        )
        if counts["numFailedTests"]:
            for file in counts["testResults"]:
                for one in file["assertionResults"]:
                    if one["status"] == "failed":
                        print(one["fullName"], *one["failureMessages"], sep="\n")
    else:
        tally.failed += 1
        print("FAIL front-end unit tests\n" + (done.stdout + done.stderr)[-3000:])


LANES = {"core": run_core, "django": run_django}


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("what", choices=(*LANES, "all"))
    parser.add_argument("--counts", type=Path, help="a file for how many passed, failed and were skipped")
    parser.add_argument("--claims", help="a folder by which several processes share the tests")
    parser.add_argument(
        "--checks", action="store_true", help="lint, import rules, types and the front end's own tests before"
    )
    told, tally = parser.parse_args(), Tally()
    with tempfile.TemporaryDirectory(prefix="otrevo-claims-") as own:
        if told.what != "all":
            if told.checks:
                run_checks(tally)
            LANES[told.what](tally, told.claims or own)
            if told.counts:
                told.counts.write_text(json.dumps([tally.passed, tally.failed, tally.skipped]))
            return tally.close()
        beside = [
            Beside("django", "--claims", own), Beside("core", "--claims", own, "--checks"), Beside("core", "--claims", own)
        ]  # fmt: skip
        try:
            run_django(tally, own)
            for one in beside:
                one.join(tally)
        finally:
            for one in beside:
                one.process.kill()  # where something above went wrong
    return tally.close()


if __name__ == "__main__":
    sys.exit(main())
