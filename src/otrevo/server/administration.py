"""What an administrator does on the command line: users, backup, restore, upgrade. docs/running.md tells when."""

import getpass
import hashlib
import io
import json
import os
import sys
import tarfile
import tempfile
import time
from contextlib import contextmanager
from pathlib import Path

from otrevo.server.cluster import Cluster, LaunchError
from otrevo.server.configuration import read_configuration
from otrevo.server.supervise import alone_in

KEPT_FILES = ("stage.json",)  # of the data folder, beside the database; secrets are of one installation and stay there
ABOUT, DUMP = "about.json", "database.dump"
BLOCK = 1 << 20


@contextmanager
def database_of(data, told=None):
    """The Cluster of a data folder, the running one or one that is started for as long as the block lasts; None for somebody else's."""
    if told is not None and told.database:
        os.environ.update(told.environment())
        yield None
        return
    if not data.is_dir():
        raise LaunchError(f"There are no data in {data}.")
    cluster = Cluster(data)
    lock = alone_in(data)
    if lock is None:
        cluster.port = cluster.running_port()
        if cluster.port is None:
            raise LaunchError(f"Otrevo is being started with the data in {data}; try again in a moment.")
        os.environ.update(OTREVO_DB_PORT=str(cluster.port), OTREVO_DB_PASSWORD=cluster.password)
        yield cluster
        return
    try:
        cluster.start()
        yield cluster
    finally:
        cluster.stop()
        lock.close()


def _told(arguments):
    told = read_configuration(arguments.config, os.environ)
    return (Path(arguments.data).resolve() if arguments.data else told.data), told


def _django(data):
    from otrevo.server.launch import prepare

    prepare(data, migrate=False)


def user(arguments):
    """Add a user, give a new password, end or allow their sign-in."""
    data, told = _told(arguments)
    data.mkdir(parents=True, exist_ok=True)
    with database_of(data, told):
        _django(data)
        from django.contrib.auth.models import User
        from django.db import transaction

        from otrevo.core.errors import InputError
        from otrevo.server.accounts.users import add_user, set_password

        found = User.objects.filter(username=arguments.name).first()
        if arguments.do_what == "add" and found:
            raise LaunchError(f"There is a user {arguments.name} already.")
        if arguments.do_what != "add" and not found:
            raise LaunchError(f"There is no user {arguments.name}.")
        if arguments.do_what in ("disable", "enable"):
            found.is_active = arguments.do_what == "enable"
            found.save(update_fields=["is_active"])
            print(f"{found.username} {'may sign in' if found.is_active else 'may not sign in any more'}.")
            return
        password = _password()
        try:
            with transaction.atomic():  # nobody stays whose password was refused
                made = found or add_user(arguments.name, arguments.administrator)
                set_password(made, password)
                if arguments.administrator and not made.is_superuser:
                    made.is_superuser = True
                    made.save(update_fields=["is_superuser"])
        except InputError as error:
            raise LaunchError(str(error)) from None
        print(f"{made.username} {'may administer this installation' if made.is_superuser else 'may sign in'}.")


def _password():
    """Typed twice, or a line of standard input where nobody types."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    first = getpass.getpass("Password: ")
    if getpass.getpass("Once more: ") != first:
        raise LaunchError("The two are not the same; nothing was changed.")
    return first


def backup(arguments):
    """Write everything of an installation to one file, while it runs or not."""
    data, told = _told(arguments)
    with database_of(data, told) as cluster:
        print(f"{arguments.file}: {_write_backup(Path(arguments.file), data, cluster) / 1e6:.1f} MB")


def _write_backup(target, data, cluster):
    """Write a backup whole or not at all; its size in bytes."""
    if cluster is None:
        raise LaunchError(
            "The database is not Otrevo's own; back it up with its own tools, and the data folder as files."
        )
    part = target.with_name(target.name + ".part")
    with tempfile.TemporaryDirectory(dir=target.resolve().parent, prefix="otrevo-backup-") as folder:
        dump = Path(folder) / DUMP
        done = cluster.command("pg_dump", "--format=custom", "--compress=1", f"--file={dump}", "otrevo")
        if done.returncode:
            raise LaunchError(f"The database could not be backed up: {_last_line(done.stderr)}")
        files = [dump, *(data / name for name in KEPT_FILES if (data / name).is_file())]
        about = {"otrevo": "backup/1", "made_at": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()),
                 "sha256": {f.name: _digest(f) for f in files}}  # fmt: skip
        try:
            with tarfile.open(part, "w") as archive:
                text = json.dumps(about, indent=1).encode()
                member = tarfile.TarInfo(ABOUT)
                member.size = len(text)
                archive.addfile(member, io.BytesIO(text))
                for file in files:
                    archive.add(file, file.name)
            part.chmod(0o600)
            part.replace(target)
        except OSError as error:
            part.unlink(missing_ok=True)
            raise LaunchError(f"{target}: could not be written ({error.strerror}).") from None
    return target.stat().st_size


def restore(arguments):
    """Bring a backup into an empty data folder."""
    data, told = _told(arguments)
    if told.database:
        raise LaunchError("The database is not Otrevo's own; restore it with its own tools.")
    if data.exists() and any(data.iterdir()):
        raise LaunchError(f"{data} is not empty; expected a new folder, given with --data or in the configuration.")
    data.mkdir(parents=True, exist_ok=True)
    data.chmod(0o755)
    with tempfile.TemporaryDirectory(prefix="otrevo-restore-") as folder:
        files = _unpacked(Path(arguments.file), Path(folder))
        with database_of(data) as cluster:
            _load_dump(cluster, files[DUMP])
            for name in KEPT_FILES:
                if name in files:
                    (data / name).write_bytes(files[name].read_bytes())
    print(f"{arguments.file} was restored into {data}. Everybody signs in again.")


def _unpacked(archive, folder):
    """{name: path} of the files of a backup, checked. Raises LaunchError."""
    known = (DUMP, *KEPT_FILES)
    try:
        with tarfile.open(archive, "r:") as packed:
            about = json.loads(packed.extractfile(ABOUT).read())
            if about.get("otrevo") != "backup/1":
                raise ValueError
            files = {}
            for name in set(about["sha256"]) & set(known):  # nothing else, whatever the archive names
                files[name] = folder / name
                with files[name].open("wb") as out, packed.extractfile(name) as source:
                    while block := source.read(BLOCK):
                        out.write(block)
    except FileNotFoundError:
        raise LaunchError(f"{archive}: there is no such file; expected one that ./otrevo backup wrote.") from None
    except (tarfile.TarError, KeyError, ValueError, AttributeError, OSError, EOFError):
        raise LaunchError(f"{archive.name}: this is not a complete backup of Otrevo.") from None
    for name, path in files.items():
        if _digest(path) != about["sha256"][name]:
            raise LaunchError(f"{archive.name}: {name} in it is damaged; nothing was restored.")
    if DUMP not in files:
        raise LaunchError(f"{archive.name}: has no database in it.")
    return files


def _load_dump(cluster, dump):
    with dump.open("rb") as source:
        done = cluster.command(
            "pg_restore", "--exit-on-error", "--single-transaction", "--no-owner", "--dbname=otrevo", stdin=source
        )
    if done.returncode:
        raise LaunchError(f"The database could not be restored: {_last_line(done.stderr)}")


def archive(arguments):
    """Write a production to one file, while people work or not."""
    data, told = _told(arguments)
    with database_of(data, told):
        _django(data)
        from otrevo.server.keeping.archive import at_one_moment, write_archive
        from otrevo.server.shoot.models import Production

        found = Production.objects.filter(name=arguments.production).first()
        if found is None:
            names = ", ".join(Production.objects.order_by("name").values_list("name", flat=True)) or "none"
            raise LaunchError(f"There is no production {arguments.production}; there are: {names}.")
        target = Path(arguments.file)
        part = target.with_name(target.name + ".part")
        try:
            part.touch(mode=0o600)
            with at_one_moment():
                counts = write_archive(part, found)
            part.replace(target)
        except OSError as error:
            raise LaunchError(f"{target}: could not be written ({error.strerror}).") from None
        finally:
            part.unlink(missing_ok=True)
    print(f"{target}: {found.name}, {counts['takes.Take']} takes, {target.stat().st_size / 1e6:.1f} MB")


def bring_back(arguments):
    """Enter an archived production as a new one."""
    data, told = _told(arguments)
    with database_of(data, told):
        _django(data)
        from django.contrib.auth.models import User

        from otrevo.core.errors import InputError
        from otrevo.server.keeping.bring_back import bring_back_archive

        wanted = {"username": arguments.supervisor} if arguments.supervisor else {"is_superuser": True}
        supervisor = User.objects.filter(is_active=True, **wanted).order_by("pk").first()
        if supervisor is None:
            raise LaunchError(f"There is no user {arguments.supervisor or 'who administers'}; add one first.")
        try:
            made = bring_back_archive(Path(arguments.file), supervisor, arguments.name)
        except InputError as error:
            raise LaunchError(str(error)) from None
    print(f"{made.name} is back; its supervisor is {supervisor.username}.")


def upgrade(arguments):
    """Bring the data to this version of Otrevo: a backup, the changes, and back where they fail."""
    data, told = _told(arguments)
    lock = alone_in(data) if data.is_dir() else None
    if lock is None:
        raise LaunchError(f"Otrevo runs with the data in {data}, or there are none; end it first.")
    lock.close()
    with database_of(data, told) as cluster:
        from otrevo.server.launch import prepare

        saved = data / "backups" / f"before-upgrade-{time.strftime('%Y%m%d-%H%M%S')}.otrevo"
        saved.parent.mkdir(exist_ok=True)
        if cluster is not None:
            _write_backup(saved, data, cluster)
        try:
            prepare(data)
        except Exception as error:
            if cluster is None:
                raise LaunchError(
                    f"The data could not be brought to this version ({error}); restore your backup of the database."
                ) from None
            from django.db import connections

            connections.close_all()
            for command in ("dropdb", "createdb"):
                cluster.command(command, "otrevo")
            _load_dump(cluster, _unpacked(saved, saved.parent)[DUMP])
            raise LaunchError(
                f"The data could not be brought to this version ({error}); they are as they were. A backup is in {saved}."
            ) from None
    print(f"The data are of this version now. A backup from before is in {saved}.")


def _digest(path):
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _last_line(stderr):
    return (stderr.decode(errors="replace").strip().splitlines() or ["no reason was given"])[-1]


def add_commands(commands):
    """Declare the commands to an argparse subparsers object."""

    def add(name, do, words):
        parser = commands.add_parser(name, help=words)
        parser.add_argument("--config", help="the TOML file that ./otrevo serve is given")
        parser.add_argument("--data", help="the data folder, where it is not in the configuration")
        parser.add_argument("--no-install", action="store_true")
        parser.set_defaults(do=do)
        return parser

    p = add("user", user, "Add a user, give a new password, end or allow their sign-in.")
    p.add_argument("do_what", choices=("add", "password", "disable", "enable"))
    p.add_argument("name")
    p.add_argument("--administrator", action="store_true", help="who may add users and productions")
    add("backup", backup, "Write everything to one file, while it runs or not.").add_argument("file")
    add("restore", restore, "Bring a backup into an empty data folder.").add_argument("file")
    p = add("archive", archive, "Write a production to one file.")
    p.add_argument("production", help="its name")
    p.add_argument("file")
    p = add("bring-back", bring_back, "Enter an archived production as a new one.")
    p.add_argument("file")
    p.add_argument("--name", help="another name than it had")
    p.add_argument("--supervisor", help="the user who becomes its supervisor; otherwise an administrator")
    add("upgrade", upgrade, "Bring the data to this version, with a backup before.")
