import os
import socket
import stat
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from otrevo.server.launch import Cluster, LaunchError, free_port, secret, wait_for


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

    def test_waiting_gives_up(self):
        self.assertFalse(wait_for(f"http://127.0.0.1:{free_port(59000)}/", seconds=0.5))
