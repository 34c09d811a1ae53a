"""Passes over a room on the command line: blinds, calibrate, level. Their material comes from files."""

from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.cli.outcomes import run_declared, say_notes, write_report
from otrevo.core.formats.documents import read_document, write_document

# What only a room needs is imported by the pass that needs it: a label must not wait for it.


def _named(path, kind, read):
    """What `read` makes of a document, told the file's name for its sentences."""
    return read(read_document(path, kind), Path(path).name)


def _recording(path, cameras, rate, wand=None, strangers=False):
    """A RoomRecording of a file of centroids over cameras."""
    from otrevo.core.formats.centroids import read_centroids
    from otrevo.core.passes.room import RoomRecording

    centroids, notes = read_centroids(path, cameras, strangers=strangers)
    say_notes(notes)
    seconds = centroids.frames / float(rate)
    return RoomRecording(lambda: centroids, tuple(c.name for c in cameras), rate, seconds, wand, tuple(notes))


def run_blinds(args):
    from otrevo.core.optics.documents import blinds_to_document
    from otrevo.core.optics.rig import rig_from_document
    from otrevo.core.passes.find_blinds import PASS
    from otrevo.core.passes.room import RoomMaterial

    rig, rate = _named(args.cameras, "cameras/1", rig_from_document)
    material = RoomMaterial(tuple(rig), rate, still=_recording(args.centroids, rig, rate))
    outcome = run_declared(PASS, material, args)
    write_document(args.out, blinds_to_document(outcome.blinds, [c.name for c in rig]))


def run_calibrate(args):
    from otrevo.core.optics.documents import blinds_from_rows, calibration_to_document
    from otrevo.core.optics.rig import rig_from_document
    from otrevo.core.optics.wand import wand_from_document
    from otrevo.core.passes.room import RoomMaterial
    from otrevo.core.passes.solve_cameras import PASS

    rig, rate = _named(args.cameras, "cameras/1", rig_from_document)
    wand = _named(args.wand, "wand/1", wand_from_document)
    blinds = []
    if args.blinds:
        document = read_document(args.blinds, "blinds/1")
        blinds = blinds_from_rows(document.get("blinds"), [c.name for c in rig], Path(args.blinds).name)
    sweep = _recording(args.centroids, rig, rate, wand)
    found = run_declared(PASS, RoomMaterial(tuple(rig), rate, tuple(blinds), sweep=sweep), args).calibration
    said = found.notes[len(sweep.notes) :]  # those of the file have been said
    say_notes([*said, *(f"camera {n}: {reason}" for n, reason in found.failed.items())])
    if args.report:
        figures = {k: v for k, v in found.figures.items() if k != "trail_m"}
        report = {"figures": figures, "cameras": found.rows, "failed": found.failed, "notes": found.notes}
        write_document(args.report, {"otrevo": "calibrate-report/1"} | report)
    write_document(
        args.out, calibration_to_document(found.cameras, found.wand_rms_mm, "free", found.blinds, found.rows, rate)
    )


def run_level(args):
    from otrevo.core.optics.documents import calibration_from_document, calibration_to_document
    from otrevo.core.optics.level import quarter_turned
    from otrevo.core.optics.wand import wand_from_document
    from otrevo.core.passes.level import PASS
    from otrevo.core.passes.room import RoomCalibration, RoomMaterial

    before = read_document(args.calibration, "calibration/1")
    cameras, blinds = calibration_from_document(before, Path(args.calibration).name)
    wand, rate = _named(args.wand, "wand/1", wand_from_document), Fraction(before.get("rate") or 100)
    at_rest = _recording(args.wand_on_floor, cameras, rate, wand, strangers=True)
    floor = _recording(args.floor_markers, cameras, rate, strangers=True) if args.floor_markers else None
    material = RoomMaterial(
        tuple(cameras), rate, wand_on_floor=at_rest, floor_markers=floor,
        calibration=RoomCalibration(tuple(cameras), tuple(blinds)),
    )  # fmt: skip
    outcome = run_declared(PASS, material, args)
    turned = outcome.calibration.moved(quarter_turned(args.quarter_turns), np.zeros(3))
    rows = [{"id": r["id"], **{k: r.get(k) for k in ("reprojection_rms_px", "samples")}} for r in before["cameras"]]
    document = calibration_to_document(
        turned.cameras, before.get("wand_rms_mm"), "levelled", blinds, rows, before.get("rate")
    )
    write_document(args.out, document)
    if args.report:
        write_report(args.report, "level", outcome.figures, [], [])
