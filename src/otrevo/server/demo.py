"""The made-up production *Saltmarsh Signal*, rolled on the simulated stage and worked through by the real passes."""

import os
from concurrent.futures import ProcessPoolExecutor
from datetime import date
from multiprocessing import get_context

import django
from django.contrib.auth.models import User
from django.db import transaction

from otrevo.core.characters.character import read_character
from otrevo.core.characters.sheet import propose_sheet
from otrevo.core.optics.wand import SHIPPED_WANDS
from otrevo.core.sim.characters.files import FOLDER
from otrevo.core.sim.rig import Faults, film
from otrevo.core.sim.scenes import scene
from otrevo.server.accounts.models import Membership
from otrevo.server.cast.characters import keep_character
from otrevo.server.cast.models import Performer
from otrevo.server.shoot.models import Production, ShootDay, Slate
from otrevo.server.stage.actions import keep_recording
from otrevo.server.stage.jobs import carry_out
from otrevo.server.stage.models import Room
from otrevo.server.stage.room import rig_of
from otrevo.server.takes.actions import make_take
from otrevo.server.takes.jobs import queue_all
from otrevo.server.takes.models import Take
from otrevo.server.version import code_version
from otrevo.server.work.models import Run
from otrevo.server.work.queue import end
from otrevo.standins import world

PRODUCTION = "Saltmarsh Signal"
SIGN_INS = (
    ("maren", "tide-and-lamp", "technician"),
    ("odile", "tide-and-lamp", "clean-up"),
    ("bastian", "tide-and-lamp", "supervisor"),
    ("yuki", "tide-and-lamp", "animator"),
)
PERFORMERS = (
    ("Ines", 1.68, ["optical", "suit", "gloves", "face"], 21),
    ("Tomas", 1.83, ["optical", "suit", "face"], 5),
    ("Jorun", 1.74, ["suit", "gloves"], 34),
)
CHARACTERS = (("keeper.glb", ("Tomas", "Jorun")), ("wick.glb", ("Ines",)), ("gull.glb", ("Ines",)))
SLATES = (
    # name, title, performer, performance, warm-up, takes as (status, note, hidden share)
    ("W1", "Warm-up, Ines", "Ines", "warm-up", True, [("hold", "", 0.03)]),
    ("W2", "Warm-up, Tomas", "Tomas", "warm-up", True, [("hold", "", 0.03)]),
    ("W3", "Warm-up, Jorun", "Jorun", "suit warm-up", True, [("hold", "", 0.0)]),
    ("14B", "Semaphore from the jetty", "Ines", "semaphore", False,
     [("no good", "foot left the volume", 0.14), ("hold", "", 0.08), ("circled", "last letter is the one", 0.06)]),
    ("15", "Hauling the mooring rope", "Tomas", "rope haul", False,
     [("hold", "grip slipped once", 0.08), ("circled", "good weight", 0.05)]),
    ("16A", "Radio watch, seated", "Tomas", "radio watch", False, [("circled", "", 0.06)]),
    ("17", "Lifting the signal lantern", "Ines", "lantern", False, [("open", "", 0.07)]),
    ("22", "Night climb", "Jorun", "night climb", False, [("hold", "", 0.0)]),
    ("23", "Radio watch, hands under the desk", "Tomas", "desk watch", False, [("open", "", 0.05)]),
)  # fmt: skip


def prepare_room(production, user, sweep_s=45.0):
    """The room as it was prepared in the morning: still room, sweep, wand and markers on the floor, each worked through."""
    room = Room.objects.create(production=production, rig=world.rig(production.pk))
    truth, (_, rate), wand = world.room(production.pk), rig_of(room), SHIPPED_WANDS["quay corner"]
    seed = world.room_spec(production.pk)["seed"]
    for number, (kind, seconds) in enumerate(
        (("still", 10.0), ("sweep", sweep_s), ("wand on floor", 3.0), ("floor markers", 3.0))
    ):
        positions = scene(kind, seed + number, seconds, float(rate), wand)
        centroids, _ = film(truth.cameras, positions, seed + number, Faults(lost_frames=0.01), lamps=truth.lamps)
        with_wand = wand.to_document() if kind in ("sweep", "wand on floor") else None
        keep_recording(room, kind, centroids, rate, user, with_wand)
    for step in ("find blinds", "solve cameras", "level"):
        run = Run.objects.create(kind="room step", room=room, name=step, asked_by=user, code_version=code_version())
        carry_out(run, lambda share: None)()
        end(run, Run.State.DONE, "")


def load_demo():
    """Load the demo production, with takes that are still to be recorded, unless it is there. Returns whether it was loaded."""
    if Production.objects.filter(name=PRODUCTION).exists():
        return False
    with transaction.atomic():
        production = Production.objects.create(name=PRODUCTION, code="SMS")
        for name, password, role in SIGN_INS:
            user = User.objects.create_user(name, password=password, is_superuser=role == "supervisor")
            Membership.objects.create(user=user, production=production, role=role)
        technician = User.objects.get(username=SIGN_INS[0][0])
        day = ShootDay.objects.create(production=production, number=3, date=date(2026, 11, 19), stage="Quay stage")
        performers = {
            name: Performer.objects.create(production=production, name=name, height_m=height, kit=kit)
            for name, height, kit, _ in PERFORMERS
        }
        for name, _, _, seed in PERFORMERS:
            world.embody(performers[name].pk, seed)
        prepare_room(production, technician)
        for file_name, players in CHARACTERS:
            add_character(production, technician, FOLDER / file_name).players.add(*(performers[p] for p in players))
        fmt = production.timecode_format
        frame = fmt.frame("10:42:06;00")
        for name, title, performer, performance, warm_up, takes in SLATES:
            slate = Slate.objects.create(
                props=["lantern"] if performance == "lantern" else [],
                day=day,
                name=name,
                title=title,
                performer=performers[performer],
                warm_up=warm_up,
            )
            world.rehearse(slate.pk, performance)
            for number, (status, note, hidden) in enumerate(takes, 1):
                take = make_take(slate, technician, number, status=status, note=note, first_timecode_frame=frame)
                frame += 90 * fmt.nominal
                world.plan(take.pk, {"seed": 300 + take.pk, "hidden": hidden, "facing_rad": 0.5 * number})
    return True


def add_character(production, user, path):
    """A shipped character, as if somebody had dropped its file."""
    character, proposal = read_character(path)
    sheet = propose_sheet(character, proposal)
    return keep_character(production, user, path.name, path.read_bytes(), character.document(), sheet.document())


def record_takes():
    """Record the demo's takes that are still to be recorded, several at a time, and queue the passes of each at once.

    They come in the order of their slates, warm-ups first, so that what is calibrated there is there in time.
    """
    planned = {t: how for t, how in world.planned().items() if Take.objects.filter(pk=t, runs=None).exists()}
    if not planned:
        return
    with ProcessPoolExecutor(os.cpu_count(), mp_context=get_context("spawn"), initializer=django.setup) as pool:
        for take in pool.map(_record, planned.items()):
            queue_all(Take.objects.get(pk=take))
            world.plan(take, None)


def _record(planned):
    from otrevo.server.rehearsal import record

    number, how = planned
    take = Take.objects.select_related("slate__day__production", "slate__performer").get(pk=number)
    if not take.streams.exists():  # else whoever began ended before its passes were queued
        record(take, **how)
    return number
