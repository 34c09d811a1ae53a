"""What a person can do to productions, days and slates. Each: check, do it in a transaction."""

from fractions import Fraction

from django.db import IntegrityError, transaction
from django.utils import timezone

from otrevo.core.conventions import RATES
from otrevo.core.errors import InputError
from otrevo.core.package.naming import name_from_pattern
from otrevo.core.props.prop import SHIPPED
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.server.accounts.models import Membership, Role
from otrevo.server.shoot.models import Production, ShootDay, Slate


def make_production(user, name, code, timecode_rate, drop_frame, delivery_rate, naming_pattern):
    """A new production with `user` as its supervisor and its first day today. Raises InputError for bad settings."""
    name, code = name.strip(), code.strip()
    if not name or not code:
        raise InputError("A production needs a name and a short code, such as SMS.")
    for words, text in (("timecode", timecode_rate), ("delivery", delivery_rate)):
        if text not in {str(rate) for rate in RATES}:
            raise InputError(f"{text} is not a {words} rate; expected one of {', '.join(str(r) for r in RATES)}.")
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
        raise InputError(f"There is a production named {name} already{_removed(Production, name=name)}.") from None
    return production


def make_day(production, date, stage):
    """The production's next shoot day."""
    if not stage.strip():
        raise InputError("A shoot day needs a stage, such as 'Quay stage'.")
    with transaction.atomic():
        Production.objects.select_for_update().get(pk=production.pk)  # two at once must not take one number
        number = 1 + max(ShootDay.everything.filter(production=production).values_list("number", flat=True), default=0)
        return ShootDay.objects.create(production=production, number=number, date=date, stage=stage.strip())


def make_slate(day, name, title, performer, props=(), warm_up=False):
    """A new slate of a day. Raises InputError when the day already has that name or a prop is unknown."""
    unknown = [p for p in props if p not in SHIPPED]
    if unknown:
        raise InputError(f"There is no prop '{unknown[0]}'; expected some of {', '.join(SHIPPED)}.")
    if not name.strip() or len(name) > 12:
        raise InputError("A slate needs a name of 1 to 12 characters.")
    try:
        with transaction.atomic():
            return Slate.objects.create(
                day=day, name=name.strip(), title=title.strip(), performer=performer, props=list(props), warm_up=warm_up,
            )  # fmt: skip
    except IntegrityError:
        raise InputError(f"Day {day.number} already has a slate {name}{_removed(Slate, day=day, name=name)}.") from None


def _removed(model, **about):
    """More words where what has a name was removed and still waits to be deleted."""
    return (
        ", which was removed and can be brought back" if model.everything.filter(**about).exclude(removal=None) else ""
    )
