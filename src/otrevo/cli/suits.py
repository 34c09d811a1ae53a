"""`./otrevo run suit-performer | suit-solve`: a body from a suit alone, over files."""

from fractions import Fraction
from pathlib import Path

from otrevo.cli.outcomes import delivery_rate, progress_of, say_notes
from otrevo.core.errors import InputError
from otrevo.core.formats.documents import read_document, write_document

COMMANDS = ("suit-performer", "suit-solve")
KITS = {
    "whole": None,
    "upper": (
        "hips",
        "chest",
        "head",
        *(f"{s}{b}" for s in ("left", "right") for b in ("Shoulder", "UpperArm", "LowerArm", "Hand")),
    ),
}


def run_suit_performer(args):
    from otrevo.core.body.performer import PerformerCalibration
    from otrevo.core.formats.suit_table import read_suit
    from otrevo.core.inertial.calibrate import calibrate_wearer
    from otrevo.core.inertial.documents import suit_to_document
    from otrevo.core.inertial.exchanged import said_of_exchanged
    from otrevo.core.inertial.measures import measures_from
    from otrevo.core.inertial.sure import unknown_bones

    measures = (
        measures_from(read_document(args.measures, "measures/1"), Path(args.measures).name) if args.measures else {}
    )
    if args.height_m is not None:
        measures |= measures_from({"height_m": args.height_m}, "--height-m")
    recording = read_suit(args.suit)
    if KITS[args.kit] is not None:
        recording = recording.only([n for n in recording.names if n in KITS[args.kit]])
    report = progress_of(args)
    skeleton, found, notes = calibrate_wearer(recording, measures, report)
    unknown = unknown_bones(found.names)
    notes = [*recording.notes, *notes, *found.notes, *said_of_exchanged(found.exchanged), *_unknown(unknown)]
    rms = float((found.residual_deg**2).mean() ** 0.5)
    figures = {
        "suit_residual_deg": round(rms, 2),
        "sensors": len(found.names),
        "kit": args.kit,
        "unknown_joints": list(unknown),
    }
    performer = PerformerCalibration(
        measures.get("height_m", measures.get("arm_span_m")),
        skeleton,
        "",
        (),
        (),
        _no_markers(),
        figures,
        {"suit": suit_to_document(found)},
    )
    report(1.0)
    write_document(args.out, performer.to_document())
    say_notes(notes)
    if args.report:
        rows = {n: {"residual_deg": round(float(r), 2), "sd_deg": round(float(v), 2)}
                for n, r, v in zip(found.names, found.residual_deg, found.sd_deg, strict=True)}  # fmt: skip
        poses = [{"pose": kind, "start_s": round(a, 3), "end_s": round(b, 3)} for kind, a, b in found.poses]
        write_document(
            args.report,
            {
                "otrevo": "suit-performer-report/1",
                "figures": figures,
                "sensors": rows,
                "poses": poses,
                "exchanged": found.exchanged,
                "notes": notes,
            },
        )


def suit_stream(path, clock=None):
    """The stream of a suit beside markers; clock: "offset,ppm" where it is known, else its motion tells."""
    import numpy as np

    from otrevo.core.formats.suit_table import read_suit
    from otrevo.core.passes.contract import SampleClock, TakeStream
    from otrevo.core.solve.suit_clock import KNOWN_CLOCK, OWN_CLOCK

    recording = read_suit(path)
    say_notes(recording.notes)
    data = recording.samples()
    rate = Fraction(recording.rate_hz).limit_denominator(1001)
    stamps = np.array([[0.0, recording.start_s], [len(data) - 1.0, recording.times_s[-1]]])
    own = SampleClock(recording.start_s, recording.rate_hz)
    if clock is not None:
        offset_s, drift = _known_clock(clock)
        own = SampleClock((recording.start_s - offset_s) / (1 + drift), recording.rate_hz * (1 + drift))
    details = {"clock": OWN_CLOCK if clock is None else KNOWN_CLOCK}
    return TakeStream("suit", "orientations", rate, lambda: data, own, stamps, details)


def _known_clock(text):
    """(seconds that the suit's clock shows at the cameras' first frame, by what share it runs fast)."""
    try:
        offset_s, ppm = (float(v) for v in text.split(","))
    except ValueError:
        offset_s, ppm = 0.0, float("nan")
    if not (abs(offset_s) < 1e9 and abs(ppm) <= 10_000):
        raise InputError(
            f"--clock {text}: expected what the suit's clock shows at the first frame, in seconds, and by how many parts in a "
            "million it runs fast, such as 12.5,-40."
        )
    return offset_s, 1e-6 * ppm


def _unknown(joints):
    """The note on joints that no sensor tells of, if there are any."""
    from otrevo.core.words import bones_in_a_row

    return (
        (f"no sensor tells how {bones_in_a_row(joints)} are turned; they stay as they usually are",) if joints else ()
    )


def _no_markers():
    import numpy as np

    return np.zeros((0, 3))


def run_suit_solve(args):
    from otrevo.core.body.performer import performer_from_document
    from otrevo.core.formats.bvh import write_bvh
    from otrevo.core.formats.suit_table import read_suit
    from otrevo.core.inertial.solve import solve_suit
    from otrevo.core.motion_rate import at_rate

    performer = performer_from_document(read_document(args.performer, "performer/1"), Path(args.performer).name)
    report = progress_of(args)
    found = solve_suit(read_suit(args.suit), performer, args.level_floor == "yes", report)
    report(1.0)
    write_bvh(args.out, at_rate(found.motion, delivery_rate(args.rate)) if args.rate else found.motion)
    say_notes(found.notes + _unknown(found.figures["unknown_joints"]))
    if args.report:
        contacts = [{"point": c.point, "start_s": round(c.start, 3), "end_s": round(c.end, 3), "level_m": round(c.level_m, 3)}
                    for c in found.contacts]  # fmt: skip
        document = {
            "otrevo": "suit-solve-report/1",
            "figures": found.figures,
            "joint_sd_deg": found.sd_deg,
            "contacts": contacts,
            "faults": [
                {
                    "sensor": f.sensor,
                    "kind": f.kind,
                    "start_s": round(f.start / float(found.motion.rate), 3),
                    "end_s": round(f.end / float(found.motion.rate), 3),
                    "degrees": round(f.degrees, 1),
                }
                for f in found.faults
            ],
        }
        write_document(args.report, document | {"notes": list(found.notes)})


def add_commands(add):
    """Declare the commands with `add(name, function, summary) -> parser`."""
    p = add("suit-performer", run_suit_performer, "Calibrate a performer by their suit's warm-up alone.")
    p.add_argument("--suit", required=True, help="the warm-up: time,sensor,qx,qy,qz,qw,ax,ay,az")
    p.add_argument("--height-m", type=float, help="height of the performer, metres")
    p.add_argument("--measures", help="measures/1: what was measured on the performer")
    p.add_argument("--kit", choices=tuple(KITS), default="whole", help="which sensors are worn")
    p.add_argument("--out", required=True)
    p.add_argument("--report")
    p = add("suit-solve", run_suit_solve, "Solve a take of a suit alone.")
    p.add_argument("--suit", required=True)
    p.add_argument("--performer", required=True)
    p.add_argument("--out", required=True, help="BVH; time 0 is the first sample")
    p.add_argument("--rate", help="frames a second, the suit's own where not given")
    p.add_argument("--level-floor", choices=("yes", "no"), default="yes", help="no for climbing")
    p.add_argument("--report")
