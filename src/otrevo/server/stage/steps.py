"""Steps that prepare a room: find blinds, solve cameras, level, place a camera anew.

Each does its computing and returns a function that stores what came of it."""

from dataclasses import replace
from fractions import Fraction

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.optics.accuracy import moved_covariance
from otrevo.core.optics.blinds import blinded, find_blinds
from otrevo.core.optics.bundle import SIZE
from otrevo.core.optics.calibrate import calibrate_sweep
from otrevo.core.optics.level import level, stood_up
from otrevo.core.optics.place_again import Recording, place_again
from otrevo.core.optics.rebuild import over_cameras, rebuilt_by
from otrevo.core.optics.trust import WINDOW_S, camera_move, measure_trust, same_room
from otrevo.core.optics.wand import wand_from_document
from otrevo.server.stage.models import Blinds, StageCalibration, StageRecording
from otrevo.server.stage.room import (
    calibrated,
    covariance_of,
    current_blinds,
    moved_figures,
    moved_version,
    new_version,
    newest_calibration,
    rig_of,
)
from otrevo.server.takes.material import latest
from otrevo.server.takes.models import Take
from otrevo.server.takes.streams import read_centroids, recorded

TRAIL = 600  # places of the wand kept for pictures
MOST_TAKES, SAME_KNOCK_PX = 4, 1.0  # that tell of one knocked camera


def _recording(run, key, *kinds):
    """The recording that a parameter names, or the newest of its kinds. Raises InputError when there is none."""
    number = run.parameters.get(key)
    found = run.room.recordings.filter(kind__in=kinds)
    item = found.filter(pk=number).first() if number else found.order_by("-id").first()
    if item is None:
        raise InputError(f"There is no recording of the {kinds[0]} yet; record one first.")
    return item


def run_blinds(run, report):
    """Propose what never moves as blinds; they replace those found before, and keep those drawn by hand."""
    recording = _recording(run, "recording", StageRecording.Kind.STILL)
    rig, _ = rig_of(run.room)
    names = [c.name for c in rig]
    found = find_blinds(read_centroids(recording.stream), len(rig))
    report(0.9)

    def store():
        rows, _ = current_blinds(run.room)
        kept = [r for r in rows if r.get("by_hand")]
        run.room.blinds.filter(undone=True).delete()
        Blinds.objects.create(
            room=run.room, rows=[b.to_document(names) for b in found] + kept, made_by=run.asked_by,
            words=f"{len(found)} blinds found in the still room",
        )  # fmt: skip
        run.figures = {"blinds": len(found), "cameras": len({b.camera for b in found}), "kept_by_hand": len(kept)}

    return store


def run_solve(run, report):
    """All cameras from a sweep: a new version. Where most cameras hang as they did in the newest levelled one, its origin and
    level are kept; otherwise the world only stands up, and wants levelling."""
    recording = _recording(run, "recording", StageRecording.Kind.SWEEP)
    rig, _ = rig_of(run.room)
    names = [c.name for c in rig]
    _, blinds = current_blinds(run.room)
    wand = wand_from_document(recording.wand, "the recording's wand")
    found = calibrate_sweep(read_centroids(recording.stream), rig, wand, blinds, report)
    if len(found.cameras) < 2:
        reasons = "; ".join(f"{n}: {r}" for n, r in found.failed.items())
        raise InputError(f"Fewer than two cameras could be solved ({reasons}).")
    levelled = next((c for c in run.room.calibrations.all() if c.document["world"] == "levelled"), None)
    kept_world = levelled and same_room(found.cameras, calibrated(levelled)[0])
    turn, shift = kept_world or stood_up(found.cameras, found.trail_m)
    words = f"sweep of {recording.seconds:.0f} s with {wand.name}"
    if kept_world:
        words += f", origin and level of version {levelled.version}"
    solved = [c.name for c in found.cameras]
    kept = [replace(b, camera=solved.index(names[b.camera])) for b in blinds if names[b.camera] in solved]
    figures = found.figures | {"trail_m": found.trail_m[:: max(1, len(found.trail_m) // TRAIL)]}

    def store():
        made = new_version(
            run.room, "sweep", words, [c.moved(turn, shift) for c in found.cameras],
            "levelled" if kept_world else "free", kept, run.asked_by, found.rows, found.figures["wand_rms_mm"],
            moved_covariance(found.covariance, turn), figures=moved_figures(figures, turn, shift), failed=found.failed,
            notes=[*recording.notes, *found.notes], recording=recording,
        )  # fmt: skip
        run.figures = {
            "version": made.version, "cameras": len(solved), "failed": len(found.failed),
            "reprojection_rms_px": found.figures["reprojection_rms_px"],
        }  # fmt: skip

    return store


def run_level(run, report):
    """Origin, front and up from the wand at rest on the floor and, where they were recorded, floor markers."""
    source = run.room.calibrations.filter(pk=run.parameters.get("calibration")).first()
    source = source or newest_calibration(run.room)
    if source is None:
        raise InputError("There is no calibration to level yet; sweep and solve the cameras first.")
    cameras, blinds = calibrated(source)
    at_rest = _recording(run, "wand_recording", StageRecording.Kind.WAND_ON_FLOOR)
    wand = wand_from_document(at_rest.wand, "the recording's wand")
    floor = None
    if run.parameters.get("with_floor", True):
        floor = run.room.recordings.filter(kind=StageRecording.Kind.FLOOR_MARKERS).order_by("-id").first()

    def seen(recording):
        centroids = over_cameras(read_centroids(recording.stream), recording.stream.details["cameras"], cameras)
        return centroids.only(~blinded(centroids, blinds))

    report(0.3)
    radius = run.parameters.get("marker_radius_mm", 7.0) / 1000
    found = level(seen(at_rest), cameras, wand, seen(floor) if floor else None, radius)
    words = f"level from {wand.name}{' and floor markers' if floor else ''}"

    def store():
        made = moved_version(source, "level", words, found.turn, found.shift_m, run.asked_by, figures=found.figures)
        run.figures = {"version": made.version} | found.figures

    return store


def run_place_again(run, report):
    """Place a knocked camera anew from takes' own points and the other cameras: a new version."""
    take = Take.objects.filter(pk=run.parameters.get("take"), slate__day__production=run.room.production).first()
    if take is None:
        raise InputError("There is no such take in this production.")
    source = newest_calibration(run.room)
    if source is None:
        raise InputError("There is no calibration yet; sweep and solve the cameras first.")
    cameras, blinds = calibrated(source)
    names, camera = [c.name for c in cameras], run.parameters.get("camera")
    if camera not in names:
        raise InputError(f"There is no camera {camera} in calibration {source.version}.")
    number, recordings, told = names.index(camera), [], []
    takes = [take, *_later_takes(take, camera)]
    for i, one in enumerate(takes):
        found = _recording_of(one, cameras, blinds, number, lambda s, i=i: report(0.6 * (i + s) / len(takes)))
        if found is None and one is take:
            raise InputError(f"Camera {camera} shows none of the take's points near where they should be.")
        # knocked again in between, it stood elsewhere
        if found and (not recordings or np.linalg.norm(found.shift_px - recordings[0].shift_px) < SAME_KNOCK_PX):
            recordings.append(found)
            told.append(one)
    again = place_again(cameras, number, recordings, covariance_of(source), lambda s: report(0.6 + 0.35 * s))
    moved = camera_move(cameras[number], again.camera)
    after = [again.camera if i == number else c for i, c in enumerate(cameras)]
    more = f" and {len(told) - 1} more" if len(told) > 1 else ""
    figures = moved | {"residual_px": again.residual_px, "points": again.points, "takes": [t.pk for t in told]}
    if again.covariance is not None:
        place = SIZE * number + np.arange(3, 6)
        figures["position_sd_mm"] = float(1000 * np.sqrt(np.trace(again.covariance[np.ix_(place, place)])))
    words = (
        f"{camera} placed anew from {take.slate.name} take {take.number}{more}: moved {moved['moved_mm']:.1f} mm and "
        f"{moved['turned_deg']:.2f}°"
    )

    def store():
        made = new_version(
            run.room, "placed anew", words, after, source.document["world"], blinds, run.asked_by, source.rows,
            source.document.get("wand_rms_mm"), again.covariance, figures=source.figures | {"placed_anew": figures},
            failed=source.failed, notes=source.notes, source=source, recording=source.recording,
        )  # fmt: skip
        run.figures = {"version": made.version} | figures

    return store


def _later_takes(take, camera):
    """Takes since this one, by the same calibration, in which the same camera stands elsewhere too."""
    takes = Take.objects.filter(
        slate__day__production=take.slate.day.production, stage_calibration=take.stage_calibration,
        rolled_at__gt=take.rolled_at,
    ).order_by("rolled_at")  # fmt: skip
    out = []
    for one in takes:
        rebuilt = latest(one, "rebuild")
        if rebuilt and any(k["camera"] == camera for k in rebuilt.figures.get("knocked", [])):
            out.append(one)
    return out[: MOST_TAKES - 1]


def _recording_of(take, cameras, blinds, number, report):
    """What a take shows of camera `number` since it was knocked, or None when that is nothing."""
    stream = recorded(take, "cameras")
    if stream is None:
        raise InputError("This take has no camera recording, so there is nothing to place a camera by.")
    centroids, rate = over_cameras(read_centroids(stream), stream.details["cameras"], cameras), Fraction(stream.rate)
    centroids = centroids.only(~blinded(centroids, blinds))
    others = [i for i in range(len(cameras)) if i != number]
    points = rebuilt_by(others, centroids, cameras, rate, lambda s: report(0.9 * s))
    trust = measure_trust(points, centroids, cameras, rate)
    known = np.flatnonzero(np.isfinite(trust.shift_px[:, number, 0]))
    if len(known) == 0:
        return None
    since = {c: start for c, start, _ in trust.knocked()}.get(number, 0.0)
    later = known[trust.start_s[known] >= since]
    shift = np.median(trust.shift_px[later, number], axis=0)
    # the second in which it was knocked shows it in both places
    first = round((since + WINDOW_S) * float(rate)) if since > 0 and len(later) > 2 else 0
    return Recording(points, centroids, first, shift)


STEPS = {"find blinds": run_blinds, "solve cameras": run_solve, "level": run_level, "place again": run_place_again}


def adjust(calibration: StageCalibration, quarter_turns, raise_mm, user):
    """Turn the world's front by quarters and raise it: a new version at once."""
    if not -3 <= quarter_turns <= 3 or not -500 <= raise_mm <= 500 or (quarter_turns, raise_mm) == (0, 0):
        raise InputError("Turn by 1 to 3 quarters, or raise by up to 500 mm.")
    angle = np.pi / 2 * quarter_turns
    c, s = round(np.cos(angle)), round(np.sin(angle))
    turn = np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]], dtype=float)
    said = [f"turned by {90 * quarter_turns}°"] * bool(quarter_turns) + [f"raised by {raise_mm:g} mm"] * bool(raise_mm)
    return moved_version(calibration, "adjust", " and ".join(said), turn, np.array([0, raise_mm / 1000, 0]), user,
                         calibration.document["world"])  # fmt: skip
