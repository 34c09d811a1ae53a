"""What an installation does by itself now and then: delete what was removed long enough ago, and give its room back."""

import logging
import shutil
import time
from datetime import timedelta

from django.conf import settings
from django.contrib.sessions.models import Session
from django.db import DatabaseError, OperationalError, connection
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from otrevo.server.floor.models import Rolling
from otrevo.server.keeping.actions import delete_for_good
from otrevo.server.keeping.models import Removal
from otrevo.server.takes.models import Piece
from otrevo.server.work.models import ACTIVE, Run

log = logging.getLogger("otrevo.keeping")
ONE_AT_A_TIME = 5_120_377  # the advisory lock's number
UNUSED_FOR = timedelta(hours=2)  # a roll, or a run, that has just kept a piece may not have said yet what it is for
JOBS_FOR = timedelta(days=7)
AT_ONCE = 500
WORTH_BYTES = 64 * 1024**2
LOCK_WAIT = "3s"
THOROUGHLY_S = 3600.0
_last = -THOROUGHLY_S


def clean_up():
    """Delete what is due, and then, or an hour after the last time, samples that nothing uses, old jobs and sessions; give back room.

    Only one does it at a time, however many machines there are.
    """
    global _last
    due = Removal.objects.filter(due_at__lte=timezone.now())
    if not due.exists() and time.monotonic() - _last < THOROUGHLY_S:
        return
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_try_advisory_lock(%s)", [ONE_AT_A_TIME])
        if not cursor.fetchone()[0]:
            return
    try:
        _last = time.monotonic()
        for removal in due:
            try:
                delete_for_good(removal)
                log.info("%s was deleted for good", removal.words)
            except DatabaseError:  # the others do not wait for it
                log.exception("%s could not be deleted; it is tried again", removal.words)
        old = timezone.now() - JOBS_FOR
        ProcrastinateJob.objects.filter(status__in=("succeeded", "failed", "cancelled"), scheduled_at__lt=old).delete()
        Session.objects.filter(expire_date__lt=timezone.now()).delete()
        if delete_unused_pieces(UNUSED_FOR if busy() else timedelta(0)):
            give_back_room()
    finally:
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_advisory_unlock(%s)", [ONE_AT_A_TIME])


def busy():
    """Whether something is recorded or computed that may keep pieces."""
    return Rolling.objects.exists() or Run.objects.filter(state__in=ACTIVE).exists()


def delete_unused_pieces(unused_for):
    """Delete samples that no stream has and that nobody has kept again for that long. Returns how many."""
    count = 0
    while True:
        kept_before = timezone.now() - unused_for
        some = Piece.objects.filter(chunks=None, kept_at__lte=kept_before).values_list("pk", flat=True)[:AT_ONCE]
        # asked again while it is deleted: somebody may have begun to use it
        gone, _ = Piece.objects.filter(pk__in=list(some), chunks=None, kept_at__lte=kept_before).delete()
        count += gone
        if not gone:
            return count


def give_back_room():
    """Make the room of deleted samples free: on the disk where nothing goes on and it is worth it, else for what comes next."""
    table = Piece._meta.db_table
    with connection.cursor() as cursor:
        cursor.execute(
            f"SELECT pg_total_relation_size('{table}'), coalesce(sum(octet_length(payload)), 0) FROM {table}"
        )
        held, used = cursor.fetchone()
        spare = shutil.disk_usage(settings.DATA).free if settings.DATA.exists() else 0
        whole = held - used > WORTH_BYTES and held - used > 0.2 * held and spare > 2 * used and not busy()
        try:
            cursor.execute(f"SET lock_timeout = '{LOCK_WAIT}'")
            cursor.execute(f"VACUUM {'(FULL, ANALYZE)' if whole else '(ANALYZE)'} {table}")
        except OperationalError as error:  # somebody uses the table: the next time then
            log.warning("the room of deleted samples could not be given back now: %s", error)
        finally:
            cursor.execute("RESET lock_timeout")
