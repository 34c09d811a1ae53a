"""`./otrevo run bodies`: a body from tracked rigid bodies, over files."""

from pathlib import Path

import numpy as np

from otrevo.cli.outcomes import delivery_rate, progress_of, say_notes
from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.errors import InputError
from otrevo.core.formats.documents import read_document, write_document

COMMANDS = ("bodies",)


def run_bodies(args):
    from otrevo.core.body.performer import performer_from_document
    from otrevo.core.formats.bvh import write_bvh
    from otrevo.core.formats.rigid_bodies_csv import read_bodies
    from otrevo.core.motion_rate import at_rate
    from otrevo.core.rigid.solve import solve_bodies

    given = _map(args.map) if args.map else None
    skeleton = None
    if args.performer:
        skeleton = performer_from_document(
            read_document(args.performer, "performer/1"), Path(args.performer).name
        ).skeleton
    rate = delivery_rate(args.rate) if args.rate else None
    report = progress_of(args)
    found = solve_bodies(
        read_bodies(args.rigid), args.height_m, given, skeleton, _stiffness(args.stiffness), report, args.of or ""
    )
    write_bvh(args.out, at_rate(found.motion, rate) if rate else found.motion)
    say_notes(found.notes)
    if args.report:
        bodies = [
            {
                "body": name,
                "bone": bone,
                "confidence": found.assignment.confidence[name],
                "residual_mm": found.residual_mm[name],
            }
            for name, bone in found.assignment.bones.items()
        ]
        left = [{"body": name, "why": why} for name, why in found.assignment.left_out.items()]
        write_document(
            args.report,
            {"otrevo": "bodies-report/1", "figures": found.figures, "bodies": bodies, "left_out": left,
             "joint_sd_mm": {b: round(1000 * float(v), 1) for b, v in zip(found.sure.bones, np.median(found.sure.sd_m, axis=0), strict=True)
                             if b in BODY_BONES},
             "joint_turned_deg": found.turned_deg, "notes": list(found.notes)},
        )  # fmt: skip


def _map(path):
    """{body: bone} of a map file."""
    name, found = Path(path).name, read_document(path, None)
    if not isinstance(found, dict) or not all(isinstance(v, str) for k, v in found.items() if k != "otrevo"):
        raise InputError(f'{name}: expected {{"body name": "bone"}}, such as {{"rb 4": "leftHand"}}.')
    return {k: v for k, v in found.items() if k != "otrevo"}


def _stiffness(text):
    """{bone: 0 to 1} of words such as chest=0.8,leftShoulder=1."""
    out = {}
    for part in text.split(",") if text else ():
        bone, _, value = part.partition("=")
        try:
            out[bone.strip()] = float(value)
        except ValueError:
            raise InputError(f"--stiffness {part}: expected a joint and 0 to 1, such as chest=0.8.") from None
    return out


def add_commands(add):
    """Declare the command with `add(name, function, summary) -> parser`."""
    p = add("bodies", run_bodies, "Solve a take from tracked rigid bodies on the limbs.")
    p.add_argument("--rigid", required=True, help="time,body,px,py,pz,qx,qy,qz,qw")
    p.add_argument("--map", help='{"body name": "bone"}; proposed where it is not given')
    p.add_argument("--height-m", type=float, required=True, help="height of the performer, metres")
    p.add_argument("--performer", help="performer/1: bring the motion onto this skeleton")
    p.add_argument(
        "--stiffness", help="of joints without bodies, 0 to 1, such as chest=0.8,leftShoulder=1; 0.5 is usual"
    )
    p.add_argument("--of", help="the word that a performer's bodies share, where they are of several performers")
    p.add_argument("--rate", help="frames a second, the tracker's own where not given")
    p.add_argument("--out", required=True, help="BVH; time 0 is the first sample")
    p.add_argument("--report")
