"""Thin jobs round the core's pure passes: load a take's streams, call, store tracks, figures and snags."""

from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.body.performer import performer_from_document
from otrevo.core.body.solve import measured_bones, solve_take
from otrevo.core.body.suit import SUIT_BONES, suit_to_world
from otrevo.core.conventions import make_continuous, slerp
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import face_values
from otrevo.core.hands.gloves import finger_angles, finger_rotations
from otrevo.core.markers.label import label_take
from otrevo.core.markers.mends import apply_mends
from otrevo.core.snags import (
    gap_snags,
    lost_snags,
    nameless_snag,
    residual_snags,
    spike_snags,
)
from otrevo.core.timecode.lineup import resample_linear
from otrevo.server.bench.lineup import fits_of, line_up
from otrevo.server.bench.models import Run
from otrevo.server.streams.store import read_stream, recorded, write_stream

ORDER = ("line up", "label", "solve")


def latest(take, name):
    """The newest finished run of a pass, or None."""
    return take.runs.filter(name=name, state=Run.State.DONE).order_by("-id").first()


def performer_of(take):
    """The calibration a take points to; one rolled before any was made takes the newest. Raises InputError for none."""
    if take.calibration is None:
        take.calibration = take.slate.performer.calibrations.first()
        take.save(update_fields=["calibration"])
    if take.calibration is None:
        raise InputError(
            f"{take.slate.performer.name} has no calibration yet; roll a warm-up in Cast, then run this pass again."
        )
    return performer_from_document(take.calibration.document, f"{take.slate.performer.name}'s calibration")


def _points(take):
    stream = recorded(take, "optical")
    if stream is None:
        raise InputError("This take has no optical stream, so there is nothing to label or solve.")
    return read_stream(stream).astype(float), Fraction(stream.rate)


def run_line_up(run, report):
    run.figures, snags = line_up(run.take)
    report(1.0)
    return snags


def run_label(run, report):
    take = run.take
    points, rate = _points(take)
    performer = performer_of(take)
    report(0.05)
    labels = label_take(points, rate, performer.model())
    report(0.8)
    write_stream(take, "labelled", "markers", rate, labels.labelled_m, run, details={"names": performer.marker_names})
    write_stream(take, "confidence", "confidence", rate, labels.confidence, run)
    run.figures = labels.figures
    hz = float(rate)
    snags = gap_snags(labels.labelled_m, performer.marker_names, hz) + nameless_snag(labels, hz)
    return snags + spike_snags(labels.labelled_m, performer.marker_names, hz)


def run_solve(run, report):
    """Mends replayed, body solved twice (the second time with suit orientations and body fills), fingers and face."""
    take = run.take
    label_run = latest(take, "label")
    if label_run is None:
        raise InputError("The take is not labelled yet; run Label first.")
    stream = label_run.tracks.get(name="labelled")
    rate, performer = Fraction(stream.rate), performer_of(take)
    labelled = read_stream(stream).astype(float)
    mends = [m.document for m in take.mends.filter(active=True)]
    names = performer.marker_names
    mended = apply_mends(labelled, names, mends)
    first = solve_take(mended, rate, performer, progress=lambda s: report(0.45 * s), cancelled=report.cancelled)
    fits = fits_of(latest(take, "line up")) if latest(take, "line up") else {}
    times = np.arange(len(labelled)) / float(rate) + (fits["optical"].offset_s if "optical" in fits else 0.0)
    suit = _suit(take, performer, first, mended, rate, fits, times)
    mended = apply_mends(labelled, names, mends, first.predicted_m)
    solution = solve_take(
        mended, rate, performer, suit, progress=lambda s: report(0.45 + 0.35 * s), cancelled=report.cancelled
    )
    motion = solution.motion
    _fingers(take, performer, motion, fits, times)
    write_stream(take, "mended", "markers", rate, mended, run, details={"names": list(names)})
    write_stream(take, "body rotation", "rotations", rate, motion.rotation_local, run,
                 details={"bones": motion.skeleton.names, "parents": motion.skeleton.parents.tolist(),
                          "offsets_m": motion.skeleton.rest_offset_m.tolist()})  # fmt: skip
    write_stream(take, "body root", "places", rate, motion.root_position_m, run)
    write_stream(take, "residual", "residuals", rate, solution.marker_residual_m, run)
    report(0.9)
    _face(take, performer, run, fits)
    run.figures = solution.figures | {
        "mends": len(mends), "suit_used": sorted(suit or {}), "frames": len(motion), "rate": str(rate),
    }  # fmt: skip
    hz = float(rate)
    return (
        residual_snags(solution.marker_residual_m, names, hz)
        + lost_snags(solution.lost, solution.bone_names, hz)
        + gap_snags(mended, names, hz)
        + spike_snags(mended, names, hz)
    )


def _suit(take, performer, first, mended, rate, fits, times):
    stream = recorded(take, "suit")
    if stream is None or not performer.suit:
        return None
    data, hz = read_stream(stream).astype(float), float(Fraction(stream.rate))
    own = fits["suit"].times(len(data), hz) if "suit" in fits else np.arange(len(data)) / hz
    sensor = resample_sensor(own, data[..., :4], times)
    _, world = motion_joints(first.motion)
    index = [first.motion.skeleton.index(b) for b in SUIT_BONES]
    model = performer.model()
    measured = measured_bones(model, np.isfinite(mended[..., 0]))[:, [model.skeleton.index(b) for b in SUIT_BONES]]
    return suit_to_world(sensor, performer.suit, world[:, index], measured, float(rate))


def resample_sensor(own_times, quaternions, at):
    """Suit orientations (T, S, 4) at take times; NaN where the packet nearest in time was lost."""
    filled = quaternions.copy()
    lost = ~np.isfinite(filled[..., 0])
    for s in range(filled.shape[1]):  # hold the last packet inside short losses so that slerp has both ends
        good = np.flatnonzero(~lost[:, s])
        if len(good) == 0:
            filled[:, s] = [0, 0, 0, 1]
            continue
        filled[:, s] = filled[good[np.clip(np.searchsorted(good, np.arange(len(filled)), "right") - 1, 0, None)], s]
    out = slerp(own_times, make_continuous(filled), at)
    nearest = np.clip(np.searchsorted(own_times, at), 0, len(own_times) - 1)
    out[lost[nearest] | ((at < own_times[0]) | (at > own_times[-1]))[:, None]] = np.nan
    return out


def _fingers(take, performer, motion, fits, times):
    stream = recorded(take, "gloves")
    if stream is None or not performer.gloves:
        return
    data, hz = read_stream(stream).astype(float), float(Fraction(stream.rate))
    own = fits["gloves"].times(len(data), hz) if "gloves" in fits else np.arange(len(data)) / hz
    good = np.isfinite(data.reshape(len(data), -1)).all(axis=1)
    if good.sum() < 2:
        return
    angles = resample_linear(own[good], finger_angles(data[good], performer.gloves), times)
    for bone, rotation in finger_rotations(angles, motion.skeleton).items():
        motion.rotation_local[:, motion.skeleton.index(bone)] = rotation


def _face(take, performer, run, fits):
    stream = recorded(take, "face")
    if stream is None or not performer.face:
        return
    rate = Fraction(stream.rate)
    data = read_stream(stream).astype(float)
    own = fits["face"].times(len(data), float(rate)) if "face" in fits else np.arange(len(data)) / float(rate)
    at = np.arange(int(take.duration_s * rate)) / float(rate)
    seen = np.isfinite(data[:, 0])
    if seen.sum() < 2:
        return
    values = resample_linear(own[seen], face_values(data[seen], performer.face), at)
    gap = np.interp(at, own, (~seen).astype(float)) > 0.5
    values[gap] = np.nan
    write_stream(take, "face shapes", "shapes", rate, values, run)


PASSES = {"line up": run_line_up, "label": run_label, "solve": run_solve}
