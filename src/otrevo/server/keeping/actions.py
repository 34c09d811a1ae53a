"""Remove, bring back, delete for good. Each: check, then do it in a transaction."""

from datetime import timedelta

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from otrevo.core.errors import InputError
from otrevo.server.cast.models import Character, CharacterMap, Performer
from otrevo.server.floor.models import Rolling
from otrevo.server.handover.models import Package
from otrevo.server.keeping.models import Removal
from otrevo.server.shoot.models import Production, ShootDay, Slate
from otrevo.server.stage.models import Room
from otrevo.server.takes.models import Take
from otrevo.server.work.models import ACTIVE, Run
from otrevo.server.work.queue import cancel

# what can be removed: its model, where its slates and its takes find it
KINDS = {
    "take": (Take, None, "pk"),
    "slate": (Slate, "pk", "slate"),
    "day": (ShootDay, "day", "slate__day"),
    "production": (Production, "day__production", "slate__day__production"),
}
UNDELIVERED = (Package.State.CANCELLED, Package.State.FAULTY)


def waiting_time():
    return timedelta(days=settings.KEEP_REMOVED_DAYS)


@transaction.atomic
def remove(user, what, item):
    """The Removal of a take, slate, day or production. Raises InputError where something in it is needed."""
    model, to_slates, to_takes = KINDS[what]
    item = model.objects.select_for_update().filter(pk=item.pk).first()
    if item is None:
        raise InputError(f"This {what} has been removed already.")
    takes = Take.objects.filter(**{to_takes: item.pk})
    slates = Slate.objects.filter(**{to_slates: item.pk}) if to_slates else Slate.objects.none()
    _need_nothing_of(what, takes, slates)
    production = _production_of(what, item)
    removal = Removal.objects.create(
        production=production,
        what=what,
        words=_words(what, item)[:160],
        by=user,
        due_at=timezone.now() + waiting_time(),
    )
    cancel(Run.objects.filter(take__in=takes, state__in=ACTIVE))
    if what == "production":
        cancel(Run.objects.filter(room__production=item, state__in=ACTIVE))
        cancel(Run.objects.filter(package__production=item, state__in=ACTIVE))
        ShootDay.objects.filter(production=item).update(removal=removal)
    takes.update(removal=removal)
    slates.update(removal=removal)
    model.objects.filter(pk=item.pk).update(removal=removal)
    return removal


def _need_nothing_of(what, takes, slates):
    rolling = Rolling.objects.filter(slate__in=slates).select_related("slate").first()
    if rolling is not None:
        raise InputError(f"Slate {rolling.slate.name} is rolling; cut it first.")
    if what == "production":
        return  # its packages go with it
    sent = Package.objects.filter(takes__in=takes).exclude(state__in=UNDELIVERED).order_by("pk").first()
    if sent is not None:
        take = sent.takes.filter(pk__in=takes).select_related("slate").first()
        raise InputError(f"{str(take).capitalize()} is in package {sent.name}, which needs it; it cannot be removed.")


def _production_of(what, item):
    if what == "production":
        return item
    return item.day.production if what == "slate" else item.production


def _words(what, item):
    if what == "take":
        return str(item)
    return f"{what} {item.name if what != 'day' else item.number}"


@transaction.atomic
def bring_back(removal):
    """Undo a removal. Raises InputError where what it was in is removed itself."""
    removal = Removal.objects.select_for_update().get(pk=removal.pk)
    for take in Take.everything.filter(removal=removal).select_related("slate__removal")[:1]:
        _need_place(removal, take.slate)
    for slate in Slate.everything.filter(removal=removal).select_related("day__removal")[:1]:
        _need_place(removal, slate.day)
    for model in (Take, Slate, ShootDay, Production):
        model.everything.filter(removal=removal).update(removal=None)
    removal.delete()


def _need_place(removal, place):
    if place.removal_id not in (None, removal.pk):
        raise InputError(f"Bring back {place.removal.words} first; {removal.words} was in it.")


@transaction.atomic
def delete_for_good(removal):
    """Delete what a removal is about, with all that hangs on it; its samples go with the next clean-up."""
    removal = Removal.objects.select_for_update().filter(pk=removal.pk).first()
    if removal is None:  # it was brought back, or went with what it was in
        return
    production = removal.production
    if removal.what == "production":
        Package.objects.filter(production=production).delete()
        Take.everything.filter(slate__day__production=production).delete()
        Slate.everything.filter(day__production=production).delete()
        CharacterMap.objects.filter(character__production=production).delete()
        Character.objects.filter(production=production).delete()
        Room.objects.filter(production=production).delete()
        Performer.objects.filter(production=production).delete()
        production.delete()  # and its days, roles and removals
        return
    for model in (Take, Slate, ShootDay):  # what was removed earlier inside one of them goes with it
        model.everything.filter(removal=removal).delete()
    removal.delete()
    for earlier in Removal.objects.filter(production=production):
        if not any(model.everything.filter(removal=earlier).exists() for model in (Take, Slate, ShootDay, Production)):
            earlier.delete()
