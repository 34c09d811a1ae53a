"""Characters in Cast: files of the animators, their map sheets, who plays them."""

from datetime import datetime

from django.db.models.functions import Length
from django.http import HttpResponse
from ninja import Field, File, Router, Schema
from ninja.files import UploadedFile

from otrevo.core.body.skeleton import BONE_NAMES
from otrevo.core.characters.character import character_from
from otrevo.core.package.naming import clean
from otrevo.server.accounts.access import DESK_ROLES, fetch, require
from otrevo.server.cast import characters as act
from otrevo.server.cast.models import Character, Performer
from otrevo.server.shoot.models import Production

router = Router(tags=["cast"])


class PairOut(Schema):
    """Our bone and theirs; degrees: of their bone's rest direction against a T-pose, None where nothing tells."""

    bone: str
    target: list[str]
    confidence: float
    doubt: str
    degrees: float | None


class MapOut(Schema):
    """helpers: how many twist bones; unmapped: their bones that nobody drives; missing: our bones that move nothing."""

    version: int
    made_at: datetime
    made_by: str
    pairs: list[PairOut]
    helpers: int
    unmapped: list[str]
    missing: list[str]


class CharacterOut(Schema):
    """units_m: metres per unit of the file; up, facing: the file's own axes; bones: names in the file, parents first.

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
    shapes: list[str]
    skinned: bool
    scale: float
    rotation_xyzw: list[float]
    map: MapOut
    player_ids: list[int]


class PlayersIn(Schema):
    performer_ids: list[int]


class PairIn(Schema):
    bone: str = Field(max_length=40)
    target: list[str]


def _characters():
    return Character.objects.defer("file").prefetch_related("maps__made_by", "players")


def character_out(character):
    d, newest = character.document, character.maps.all()[0]
    core = character_from(d, character.name)
    rest = {r["bone"]: r["degrees"] for r in newest.document["rest_pose"] if r["seen"]}
    return {
        "id": character.pk, "name": character.name, "file_name": character.file_name, "bytes": character.size,
        "height_m": core.height_m, "units_m": d["units_m"],
        "unit_evidence": d["unit_evidence"], "up": d["up"], "facing": d["facing"], "rest_from": d["rest_from"],
        "notes": d["notes"], "bones": [b["name"] for b in d["bones"]], "shapes": d["shapes"],
        "scale": d["from_file"]["scale"], "rotation_xyzw": d["from_file"]["rotation_xyzw"],
        "skinned": character.file_name.lower().endswith(act.SKINNED),
        "map": {
            "version": newest.version, "made_at": newest.made_at,
            "made_by": newest.made_by.username if newest.made_by else "", "helpers": len(newest.document["helpers"]),
            "unmapped": newest.document["unmapped"],
            "missing": [b for b in BONE_NAMES if b not in {p["bone"] for p in newest.document["pairs"]}],
            "pairs": [p | {"degrees": rest.get(p["target"][0])} for p in newest.document["pairs"]],
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
    act.set_players(_one(request, character_id), payload.performer_ids)
    return character_out(_one(request, character_id))


@router.put("/characters/{character_id}/map", response=CharacterOut)
def change_map(request, character_id: int, payload: PairIn):
    """Have a bone of the performer move other bones of the character: a new version of the map."""
    act.change_pair(_one(request, character_id), request.user, payload.bone, payload.target)
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
    """The character with a performer's warm-up on it, as GLB at 30 frames a second."""
    character = fetch(request.user, Character.objects.all(), "production_id", DESK_ROLES, pk=character_id)
    performers = Performer.objects.filter(production_id=character.production_id)
    performer = fetch(request.user, performers, "production_id", DESK_ROLES, pk=performer_id)
    return HttpResponse(act.moving_file(character, performer), content_type="model/gltf-binary")
