"""What a person can do to takes. Each: check, do it in a transaction, enter it in the history."""

from django.db import IntegrityError, transaction

from otrevo.core.errors import InputError
from otrevo.server.conflicts import Conflict
from otrevo.server.takes.models import Appearance, Change, Take

EDITABLE = ("status", "note", "in_s", "out_s")


def _words(take, field, value):
    if field == "status":
        return f"take {take.number} {value}"
    if field == "note":
        return f"note on take {take.number}"
    return f"{'in' if field == 'in_s' else 'out'} point of take {take.number}"


FIELD_WORDS = {"status": "status", "note": "note", "in_s": "in point", "out_s": "out point"}


def _need_no_conflict(user, take, values, version):
    """Raise Conflict where somebody else, or of a note anybody, has changed one of these values since that version of the take."""
    since = take.changes.filter(version__gt=version).select_related("user").order_by("-version")
    for change in since if version < take.version else ():
        theirs = [k for k in values if k in change.before and (k == "note" or change.user != user)]
        if theirs:
            who = change.user.username if change.user else "Somebody"
            raise Conflict(
                f"{who} changed the {FIELD_WORDS[theirs[0]]} of take {take.number} meanwhile; yours was not saved.",
                {k: getattr(take, k) for k in theirs}, who, take.version,
            )  # fmt: skip


@transaction.atomic
def change_take(user, take, values, version=None):
    """Change status, note, in or out point; entered in the history so that it can be undone.

    version: of the take that the user saw, where they say. Raises Conflict where somebody has changed the same since.
    """
    take = Take.objects.select_for_update().get(pk=take.pk)
    values = {k: v for k, v in values.items() if k in EDITABLE and v is not None and getattr(take, k) != v}
    if not values:
        return take
    if version is not None:
        _need_no_conflict(user, take, values, version)
    if values.get("status") and values["status"] not in Take.Status.values:
        raise InputError(f"A take cannot be '{values['status']}'; choose one of {', '.join(Take.Status.values)}.")
    start, end = values.get("in_s", take.in_s), values.get("out_s", take.out_s)
    if not 0 <= start < end <= take.duration_s + 1e-6:
        raise InputError(
            f"In {start:.2f} s and out {end:.2f} s must lie in order within the take's {take.duration_s:.2f} s."
        )
    before = {k: getattr(take, k) for k in values}
    for k, v in values.items():
        setattr(take, k, v)
    take.version += 1
    take.save(update_fields=[*values, "version"])
    field = next(iter(values))
    take.changes.filter(undone=True, user=user).delete()  # a new change ends what its maker could do again
    Change.objects.create(
        take=take,
        user=user,
        words=_words(take, field, values[field]),
        before=before,
        after=values,
        version=take.version,
    )
    return take


@transaction.atomic
def undo(user, take, redo=False):
    """Take back the user's last change of a take, or do their last undone one again. Returns the Change or None.

    Raises InputError where somebody else has changed the same since: that would be lost.
    """
    take = Take.objects.select_for_update().get(pk=take.pk)
    mine = take.changes.filter(user=user, undone=redo)
    change = mine.order_by("id" if redo else "-id").first()
    if change is None:
        return None
    state, expected = (change.after, change.before) if redo else (change.before, change.after)
    mends = change.after.get("mends")
    if mends:
        take.mends.filter(pk__in=mends).update(active=redo)
    else:
        for field, value in expected.items():
            if getattr(take, field) != value:
                raise InputError(
                    f"Somebody else has changed the {FIELD_WORDS[field]} of take {take.number} since; change it by hand."
                )
        Take.objects.filter(pk=take.pk).update(**state)
    take.version += 1
    take.save(update_fields=["version"])
    change.undone, change.version = not redo, take.version
    change.save(update_fields=["undone", "version"])
    return change


def make_take(slate, user, number=None, made_from="floor", **values):
    """The next take of a slate, or the given number if it is free."""
    wanted = number or next_number(slate)
    try:
        with transaction.atomic():
            take = Take.objects.create(
                slate=slate, number=wanted, rolled_by=user, made_from=made_from,
                stage_calibration=_stage_calibration(slate) if made_from == "floor" else None, **values,
            )  # fmt: skip
            appear(take, slate.performer)
            return take
    except IntegrityError:
        raise InputError(
            f"Slate {slate.name} already has a take {wanted}; the next free number is {next_number(slate)}."
        ) from None


def appear(take, performer):
    """The performer is in the take, wearing their kit, with their newest calibration. Returns the Appearance."""
    return Appearance.objects.create(
        take=take, performer=performer, kit=performer.kit, calibration=performer.calibrations.first()
    )


def _stage_calibration(slate):
    room = getattr(slate.day.production, "room", None)
    return room.calibrations.order_by("-version").first() if room else None


def next_number(slate):
    """The number of a slate's next take; that of a take which rolls, or was removed, is taken."""
    rolling = type(slate).objects.filter(pk=slate.pk).values_list("rolling__number", flat=True)
    taken = Take.everything.filter(slate=slate).values_list("number", flat=True)
    return 1 + max([*taken, *(n for n in rolling if n)], default=0)
