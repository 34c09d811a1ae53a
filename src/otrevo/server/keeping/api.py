"""Storage of a production: how much room everything has, what was removed, and how to get it back."""

import shutil
from datetime import datetime
from typing import Literal

from django.conf import settings
from django.db.models import Prefetch
from django.utils import timezone
from ninja import Router, Schema

from otrevo.server.accounts import audit
from otrevo.server.accounts.access import DESK_ROLES, FLOOR_ROLES, fetch, not_here, require, require_administrator
from otrevo.server.accounts.models import Role
from otrevo.server.given import Given
from otrevo.server.handover.models import Package
from otrevo.server.keeping.actions import KINDS, UNDELIVERED, bring_back, remove
from otrevo.server.keeping.models import Removal
from otrevo.server.keeping.sizes import bytes_by_take, other_bytes
from otrevo.server.shoot.models import ShootDay, Slate
from otrevo.server.takes.models import Take

router = Router(tags=["storage"])
MAY_REMOVE = {"take": FLOOR_ROLES, "slate": FLOOR_ROLES, "day": (Role.SUPERVISOR,), "production": (Role.SUPERVISOR,)}
PATHS = {"take": "production_id", "slate": "day.production_id", "day": "production_id", "production": "pk"}


class StoredTake(Schema):
    """needed_by: a package that has it, so that it cannot be removed."""

    id: int
    number: int
    status: str
    bytes: int
    needed_by: str


class StoredSlate(Schema):
    id: int
    name: str
    title: str
    takes: list[StoredTake]


class StoredDay(Schema):
    id: int
    number: int
    slates: list[StoredSlate]


class RemovalOut(Schema):
    """due_at: when it is deleted; bytes: of its takes."""

    id: int
    production: str
    what: str
    words: str
    by: str
    at: datetime
    due_at: datetime
    bytes: int


class StorageOut(Schema):
    """room, packages, characters: bytes beside those of the takes; free_bytes: on the disk of this installation."""

    days: list[StoredDay]
    room: int
    packages: int
    characters: int
    free_bytes: int
    waiting_days: float
    removals: list[RemovalOut]


class RemovalIn(Given):
    what: Literal["take", "slate", "day", "production"]
    id: int


def removal_out(removal, sizes=None):
    """A removal; sizes: {take id: bytes} of its production, where they are at hand."""
    sizes = bytes_by_take(removal.production_id) if sizes is None else sizes
    mine = Take.everything.filter(removal=removal).values_list("pk", flat=True)
    return {
        "id": removal.pk, "production": removal.production.name, "what": removal.what, "words": removal.words,
        "by": removal.by.username if removal.by else "", "at": removal.at, "due_at": removal.due_at,
        "bytes": sum(sizes.get(pk, 0) for pk in mine),
    }  # fmt: skip


@router.get("/productions/{production_id}/storage", response=StorageOut)
def storage(request, production_id: int):
    require(request.user, production_id, DESK_ROLES)
    sizes = bytes_by_take(production_id)
    needing = Package.objects.exclude(state__in=UNDELIVERED).only("name")
    takes = Take.objects.only("number", "status", "slate").prefetch_related(Prefetch("packages", needing, "needing"))
    slates = Slate.objects.prefetch_related(Prefetch("takes", takes))
    days = ShootDay.objects.filter(production=production_id).prefetch_related(Prefetch("slates", slates))
    removals = Removal.objects.filter(production=production_id).select_related("by", "production")
    return other_bytes(production_id) | {
        "days": [
            {"id": day.pk, "number": day.number, "slates": [
                {"id": slate.pk, "name": slate.name, "title": slate.title, "takes": [
                    {"id": take.pk, "number": take.number, "status": take.status, "bytes": sizes.get(take.pk, 0),
                     "needed_by": take.needing[0].name if take.needing else ""}
                    for take in slate.takes.all()
                ]}
                for slate in day.slates.all()
            ]}
            for day in days
        ],
        "free_bytes": shutil.disk_usage(settings.DATA if settings.DATA.exists() else "/").free,
        "waiting_days": settings.KEEP_REMOVED_DAYS,
        "removals": [removal_out(r, sizes) for r in removals],
    }  # fmt: skip


@router.post("/removals", response=RemovalOut)
def add_removal(request, payload: RemovalIn):
    """Remove something. It is found nowhere any more, can be brought back, and is deleted when its time is over."""
    model = KINDS[payload.what][0]
    item = fetch(request.user, model.objects.all(), PATHS[payload.what], MAY_REMOVE[payload.what], pk=payload.id)
    removal = remove(request.user, payload.what, item)
    audit.enter(request, "removed", f"{removal.words}, {removal.production.name}")
    return removal_out(removal)


@router.get("/removals", response=list[RemovalOut])
def removed_productions(request):
    """Productions of this installation that were removed."""
    require_administrator(request.user)
    found = Removal.objects.filter(what="production").select_related("by", "production")
    return [removal_out(r) for r in found]


def _removal(request, removal_id, roles):
    """A removal that the user may change: whole productions are the administrators', who see those that nobody else does."""
    removal = Removal.objects.filter(pk=removal_id).select_related("production").first()
    if removal is not None and removal.what == "production" and request.user.is_superuser:
        return removal
    if removal is None or removal.what == "production":
        raise not_here()
    require(request.user, removal.production_id, roles)
    return removal


@router.post("/removals/{removal_id}/bring-back", response=RemovalOut)
def bring_back_removed(request, removal_id: int):
    removal = _removal(request, removal_id, FLOOR_ROLES)
    said = removal_out(removal)
    bring_back(removal)
    audit.enter(request, "brought back", f"{removal.words}, {removal.production.name}")
    return said


@router.post("/removals/{removal_id}/delete-now", response=RemovalOut)
def delete_now(request, removal_id: int):
    """Do not wait: it is deleted for good within a minute or two."""
    removal = _removal(request, removal_id, (Role.SUPERVISOR,))
    Removal.objects.filter(pk=removal.pk).update(due_at=timezone.now())
    audit.enter(request, "deleted for good", f"{removal.words}, {removal.production.name}")
    removal.refresh_from_db()
    return removal_out(removal)
