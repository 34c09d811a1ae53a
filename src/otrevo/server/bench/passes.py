"""Thin jobs round the core's pure passes: load a take's streams, call, store tracks, figures and snags."""

from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.performer import performer_from_document
from otrevo.core.body.skeleton import Skeleton
from otrevo.core.body.solve import measured_bones, solve_take
from otrevo.core.body.suit import SUIT_BONES, suit_to_world
from otrevo.core.conventions import make_continuous, quaternion_rotate, slerp
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import face_values
from otrevo.core.hands.gloves import finger_angles, finger_rotations
from otrevo.core.markers.label import by_marker, label_take
from otrevo.core.markers.mends import apply_mends
from otrevo.core.props.follow import find_prop, solve_prop, without
from otrevo.core.props.prop import SHIPPED
from otrevo.core.snags import (
    Snag,
    gap_snags,
    lost_snags,
    nameless_snag,
    prop_snags,
    residual_snags,
    spike_snags,
)
from otrevo.core.timecode.lineup import resample_linear
from otrevo.server.bench.lineup import fits_of, line_up
from otrevo.server.bench.models import Run
from otrevo.server.stage.optical import run_rebuild
from otrevo.server.streams.store import read_stream, recorded, write_stream

ORDER = ("rebuild", "line up", "label", "solve")


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


def optical_stream(take):
    """The take's nameless points: rebuilt from what its cameras saw, or as a file brought them; None without any."""
    run = latest(take, "rebuild")
    return run.tracks.get(name="optical") if run else recorded(take, "optical")


def passes_of(take):
    """The passes that this take goes through, in order: one that was dropped as files has nothing to rebuild."""
    return ORDER if recorded(take, "cameras") is not None else ORDER[1:]


def _uncertainty(take):
    """How far each nameless point may be off, (T, N) metres, or None where nobody measured it."""
    run = latest(take, "rebuild")
    return read_stream(run.tracks.get(name="uncertainty")).astype(float) if run else None


def _points(take):
    stream = optical_stream(take)
    if stream is None:
        raise InputError("This take has no optical stream, so there is nothing to label or solve.")
    return read_stream(stream).astype(float), Fraction(stream.rate)


def run_line_up(run, report):
    run.figures, snags = line_up(run.take, optical_stream(run.take))
    report(1.0)
    return snags


def run_label(run, report):
    take = run.take
    points, rate = _points(take)
    performer = performer_of(take)
    report(0.05)
    found = {}
    for name in take.slate.props:
        found[name] = find_prop(points, rate, SHIPPED[name])
        points = without(points, found[name].labels)  # what is the prop's is nobody's marker
    report(0.15)
    scatter = _uncertainty(take)
    labels = label_take(points, rate, performer.model(), sd_m=scatter)
    report(0.8)
    write_stream(take, "labelled", "markers", rate, labels.labelled_m, run, details={"names": performer.marker_names})
    write_stream(take, "confidence", "confidence", rate, labels.confidence, run)
    if scatter is not None:
        named = by_marker(labels.labels, scatter, len(performer.marker_names))
        write_stream(take, "marker uncertainty", "uncertainty", rate, named, run)
    for name, track in found.items():
        write_stream(take, f"prop {name} markers", "markers", rate, track.labelled_m, run,
                     details={"names": SHIPPED[name].marker_names, "prop": name})  # fmt: skip
    run.figures = labels.figures | {"props": {name: track.figures for name, track in found.items()}}
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
    scatter = label_run.tracks.filter(name="marker uncertainty").first()
    scatter = None if scatter is None else read_stream(scatter)
    first = solve_take(
        mended, rate, performer, progress=lambda s: report(0.45 * s), cancelled=report.cancelled, sd_m=scatter
    )
    fits = fits_of(latest(take, "line up")) if latest(take, "line up") else {}
    times = np.arange(len(labelled)) / float(rate) + (fits["optical"].offset_s if "optical" in fits else 0.0)
    suit = _suit(take, performer, first, mended, rate, fits, times)
    mended = apply_mends(labelled, names, mends, first.predicted_m)
    solution = solve_take(
        mended,
        rate,
        performer,
        suit,
        progress=lambda s: report(0.45 + 0.35 * s),
        cancelled=report.cancelled,
        sd_m=scatter,
    )
    motion = solution.motion
    _fingers(take, performer, motion, fits, times)
    write_stream(take, "mended", "markers", rate, mended, run, details={"names": list(names)})
    write_stream(take, "body rotation", "rotations", rate, motion.rotation_local, run,
                 details={"bones": motion.skeleton.names, "parents": motion.skeleton.parents.tolist(),
                          "offsets_m": motion.skeleton.rest_offset_m.tolist()})  # fmt: skip
    write_stream(take, "body root", "places", rate, motion.root_position_m, run)
    write_stream(take, "residual", "residuals", rate, solution.marker_residual_m, run)
    prop_figures, prop_faults = _props(take, label_run, run, rate)
    report(0.9)
    _face(take, performer, run, fits)
    run.figures = solution.figures | {
        "mends": len(mends), "suit_used": sorted(suit or {}), "frames": len(motion), "rate": str(rate),
        "props": prop_figures,
    }  # fmt: skip
    hz = float(rate)
    return (
        residual_snags(solution.marker_residual_m, names, hz)
        + lost_snags(solution.lost, solution.bone_names, hz)
        + gap_snags(mended, names, hz)
        + spike_snags(mended, names, hz)
        + prop_faults
    )


def _props(take, label_run, run, rate):
    """Every prop that Label found, as a rigid body: one pose track (place, turn) each; (figures, snags)."""
    figures, snags = {}, []
    for stream in label_run.tracks.filter(details__has_key="prop"):
        name = stream.details["prop"]
        prop, labelled = SHIPPED[name], read_stream(stream).astype(float)
        try:
            solution = solve_prop(labelled, rate, prop)
        except InputError as error:
            length = len(labelled) / float(rate)
            snags.append(Snag("lost prop", "prop", 0.0, length, 5.0, str(error), "three markers seen at once", name))
            continue
        pose = np.concatenate([solution.motion.root_position_m, solution.motion.rotation_local[:, 0]], axis=1)
        write_stream(take, f"prop {name}", "pose", rate, pose, run,
                     details={"prop": name, "offsets_m": prop.offset_m.tolist(), "names": prop.marker_names})  # fmt: skip
        figures[name] = solution.figures
        snags += prop_snags(name, solution, float(rate))
    return figures, snags


PREVIEW_FRAMES = 30


def mend_preview(take, solve_run, mend):
    """One marker around a mend: (first frame, path before (T, 3), path after), metres. The mend is taken as checked."""
    stream = solve_run.tracks.get(name="mended")
    first = max(0, mend["start"] - PREVIEW_FRAMES)
    last = min(stream.samples, mend["end"] + PREVIEW_FRAMES)
    m = stream.details["names"].index(mend["marker"])
    before = read_stream(stream, first, last).astype(float)[:, m : m + 1]
    performer = performer_of(take)
    joints, turns = motion_joints(stored_motion(solve_run, first, last))
    b = performer.skeleton.index(performer.marker_bones[m])
    predicted = joints[:, b] + quaternion_rotate(turns[:, b], performer.marker_offset_m[m])
    moved = mend | {"start": mend["start"] - first, "end": mend["end"] - first}
    after = apply_mends(before, [mend["marker"]], [moved], predicted[:, None])
    return first, before[:, 0], after[:, 0]


def stored_motion(run, first=0, last=None):
    """The Motion that a finished solve run stored, frames [first, last)."""
    stream = run.tracks.get(name="body rotation")
    d = stream.details
    skeleton = Skeleton(tuple(d["bones"]), np.array(d["parents"]), np.array(d["offsets_m"]))
    root = read_stream(run.tracks.get(name="body root"), first, last).astype(float)
    rotation = read_stream(stream, first, last).astype(float)
    rotation /= np.linalg.norm(rotation, axis=-1, keepdims=True)
    return Motion(skeleton, Fraction(stream.rate), root, rotation)


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


PASSES = {"rebuild": run_rebuild, "line up": run_line_up, "label": run_label, "solve": run_solve}
