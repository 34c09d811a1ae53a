"""A small production for server tests, and the queue worked off in the test's own process."""

import datetime

from django.contrib.auth.models import User

from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.performers import make_performer
from otrevo.server.accounts.models import Membership
from otrevo.server.cast.models import Performer, PerformerCalibration
from otrevo.server.shoot.models import Production, ShootDay, Slate
from otrevo.server.stage.models import Room
from otrevo.server.stage.room import current_blinds, new_version
from otrevo.server.work.execution import carry_out, claim
from otrevo.server.work.models import Run
from otrevo.standins import world
from tests.core.stage import true_calibration

BODY_SEED, ROOM_SEED = 77, 331
PASSWORD = "harbour-lights"


def make_production(name="Saltmarsh Signal", code="SMS"):
    """Production, day, performer with a calibration, two slates, and one user for each role (named `role` + code)."""
    production = Production.objects.create(name=name, code=code)
    for role in ("technician", "clean-up", "supervisor", "animator"):
        user = User.objects.create_user(f"{role}-{code}", password=PASSWORD)
        Membership.objects.create(user=user, production=production, role=role)
    day = ShootDay.objects.create(production=production, number=3, date=datetime.date(2026, 11, 19), stage="Quay stage")
    performer = Performer.objects.create(
        production=production, name="Ines", height_m=1.7, kit=["optical", "suit", "gloves", "face"]
    )
    world.embody(performer.pk, BODY_SEED)
    slate = Slate.objects.create(day=day, name="15", title="Hauling the rope", performer=performer)
    world.rehearse(slate.pk, "rope haul")
    calibrate_room(production)
    Slate.objects.create(day=day, name="W1", title="Warm-up", performer=performer, warm_up=True)
    return production, slate


def calibrate(performer):
    """A calibration with the body's true markers, so that tests of the server need no warm-up of 40 s."""
    true = make_performer(world.body(performer.pk), shipped_chart(), height_m=performer.height_m)
    document = true_calibration(true).to_document()
    return PerformerCalibration.objects.create(performer=performer, version=1, document=document)


def calibrate_room(production):
    """A room calibrated with its cameras as they truly hang, so that tests need no sweep."""
    world.build(production.pk, ROOM_SEED)
    room, _ = Room.objects.update_or_create(production=production, defaults={"rig": world.rig(production.pk)})
    cameras = world.room(production.pk).cameras
    return new_version(room, "level", "as it hangs", cameras, "levelled", current_blinds(room)[1], None)


def work():
    """Work off everything queued, as a worker would."""
    while (run := Run.objects.filter(state=Run.State.QUEUED).order_by("id").first()) is not None:
        claimed = claim(run.pk)
        if claimed is not None:
            carry_out(claimed, lambda share: None)
