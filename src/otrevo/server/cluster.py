"""A PostgreSQL server of our own in the data folder, on loopback; ports and secrets of this installation."""

import hashlib
import os
import pwd
import secrets
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from pathlib import Path

from otrevo.server.supervise import Part, tied


class LaunchError(RuntimeError):
    """One sentence for the person at the terminal."""


def free_port(wanted=0):
    """The wanted port, or the next free one on loopback; without one any that the system says is free.

    Ports that nobody types are of the last kind: two that start at the same moment would otherwise choose the same.
    """
    for port in range(wanted, wanted + 200) if wanted else (0,):
        with socket.socket() as s:
            s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                s.bind(("127.0.0.1", port))
                return s.getsockname()[1]
            except OSError:
                continue
    raise LaunchError(f"No free port between {wanted} and {wanted + 199}.")


def secret(data, name):
    """A random secret kept in the data folder, readable by its owner only."""
    path = data / name
    if not path.exists():
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(32))
    return path.read_text().strip()


class Cluster:
    """A PostgreSQL cluster of our own. As root it runs under Debian's `postgres` account, which PostgreSQL asks for."""

    def __init__(self, data, fsync=True, machines=None, tls=None):
        """machines: {"address", "port", "allow"}: where it is reached from other machines, and from which networks;
        tls: {"certificate", "key"} for them.
        """
        found = sorted(Path("/usr/lib/postgresql").glob("*/bin/postgres"))
        if not found:
            raise LaunchError("PostgreSQL is missing; install Debian's package postgresql.")
        self.bin = found[-1].parent
        self.data, self.fsync = data, fsync
        self.password = secret(data, "database-password")
        self.account = pwd.getpwnam("postgres") if os.getuid() == 0 else None
        self.folder = self._folder()
        self.machines, self.tls = machines or {}, tls or {}
        self.process = None
        self.port = None

    def _folder(self):
        folder = self.data / "postgres"
        if self.account is None:
            return folder
        probe = subprocess.run(["test", "-x", str(self.data)], **self._as())
        if probe.returncode == 0:
            return folder
        # the unprivileged account cannot reach the data folder: keep the cluster where it can
        name = hashlib.sha256(str(self.data).encode()).hexdigest()[:12]
        return Path("/var/lib/postgresql") / f"otrevo-{name}"

    def _as(self):
        return {"user": self.account.pw_uid, "group": self.account.pw_gid, "extra_groups": []} if self.account else {}

    def _create(self):
        self.folder.mkdir(parents=True, exist_ok=True)
        if self.account:
            os.chown(self.folder, self.account.pw_uid, self.account.pw_gid)
        self.folder.chmod(0o700)
        with tempfile.NamedTemporaryFile("w") as file:  # 0600; readable by the account that runs initdb
            file.write(self.password)
            file.flush()
            if self.account:
                os.chown(file.name, self.account.pw_uid, self.account.pw_gid)
            command = [self.bin / "initdb", "-D", self.folder, "-U", "otrevo", "-E", "UTF8", "--locale=C.UTF-8",
                       "--auth=scram-sha-256", f"--pwfile={file.name}"]  # fmt: skip
            done = subprocess.run(command, capture_output=True, cwd="/", **self._as())
        if done.returncode:
            shutil.rmtree(self.folder, ignore_errors=True)
            raise LaunchError(f"The database could not be created: {done.stderr.decode().strip().splitlines()[-1]}")

    def start(self):
        if not (self.folder / "PG_VERSION").exists():
            self._create()
        self.port = self.machines.get("port") or free_port()
        self._let_in()
        self.process = self.spawn()
        os.environ.update(OTREVO_DB_PORT=str(self.port), OTREVO_DB_PASSWORD=self.password)
        self._wait()

    def _let_in(self):
        """Say who may come from where: everybody with a password from here, and only the workers' role from other machines."""
        secured = "hostssl" if self.tls else "host"
        lines = ["host all all 127.0.0.1/32 scram-sha-256"]
        lines += [
            f"{secured} otrevo otrevo_worker {network} scram-sha-256" for network in self.machines.get("allow", ())
        ]
        self._put("pg_hba.conf", "\n".join(lines) + "\n")
        for name, file in zip(
            ("server.crt", "server.key"), (self.tls.get("certificate"), self.tls.get("key")), strict=True
        ):
            if file:
                self._put(name, Path(file).read_text())

    def _put(self, name, text):
        """A file of the cluster's folder that its account alone can read."""
        path = self.folder / name
        path.touch(mode=0o600)
        path.write_text(text)
        path.chmod(0o600)
        if self.account:
            os.chown(path, self.account.pw_uid, self.account.pw_gid)

    def spawn(self):
        """Start the server on the port that was chosen; the Popen of it."""
        addresses = ",".join(["127.0.0.1", *filter(None, [self.machines.get("address")])])
        options = ["-c", f"listen_addresses={addresses}", "-c", "unix_socket_directories=", "-c", "max_connections=60",
                   "-c", "shared_buffers=128MB", "-c", f"fsync={'on' if self.fsync else 'off'}",
                   "-c", f"synchronous_commit={'on' if self.fsync else 'off'}", "-c", f"ssl={'on' if self.tls else 'off'}"]  # fmt: skip
        with (self.data / "postgres.log").open("ab") as log:
            return subprocess.Popen(
                [self.bin / "postgres", "-D", self.folder, "-p", str(self.port), *options],
                stdout=log, stderr=log, cwd="/", start_new_session=True, preexec_fn=tied(signal.SIGINT), **self._as(),
            )  # fmt: skip

    def _wait(self):
        import psycopg

        for _ in range(600):
            if self.process.poll() is not None:
                raise LaunchError(f"The database stopped at once; see {self.data / 'postgres.log'}.")
            try:
                with psycopg.connect(
                    host="127.0.0.1",
                    port=self.port,
                    user="otrevo",
                    password=self.password,
                    dbname="postgres",
                    autocommit=True,
                ) as connection:
                    if not connection.execute("select 1 from pg_database where datname = 'otrevo'").fetchone():
                        connection.execute("create database otrevo")
                return
            except psycopg.OperationalError:
                time.sleep(0.1)
        raise LaunchError(f"The database did not answer within 60 s; see {self.data / 'postgres.log'}.")

    def command(self, name, *arguments, **named):
        """Run one of PostgreSQL's own commands against this server; a CompletedProcess."""
        environment = os.environ | {"PGPASSWORD": self.password}
        where = ["-h", "127.0.0.1", "-p", str(self.port), "-U", "otrevo"]
        return subprocess.run(
            [self.bin / name, *where, *arguments], env=environment, cwd="/", capture_output=True, **named
        )

    def running_port(self):
        """The port of a server that another process started in this folder and that lives, or None."""
        try:
            lines = (self.folder / "postmaster.pid").read_text().splitlines()
            os.kill(int(lines[0]), 0)
        except (OSError, ValueError, IndexError):
            return None
        return int(lines[3])

    def part(self):
        """The running server as something to be looked after."""
        part = Part("database", self.spawn, signal.SIGINT)  # fast shutdown
        part.process, part.begun = self.process, time.monotonic()
        return part

    def stop(self):
        if self.process and self.process.poll() is None:
            self.process.send_signal(signal.SIGINT)  # fast shutdown
            self.process.wait(20)
