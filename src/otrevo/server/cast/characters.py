"""What a person can do with characters: add one from a file, say who plays it, change its map, see it move."""

import tempfile
from fractions import Fraction
from functools import lru_cache
from pathlib import Path

import numpy as np
from django.conf import settings
from django.core.exceptions import ObjectDoesNotExist
from django.db import IntegrityError, transaction

from otrevo.core.characters.character import READERS, character_from
from otrevo.core.characters.face import driven_values, drivers_from, face_at
from otrevo.core.characters.guarded import read_guarded
from otrevo.core.characters.sheet import mirrored, sheet_from
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.motion_rate import at_rate
from otrevo.core.package.naming import clean
from otrevo.core.passes.retarget import tracks_of
from otrevo.core.retarget.judge import snags_of
from otrevo.core.retarget.transfer import retarget
from otrevo.core.snags import ranked
from otrevo.server.cast.models import Character, CharacterMap
from otrevo.server.conflicts import Conflict
from otrevo.server.takes.jobs import retarget_anew, retarget_missing
from otrevo.server.takes.material import clocks, latest, newest_map, played
from otrevo.server.takes.mends import stored_motion
from otrevo.server.takes.models import Take
from otrevo.server.takes.streams import read_stream
from otrevo.server.work.models import Run

WARM_UP_RATE = Fraction(30)
MOST_SNAGS = 12
MOST_DEGREES = 180


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
def set_players(character, performer_ids, user, before=None):
    """Say who plays a character; takes that are solved are retargeted. Raises InputError for a performer of another production.

    before: those that the user saw, where they say. Raises Conflict where it is played by others by now.
    """
    now = list(character.players.values_list("pk", flat=True))
    if before is not None and set(before) != set(now):
        raise Conflict(
            f"Somebody has changed who plays {character.name} meanwhile; look, then change it.", {"performer_ids": now}
        )
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
def change_pairs(character, user, changes, based_on=None):
    """A new version of the map by [(bone of ours, [bones it moves], shares along them)]. Raises InputError for an impossible map.

    No bones: it moves nothing; no shares: by their number.
    """
    changed = {bone for bone, _, _ in changes}
    newest = _newest(character, based_on, lambda d: [r for r in d["pairs"] if r["bone"] in changed])
    document = dict(newest.document)
    rows = [r for r in document["pairs"] if r["bone"] not in changed]
    rows += [{"bone": b, "target": t, "confidence": 1.0, "doubt": "", "shares": s} for b, t, s in changes if t]
    taken = {t for r in rows for t in r["target"]}
    # rest poses follow from the pairs, but for those that a person has set
    document["pairs"], document["rest_pose"] = rows, [r for r in document["rest_pose"] if r.get("by_hand")]
    document["helpers"] = [h for h in document["helpers"] if h["bone"] not in taken]
    return _new_version(character, user, newest, document)


@transaction.atomic
def mirror(character, user, side):
    """A new version of the map in which the other side moves what mirrors this side's bones. Raises InputError for no side."""
    if side not in ("left", "right"):
        raise InputError(f"There is no side '{side}'; expected left or right.")
    on = played(character)
    return change_pairs(character, user, [(b, t, []) for b, t in mirrored(on.sheet, on.character, side)])


@transaction.atomic
def turn_rest(character, user, bone, degrees):
    """A new version of the map in which a bone's rest is taken for turned, by hand: degrees about the world's X, Y and Z.

    They come on top of what was matched; None takes back what was set by hand. Raises InputError for a bone that is not mapped.
    """
    newest, on = _newest(character), played(character)
    if bone not in on.sheet.rest:
        raise InputError(f"{bone} moves nothing of {character.name}; its rest pose cannot be turned.")
    document, target = dict(newest.document), on.sheet.pairs[bone].targets[0]
    rows = [r for r in document["rest_pose"] if r["bone"] != target]
    document["rest_pose"] = rows
    if degrees is not None:
        if len(degrees) != 3 or not all(abs(d) <= MOST_DEGREES for d in degrees):
            raise InputError(f"Expected three angles from -{MOST_DEGREES} to {MOST_DEGREES} degrees.")
        matched = sheet_from(document, on.character, "the map").rest[bone]
        turned = quaternion_multiply(quaternion_from_rotvec(np.radians(degrees)), matched.rotation)
        rows.append(
            {
                "bone": target,
                "degrees": matched.degrees,
                "rotation_xyzw": turned.tolist(),
                "seen": True,
                "by_hand": True,
            }
        )
    return _new_version(character, user, newest, document)


def rest_turns(character, document):
    """{bone of ours: [degrees about the world's X, Y and Z]} by which people have turned a Character's rest, by its map/1 document."""
    by_hand = [r for r in document["rest_pose"] if r.get("by_hand")]
    if not by_hand:
        return {}
    others = [r for r in document["rest_pose"] if not r.get("by_hand")]
    matched = sheet_from(document | {"rest_pose": others}, character, "the map")
    first = {p.targets[0]: bone for bone, p in reversed(matched.pairs.items())}
    out = {}
    for row in by_hand:
        bone = first[row["bone"]]
        turn = quaternion_multiply(np.array(row["rotation_xyzw"]), quaternion_conjugate(matched.rest[bone].rotation))
        out[bone] = np.degrees(rotvec_from_quaternion(turn)).round(3).tolist()
    return out


@transaction.atomic
def change_shapes(character, user, drivers, based_on=None):
    """A new version of the map in which these rows drive the character's face. Raises InputError naming a wrong one."""
    newest = _newest(character, based_on, lambda d: d.get("shapes"))
    return _new_version(character, user, newest, newest.document | {"shapes": drivers})


@transaction.atomic
def change_effectors(character, user, rows, based_on=None):
    """A new version of the map that names these effectors, [{"effector", "target"}]. Raises InputError naming a wrong one."""
    newest = _newest(character, based_on, lambda d: d.get("effectors"))
    return _new_version(character, user, newest, newest.document | {"effectors": rows})


def _newest(character, based_on=None, part=None):
    """The newest CharacterMap, the character being held against other changes.

    based_on: the version that somebody saw, where they say; part(document): what they change. Raises Conflict where that
    is not the same any more.
    """
    Character.objects.select_for_update().get(pk=character.pk)
    newest = character.maps.first()
    if based_on is None or based_on >= newest.version:
        return newest
    if part(map_of(character, based_on).document) != part(newest.document):
        who = newest.made_by.username if newest.made_by else "Somebody"
        raise Conflict(
            f"{who} changed this part of {character.name}'s map meanwhile; look at version {newest.version}, then change it.",
            {}, who, newest.version,
        )  # fmt: skip
    return newest


def _new_version(character, user, newest, document):
    """The next CharacterMap after the newest, of a map/1 document. Raises InputError for an impossible one."""
    found, where = character_from(character.document, character.name), f"{character.name}'s map"
    made = sheet_from(document, found, where).document()
    made["shapes"] = [d.document() for d in drivers_from(document, found.shapes, where, found.expressions)]
    return _keep(character, user, newest, made)


def _keep(character, user, newest, document):
    """The next CharacterMap; the takes that were made with the newest are made anew."""
    made = CharacterMap.objects.create(character=character, version=newest.version + 1, document=document, made_by=user)
    retarget_anew(character, user)
    return made


@transaction.atomic
def take_map(character, user, document, where):
    """A map/1 document that somebody made elsewhere, as a new version. Raises InputError for an impossible one."""
    newest = _newest(character)
    if not isinstance(document, dict) or document.get("otrevo") != "map/1":
        raise InputError(f"{where}: expected a map/1 document.")
    if document.get("character") != character.document["name"]:
        document = document | {"rest_pose": []}  # another character of the same naming stands otherwise at rest
    return _new_version(character, user, newest, document)


@transaction.atomic
def return_to(character, user, version):
    """An earlier version of the map once more, as the newest. Raises InputError where there is none of that number."""
    return _keep(character, user, _newest(character), map_of(character, version).document)


def map_of(character, version):
    """The CharacterMap of that version. Raises InputError where there is none."""
    found = character.maps.filter(version=version).first()
    if found is None:
        raise InputError(f"{character.name} has no map of version {version}.")
    return found


def whole_map(character, kept):
    """The map/1 document of a CharacterMap with the face shapes that count where it does not say any."""
    found = character_from(character.document, character.name)
    drivers = drivers_from(kept.document, found.shapes, character.name, found.expressions)
    return kept.document | {"shapes": [d.document() for d in drivers]}


def warm_up_solve(performer):
    """The newest solve of a performer's warm-up, or None."""
    calibration = performer.calibrations.exclude(warm_up=None).first()
    return latest(calibration.warm_up, "solve", performer) if calibration else None


def warm_up_on(character, performer):
    """(about, rows): a performer's warm-up on a character at 30 frames a second, from its newest map.

    about: what the rows (T, 3 + 4 B + 3 + 4 P + S) hold: the character's root and the rotations of its bones in their
    parents, the performer's likewise, values of face shapes; and the figures and snags by which the map is judged.
    Raises InputError where there is no warm-up, or it or the character has just been removed.
    """
    run = warm_up_solve(performer)
    if run is None:
        raise InputError(f"{performer.name} has no solved warm-up yet; roll one, and the character moves with it.")
    on, version = played(character), newest_map(character).version
    try:
        motion, body = _slowed(run.pk), run.tracks.get(name="body rotation")
        face = _face_of(run, body, len(motion))
    except ObjectDoesNotExist as gone:  # somebody removes the take while this is answered
        raise InputError(f"The warm-up of {performer.name} has just been removed.") from gone
    result = retarget(motion, on.character, on.sheet, face=face and (*face, on.drivers))
    bones, rotations, root = tracks_of(result)
    frames = np.arange(len(result), dtype=float)
    shapes = driven_values(on.drivers, frames, face[1], face[0], frames) if face else {}
    snags = ranked(snags_of(result.judged, on.sheet, float(WARM_UP_RATE)))
    own = {"bones": motion.skeleton.names, "parents": motion.skeleton.parents.tolist(),
           "offsets_m": motion.skeleton.rest_offset_m.tolist(),
           "worn": body.details.get("worn", [])}  # fmt: skip
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


def _face_of(run, body, frames):
    """(names, values (T, S) at the frames of the slowed motion) of the face that was recorded with a solve and its body, or None."""
    face = run.tracks.filter(name="face shapes").first()
    if face is None:
        return None
    clock = clocks(run.take, [face, body])
    values = read_stream(face).astype(float)
    at = clock[body.pk].start_s + np.arange(frames) / float(WARM_UP_RATE)
    return list(face.details["names"]), face_at(clock[face.pk].times(len(values)), values, at)
