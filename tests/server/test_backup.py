"""Backup and restore on databases of their own, every row and stream compared; configuration; what the commands refuse."""

import io
import os
import re
import subprocess
import sys
import tarfile
import tempfile
import unittest
from pathlib import Path
from types import SimpleNamespace

import psycopg
import yaml

from otrevo.server import administration
from otrevo.server.cluster import Cluster, LaunchError
from otrevo.server.configuration import read_configuration

HOME = Path(__file__).resolve().parents[2]
FILLED = """
import sys
from pathlib import Path
from otrevo.server.administration import database_of
data = Path(sys.argv[1])
with database_of(data):
    from otrevo.server.launch import prepare
    prepare(data)
    import numpy as np
    from fractions import Fraction
    from otrevo.server.takes.actions import make_take
    from otrevo.server.takes.streams import write_stream
    from tests.server.production import make_production
    production, slate = make_production()
    take = make_take(slate, None, duration_s=4.0, out_s=4.0, note="Küste")
    write_stream(take, "optical", "points", Fraction(120), np.random.default_rng(1).normal(size=(9000, 9, 3)))
"""


def rows_of(data):
    """{table: sorted rows as text} of everything in the database of a data folder."""
    cluster = Cluster(data)
    saved = os.environ.copy()
    try:
        cluster.start()
        with psycopg.connect(
            host="127.0.0.1", port=cluster.port, user="otrevo", password=cluster.password, dbname="otrevo"
        ) as link:
            names = link.execute("select tablename from pg_tables where schemaname = 'public'").fetchall()
            return {
                n: sorted(str(r) for r in link.execute(f'select t::text from "{n}" t').fetchall()) for (n,) in names
            }
    finally:
        cluster.stop()
        os.environ.clear()
        os.environ.update(saved)


class Backup(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.root = Path(cls.enterClassContext(tempfile.TemporaryDirectory(prefix="otrevo-backup-test-")))
        cls.root.chmod(0o755)
        cls.data = cls.root / "data"
        cls.data.mkdir(mode=0o755)
        environment = {k: v for k, v in os.environ.items() if not k.startswith(("OTREVO_", "DJANGO_"))}
        environment |= {"PYTHONPATH": f"{HOME / 'src'}:{HOME}", "OTREVO_HOME": str(HOME)}
        subprocess.run([sys.executable, "-c", FILLED, str(cls.data)], env=environment, cwd=HOME, check=True)
        cls.file = cls.root / "all.otrevo"
        cls.command("backup", cls.data, cls.file)

    @staticmethod
    def command(name, data, file=None):
        saved = os.environ.copy()
        try:
            getattr(administration, name)(SimpleNamespace(config=None, data=str(data), file=str(file)))
        finally:
            os.environ.clear()
            os.environ.update(saved)

    def damaged(self, name, change):
        """A copy of the backup with one member changed: change(bytes) -> bytes."""
        target = self.root / f"damaged-{name}"
        with tarfile.open(self.file) as whole, tarfile.open(target, "w") as out:
            for member in whole.getmembers():
                data = whole.extractfile(member).read()
                if member.name == name:
                    data = change(data)
                member.size = len(data)
                out.addfile(member, io.BytesIO(data))
        return target

    def test_every_row_and_stream_comes_back(self):
        self.assertEqual(self.file.stat().st_mode & 0o777, 0o600)
        back = self.root / "back"
        self.command("restore", back, self.file)
        before, after = rows_of(self.data), rows_of(back)
        self.assertGreater(len(before["takes_piece"]), 3)
        self.assertEqual(before, after)
        self.assertEqual((back / "stage.json").read_bytes(), (self.data / "stage.json").read_bytes())
        self.assertNotEqual((back / "database-password").read_text(), (self.data / "database-password").read_text())

    def test_what_is_damaged_is_refused_and_nothing_is_made_of_it(self):
        flipped = self.damaged("database.dump", lambda data: data[:2000] + bytes([data[2000] ^ 1]) + data[2001:])
        foreign = self.damaged("about.json", lambda data: b'{"otrevo": "package/1"}')
        short = self.root / "short"
        short.write_bytes(self.file.read_bytes()[:5000])
        for file, words in (
            (flipped, "is damaged"), (foreign, "not a complete backup"), (short, "not a complete backup"), (self.root / "nothing", "no such file"),
        ):  # fmt: skip
            with self.subTest(file.name), self.assertRaisesRegex(LaunchError, words):
                self.command("restore", self.root / f"from-{file.name}", file)
            self.assertFalse((self.root / f"from-{file.name}" / "postgres").exists())
        with self.assertRaisesRegex(LaunchError, "is not empty"):
            self.command("restore", self.data, self.file)

    def test_an_upgrade_keeps_what_was(self):
        before = rows_of(self.data)
        self.command("upgrade", self.data)
        self.assertEqual(rows_of(self.data), before)
        self.assertEqual(len(list((self.data / "backups").glob("*.otrevo"))), 1)


class Configured(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def read(self, text, environment=()):
        path = self.folder / "otrevo.toml"
        path.write_text(text)
        return read_configuration(path, dict(environment))

    def test_file_and_environment(self):
        told = self.read('address = "0.0.0.0"\nport = 443\nhosts = ["capture.example"]\n[proxy]\ntrusted = "10.0.0.2"\n',
                         {"OTREVO_PORT": "8443"})  # fmt: skip
        self.assertEqual((told.port, told.address, told.database), (8443, "0.0.0.0", None))
        self.assertEqual(
            told.environment(),
            {
                "OTREVO_HOSTS": "capture.example,127.0.0.1",
                "OTREVO_TLS": "1",
                "OTREVO_PROXY": "1",
                "OTREVO_KEEP_REMOVED_DAYS": "14",
            },
        )
        self.assertIn("10.0.0.2", told.web_words())
        told = self.read('[database]\nhost = "db"\nname = "o"\nuser = "u"\npassword = "p"\n')
        self.assertEqual(told.environment()["OTREVO_DB_HOST"], "db")

    def test_what_is_deployed_can_be_read_and_names_what_is_there(self):
        deploy = HOME / "deploy"
        told = read_configuration(deploy / "otrevo.toml", {})
        compose = yaml.safe_load((deploy / "compose.yaml").read_text())["services"]["otrevo"]
        self.assertEqual(compose["ports"], [f"{told.port}:{told.port}"])
        mounted = dict(volume.split(":")[:2] for volume in compose["volumes"])
        self.assertEqual(mounted, {"data": str(told.data), "./otrevo.toml": "/etc/otrevo.toml"})
        self.assertTrue((deploy / compose["build"]["context"] / compose["build"]["dockerfile"]).is_file())
        container = (deploy / "Dockerfile").read_text()
        for command in re.findall(r'\./otrevo (\w+)|CMD \["(\w+)"', container):
            self.assertIn(next(filter(None, command)), (HOME / "otrevo").read_text())
        unit = (deploy / "otrevo.service").read_text()
        self.assertIn("ExecStart=/opt/otrevo/otrevo serve --config /etc/otrevo.toml", unit)

    def test_each_mistake_is_one_sentence(self):
        for text, words in (
            ('port = "many"', "expected a whole number"), ("ports = 1", "there is no setting ports"), ("[tsl]\na = 1", r"no section \[tsl\]"),
            ('[tls]\ncertificate = "x"', "both certificate and key"), ('[tls]\ncertificate = "x"\nkey = "y"', "is not there"),
            ("port = 0", "1 to 65535"), ("workers = 900", "64 workers"), ('[machines]\naddress = "10.0.0.1"', "needs address and allow"),
            ('[machines]\naddress = "10.0.0.1"\nallow = ["everybody"]', "not an address or a network"),
            ('[machines]\n[database]\nhost = "a"\nname = "o"\nuser = "u"', "Otrevo's own database"), ("port = ", "is not TOML"), ("port = true", "a whole number"),
            ('[database]\nhost = "db"', "needs host, name and user"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaisesRegex(LaunchError, words):
                self.read(text)
        with self.assertRaisesRegex(LaunchError, "cannot be read"):
            read_configuration(self.folder / "none.toml", {})


if __name__ == "__main__":
    unittest.main()
