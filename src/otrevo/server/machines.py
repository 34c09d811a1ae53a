"""Further machines: what a worker there has to know, told to whoever has this installation's key for them."""

import hmac
import os

from django.conf import settings
from django.db import connection
from ninja import Router, Schema
from ninja.errors import HttpError

from otrevo.server.accounts import audit
from otrevo.server.version import source_digest

router = Router(tags=["machines"])
ROLE = "otrevo_worker"  # in the database: it works on everything there, and on nothing else of the machine
NOT_THEIRS = ("auth_user", "django_session", "accounts_auditentry")  # who may sign in, and what was done
KEY, PASSWORD = "workers-key", "workers-password"  # names of secrets in the data folder


class WorkersDatabase(Schema):
    host: str
    port: int
    name: str
    user: str
    password: str
    sslmode: str


class WorkerSettings(Schema):
    """version: of the program, a digest of its source; a worker must be of the same one."""

    version: str
    database: WorkersDatabase


def _secret(name):
    try:
        return (settings.DATA / name).read_text().strip()
    except OSError:
        return ""


@router.get("/worker-settings", auth=None, response=WorkerSettings)
def worker_settings(request):
    """Where the database is and how a worker gets in; for machines that have the key."""
    key, given = _secret(KEY), request.headers.get("Authorization", "").removeprefix("Bearer ")
    host, port = os.environ.get("OTREVO_MACHINES_ADDRESS", ""), os.environ.get("OTREVO_MACHINES_PORT", "")
    if not key or not hmac.compare_digest(given.encode(), key.encode()):
        audit.enter(request, "worker refused", name="a machine")
        raise HttpError(401, "The key is not the one in workers-key of this installation's data folder.")
    if not host or not port:
        raise HttpError(
            422, "This installation takes no workers from other machines; [machines] in its settings says which."
        )
    audit.enter(request, "worker joined", name="a machine")
    database = {
        "host": host, "port": int(port), "name": connection.settings_dict["NAME"], "user": ROLE,
        "password": _secret(PASSWORD), "sslmode": os.environ.get("OTREVO_MACHINES_SSLMODE", "prefer"),
    }  # fmt: skip
    return {"version": source_digest(), "database": database}


def let_in(password):
    """Make the role of workers on other machines, or give it this password, with everything that they need in the database."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT 1 FROM pg_roles WHERE rolname = %s", [ROLE])
        made = cursor.fetchone()
        cursor.execute(f"{'ALTER' if made else 'CREATE'} ROLE {ROLE} LOGIN NOSUPERUSER PASSWORD '{_quoted(password)}'")
        for what in ("TABLES", "SEQUENCES"):
            cursor.execute(f"GRANT ALL ON ALL {what} IN SCHEMA public TO {ROLE}")
        for table in NOT_THEIRS:
            cursor.execute(f"REVOKE ALL ON {table} FROM {ROLE}")


def _quoted(password):
    return password.replace("'", "''")
