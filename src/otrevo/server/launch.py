"""Start everything on this machine: PostgreSQL on loopback, migrations, web server, recorders, workers; for the demo its data too.

Ctrl-C ends exactly what was started here. Used by `./otrevo demo`, `./otrevo serve` and, in part, by the tests.
"""

import argparse
import os
import signal
import sys
import time
import urllib.error
import urllib.request
from contextlib import contextmanager
from pathlib import Path

from otrevo.server.cluster import Cluster, LaunchError, free_port, secret
from otrevo.server.configuration import read_configuration
from otrevo.server.supervise import Part, Supervisor, alone_in, end_leftovers

FIRST_RECORDERS, LAST_RECORDER = ("recorder", "recorder-2"), "recorder-3"  # one works, one is ready, and one after it

HOME = Path(os.environ.get("OTREVO_HOME", Path(__file__).resolve().parents[3]))


def add_parts(supervisor, port, data, workers=2, stand_ins=True, web=("--host", "127.0.0.1")):
    """Start, and have looked after: the stand-ins for cameras and other devices, the recorders, of which one works, the web
    server and the workers, logging into the data folder. web: more words for the web server's command.
    """
    # two workers on two cores: threads inside one would only take them from the other
    environment = os.environ | {
        "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "OTREVO_RECORDER_PORT": str(free_port()),
    }  # fmt: skip
    if stand_ins:
        environment |= {"OTREVO_CAMERAS_PORT": str(free_port()), "OTREVO_KIT_PORT": str(free_port()),
                        "OTREVO_STAGE_KEY": secret(data, "stage-key")}  # fmt: skip

    def add(name, *command):
        supervisor.add(Part.of_python(name, data, environment, HOME, *command))

    if stand_ins:
        add("cameras", "otrevo.standins.cameras", environment["OTREVO_CAMERAS_PORT"])
        add("kit", "otrevo.standins.kit", environment["OTREVO_KIT_PORT"])
    for name in FIRST_RECORDERS:
        add(name, "otrevo.server.recorder.process")
    add("web", "otrevo.server.web.process", *web, "--port", str(port))
    for i in range(workers):
        add(f"worker-{i + 1}", "otrevo.server.work.worker")
    add(LAST_RECORDER, "otrevo.server.recorder.process")  # last: nothing waits for it


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


def prepare(data, migrate=True):
    """Environment and Django for this process and its children; migrations applied, or found to be."""
    os.environ.update(
        DJANGO_SETTINGS_MODULE="otrevo.server.settings", OTREVO_DATA=str(data), OTREVO_SECRET_KEY=secret(data, "secret-key"),
        OTREVO_RECORDER_KEY=secret(data, "recorder-key"), PYTHONPATH=str(HOME / "src"),
    )  # fmt: skip
    secret(data, "metrics-token")
    import django

    django.setup()
    from django.core.management import call_command

    if migrate or not _has_tables():
        call_command("migrate", verbosity=0, interactive=False)
    elif is_behind():
        raise LaunchError(
            "The data are of an earlier version of Otrevo; run ./otrevo upgrade, which makes a backup first."
        )


def _has_tables():
    from django.db import connection

    return bool(connection.introspection.table_names())


def is_behind():
    """Whether migrations are missing in the database."""
    from django.db import connection
    from django.db.migrations.executor import MigrationExecutor

    executor = MigrationExecutor(connection)
    return bool(executor.migration_plan(executor.loader.graph.leaf_nodes()))


@contextmanager
def started(data, say=print, database=None, machines=None, tls=None):
    """The database of a data folder and a Supervisor that looks after it, for as long as the block lasts. Ctrl-C and SIGTERM end the
    block with KeyboardInterrupt. Raises LaunchError, also where Otrevo runs already with this folder.

    database: that of somebody else, as the configuration has it; none is started then. machines, tls: as in Cluster.
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
    supervisor = Supervisor(data, say)
    cluster = None if database else Cluster(data, machines=machines, tls=tls)
    try:
        if cluster:
            cluster.start()
            supervisor.add(cluster.part())
        supervisor.watch()
        yield supervisor
    finally:
        supervisor.stop()
        if cluster:
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


def serve(arguments):
    """Run for real productions: what the configuration says, no demo data, no stand-ins unless it asks for them."""
    told = read_configuration(arguments.config, os.environ)
    os.environ.update(told.environment())
    try:
        with started(
            told.data, database=told.database, machines=told.machines, tls=told.machines and told.tls
        ) as supervisor:
            prepare(told.data, migrate=False)
            if told.machines:
                _let_machines_in(told.data)
            from django.contrib.auth.models import User

            if not User.objects.filter(is_superuser=True, is_active=True).exists():
                raise LaunchError(
                    "Nobody may administer this installation yet; run ./otrevo user add NAME --administrator first."
                )
            add_parts(supervisor, told.port, told.data, told.workers, told.stand_ins, told.web_words())
            if not wait_for(f"{told.scheme}://{told.own_address}:{told.port}/api/csrf"):
                raise LaunchError(f"The web server did not answer; see {told.data / 'web.log'}.")
            print(
                f"Otrevo serves {told.scheme}://{told.address}:{told.port}/ with the data in {told.data}. Ctrl-C ends it.",
                flush=True,
            )
            while True:
                time.sleep(0.5)
    except KeyboardInterrupt:
        print("Stopped.")


def _let_machines_in(data):
    from otrevo.server.machines import KEY, PASSWORD, let_in

    secret(data, KEY)
    let_in(secret(data, PASSWORD))


def main():
    parser = argparse.ArgumentParser(prog="otrevo")
    commands = parser.add_subparsers(dest="command", required=True)
    p = commands.add_parser("demo")
    p.add_argument("--port", type=int, default=8470)
    p.add_argument("--data")
    p.add_argument("--no-install", action="store_true")
    p.set_defaults(do=demo)
    p = commands.add_parser("serve")
    p.add_argument("--config", help="a TOML file; see docs/running.md")
    p.add_argument("--no-install", action="store_true")
    p.set_defaults(do=serve)
    from otrevo.server.administration import add_commands
    from otrevo.server.joining import add_command

    add_commands(commands)
    add_command(commands)
    arguments = parser.parse_args()
    try:
        arguments.do(arguments)
    except LaunchError as error:
        print(f"otrevo: {error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
