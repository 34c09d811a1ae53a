"""Who carries out which kind of work. A kind is declared where its work is, and named in settings.WORK_KINDS."""

from collections.abc import Callable
from dataclasses import dataclass

from django.conf import settings
from django.utils.module_loading import import_string


@dataclass(frozen=True)
class Kind:
    """lock(run): runs of one lock are worked through in the order in which they were asked for.

    carry_out(run, report) does the work and returns a function that stores what came of it. That function runs in the
    transaction in which the run ends, so results are there whole or not at all, and never twice. It may set the run's
    figures and snags. `report(share)` tells how far it is, 0 to 1.
    ended(run) is called in that transaction too, however the run ended, and for one that was cancelled in the queue.
    """

    lock: Callable
    carry_out: Callable
    ended: Callable = lambda run: None


def kind_of(run):
    return import_string(settings.WORK_KINDS[run.kind])


def load_all():
    """Load what carries out every kind, so that the first run does not wait for it."""
    for path in settings.WORK_KINDS.values():
        import_string(path)
