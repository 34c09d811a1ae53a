"""What a person can do with characters: add one from a file, say who plays it, change its map, see it move."""

import tempfile
from fractions import Fraction
from pathlib import Path

from django.conf import settings
from django.db import IntegrityError, transaction

from otrevo.core.characters.character import READERS, character_from
from otrevo.core.characters.guarded import read_guarded
from otrevo.core.characters.sheet import sheet_from
from otrevo.core.errors import InputError
from otrevo.core.motion_rate import at_rate
from otrevo.core.package.naming import clean
from otrevo.core.retarget.deliver import SKINNED, written_over
from otrevo.core.retarget.transfer import retarget
from otrevo.server.cast.models import Character, CharacterMap
from otrevo.server.takes.material import latest
from otrevo.server.takes.mends import stored_motion

WARM_UP_RATE = Fraction(30)


def make_character(production, user, upload):
    """A new Character from an uploaded file, with the map proposed for it. Raises InputError for a file that is none."""
    ending = Path(upload.name).suffix.lower()
    if ending not in READERS or ending == ".gltf":
        raise InputError(f"{upload.name}: expected a character as {', '.join(sorted(set(READERS) - {'.gltf'}))}.")
    if upload.size > settings.MAX_UPLOAD_BYTES:
        raise InputError(f"{upload.name}: larger than {settings.MAX_UPLOAD_BYTES // 2**20} MiB.")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"character{ending}"  # never a path from a user's name
        with path.open("wb") as out:
            for part in upload.chunks():
                out.write(part)
        document, sheet = read_guarded(path, Path(upload.name).name[:120])
        data = path.read_bytes()
    return keep_character(production, user, Path(upload.name).name, data, document, sheet)


def keep_character(production, user, file_name, data, document, sheet):
    """A new Character of a file that has been read: its bytes, its character/1 and map/1. Raises InputError for a name taken."""
    name = (clean(Path(file_name).stem) or "character")[:60].capitalize()
    try:
        with transaction.atomic():
            made = Character.objects.create(
                production=production, name=name, file_name=file_name[:120], file=data, document=document, added_by=user
            )
            made.maps.create(version=1, document=sheet, made_by=user)
    except IntegrityError:
        raise InputError(f"There is a character named {name} in this production already; rename the file.") from None
    return made


def core_character(character):
    """(Character, MapSheet of its newest map) of the core."""
    found = character_from(character.document, character.name)
    return found, sheet_from(character.maps.first().document, found, f"{character.name}'s map")


def set_players(character, performer_ids):
    """Say who plays a character. Raises InputError for a performer of another production."""
    performers = list(character.production.performers.filter(pk__in=performer_ids))
    if len(performers) != len(set(performer_ids)):
        raise InputError("Some of these performers are not in this production.")
    character.players.set(performers)


@transaction.atomic
def change_pair(character, user, bone, targets):
    """A new version of the map in which a bone of ours moves other bones, or none. Raises InputError for an impossible map."""
    Character.objects.select_for_update().get(pk=character.pk)
    newest = character.maps.first()
    document = dict(newest.document)
    rows = [r for r in document["pairs"] if r["bone"] != bone]
    if targets:
        rows.append({"bone": bone, "target": targets, "confidence": 1.0, "doubt": ""})
    taken = {t for r in rows for t in r["target"]}
    document["pairs"], document["rest_pose"] = rows, []  # rest poses follow from the pairs
    document["helpers"] = [h for h in document["helpers"] if h["bone"] not in taken]
    found = character_from(character.document, character.name)
    sheet = sheet_from(document, found, f"{character.name}'s map")
    return CharacterMap.objects.create(
        character=character, version=newest.version + 1, document=sheet.document(), made_by=user
    )


def warm_up_solve(performer):
    """The newest solve of a performer's warm-up, or None."""
    calibration = performer.calibrations.exclude(warm_up=None).first()
    return latest(calibration.warm_up, "solve", performer) if calibration else None


def moving_file(character, performer):
    """GLB bytes: the character's file with the performer's warm-up on it. Raises InputError where there is no skin or warm-up."""
    if Path(character.file_name).suffix.lower() not in SKINNED:
        raise InputError(f"{character.file_name} has no skin that a browser can show; it is delivered all the same.")
    run = warm_up_solve(performer)
    if run is None:
        raise InputError(f"{performer.name} has no solved warm-up yet; roll one, and the character moves with it.")
    found, sheet = core_character(character)
    result = retarget(at_rate(stored_motion(run), WARM_UP_RATE), found, sheet)
    return written_over(result, bytes(character.file), "warm-up")
