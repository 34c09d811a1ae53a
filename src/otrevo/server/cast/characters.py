"""What a person can do with characters: add one from a file, say who plays it, change its map, see it move."""

import tempfile
from fractions import Fraction
from functools import lru_cache
from pathlib import Path

import numpy as np
from django.conf import settings
from django.db import IntegrityError, transaction

from otrevo.core.characters.character import READERS, character_from
from otrevo.core.characters.face import driven_values, drivers_from
from otrevo.core.characters.guarded import read_guarded
from otrevo.core.characters.sheet import sheet_from
from otrevo.core.errors import InputError
from otrevo.core.motion_rate import at_rate
from otrevo.core.package.naming import clean
from otrevo.core.passes.retarget import tracks_of
from otrevo.core.retarget.judge import snags_of
from otrevo.core.retarget.transfer import retarget
from otrevo.core.snags import ranked
from otrevo.server.cast.models import Character, CharacterMap
from otrevo.server.takes.jobs import retarget_missing
from otrevo.server.takes.material import clocks, latest, played
from otrevo.server.takes.mends import stored_motion
from otrevo.server.takes.models import Take
from otrevo.server.takes.streams import read_stream
from otrevo.server.work.models import Run

WARM_UP_RATE = Fraction(30)
MOST_SNAGS = 12


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


@transaction.atomic
def set_players(character, performer_ids, user):
    """Say who plays a character; takes that are solved are retargeted. Raises InputError for a performer of another production."""
    performers = list(character.production.performers.filter(pk__in=performer_ids))
    if len(performers) != len(set(performer_ids)):
        raise InputError("Some of these performers are not in this production.")
    character.players.set(performers)
    for take in Take.objects.filter(appearances__performer__in=performers).distinct():
        retarget_missing(take, user)


@transaction.atomic
def rename(character, name):
    """Give a character another name. Raises InputError for one that is taken or empty."""
    name = " ".join(name.split())[:60]
    if not name:
        raise InputError("A character needs a name.")
    if Character.objects.filter(production_id=character.production_id, name=name).exclude(pk=character.pk).exists():
        raise InputError(f"There is a character named {name} in this production already.")
    character.name = name
    character.save(update_fields=["name"])


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
    return _new_version(character, user, newest, document)


def _new_version(character, user, newest, document):
    """The next CharacterMap after the newest, of a map/1 document. Raises InputError for an impossible one."""
    found, where = character_from(character.document, character.name), f"{character.name}'s map"
    made = sheet_from(document, found, where).document()
    made["shapes"] = [d.document() for d in drivers_from(document, found.shapes, where, found.expressions)]
    return CharacterMap.objects.create(character=character, version=newest.version + 1, document=made, made_by=user)


@transaction.atomic
def take_map(character, user, document, where):
    """A map/1 document that somebody made elsewhere, as a new version. Raises InputError for an impossible one."""
    Character.objects.select_for_update().get(pk=character.pk)
    if not isinstance(document, dict) or document.get("otrevo") != "map/1":
        raise InputError(f"{where}: expected a map/1 document.")
    if document.get("character") != character.document["name"]:
        document = document | {"rest_pose": []}  # another character of the same naming stands otherwise at rest
    return _new_version(character, user, character.maps.first(), document)


@transaction.atomic
def return_to(character, user, version):
    """An earlier version of the map once more, as the newest. Raises InputError where there is none of that number."""
    Character.objects.select_for_update().get(pk=character.pk)
    earlier = character.maps.filter(version=version).first()
    if earlier is None:
        raise InputError(f"{character.name} has no map of version {version}.")
    newest = character.maps.first()
    return CharacterMap.objects.create(
        character=character, version=newest.version + 1, document=earlier.document, made_by=user
    )


def warm_up_solve(performer):
    """The newest solve of a performer's warm-up, or None."""
    calibration = performer.calibrations.exclude(warm_up=None).first()
    return latest(calibration.warm_up, "solve", performer) if calibration else None


def warm_up_on(character, performer):
    """(about, rows): a performer's warm-up on a character at 30 frames a second, from its newest map.

    about: what the rows (T, 3 + 4 B + 3 + 4 P + S) hold: the character's root and the rotations of its bones in their
    parents, the performer's likewise, values of face shapes; and the figures and snags by which the map is judged.
    Raises InputError where there is no warm-up.
    """
    run = warm_up_solve(performer)
    if run is None:
        raise InputError(f"{performer.name} has no solved warm-up yet; roll one, and the character moves with it.")
    on, version = played(character), character.maps.first().version
    motion = _slowed(run.pk)
    result = retarget(motion, on.character, on.sheet)
    bones, rotations, root = tracks_of(result)
    shapes = _face_of(run, on, len(result))
    snags = ranked(snags_of(result.judged, on.sheet, float(WARM_UP_RATE)))
    own = {"bones": motion.skeleton.names, "parents": motion.skeleton.parents.tolist(),
           "offsets_m": motion.skeleton.rest_offset_m.tolist()}  # fmt: skip
    about = {
        "character": bones, "performer": own, "rate": float(WARM_UP_RATE), "map_version": version, "shapes": list(shapes), "figures": result.figures,
        "snags": [{"start_s": s.start_s, "end_s": s.end_s, "text": s.text, "severity": s.severity} for s in snags[:MOST_SNAGS]],
    }  # fmt: skip
    rows = [
        root,
        rotations.reshape(len(root), -1),
        motion.root_position_m,
        motion.rotation_local.reshape(len(root), -1),
    ]
    rows += [v[:, None] for v in shapes.values()]
    return about, np.concatenate(rows, axis=1)


@lru_cache(maxsize=4)
def _slowed(run_id):
    """The Motion of a solve at 30 frames a second; kept, because a map is changed many times over one warm-up."""
    return at_rate(stored_motion(Run.objects.get(pk=run_id)), WARM_UP_RATE)


def _face_of(run, on, frames):
    """{shape of the character: values (T,)} of the face that was recorded with a solve."""
    face = run.tracks.filter(name="face shapes").first()
    body = run.tracks.get(name="body rotation")
    if face is None or not on.drivers:
        return {}
    clock = clocks(run.take, [face, body])
    values = read_stream(face).astype(float)
    at = clock[body.pk].start_s + np.arange(frames) / float(WARM_UP_RATE)
    return driven_values(on.drivers, clock[face.pk].times(len(values)), values, list(face.details["names"]), at)
