"""`./otrevo run` for what is shot: timecode, charts, warm-ups, takes, rooms and packages, over files."""

from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.cli.outcomes import run_declared, say_notes, write_report
from otrevo.cli.rooms import run_blinds, run_calibrate, run_level
from otrevo.cli.suits import suit_stream
from otrevo.core.body.performer import performer_from_document
from otrevo.core.conventions import RATES
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import write_bvh
from otrevo.core.formats.c3d import read_c3d, write_c3d
from otrevo.core.formats.documents import read_document, write_document
from otrevo.core.formats.wav import read_wav
from otrevo.core.markers.chart import chart_from_document, shipped_chart
from otrevo.core.package.naming import clean
from otrevo.core.passes.catalogue import PASSES, ROOM_PASSES
from otrevo.core.props.prop import SHIPPED, prop_from_document
from otrevo.core.timecode.labels import TimecodeFormat


def _rate(text):
    try:
        return Fraction(text)
    except (ValueError, ZeroDivisionError):
        raise InputError(f"--rate {text}: not a rate; expected a fraction such as 30000/1001.") from None


def _load_performer(path):
    return performer_from_document(read_document(path, "performer/1"), Path(path).name)


def _load_labelled(path, performer):
    """Points of a labelled C3D brought into the performer's marker order; names the file lacks are gaps."""
    points = read_c3d(path)
    known = [n for n in performer.marker_names if n in points.names]
    if len(known) < 6:
        raise InputError(
            f"{Path(path).name}: only {len(known)} of the performer's {len(performer.marker_names)} markers are named; "
            "expected a labelled C3D of this performer."
        )
    out = np.full((len(points.points_m), len(performer.marker_names), 3), np.nan)
    for m, name in enumerate(performer.marker_names):
        if name in points.names:
            out[:, m] = points.points_m[:, points.names.index(name)]
    return out, points


NO_RATE = "100/1"

# What only one pass needs is imported by it: signal processing alone takes a second that a label must not wait for.


def run_timecode(args):
    from otrevo.core.timecode.ltc import read_ltc

    fmt = TimecodeFormat(_rate(args.rate), args.drop)
    rate, samples = read_wav(args.audio)
    write_document(args.out, read_ltc(samples, rate, fmt).to_document())


def run_chart(args):
    chart = shipped_chart()
    if args.name and args.name != chart.name:
        raise InputError(f"--name {args.name}: there is no such chart; shipped: {chart.name}.")
    write_document(args.out, chart.to_document())


def run_performer(args):
    from otrevo.core.passes.warm_up import PASS

    chart = chart_from_document(read_document(args.chart, "chart/1"), Path(args.chart).name)
    points = read_c3d(args.points)
    outcome = _run_pass(
        PASS, args, duration_s=len(points.points_m) / float(points.rate), height_m=args.height_m, chart=chart,
        streams=(_stream("optical", "points", points.rate, points.points_m), *_suit(args)),
    )  # fmt: skip
    if args.suit and "suit" not in outcome.performer:
        raise InputError(next(s.text for s in outcome.snags if s.stream == "suit"))
    say_notes([s.text for s in outcome.snags if s.stream == "suit"])
    write_document(args.out, outcome.performer)


def _suit(args):
    """What was worn beside the markers, as a list of one stream or none."""
    if args.clock is not None and args.suit is None:
        raise InputError("--clock: expected --suit as well, whose clock it is.")
    return [suit_stream(args.suit, args.clock)] if args.suit else []


def run_prop(args):
    if args.name not in SHIPPED:
        raise InputError(f"--name {args.name}: there is no such prop; shipped: {', '.join(SHIPPED)}.")
    write_document(args.out, SHIPPED[args.name].to_document())


def _load_props(paths):
    return [prop_from_document(read_document(p, "prop/1"), Path(p).name) for p in paths or []]


def _stream(name, kind, rate, data, details=None, prop=""):
    """An array from a file as a pass sees a stream."""
    from otrevo.core.passes.contract import SampleClock, TakeStream

    return TakeStream(name, kind, rate, lambda: data, SampleClock(0.0, float(rate)), details=details or {}, prop=prop)


def _run_pass(one, args, **material):
    """The Outcome of a declared pass over what was read from files, by the settings on the command line."""
    from otrevo.core.passes.contract import TakeMaterial

    return run_declared(one, TakeMaterial(**material), args)


def run_label(args):
    from otrevo.core.passes.label import PASS

    performer, props = _load_performer(args.performer), _load_props(args.prop)
    points = read_c3d(args.points)
    outcome = _run_pass(
        PASS, args, duration_s=len(points.points_m) / float(points.rate), props=tuple(props), performer=performer,
        streams=(_stream("optical", "points", points.rate, points.points_m),),
    )  # fmt: skip
    named = [t for t in outcome.tracks if t.kind == "markers"]
    names = [n for t in named for n in t.details["names"]]
    write_c3d(args.out, np.concatenate([t.data for t in named], axis=1), names, points.rate)
    if args.report:
        write_report(args.report, "label", outcome.figures, outcome.snags, points.notes)


def run_solve(args):
    from otrevo.core.body.kinematics import Motion
    from otrevo.core.motion_rate import at_rate
    from otrevo.core.passes.solve import PASS

    performer, props = _load_performer(args.performer), _load_props(args.prop)
    labelled, points = _load_labelled(args.points, performer)
    if args.suit and "suit" not in performer.devices:
        raise InputError(
            f"{Path(args.performer).name}: calibrated without a suit, so --suit cannot be read; expected a performer "
            "made with their suit (performer --suit, or suit-performer)."
        )
    made = [_stream("labelled", "markers", points.rate, labelled, {"names": performer.marker_names})]
    made += [_prop_stream(prop, points, args.points) for prop in props]
    mends = read_document(args.mends, "mends/1").get("mends", []) if args.mends else []
    outcome = _run_pass(
        PASS, args, duration_s=len(labelled) / float(points.rate), props=tuple(props), performer=performer,
        made={"label": tuple(made)}, mends=tuple(mends), streams=tuple(_suit(args)),
    )  # fmt: skip
    rate, tracks = _rate(args.rate) if args.rate else points.rate, {(t.name, t.prop): t for t in outcome.tracks}
    root, rotation = (tracks[f"body {part}", ""].data for part in ("root", "rotation"))
    write_bvh(args.out, at_rate(Motion(performer.skeleton, points.rate, root, rotation), rate))
    for prop in props:
        if (track := tracks.get(("prop pose", prop.name))) is not None:
            motion = Motion(prop.skeleton, points.rate, track.data[:, :3], track.data[:, None, 3:])
            write_bvh(Path(args.out).with_name(f"{Path(args.out).stem}_{clean(prop.name)}.bvh"), at_rate(motion, rate))
    if args.report:
        write_report(args.report, "solve", outcome.figures, outcome.snags, points.notes)


def _prop_stream(prop, points, path):
    """A prop's markers from a labelled C3D."""
    missing = [n for n in prop.marker_names if n not in points.names]
    if missing:
        raise InputError(f"{Path(path).name}: no marker '{missing[0]}'; label the take with this prop first.")
    columns = [points.names.index(n) for n in prop.marker_names]
    return _stream("prop markers", "markers", points.rate, points.points_m[:, columns], prop=prop.name)


def run_rebuild(args):
    from otrevo.core.formats.centroids import read_centroids
    from otrevo.core.optics.documents import calibration_from_document
    from otrevo.core.passes.rebuild import PASS

    document = read_document(args.calibration, "calibration/1")
    cameras, blinds = calibration_from_document(document, Path(args.calibration).name)
    centroids, notes = read_centroids(args.centroids, cameras, strangers=True)
    rate = args.rate or document.get("rate")
    if rate is None:
        rate = NO_RATE
        notes.append(f"neither --rate nor the calibration says how many frames a second; {rate} is written")
    rate, names = _rate(rate), [c.name for c in cameras]
    outcome = _run_pass(
        PASS, args, duration_s=centroids.frames / float(rate), cameras=tuple(cameras), blinds=tuple(blinds),
        streams=(_stream("cameras", "centroids", rate, centroids.rows(), {"cameras": names}),),
        calibration_version=Path(args.calibration).name,
    )  # fmt: skip
    say_notes(notes)
    points = next(t for t in outcome.tracks if t.name == "optical")
    write_c3d(args.out, points.data, [f"point {i + 1}" for i in range(points.data.shape[1])], rate)
    if args.report:
        write_report(args.report, "rebuild", outcome.figures, outcome.snags, notes)


def run_check(args):
    from otrevo.core.package.check import check_package

    report = check_package(args.package)
    for line in report.lines:
        print(line)
    if not report.ok:
        raise InputError(f"{Path(args.package).name}: {len(report.faults)} faults; first: {report.faults[0]}")


def settings_of(name):
    """The Parameters that a declared pass of that name has on the command line."""
    return next((one.parameters for one in (*PASSES, *ROOM_PASSES) if one.name == name), ())


def _add_suit(parser):
    parser.add_argument("--suit", help="the suit worn as well: time,sensor,qx,qy,qz,qw,ax,ay,az")
    parser.add_argument("--clock", help="OFFSET,PPM: seconds on the suit's clock at the first frame, and how fast it runs; "
                                        "the motion tells where it is not given")  # fmt: skip


def add_commands(add):
    """Declare the commands with `add(name, function, summary) -> parser`."""
    p = add("timecode", run_timecode, "Read linear timecode from an audio track.")
    p.add_argument("--audio", required=True)
    p.add_argument("--rate", required=True, help=", ".join(f"{r.numerator}/{r.denominator}" for r in RATES))
    p.add_argument("--drop", action="store_true")
    p.add_argument("--out", required=True)
    p = add("chart", run_chart, "Write the shipped marker chart.")
    p.add_argument("--name")
    p.add_argument("--out", required=True)
    p = add("prop", run_prop, "Write a shipped prop.")
    p.add_argument("--name", required=True)
    p.add_argument("--out", required=True)
    p = add("performer", run_performer, "Calibrate a performer from a warm-up.")
    p.add_argument("--points", required=True)
    p.add_argument("--chart", required=True)
    p.add_argument("--height-m", type=float, required=True)
    _add_suit(p)
    p.add_argument("--out", required=True)
    p = add("label", run_label, "Name the points of a take.")
    p.add_argument("--points", required=True)
    p.add_argument("--performer", required=True)
    p.add_argument("--out", required=True)
    p.add_argument("--report")
    p.add_argument("--prop", action="append", help="a prop/1 document; may be given again")
    p = add("solve", run_solve, "Solve named markers to a body motion.")
    p.add_argument("--points", required=True)
    p.add_argument("--performer", required=True)
    p.add_argument("--out", required=True)
    p.add_argument("--rate", help="delivery rate, such as 60 or 30000/1001")
    _add_suit(p)
    p.add_argument("--mends", help="a mends/1 document: repairs to be replayed before the body is solved")
    p.add_argument("--report")
    p.add_argument("--prop", action="append", help="a prop/1 document; its motion goes to OUT_name.bvh")
    p = add("blinds", run_blinds, "Find what never moves in the cameras' pictures.")
    p.add_argument("--centroids", required=True, help="a recording of the empty, still room")
    p.add_argument("--cameras", required=True)
    p.add_argument("--out", required=True)
    p = add("calibrate", run_calibrate, "Calibrate cameras from a swept wand.")
    p.add_argument("--centroids", required=True)
    p.add_argument("--cameras", required=True)
    p.add_argument("--wand", required=True)
    p.add_argument("--blinds")
    p.add_argument("--out", required=True)
    p.add_argument("--report")
    p = add("level", run_level, "Give a calibration its origin, front and level.")
    p.add_argument("--calibration", required=True)
    p.add_argument("--wand-on-floor", required=True)
    p.add_argument("--wand", required=True)
    p.add_argument("--floor-markers")
    p.set_defaults(marker_radius_mm=0.0)  # a file says nothing of the size of its markers
    p.add_argument("--quarter-turns", type=int, default=0, help="turn the front further, by 90 degrees each")
    p.add_argument("--out", required=True)
    p.add_argument("--report")
    p = add("rebuild", run_rebuild, "Rebuild points from what calibrated cameras saw.")
    p.add_argument("--centroids", required=True)
    p.add_argument("--calibration", required=True)
    p.add_argument(
        "--rate", help="frames per second of the recording, such as 120/1; as the calibration says if not given"
    )
    p.add_argument("--out", required=True)
    p.add_argument("--report")
    p = add("check", run_check, "Check a package: files, checksums, contents.")
    p.add_argument("package")
