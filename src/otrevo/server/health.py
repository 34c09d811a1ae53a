"""How every part is doing, for people who watch an installation: a page of JSON and one for a metrics collector."""

import hmac
import json
import shutil
import socket
import time
from datetime import UTC, datetime, timedelta

from django.conf import settings
from django.db import DatabaseError
from django.db.models import Count, Min
from django.http import HttpResponse
from django.utils import timezone
from ninja import Router, Schema
from procrastinate.contrib.django.models import ProcrastinateWorker

from otrevo.server.accounts.access import require_administrator
from otrevo.server.live.address import ports
from otrevo.server.work.models import ACTIVE, Run

router = Router(tags=["health"])
LEAST_FREE_BYTES = 512 * 1024**2
WORKER_SILENT_S = 12.0
ANSWER_S = 2.0


class PartOut(Schema):
    """words: what is wrong or how it is doing."""

    good: bool
    words: str


class HealthOut(Schema):
    """parts by name; waiting and oldest_s: work in the queue, and since when the oldest of it waits or is at work."""

    ok: bool
    parts: dict[str, PartOut]
    waiting: int
    oldest_s: float
    free_bytes: int


def _measured():
    parts, waiting, oldest, workers = {}, 0, 0.0, 0
    try:
        lately = timezone.now() - timedelta(seconds=WORKER_SILENT_S)
        workers = ProcrastinateWorker.objects.filter(last_heartbeat__gt=lately).count()
        asked = Run.objects.filter(state__in=ACTIVE).aggregate(count=Count("pk"), first=Min("asked_at"))
        waiting = asked["count"]
        oldest = (timezone.now() - asked["first"]).total_seconds() if waiting else 0.0
        parts["database"] = True, "answers"
    except DatabaseError:
        parts["database"] = False, "does not answer"
    parts["workers"] = workers > 0, f"{workers} at work or ready" if workers else "none has said anything lately"
    parts["recorder"] = _recorder()
    free = shutil.disk_usage(settings.DATA if settings.DATA.exists() else "/").free
    parts["disk"] = free > LEAST_FREE_BYTES, f"{free / 1e9:.1f} GB free"
    return parts, waiting, oldest, free, workers


def _recorder():
    port = ports()[0]
    try:
        if port is None:
            raise OSError
        with socket.create_connection(("127.0.0.1", port), timeout=ANSWER_S):
            return True, "answers"
    except OSError:
        return False, "does not answer"


def _supervised():
    """{name: what the supervisor says of it}, or nothing where there is none."""
    try:
        return json.loads((settings.DATA / "parts.json").read_text())["parts"]
    except (OSError, ValueError, KeyError):
        return {}


@router.get("/health", auth=None, response={200: HealthOut, 503: HealthOut})
def health(request):
    """200 when everything that is needed is there, 503 when something is missing."""
    parts, waiting, oldest, free, _ = _measured()
    ok = all(good for good, _ in parts.values())
    answer = {
        "ok": ok, "parts": {name: {"good": good, "words": words} for name, (good, words) in parts.items()},
        "waiting": waiting, "oldest_s": round(oldest, 1), "free_bytes": free,
    }  # fmt: skip
    return (200 if ok else 503), answer


class SupervisedOut(Schema):
    """A process of this installation: since when it runs, how often it was started again, and how it ended the last time."""

    name: str
    runs: bool
    since: datetime
    restarts: int
    why: str


@router.get("/parts", response=list[SupervisedOut])
def parts(request):
    """The processes that the launcher looks after; none where something else does."""
    require_administrator(request.user)
    return [
        {"name": name, "runs": part["runs"], "since": datetime.fromtimestamp(part["since"], UTC), "restarts": part["restarts"], "why": part["why"]}
        for name, part in _supervised().items()
    ]  # fmt: skip


def metrics(request):
    """The same as text for a metrics collector that has the token of this installation (`metrics-token` in the data folder)."""
    try:
        token = (settings.DATA / "metrics-token").read_text().strip()
    except OSError:
        token = ""
    given = request.headers.get("Authorization", "").removeprefix("Bearer ")
    if not token or not hmac.compare_digest(given.encode(), token.encode()):
        return HttpResponse("A token is needed; see docs/running.md.\n", status=401, content_type="text/plain")
    parts, waiting, oldest, free, workers = _measured()
    lines = ["# HELP otrevo_up Whether a part is there.", "# TYPE otrevo_up gauge"]
    lines += [f'otrevo_up{{part="{name}"}} {int(good)}' for name, (good, _) in parts.items()]
    lines += [
        "# HELP otrevo_restarts_total How often a part was started again.",
        "# TYPE otrevo_restarts_total counter",
    ]
    lines += [f'otrevo_restarts_total{{part="{name}"}} {part["restarts"]}' for name, part in _supervised().items()]
    for name, words, value in (
        ("otrevo_workers", "Workers that have said something lately.", workers),
        ("otrevo_queue_length", "Work that waits or is being done.", waiting),
        ("otrevo_queue_oldest_seconds", "How long the oldest of it has been there.", round(oldest, 1)),
        ("otrevo_disk_free_bytes", "Room in the data folder.", free),
        ("otrevo_clock_seconds", "The time of this machine.", round(time.time(), 3)),
    ):
        lines += [f"# HELP {name} {words}", f"# TYPE {name} gauge", f"{name} {value}"]
    return HttpResponse("\n".join(lines) + "\n", content_type="text/plain; version=0.0.4")
