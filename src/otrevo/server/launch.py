"""Start everything on this machine: own PostgreSQL cluster on loopback, migrations, demo data, web server, workers.

Ctrl-C ends exactly what was started here. Used by `./otrevo demo` and, for the cluster, by the tests.
"""

import argparse
import hashlib
import os
import pwd
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from contextlib import contextmanager
from pathlib import Path

from otrevo.server.supervise import Part, Supervisor, alone_in, end_leftovers, tied

HOME = Path(os.environ.get("OTREVO_HOME", Path(__file__).resolve().parents[3]))


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

    def __init__(self, data, fsync=True):
        found = sorted(Path("/usr/lib/postgresql").glob("*/bin/postgres"))
        if not found:
            raise LaunchError("PostgreSQL is missing; install Debian's package postgresql.")
        self.bin = found[-1].parent
        self.data, self.fsync = data, fsync
        self.password = secret(data, "database-password")
        self.account = pwd.getpwnam("postgres") if os.getuid() == 0 else None
        self.folder = self._folder()
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
        self.port = free_port()
        self.process = self.spawn()
        os.environ.update(OTREVO_DB_PORT=str(self.port), OTREVO_DB_PASSWORD=self.password)
        self._wait()

    def spawn(self):
        """Start the server on the port that was chosen; the Popen of it."""
        options = ["-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c", "max_connections=60",
                   "-c", "shared_buffers=128MB", "-c", f"fsync={'on' if self.fsync else 'off'}"]  # fmt: skip
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

    def part(self):
        """The running server as something to be looked after."""
        part = Part("database", self.spawn, signal.SIGINT)  # fast shutdown
        part.process, part.begun = self.process, time.monotonic()
        return part

    def stop(self):
        if self.process and self.process.poll() is None:
            self.process.send_signal(signal.SIGINT)  # fast shutdown
            self.process.wait(20)


def add_parts(supervisor, port, data, workers=2, host="127.0.0.1", stand_ins=True):
    """Start, and have looked after: the stand-ins for cameras and other devices, two recorders of which one stands by, the web
    server and the workers, logging into the data folder.
    """
    # two workers on two cores: threads inside one would only take them from the other
    environment = os.environ | {
        "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "OTREVO_RECORDER_PORT": str(free_port()),
    }  # fmt: skip
    if stand_ins:
        environment |= {"OTREVO_CAMERAS_PORT": str(free_port()), "OTREVO_KIT_PORT": str(free_port())}

    def add(name, *command):
        supervisor.add(Part.of_python(name, data, environment, HOME, *command))

    if stand_ins:
        add("cameras", "otrevo.standins.cameras", environment["OTREVO_CAMERAS_PORT"])
        add("kit", "otrevo.standins.kit", environment["OTREVO_KIT_PORT"])
    for name in ("recorder", "recorder-2"):
        add(name, "otrevo.server.recorder.process")
    add("web", "uvicorn", "otrevo.server.asgi:application", "--host", host, "--port", str(port), "--no-access-log")
    for i in range(workers):
        add(f"worker-{i + 1}", "otrevo.server.work.worker")


def wait_for(url, seconds=30):
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        try:
            with urllib.request.urlopen(url, timeout=2) as answer:
                return answer.status == 200
        except urllib.error.HTTPError:
            return True  # it answers, whatever is still missing
        except OSError:
            time.sleep(0.15)
    return False


def prepare(data):
    """Environment and Django for this process and its children; migrations applied."""
    os.environ.update(
        DJANGO_SETTINGS_MODULE="otrevo.server.settings", OTREVO_DATA=str(data), OTREVO_SECRET_KEY=secret(data, "secret-key"),
        PYTHONPATH=str(HOME / "src"),
    )  # fmt: skip
    import django

    django.setup()
    from django.core.management import call_command

    call_command("migrate", verbosity=0, interactive=False)


@contextmanager
def started(data, say=print):
    """The database of a data folder and a Supervisor that looks after it, for as long as the block lasts. Ctrl-C and SIGTERM end the
    block with KeyboardInterrupt. Raises LaunchError, also where Otrevo runs already with this folder.
    """
    data.mkdir(parents=True, exist_ok=True)
    lock = alone_in(data)
    if lock is None:
        raise LaunchError(
            f"Otrevo runs already with the data in {data}; end it there, or give another folder with --data."
        )
    end_leftovers(data)
    os.environ["OTREVO_DATA"] = str(data)

    def end(*_):
        raise KeyboardInterrupt

    for name in (signal.SIGINT, signal.SIGTERM):  # also where a shell has told background jobs to ignore Ctrl-C
        signal.signal(name, end)
    cluster, supervisor = Cluster(data), Supervisor(data, say)
    try:
        cluster.start()
        supervisor.add(cluster.part())
        supervisor.watch()
        yield supervisor
    finally:
        supervisor.stop()
        cluster.stop()  # where it did not get as far as being looked after
        lock.close()


def demo(arguments):
    data = Path(arguments.data).resolve() if arguments.data else HOME / ".otrevo"
    began = time.monotonic()
    try:
        with started(data) as supervisor:
            prepare(data)
            _demo(arguments, data, supervisor, began)
    except KeyboardInterrupt:
        print("\nStopped.")


def _demo(arguments, data, supervisor, began):
    from otrevo.server.demo import SIGN_INS, load_demo, record_takes
    from otrevo.server.work.queue import waiting

    fresh = load_demo()
    port = free_port(arguments.port)
    if port != arguments.port:
        print(f"Port {arguments.port} is busy; using {port}.")
    add_parts(supervisor, port, data)
    if not wait_for(f"http://127.0.0.1:{port}/api/csrf"):
        raise LaunchError(f"The web server did not answer; see {data / 'web.log'}.")
    if fresh:
        print(f"The demo production's takes are being recorded, lined up, labelled and solved. Who cannot wait can watch at "
              f"http://127.0.0.1:{port}/ (sign in as {SIGN_INS[0][0]}, password {SIGN_INS[0][1]}).", flush=True)  # fmt: skip
    record_takes()
    if fresh:
        told = None
        while left := waiting():
            if left != told:
                print(f"  {left} passes to go", flush=True)
            told = left
            time.sleep(2)
    print(f"\nOtrevo is ready at http://127.0.0.1:{port}/  (after {time.monotonic() - began:.0f} s)\n")
    for name, password, role in SIGN_INS:
        print(f"  {role:<12} sign in as {name:<8} password {password}")
    print("\nCtrl-C ends it.", flush=True)
    while True:
        time.sleep(0.5)


def main():
    parser = argparse.ArgumentParser(prog="otrevo")
    commands = parser.add_subparsers(dest="command", required=True)
    p = commands.add_parser("demo")
    p.add_argument("--port", type=int, default=8470)
    p.add_argument("--data")
    p.add_argument("--no-install", action="store_true")
    arguments = parser.parse_args()
    try:
        demo(arguments)
    except LaunchError as error:
        print(f"otrevo: {error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
