"""A worker on another machine, which is a network namespace here: its own addresses, and nothing but the wire between the two."""

import json
import os
import signal
import subprocess
import sys
import tempfile
import textwrap
import unittest
import urllib.error
import urllib.request
from pathlib import Path

import psycopg

from otrevo.server.cluster import free_port
from tests.server.product import HOME, until

OWN = os.getpid()  # tests of another checkout may run beside these
NAME, NETWORK, HERE, THERE = f"otrevo-{OWN % 10**5}", *(f"10.213.{OWN % 250}.{host}" for host in ("0/24", "1", "2"))
FILLED = """
    import numpy as np
    from otrevo.server.takes.jobs import queue_from
    from tests.server.production import calibrate, make_production
    from tests.server.recording import streamed_take
    production, slate = make_production()
    calibrate(slate.performer)
    take = streamed_take(slate, "rope haul", 6.0, ("optical",))
    queue_from(take, "label")
"""


def address(command):
    subprocess.run(["ip", *command.split()], check=True, capture_output=True)


def wired():
    """Make the other machine and a wire to it. Returns whether this one may do that."""
    try:
        address(f"netns add {NAME}")
        address(f"link add {NAME} type veth peer name {NAME}-1 netns {NAME}")
        address(f"addr add {HERE}/24 dev {NAME}")
        address(f"link set {NAME} up")
        address(f"-n {NAME} addr add {THERE}/24 dev {NAME}-1")
        address(f"-n {NAME} link set {NAME}-1 up")
        address(f"-n {NAME} link set lo up")
    except (OSError, subprocess.CalledProcessError):
        return False
    return True


class FurtherMachines(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        subprocess.run(["ip", "netns", "del", NAME], capture_output=True)
        if not wired():
            raise unittest.SkipTest("network namespaces need root and the command ip")
        cls.addClassCleanup(address, f"netns del {NAME}")
        cls.root = Path(cls.enterClassContext(tempfile.TemporaryDirectory(prefix="otrevo-machines-")))
        cls.root.chmod(0o755)
        cls.data, cls.there = cls.root / "data", cls.root / "there"
        for folder in (cls.data, cls.there):
            folder.mkdir(mode=0o755)
        cls.environment = {k: v for k, v in os.environ.items() if not k.startswith(("OTREVO_", "DJANGO_"))}
        cls.environment |= {"PYTHONPATH": f"{HOME / 'src'}:{HOME}", "OTREVO_HOME": str(HOME), "OMP_NUM_THREADS": "1"}
        cls.port, cls.ours = free_port(), free_port()
        cls.settings = cls.root / "otrevo.toml"
        cls.settings.write_text(
            f'address = "{HERE}"\nport = {cls.port}\ndata = "{cls.data}"\nworkers = 0\n'
            f'[machines]\naddress = "{HERE}"\nport = {cls.ours}\nallow = ["{NETWORK}"]\n'
        )
        made = subprocess.run(
            [sys.executable, "-m", "otrevo.server.launch", "user", "add", "ada", "--administrator", "--config", cls.settings],
            input="night-harbour-9\n", text=True, env=cls.environment, cwd=HOME, capture_output=True,
        )  # fmt: skip
        assert made.returncode == 0, made.stderr
        cls.serving = cls.start("serve", "--config", cls.settings)
        cls.addClassCleanup(cls.end, cls.serving)
        until(lambda: cls.asked("worker-settings")[0] == 401, 60)
        cls.inside(FILLED)

    @classmethod
    def start(cls, *words, elsewhere=False):
        where = ["ip", "netns", "exec", NAME] if elsewhere else []
        with (cls.root / f"{words[0]}.log").open("ab") as log:
            return subprocess.Popen(
                [*where, sys.executable, "-m", "otrevo.server.launch", *map(str, words)], env=cls.environment, cwd=HOME,
                stdout=log, stderr=log, start_new_session=True,
            )  # fmt: skip

    @staticmethod
    def end(process):
        process.send_signal(signal.SIGTERM)
        process.wait(120)

    @classmethod
    def asked(cls, path, key=""):
        request = urllib.request.Request(
            f"http://{HERE}:{cls.port}/api/{path}", headers={"Authorization": f"Bearer {key}"}
        )
        try:
            with urllib.request.urlopen(request, timeout=10) as answer:
                return answer.status, answer.read()
        except urllib.error.HTTPError as error:
            return error.code, error.read()
        except OSError:
            return None, b""

    @classmethod
    def inside(cls, script):
        """What a script prints that works on the data of the server."""
        text = "import sys\nfrom pathlib import Path\nfrom otrevo.server.administration import database_of\n"
        text += "data = Path(sys.argv[1])\nwith database_of(data):\n    from otrevo.server.launch import prepare\n    prepare(data)\n"
        text += textwrap.indent(textwrap.dedent(script), "    ")
        done = subprocess.run(
            [sys.executable, "-c", text, cls.data], env=cls.environment, cwd=HOME, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr
        return done.stdout

    def database(self):
        password = (self.data / "database-password").read_text()
        return psycopg.connect(host="127.0.0.1", port=self.ours, user="otrevo", password=password, dbname="otrevo")

    def runs(self):
        with self.database() as link:
            return dict(link.execute("select name, state from work_run"))

    def join(self, key_file):
        return self.start(
            "worker", "--server", f"http://{HERE}:{self.port}", "--key-file", key_file, "--workers", 1, "--data", self.there,
            elsewhere=True,
        )  # fmt: skip

    def test_a_worker_there_does_the_work_from_here(self):
        self.assertEqual(self.runs()["label"], "queued")
        worker = self.join(self.data / "workers-key")
        self.addCleanup(self.end, worker)
        until(lambda: self.runs()["solve"] == "done", 180)
        self.assertEqual(self.runs()["label"], "done")
        with self.database() as link:
            self.assertEqual(link.execute("select count(*) from procrastinate_workers").fetchone(), (1,))
        log = (self.there / "worker-1.log").read_text()
        self.assertIn('"run": ', log)
        self.assertNotIn("permission denied", log)

    def test_who_has_not_the_key_learns_nothing(self):
        wrong = self.root / "wrong"
        wrong.write_text("not-the-key")
        self.assertEqual(self.join(wrong).wait(120), 1)
        self.assertIn("The key is not the one in workers-key", (self.root / "worker.log").read_text())
        status, answer = self.asked("worker-settings", "not-the-key")
        self.assertEqual(status, 401)
        self.assertNotIn(b"password", answer.replace(b"workers-password", b""))

    def test_a_worker_may_not_read_who_signs_in_and_others_may_not_come_in_at_all(self):
        told = json.loads(self.asked("worker-settings", (self.data / "workers-key").read_text())[1])["database"]
        told = {("dbname" if k == "name" else k): v for k, v in told.items()}
        with psycopg.connect(**told) as link:
            self.assertEqual(link.execute("select count(*) from takes_take").fetchone(), (1,))
            for statement in (
                "select password from auth_user",
                "select * from django_session",
                "copy (select 1) to program 'true'",
            ):
                with self.subTest(statement), self.assertRaises(psycopg.errors.InsufficientPrivilege):
                    link.execute(statement)
                link.rollback()
        own = told | {"user": "otrevo", "password": (self.data / "database-password").read_text()}
        with self.assertRaisesRegex(psycopg.OperationalError, "no pg_hba.conf entry"):
            psycopg.connect(**own)
