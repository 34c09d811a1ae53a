"""What a person can do to the cast: add a performer, get the slate of their next warm-up."""

import math

from django.db import IntegrityError, transaction

from otrevo.core.devices import catalogue as devices
from otrevo.core.errors import InputError
from otrevo.core.inertial.measures import measures_from
from otrevo.server.cast.models import Performer
from otrevo.server.shoot.actions import make_slate
from otrevo.server.shoot.models import Slate


def make_performer(production_id, name, height_m, kit, measures=None):
    """A new performer; measures: what else was measured, by name, in metres.

    Raises InputError for a name taken, a height or a measure that is no person's, or an unknown device.
    """
    measures = measures_from(measures or {}, "Measures")
    name = name.strip()
    if not name:
        raise InputError("A performer needs a name.")
    if not math.isfinite(height_m) or not 0.8 <= height_m <= 2.3:
        raise InputError(f"A height of {height_m:g} m is not a person's; expected metres between 0.8 and 2.3.")
    known = devices.kit()
    if not {"optical", "suit"} & set(kit) or set(kit) - set(known):
        raise InputError(
            f"A kit holds optical markers or a suit, or both, and, as worn, some of {', '.join(known[1:])}."
        )
    try:
        with transaction.atomic():
            return Performer.objects.create(
                production_id=production_id,
                name=name,
                height_m=height_m,
                kit=[k for k in known if k in kit],
                measures=measures,
            )
    except IntegrityError:
        raise InputError(f"There is a performer named {name} in this production already.") from None


def warm_up_slate(performer):
    """The performer's warm-up slate of the newest day, made if there is none. Raises InputError without a day."""
    day = performer.production.days.order_by("-number").first()
    if day is None:
        raise InputError("This production has no shoot day yet; add one in Shoot, then roll the warm-up.")
    slate = day.slates.filter(performer=performer, warm_up=True).first()
    if slate is None:
        taken = set(Slate.everything.filter(day=day).values_list("name", flat=True))
        name = next(f"W{i}" for i in range(1, 1000) if f"W{i}" not in taken)
        slate = make_slate(day, name, f"Warm-up, {performer.name}", performer, warm_up=True)
    return slate
