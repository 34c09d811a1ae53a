import os
import socket
import stat
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

from otrevo.server.cluster import Cluster, LaunchError, free_port, secret
from otrevo.server.launch import started, wait_for
from otrevo.server.supervise import Part, Supervisor, alone_in


class Launch(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.data = Path(folder.name)

    def test_a_busy_port_gives_the_next_one(self):
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            port = taken.getsockname()[1]
            self.assertGreater(free_port(port), port)

    def test_secrets_are_kept_and_private(self):
        first = secret(self.data, "key")
        self.assertEqual(secret(self.data, "key"), first)
        self.assertGreater(len(first), 30)
        self.assertEqual(stat.S_IMODE((self.data / "key").stat().st_mode), 0o600)

    def test_a_missing_database_server_is_one_sentence_naming_the_package(self):
        with (
            mock.patch("pathlib.Path.glob", return_value=iter([])),
            self.assertRaisesRegex(LaunchError, "package postgresql"),
        ):
            Cluster(self.data)

    @unittest.skipIf(os.getuid() != 0, "only root needs another account")
    def test_root_puts_the_cluster_where_the_unprivileged_account_can_reach_it(self):
        self.data.chmod(0o700)
        self.assertEqual(Cluster(self.data).folder.parent, Path("/var/lib/postgresql"))
        self.data.chmod(0o755)
        self.assertEqual(Cluster(self.data).folder, self.data / "postgres")

    def test_one_folder_is_for_one_launcher(self):
        lock = alone_in(self.data)
        with self.assertRaisesRegex(LaunchError, "runs already with the data in"), started(self.data):
            self.fail("it must not start")
        lock.close()
        alone_in(self.data).close()

    def test_a_part_that_ends_is_started_again_and_nothing_else_is_ended(self):
        other = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
        self.addCleanup(other.wait)
        self.addCleanup(other.kill)
        said = []
        supervisor = Supervisor(self.data, said.append)
        code = "import pathlib, time; pathlib.Path('began').open('a').write('x'); time.sleep(60)"
        part = Part.of_python("sleeper", self.data, os.environ, self.data, "timeit", "-n1", "-r1", code)
        supervisor.add(part)
        supervisor.watch()
        first = part.process
        deadline = time.monotonic() + 20
        while not (self.data / "began").exists() and time.monotonic() < deadline:
            time.sleep(0.05)
        first.kill()
        while (self.data / "began").read_text() != "xx" and time.monotonic() < deadline:
            time.sleep(0.05)
        self.assertEqual((self.data / "began").read_text(), "xx")
        self.assertIn("sleeper was ended by SIGKILL; started again", said[0])
        self.assertNotEqual(part.process.pid, first.pid)
        supervisor.stop()
        self.assertIsNotNone(part.process.poll())
        self.assertIsNone(other.poll())
        self.assertFalse((self.data / "parts.json").exists())

    def test_one_that_ends_at_once_is_given_more_time_each_time(self):
        part = Part("broken", lambda: subprocess.Popen([sys.executable, "-c", "raise SystemExit(3)"]))
        part.begin()
        waits, now = [], part.begun
        for _ in range(5):
            part.process.wait()
            part.look(now)
            waits.append(round(part.due - now, 3))
            now = part.due or now
            part.look(now)
        self.assertEqual(waits[:1] + sorted(waits[1:]), waits)
        self.assertGreater(waits[-1], 1.0)
        self.assertIn("status 3", part.why)

    def test_waiting_gives_up(self):
        self.assertFalse(wait_for(f"http://127.0.0.1:{free_port(59000)}/", seconds=0.5))
