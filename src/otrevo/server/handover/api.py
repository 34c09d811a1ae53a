"""Handover: packages for animators, and their answers."""

import io
import zipfile
from datetime import datetime
from fractions import Fraction

from django.db import transaction
from django.http import HttpResponse
from ninja import Router, Schema

from otrevo.core.errors import InputError
from otrevo.core.formats.catalogue import delivered, dropped, format_named
from otrevo.core.package.naming import clean
from otrevo.server.accounts.access import DESK_ROLES, EVERYONE, FLOOR_ROLES, fetch, require
from otrevo.server.accounts.audit import enter
from otrevo.server.accounts.models import Role
from otrevo.server.given import Given
from otrevo.server.handover.jobs import queue_package
from otrevo.server.handover.models import Package
from otrevo.server.shoot.models import Production
from otrevo.server.takes.models import Take
from otrevo.server.takes.rows import StreamOut, streams_out
from otrevo.server.work.models import Run
from otrevo.server.work.queue import cancel

router = Router(tags=["handover"])
SEEN_BY_ANIMATORS = (Package.State.SENT, Package.State.ACCEPTED, Package.State.RETURNED)
ANSWERING = (Role.ANIMATOR, Role.SUPERVISOR)


class PackageIn(Given):
    """character_ids: which characters go in; None: all that are played in the takes."""

    name: str
    take_ids: list[int]
    formats: list[str]
    rate: str
    character_ids: list[int] | None = None


class FormatOut(Schema):
    id: str
    words: str
    usual: bool


class FormatsOut(Schema):
    """What a package can hold, and the endings of files that can be dropped on a slate."""

    delivered: list[FormatOut]
    dropped: list[str]


class PackagedTake(Schema):
    take_id: int
    slate: str
    title: str
    number: int
    performers: list[str]
    in_s: float
    out_s: float
    first_timecode: str
    tracks: list[StreamOut]


class DifferenceOut(Schema):
    """By how much a file differs from the take when it is read back, at most."""

    file: str = ""
    position_mm: float = 0.0
    rotation_deg: float = 0.0


class PackedFileOut(Schema):
    path: str
    bytes: int
    sha256: str


class PackedCharacterOut(Schema):
    """A character's file in a package; scale, rotation_xyzw: take its numbers to our axes and metres."""

    name: str
    file: str
    scale: float
    rotation_xyzw: list[float]


class PackedTakeOut(Schema):
    """log_slate, log_take: the take it is of, as the shot log says."""

    name: str
    files: list[str]
    characters: list[PackedCharacterOut] = []
    log_slate: str = ""
    log_take: int = 0

    @staticmethod
    def resolve_log_slate(row):
        return row.get("log", {}).get("slate", "")

    @staticmethod
    def resolve_log_take(row):
        return row.get("log", {}).get("take", 0)


class ManifestOut(Schema):
    """What a package holds, empty until it is built; conventions: axes and units by what a file holds."""

    conventions: dict[str, str] = {}
    takes: list[PackedTakeOut] = []
    differences: list[DifferenceOut] = []
    files: list[PackedFileOut] = []


class PackageOut(Schema):
    id: int
    name: str
    state: str
    progress: float
    message: str
    formats: list[str]
    rate: str
    timecode_rate: str
    drop_frame: bool
    made_at: datetime
    made_by: str
    answer: str
    answered_by: str
    manifest: ManifestOut
    bytes: int
    takes: list[PackagedTake]


class Answer(Given):
    note: str = ""


@router.get("/formats", response=FormatsOut)
def formats(request):
    return {
        "delivered": [{"id": f.id, "words": f.words, "usual": f.usual} for f in delivered()],
        "dropped": list(dropped()),
    }


def _take_out(package, item):
    fmt = package.production.timecode_format
    tracks = [
        t
        for run in package.runs.filter(take=item)
        for t in run.tracks.filter(kind__in=["rotations", "places", "pose", "shapes"]).select_related("performer")
    ]
    return {
        "take_id": item.pk, "slate": item.slate.name, "title": item.slate.title, "number": item.number,
        "performers": [a.performer.name for a in item.appearances.select_related("performer")], "in_s": item.in_s, "out_s": item.out_s,
        "first_timecode": fmt.label(item.first_timecode_frame),
        "tracks": streams_out(item, tracks),
    }  # fmt: skip


def package_out(package):
    build = package.builds.order_by("-id").only("progress").first()
    return {
        "id": package.pk, "name": package.name, "state": package.state, "progress": build.progress if build else 1.0,
        "message": package.message, "formats": package.formats, "rate": package.rate, "made_at": package.made_at,
        "timecode_rate": package.production.timecode_rate, "drop_frame": package.production.drop_frame,
        "made_by": package.made_by.username if package.made_by else "", "answer": package.answer,
        "answered_by": package.answered_by.username if package.answered_by else "", "manifest": package.manifest,
        "bytes": package.archive_bytes,
        "takes": [_take_out(package, t) for t in package.takes.select_related("slate__performer").order_by("pk")],
    }  # fmt: skip


def _fetch(request, package_id, roles=EVERYONE):
    packages = Package.objects.defer("archive").select_related("production", "made_by", "answered_by")
    package = fetch(request.user, packages, "production_id", roles, pk=package_id)
    if package.state not in SEEN_BY_ANIMATORS:
        require(request.user, package.production_id, DESK_ROLES)
    return package


@router.get("/productions/{production_id}/packages", response=list[PackageOut])
def packages(request, production_id: int):
    role = require(request.user, production_id, EVERYONE)
    packages = Package.objects.defer("archive").select_related("production", "made_by", "answered_by")
    rows = packages.filter(production_id=production_id)
    if role == Role.ANIMATOR:
        rows = rows.filter(state__in=SEEN_BY_ANIMATORS)
    return [package_out(p) for p in rows]


@router.get("/packages/{package_id}", response=PackageOut)
def package(request, package_id: int):
    return package_out(_fetch(request, package_id))


@router.post("/productions/{production_id}/packages", response=PackageOut)
def make_package(request, production_id: int, payload: PackageIn):
    require(request.user, production_id, DESK_ROLES)
    production = Production.objects.get(pk=production_id)
    takes = list(Take.objects.filter(pk__in=payload.take_ids, slate__day__production=production))
    if not takes or len(takes) != len(set(payload.take_ids)):
        raise InputError("Choose at least one take of this production.")
    if not payload.formats:
        raise InputError(f"Choose at least one format of {', '.join(f.id for f in delivered())}.")
    for identity in payload.formats:
        format_named(identity)
    try:
        rate = Fraction(payload.rate)
    except (ValueError, ZeroDivisionError):
        raise InputError(f"'{payload.rate}' is not a rate; expected a fraction such as 30000/1001.") from None
    if not 1 <= rate <= 240:
        raise InputError(f"A delivery rate of {float(rate):g} is outside 1 to 240 frames per second.")
    if payload.character_ids is not None:
        known = set(production.characters.filter(pk__in=payload.character_ids).values_list("pk", flat=True))
        if known != set(payload.character_ids):
            raise InputError("Some of these characters are not in this production.")
    with transaction.atomic():
        item = Package.objects.create(
            production=production, name=clean(payload.name)[:100], formats=payload.formats, rate=str(rate),
            characters=payload.character_ids,
            made_by=request.user,
        )  # fmt: skip
        item.takes.set(takes)
        queue_package(item)
    return package_out(item)


@router.post("/packages/{package_id}/cancel", response=PackageOut)
def cancel_package(request, package_id: int):
    """Stop building a package."""
    item = _fetch(request, package_id, DESK_ROLES)
    cancel(Run.objects.filter(package=item))
    item.refresh_from_db(fields=["state", "message"])
    return package_out(item)


@router.post("/packages/{package_id}/send", response=PackageOut)
def send(request, package_id: int):
    item = _fetch(request, package_id, DESK_ROLES)
    if item.state != Package.State.READY:
        raise InputError(f"The package is {item.state}; only one that was read back without faults can be sent.")
    item.state = Package.State.SENT
    item.save(update_fields=["state"])
    enter(request, "package sent", _named(item))
    return package_out(item)


@router.post("/packages/{package_id}/take-back", response=PackageOut)
def take_back(request, package_id: int):
    """Undo sending while nobody has answered."""
    item = _fetch(request, package_id, FLOOR_ROLES)
    if item.state != Package.State.SENT:
        raise InputError(f"The package is {item.state}; only a sent one without an answer can be taken back.")
    item.state = Package.State.READY
    item.save(update_fields=["state"])
    enter(request, "package taken back", _named(item))
    return package_out(item)


def _named(package):
    return f"{package.name}, {package.production.name}"


def _answer(request, package_id, state, note):
    item = _fetch(request, package_id, ANSWERING)
    if item.answered_by_id is not None:
        raise InputError(f"The package was {item.state} by {item.answered_by.username}; one answer stays.")
    if item.state != Package.State.SENT:
        raise InputError(f"The package is {item.state}; it has not been sent.")
    item.state, item.answer, item.answered_by = state, note.strip()[:2000], request.user
    item.save(update_fields=["state", "answer", "answered_by"])
    enter(request, f"package {state}", _named(item))
    return package_out(item)


@router.post("/packages/{package_id}/accept", response=PackageOut)
def accept(request, package_id: int, payload: Answer):
    return _answer(request, package_id, Package.State.ACCEPTED, payload.note)


@router.post("/packages/{package_id}/return", response=PackageOut)
def send_back(request, package_id: int, payload: Answer):
    if not payload.note.strip():
        raise InputError("Say in a note what is wrong, so that it can be mended.")
    return _answer(request, package_id, Package.State.RETURNED, payload.note)


@router.get("/packages/{package_id}/files/{number}")
def one_file(request, package_id: int, number: int):
    """One file of a package, by its number in the manifest, as it is delivered."""
    item = _fetch(request, package_id)
    listed = item.manifest.get("files", [])
    if not item.archive or not 0 <= number < len(listed):
        raise InputError("The package holds no such file.")
    with zipfile.ZipFile(io.BytesIO(bytes(item.archive))) as archive:
        data = archive.read(listed[number]["path"])
    enter(request, "file downloaded", f"{listed[number]['path']} of {_named(item)}")
    return HttpResponse(data, content_type="application/octet-stream")


@router.get("/packages/{package_id}/file")
def file(request, package_id: int):
    item = _fetch(request, package_id)
    if not item.archive:
        raise InputError("The package holds no file yet.")
    enter(request, "package downloaded", _named(item))
    response = HttpResponse(bytes(item.archive), content_type="application/zip")
    response["Content-Disposition"] = f'attachment; filename="{item.name}.zip"'
    return response
