"""Solve cameras: where all of them hang and how their lenses bend, from a sweep of the wand."""

from dataclasses import replace

from otrevo.core.errors import InputError
from otrevo.core.optics.calibrate import calibrate_sweep
from otrevo.core.optics.level import stood_up
from otrevo.core.optics.trust import same_room
from otrevo.core.passes.contract import Figure, Pass
from otrevo.core.passes.room import RoomCalibration, RoomOutcome

TRAIL = 600  # places of the wand kept for pictures


def run(material, parameters, report):
    """A new calibration. Where most cameras hang as they did in the newest levelled one, its origin and level are kept;
    otherwise the world only stands up, and wants levelling."""
    recording = material.recording("sweep")
    names = [c.name for c in material.rig]
    found = calibrate_sweep(recording.read(), material.rig, recording.wand, material.blinds, report)
    if len(found.cameras) < 2:
        reasons = "; ".join(f"{n}: {r}" for n, r in found.failed.items())
        raise InputError(f"Fewer than two cameras could be solved ({reasons}).")
    kept_world = material.levelled and same_room(found.cameras, material.levelled.cameras)
    words = f"sweep of {recording.seconds:.0f} s with {recording.wand.name}"
    if kept_world:
        words += f", origin and level of version {material.levelled.version}"
    solved = [c.name for c in found.cameras]
    blinds = [replace(b, camera=solved.index(names[b.camera])) for b in material.blinds if names[b.camera] in solved]
    calibration = RoomCalibration(
        cameras=tuple(found.cameras), blinds=tuple(blinds), levelled=bool(kept_world), how="sweep", words=words,
        covariance=found.covariance, rows=tuple(found.rows), failed=found.failed, notes=(*recording.notes, *found.notes),
        figures=found.figures | {"trail_m": found.trail_m[:: max(1, len(found.trail_m) // TRAIL)]},
        wand_rms_mm=found.figures["wand_rms_mm"],
    )  # fmt: skip
    figures = {
        "cameras": len(solved), "failed": len(found.failed), "reprojection_rms_px": found.figures["reprojection_rms_px"],
    }  # fmt: skip
    return RoomOutcome(figures, calibration=calibration.moved(*(kept_world or stood_up(found.cameras, found.trail_m))))


PASS = Pass(
    name="solve cameras",
    words="Solve cameras",
    doing="solving cameras",
    done="solved",
    figure=Figure(
        "reprojection_rms_px", "px", 0.3,
        "Distance of the wand's markers in the pictures from where the solved cameras put them, RMS. Up to 0.3 px is good.", 2, "±",
    ),
    run=run,
    aside=lambda figures: f"{figures['cameras']} cameras" if "cameras" in figures else "",
    needs=("find blinds",),
    about="room",
)  # fmt: skip
