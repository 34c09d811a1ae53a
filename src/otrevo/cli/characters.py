"""`./otrevo run character | map | retarget | plants | adopt`: animators' characters over files."""

from fractions import Fraction
from pathlib import Path

from otrevo.cli.outcomes import say_notes
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import read_bvh, write_bvh
from otrevo.core.formats.documents import read_document, write_document

# Readers of characters load large libraries; what only one of these commands needs is imported by it.

COMMANDS = ("character", "map", "retarget", "plants", "adopt")
USD = (".usda", ".usdc", ".usdz", ".usd")
OUT = (".bvh", ".glb", ".usda", ".usdc", ".vrma")


def run_character(args):
    from otrevo.core.characters.character import read_character

    character, _ = read_character(args.file, args.unit_m, args.up, args.facing)
    say_notes(character.notes)
    write_document(args.out, character.document())
    if args.report:
        write_document(args.report, {
            "otrevo": "character-report/1", "bones": len(character.names), "shapes": len(character.shapes),
            "height_m": round(character.height_m, 4), "units_m": character.unit_m, "unit_evidence": character.unit_evidence,
            "up": character.up, "facing": character.facing, "rest_from": character.rest_from, "notes": list(character.notes),
        })  # fmt: skip


def _character(path):
    from otrevo.core.characters.character import character_from

    return character_from(read_document(path, "character/1"), Path(path).name)


def run_map(args):
    from otrevo.core.characters.face import propose_shapes
    from otrevo.core.characters.sheet import propose_sheet

    character = _character(args.character)
    sheet, shapes = propose_sheet(character), propose_shapes(character.shapes, character.expressions)
    write_document(args.out, sheet.document() | {"shapes": [d.document() for d in shapes]})
    if args.report:
        doubts = sorted((p for p in sheet.pairs.values() if p.doubt), key=lambda p: p.confidence)
        write_document(args.report, {
            "otrevo": "map-report/1", "pairs": len(sheet.pairs), "helpers": len(sheet.helpers),
            "unmapped": list(sheet.unmapped), "shapes": len(shapes), "least_confidence": min(p.confidence for p in sheet.pairs.values()),
            "doubts": [{"bone": p.bone, "confidence": round(p.confidence, 3), "doubt": p.doubt} for p in doubts],
            "rest_worst_deg": round(max(t.degrees for t in sheet.rest.values()), 3),
        })  # fmt: skip


def run_retarget(args):
    from otrevo.core.characters.sheet import sheet_from
    from otrevo.core.motion_rate import at_rate
    from otrevo.core.retarget.plants import plants_from
    from otrevo.core.retarget.settings import RetargetSettings, settings_from
    from otrevo.core.retarget.transfer import retarget

    ending = Path(args.out).suffix.lower()
    if ending not in OUT:
        raise InputError(f"--out {Path(args.out).name}: expected a file that ends in {', '.join(OUT)}.")
    character = _character(args.character)
    sheet = sheet_from(read_document(args.map, "map/1"), character, Path(args.map).name)
    settings = RetargetSettings()
    if args.settings:
        settings = settings_from(read_document(args.settings, "retarget/1"), Path(args.settings).name)
    plants = plants_from(read_document(args.plants, "plants/1"), Path(args.plants).name) if args.plants else None
    given = Path(args.character).parent / Path(character.source).name
    own = {".glb": (".glb", ".gltf", ".vrm"), ".usda": USD, ".usdc": USD}.get(ending)
    if own and given.suffix.lower() not in own:
        raise InputError(
            f"--out {Path(args.out).name}: the character is a {given.suffix} file; expected another ending."
        )
    if own and not given.is_file():
        raise InputError(
            f"{given.name}: the character's own file is missing; a {ending} needs it beside {Path(args.character).name}."
        )
    motion = read_bvh(args.body)
    if args.rate:
        try:
            motion = at_rate(motion, Fraction(args.rate))
        except (ValueError, ZeroDivisionError):
            raise InputError(f"--rate {args.rate}: not a rate; expected a number such as 30 or 30000/1001.") from None
    face = _face(args, character, motion)
    props = {Path(p).stem: _prop(p, motion) for p in args.prop}
    result = retarget(motion, character, sheet, settings, plants, ankle_m=_standing_ankle(args), face=face, props=props)
    shapes = _shapes(face)
    if ending == ".glb":
        from otrevo.core.characters.write_gltf import write_gltf_motion

        write_gltf_motion(args.out, given, result, Path(args.body).stem, shapes)
    elif ending in USD:
        from otrevo.core.characters.write_usd import write_usd_motion

        write_usd_motion(args.out, given, result, Path(args.body).stem, shapes)
    elif ending == ".vrma":
        from otrevo.core.characters.write_vrma import write_vrma

        write_vrma(args.out, result, sheet)
    else:
        from otrevo.core.characters.write_bvh import write_bvh_motion

        write_bvh_motion(args.out, result, given if given.is_file() else None)
    if args.report:
        write_document(args.report, {"otrevo": "retarget-report/1", "frames": len(result), **result.figures})


def _prop(path, motion):
    """(pose (T, 7), points about its origin) of a prop in a BVH, at the motion's frames."""
    import numpy as np

    from otrevo.core.motion_rate import at_rate

    prop = at_rate(read_bvh(path), motion.rate)
    if len(prop) < len(motion):
        raise InputError(f"--prop {Path(path).name}: {len(prop)} frames; expected those of the body, {len(motion)}.")
    pose = np.concatenate([prop.root_position_m, prop.rotation_local[:, 0]], axis=1)
    return pose[: len(motion)], np.zeros((0, 3))


def _standing_ankle(args):
    """Height of the ankles over the floor by the performer's calibration, or None where none is given."""
    if not args.performer:
        return None
    from otrevo.core.body.performer import performer_from_document
    from otrevo.core.body.skeleton import rest_joints

    where = Path(args.performer).name
    at = rest_joints(performer_from_document(read_document(args.performer, "performer/1"), where).skeleton)
    return float(min(at["leftFoot"][1], at["rightFoot"][1]))


def _face(args, character, motion):
    """(names, values at the motion's frames, ShapeDrivers) of the face on the command line, or None."""
    if not args.face:
        return None
    import numpy as np

    from otrevo.core.characters.face import drivers_from, face_at
    from otrevo.core.formats.face_csv import read_face_csv

    times, values, names = read_face_csv(args.face)
    sheet = read_document(args.map, "map/1")
    drivers = drivers_from(sheet, character.shapes, Path(args.map).name, character.expressions)
    return list(names), face_at(times, values, np.arange(len(motion)) / float(motion.rate)), drivers


def _shapes(face):
    """{shape of the character: values} that a face drives, or None."""
    if face is None:
        return None
    import numpy as np

    from otrevo.core.characters.face import driven_values

    names, values, drivers = face
    frames = np.arange(len(values), dtype=float)
    return driven_values(drivers, frames, values, names, frames)


def run_plants(args):
    from otrevo.core.body.kinematics import motion_joints
    from otrevo.core.retarget.plants import find_plants, plants_document

    motion = read_bvh(args.body)
    write_document(args.out, plants_document(find_plants(motion, *motion_joints(motion), hands=True)))


def run_adopt(args):
    from otrevo.core.characters.sheet import sheet_from
    from otrevo.core.retarget.adopt import adopt

    given = None
    if args.map:
        document = read_document(args.map, "map/1")

        def given(character):
            return sheet_from(document, character, Path(args.map).name)

    adopted = adopt(args.motion, given)
    say_notes(adopted.notes)
    write_bvh(args.out, adopted.motion)
    if args.report:
        write_document(args.report, {
            "otrevo": "adopt-report/1", "frames": len(adopted.motion), "bones": len(adopted.motion.skeleton.names),
            "units_m": adopted.character.unit_m, "unit_evidence": adopted.character.unit_evidence, "up": adopted.character.up,
            "facing": adopted.character.facing, "rest_from": adopted.character.rest_from, "notes": list(adopted.notes),
        })  # fmt: skip


def add_commands(add):
    """Declare the five commands with `add(name, function, summary) -> parser`."""
    p = add("character", run_character, "Read an animators' character: skeleton, axes, unit, rest pose.")
    p.add_argument("--file", required=True, help="GLB, glTF, VRM, BVH or USD")
    p.add_argument("--out", required=True)
    p.add_argument("--report")
    p.add_argument("--unit-m", type=float, help="metres per unit of the file, where it is misread")
    p.add_argument("--up", help="the file's up axis, such as +Z, where it is misread")
    p.add_argument("--facing", help="the axis the character faces in the file, such as -Y")
    p = add("map", run_map, "Propose which performer bone moves which character bones.")
    p.add_argument("--character", required=True)
    p.add_argument("--out", required=True)
    p.add_argument("--report")
    p = add("retarget", run_retarget, "Put a performer's motion on a character.")
    p.add_argument("--body", required=True)
    p.add_argument("--character", required=True)
    p.add_argument("--map", required=True)
    p.add_argument("--settings", help="a retarget/1 document")
    p.add_argument("--plants", help="a plants/1 document: keep these instead of finding them")
    p.add_argument(
        "--performer", help="a performer/1 document: how high the ankles stand, where the motion alone cannot tell"
    )
    p.add_argument("--face", help="a face track as CSV; it goes into a GLB or USD")
    p.add_argument(
        "--prop", action="append", default=[], help="a prop as BVH, for hands that reach onto it; may be given again"
    )
    p.add_argument("--rate", help="frames per second, such as 30 or 30000/1001")
    p.add_argument(
        "--out",
        required=True,
        help=".bvh on the character's skeleton, .glb: its file with the animation, .usda and .usdc likewise, or .vrma",
    )
    p.add_argument("--report")
    p = add("plants", run_plants, "Find when feet and hands stand still.")
    p.add_argument("--body", required=True)
    p.add_argument("--out", required=True)
    p = add("adopt", run_adopt, "Bring motion on a foreign skeleton onto ours.")
    p.add_argument("--motion", required=True, help="BVH, GLB or USD")
    p.add_argument("--out", required=True)
    p.add_argument("--map", help="a map/1 document for the foreign skeleton")
    p.add_argument("--report")
