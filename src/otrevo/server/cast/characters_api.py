"""Characters in Cast: files of the animators, their map sheets, who plays them."""

import json
from datetime import datetime

from django.db.models.functions import Length
from django.http import HttpResponse
from ninja import Field, File, Router, Schema
from ninja.files import UploadedFile

from otrevo.core.body.skeleton import BONE_NAMES
from otrevo.core.characters.character import character_from
from otrevo.core.characters.compare import map_differences
from otrevo.core.characters.face import drivers_from
from otrevo.core.characters.sheet import EFFECTORS
from otrevo.core.errors import InputError
from otrevo.core.package.naming import clean
from otrevo.core.retarget.deliver import SKINNED
from otrevo.server.accounts import audit
from otrevo.server.accounts.access import DESK_ROLES, fetch, require
from otrevo.server.cast import characters as act
from otrevo.server.cast.models import Character, Performer
from otrevo.server.given import Given
from otrevo.server.shoot.models import Production
from otrevo.server.takes.streams import arrow_bytes

router = Router(tags=["cast"])
MOST_MAP_BYTES = 4 * 2**20


class PairOut(Schema):
    """Our bone and theirs; degrees: of their bone's rest direction against a T-pose, None where nothing tells.

    shares: how far each of their bones in a chain has turned, empty for by their number. rest_turn: degrees about the world's X, Y and Z
    by which a person has corrected how it stands at rest, or None.
    """

    bone: str
    target: list[str]
    confidence: float
    doubt: str
    shares: list[float] = []
    degrees: float | None
    rest_turn: list[float] | None


class DriverOut(Schema):
    """A face shape of ours that moves one of the character's: offset + gain x ours, kept between low and high."""

    shape: str
    target: str
    gain: float = 1.0
    offset: float = 0.0
    low: float = 0.0
    high: float = 1.0


class EffectorOut(Schema):
    """target: the name of its track, or of the character's bone that it moves; empty for none of its own."""

    effector: str = Field(max_length=20)
    target: str = Field(max_length=200)


class VersionOut(Schema):
    version: int
    made_at: datetime
    made_by: str


class MapOut(Schema):
    """versions: all there are, newest first; helpers: how many twist bones; unmapped: their bones that nobody drives; missing: our bones that move nothing."""

    version: int
    made_at: datetime
    made_by: str
    versions: list[VersionOut]
    pairs: list[PairOut]
    drivers: list[DriverOut]
    effectors: list[EffectorOut]
    helpers: int
    unmapped: list[str]
    missing: list[str]


class CharacterOut(Schema):
    """units_m: metres per unit of the file; up, facing: the file's own axes; bones: names in the file, parents first;
    nodes: their numbers in a glTF file, else empty.

    scale, rotation_xyzw: take the file's numbers to our axes and metres.
    """

    id: int
    name: str
    file_name: str
    bytes: int
    height_m: float
    units_m: float
    unit_evidence: str
    up: str
    facing: str
    rest_from: str
    notes: list[str]
    bones: list[str]
    nodes: list[int]
    shapes: list[str]
    skinned: bool
    scale: float
    rotation_xyzw: list[float]
    map: MapOut
    player_ids: list[int]


class PlayersIn(Given):
    """before: the players that the user saw."""

    performer_ids: list[int]
    before: list[int] | None = None


class PairIn(Given):
    """based_on: the version of the map that is on the user's screen; here and in what follows."""

    based_on: int | None = None
    bone: str = Field(max_length=40)
    target: list[str]
    shares: list[float] = []


class EffectorsIn(Given):
    based_on: int | None = None
    effectors: list[EffectorOut] = Field(max_length=20)


class DriversIn(Given):
    based_on: int | None = None
    drivers: list[DriverOut] = Field(max_length=2000)


class SideIn(Given):
    side: str


class RestIn(Given):
    """degrees: about the world's X, Y and Z, on top of what was matched; None takes back what was set by hand."""

    bone: str = Field(max_length=40)
    degrees: list[float] | None


class VersionIn(Given):
    version: int


class MapChangeOut(Schema):
    """What one version of a map says of something, and what the newest says, in words."""

    subject: str
    before: str
    now: str


class NameIn(Given):
    name: str = Field(max_length=60)


def _characters():
    return Character.objects.defer("file").prefetch_related("maps__made_by", "players")


def character_out(character):
    d, newest = character.document, character.maps.all()[0]
    core = character_from(d, character.name)
    effectors = {r["effector"]: r["target"] for r in newest.document.get("effectors", [])}
    rest = {r["bone"]: r["degrees"] for r in newest.document["rest_pose"] if r["seen"]}
    turned = act.rest_turns(core, newest.document)
    return {
        "id": character.pk, "name": character.name, "file_name": character.file_name, "bytes": character.size,
        "height_m": core.height_m, "units_m": d["units_m"],
        "unit_evidence": d["unit_evidence"], "up": d["up"], "facing": d["facing"], "rest_from": d["rest_from"],
        "notes": d["notes"], "bones": [b["name"] for b in d["bones"]], "nodes": list(core.nodes), "shapes": d["shapes"],
        "scale": d["from_file"]["scale"], "rotation_xyzw": d["from_file"]["rotation_xyzw"],
        "skinned": character.file_name.lower().endswith(SKINNED),
        "map": {
            "version": newest.version, "made_at": newest.made_at,
            "made_by": newest.made_by.username if newest.made_by else "", "helpers": len(newest.document["helpers"]),
            "drivers": [x.document() for x in drivers_from(newest.document, core.shapes, character.name, core.expressions)],
            "effectors": [{"effector": e, "target": effectors.get(e, "")} for e in EFFECTORS],
            "versions": [
                {"version": m.version, "made_at": m.made_at, "made_by": m.made_by.username if m.made_by else ""}
                for m in character.maps.all()
            ],
            "unmapped": newest.document["unmapped"],
            "missing": [b for b in BONE_NAMES if b not in {p["bone"] for p in newest.document["pairs"]}],
            "pairs": [p | {"degrees": rest.get(p["target"][0]), "rest_turn": turned.get(p["bone"])} for p in newest.document["pairs"]],
        },
        "player_ids": [p.pk for p in character.players.all()],
    }  # fmt: skip


def _one(request, character_id):
    return fetch(
        request.user, _characters().annotate(size=Length("file")), "production_id", DESK_ROLES, pk=character_id
    )


@router.get("/productions/{production_id}/characters", response=list[CharacterOut])
def characters(request, production_id: int):
    require(request.user, production_id, DESK_ROLES)
    return [character_out(c) for c in _characters().annotate(size=Length("file")).filter(production_id=production_id)]


@router.post("/productions/{production_id}/characters", response=CharacterOut)
def add_character(request, production_id: int, file: File[UploadedFile]):
    """A new character from a file; its map is proposed at once."""
    require(request.user, production_id, DESK_ROLES)
    made = act.make_character(Production.objects.get(pk=production_id), request.user, file)
    return character_out(_one(request, made.pk))


@router.put("/characters/{character_id}/players", response=CharacterOut)
def set_players(request, character_id: int, payload: PlayersIn):
    act.set_players(_one(request, character_id), payload.performer_ids, request.user, payload.before)
    return character_out(_one(request, character_id))


@router.put("/characters/{character_id}/map", response=CharacterOut)
def change_map(request, character_id: int, payload: PairIn):
    """Have a bone of the performer move other bones of the character: a new version of the map."""
    act.change_pairs(
        _one(request, character_id), request.user, [(payload.bone, payload.target, payload.shares)], payload.based_on
    )
    return character_out(_one(request, character_id))


@router.put("/characters/{character_id}/shapes", response=CharacterOut)
def change_shapes(request, character_id: int, payload: DriversIn):
    """Say which shapes of a performer's face move the character's, and how far: a new version of the map."""
    act.change_shapes(_one(request, character_id), request.user, [d.dict() for d in payload.drivers], payload.based_on)
    return character_out(_one(request, character_id))


@router.put("/characters/{character_id}/effectors", response=CharacterOut)
def change_effectors(request, character_id: int, payload: EffectorsIn):
    """Name the effectors, or the controls that they move: a new version of the map. Those without a name are left out."""
    rows = [r.dict() for r in payload.effectors if r.target.strip()]
    act.change_effectors(_one(request, character_id), request.user, rows, payload.based_on)
    return character_out(_one(request, character_id))


@router.put("/characters/{character_id}/mirror", response=CharacterOut)
def mirror_map(request, character_id: int, payload: SideIn):
    """Have the other side move what mirrors this side's bones: a new version of the map."""
    act.mirror(_one(request, character_id), request.user, payload.side)
    return character_out(_one(request, character_id))


@router.put("/characters/{character_id}/rest", response=CharacterOut)
def turn_rest(request, character_id: int, payload: RestIn):
    """Correct by hand how a bone stands at rest: a new version of the map."""
    act.turn_rest(_one(request, character_id), request.user, payload.bone, payload.degrees)
    return character_out(_one(request, character_id))


@router.get("/characters/{character_id}/file")
def file(request, character_id: int):
    """The character's own file, as it was given."""
    character = fetch(request.user, Character.objects.all(), "production_id", DESK_ROLES, pk=character_id)
    response = HttpResponse(bytes(character.file), content_type="application/octet-stream")
    ending = character.file_name.rpartition(".")[2]
    response["Content-Disposition"] = f'attachment; filename="{clean(character.name)}.{clean(ending)}"'
    return response


@router.get("/characters/{character_id}/warm-ups/{performer_id}")
def warm_up(request, character_id: int, performer_id: int):
    """A performer's warm-up on the character, as an Arrow IPC stream whose metadata say what its rows hold."""
    characters = Character.objects.defer("file")
    character = fetch(request.user, characters, "production_id", DESK_ROLES, pk=character_id)
    performers = Performer.objects.filter(production_id=character.production_id)
    performer = fetch(request.user, performers, "production_id", DESK_ROLES, pk=performer_id)
    about, rows = act.warm_up_on(character, performer)
    return HttpResponse(arrow_bytes(rows, about), content_type="application/vnd.apache.arrow.stream")


@router.get("/characters/{character_id}/map-document")
def map_document(request, character_id: int):
    """The newest map sheet as a `map/1` document."""
    character = _one(request, character_id)
    response = HttpResponse(json.dumps(character.maps.all()[0].document, indent=1), content_type="application/json")
    response["Content-Disposition"] = f'attachment; filename="{clean(character.name)}-map.json"'
    return response


@router.get("/characters/{character_id}/map-versions/{version}", response=list[MapChangeOut])
def map_version(request, character_id: int, version: int):
    """How the newest map differs from an earlier version."""
    character = _one(request, character_id)
    earlier, newest = (act.whole_map(character, m) for m in (act.map_of(character, version), character.maps.all()[0]))
    return [{"subject": s, "before": b, "now": n} for s, b, n in map_differences(earlier, newest)]


@router.post("/characters/{character_id}/map-document", response=CharacterOut)
def take_map_document(request, character_id: int, file: File[UploadedFile]):
    """A `map/1` document as a new version: somebody's corrections, or the map of another character of the same naming."""
    character = _one(request, character_id)
    if file.size > MOST_MAP_BYTES:
        raise InputError(f"{file.name}: larger than {MOST_MAP_BYTES // 2**20} MiB; expected a map/1 document.")
    try:
        document = json.loads(file.read())
    except (ValueError, RecursionError):
        raise InputError(f"{file.name}: it is not JSON; expected a map/1 document.") from None
    act.take_map(character, request.user, document, file.name)
    return character_out(_one(request, character_id))


@router.put("/characters/{character_id}/map-version", response=CharacterOut)
def return_to_version(request, character_id: int, payload: VersionIn):
    """Go back to an earlier version of the map; it becomes the newest."""
    act.return_to(_one(request, character_id), request.user, payload.version)
    return character_out(_one(request, character_id))


@router.patch("/characters/{character_id}", response=CharacterOut)
def rename_character(request, character_id: int, payload: NameIn):
    act.rename(_one(request, character_id), payload.name)
    return character_out(_one(request, character_id))


@router.delete("/characters/{character_id}", response={204: None})
def delete_character(request, character_id: int):
    """Remove a character with its map and its motions; packages that were made keep their files."""
    character = _one(request, character_id)
    character.delete()
    audit.enter(request, "character removed", character.name)
    return 204, None
