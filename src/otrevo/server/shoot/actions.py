"""What a person can do to days, slates and takes. Each: check, do it in a transaction, enter it in the history."""

from fractions import Fraction

from django.db import IntegrityError, transaction
from django.utils import timezone

from otrevo.core.conventions import RATES
from otrevo.core.errors import InputError
from otrevo.core.package.naming import name_from_pattern
from otrevo.core.props.prop import SHIPPED
from otrevo.core.sim.motions import MOTIONS
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.server.accounts.models import Membership, Role
from otrevo.server.shoot.models import Change, Production, ShootDay, Slate, Take
from otrevo.server.stage.models import Room

EDITABLE = ("status", "note", "in_s", "out_s")


def _words(take, field, value):
    if field == "status":
        return f"take {take.number} {value}"
    if field == "note":
        return f"note on take {take.number}"
    return f"{'in' if field == 'in_s' else 'out'} point of take {take.number}"


@transaction.atomic
def change_take(user, take, values):
    """Change status, note, in or out point; entered in the history so that it can be undone."""
    take = Take.objects.select_for_update().get(pk=take.pk)
    values = {k: v for k, v in values.items() if k in EDITABLE and v is not None and getattr(take, k) != v}
    if not values:
        return take
    if values.get("status") and values["status"] not in Take.Status.values:
        raise InputError(f"'{values['status']}' is no status; expected {', '.join(Take.Status.values)}.")
    start, end = values.get("in_s", take.in_s), values.get("out_s", take.out_s)
    if not 0 <= start < end <= take.duration_s + 1e-6:
        raise InputError(
            f"In {start:.2f} s and out {end:.2f} s must lie in order within the take's {take.duration_s:.2f} s."
        )
    before = {k: getattr(take, k) for k in values}
    for k, v in values.items():
        setattr(take, k, v)
    take.save(update_fields=list(values))
    field = next(iter(values))
    take.changes.filter(undone=True).delete()  # a new change ends what could be redone
    Change.objects.create(take=take, user=user, words=_words(take, field, values[field]), before=before, after=values)
    return take


@transaction.atomic
def undo(take, redo=False):
    """Take back the last change of a take, or do the last undone one again. Returns its words or None."""
    if redo:
        change = take.changes.filter(undone=True).order_by("id").first()
    else:
        change = take.changes.filter(undone=False).order_by("-id").first()
    if change is None:
        return None
    state = change.after if redo else change.before
    mends = change.after.get("mends")
    if mends:
        take.mends.filter(pk__in=mends).update(active=redo)
    else:
        Take.objects.filter(pk=take.pk).update(**state)
    change.undone = not redo
    change.save(update_fields=["undone"])
    return change


def make_production(user, name, code, timecode_rate, drop_frame, delivery_rate, naming_pattern):
    """A new production with `user` as its supervisor and its first day today. Raises InputError for bad settings."""
    name, code = name.strip(), code.strip()
    if not name or not code:
        raise InputError("A production needs a name and a short code, such as SMS.")
    for words, text in (("timecode", timecode_rate), ("delivery", delivery_rate)):
        if text not in {str(rate) for rate in RATES}:
            raise InputError(f"{text} is no {words} rate; expected one of {', '.join(str(r) for r in RATES)}.")
    TimecodeFormat(Fraction(timecode_rate), drop_frame)
    name_from_pattern(
        naming_pattern, {"production": code, "day": 1, "slate": "1A", "scene": "1A", "take": 1, "performer": "N"}
    )
    try:
        with transaction.atomic():
            production = Production.objects.create(
                name=name, code=code, timecode_rate=timecode_rate, drop_frame=drop_frame, delivery_rate=delivery_rate,
                naming_pattern=naming_pattern,
            )  # fmt: skip
            Membership.objects.create(user=user, production=production, role=Role.SUPERVISOR)
            make_day(production, timezone.localdate(), "Stage")
    except IntegrityError:
        raise InputError(f"There is a production named {name} already.") from None
    return production


def make_day(production, date, stage):
    """The production's next shoot day."""
    if not stage.strip():
        raise InputError("A shoot day needs a stage, such as 'Quay stage'.")
    with transaction.atomic():
        Production.objects.select_for_update().get(pk=production.pk)  # two at once must not take one number
        number = 1 + max([d.number for d in production.days.all()], default=0)
        return ShootDay.objects.create(production=production, number=number, date=date, stage=stage.strip())


def make_slate(day, name, title, performer, performance, props=(), warm_up=False):
    """A new slate of a day. Raises InputError when the day already has that name or a prop is unknown."""
    if performance not in MOTIONS:
        raise InputError(f"The simulated stage cannot perform '{performance}'; expected one of {', '.join(MOTIONS)}.")
    unknown = [p for p in props if p not in SHIPPED]
    if unknown:
        raise InputError(f"There is no prop '{unknown[0]}'; expected some of {', '.join(SHIPPED)}.")
    if not name.strip() or len(name) > 12:
        raise InputError("A slate needs a name of 1 to 12 characters.")
    try:
        with transaction.atomic():
            return Slate.objects.create(
                day=day, name=name.strip(), title=title.strip(), performer=performer, performance=performance,
                props=list(props), warm_up=warm_up,
            )  # fmt: skip
    except IntegrityError:
        raise InputError(f"Day {day.number} already has a slate {name}.") from None


def make_take(slate, user, number=None, made_from="floor", **values):
    """The next take of a slate, or the given number if it is free."""
    wanted = number or 1 + max([t.number for t in slate.takes.all()], default=0)
    try:
        with transaction.atomic():
            calibration = slate.performer.calibrations.first()
            return Take.objects.create(
                slate=slate,
                number=wanted,
                rolled_by=user,
                made_from=made_from,
                calibration=calibration,
                stage_calibration=_stage_calibration(slate) if made_from == "floor" else None,
                **values,
            )
    except IntegrityError:
        raise InputError(
            f"Slate {slate.name} already has a take {wanted}; the next free number is {_next(slate)}."
        ) from None


def _stage_calibration(slate):
    room = Room.objects.filter(production_id=slate.day.production_id).first()
    return room.calibrations.order_by("-version").first() if room else None


def _next(slate):
    return 1 + max([t.number for t in slate.takes.all()], default=0)
