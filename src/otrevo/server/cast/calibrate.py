"""Calibrate a performer from a warm-up take: markers and bones, then suit, gloves and face where they were worn."""

from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.body.solve import measured_bones, solve_take
from otrevo.core.body.suit import SUIT_BONES, calibrate_suit
from otrevo.core.body.warm_up import calibrate_performer
from otrevo.core.conventions import slerp
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import calibrate_face
from otrevo.core.hands.gloves import calibrate_gloves
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.snags import Snag
from otrevo.server.bench.lineup import line_up
from otrevo.server.bench.passes import optical_stream
from otrevo.server.cast.models import PerformerCalibration
from otrevo.server.streams.store import read_stream, recorded


def run_calibrate(run, report):
    """Make a new calibration version from this warm-up; the take then points to it."""
    take = run.take
    stream = optical_stream(take)
    if stream is None:
        raise InputError("The warm-up has no optical stream; a performer is calibrated from markers.")
    points, rate = read_stream(stream).astype(float), Fraction(stream.rate)
    performer = take.slate.performer
    calibration, labels = calibrate_performer(
        points, rate, shipped_chart(), performer.height_m, lambda s: report(0.7 * s)
    )
    solution = solve_take(labels.labelled_m, rate, calibration, progress=lambda s: report(0.7 + 0.1 * s))
    figures, snags = line_up(take, stream)
    document = calibration.to_document()
    for name, work in (("suit", _suit), ("gloves", _gloves), ("face", _face)):
        if recorded(take, name) is None:
            continue  # a half-kit is no fault
        try:
            document[name] = work(take, recorded(take, name), calibration, solution, labels, rate, figures)
        except InputError as error:
            snags.append(Snag("not calibrated", name, 0.0, take.duration_s, 3.0, f"{name}: {error}", "calibrated"))
    report(0.95)
    version = 1 + max([c.version for c in performer.calibrations.all()], default=0)
    made = PerformerCalibration.objects.create(performer=performer, version=version, document=document, warm_up=take)
    take.calibration = made
    take.save(update_fields=["calibration"])
    suit = [s["residual_deg"] for s in document["suit"].values()]
    run.figures = calibration.figures | {
        "version": version,
        "suit_sensors": len(suit),
        "suit_residual_deg": float(np.sqrt(np.mean(np.square(suit)))) if suit else None,
        "gloves": bool(document["gloves"]),
        "face_weak": document["face"].get("weak") if document["face"] else None,
    }
    if calibration.figures["joints_hardly_moved"]:
        names = ", ".join(calibration.figures["joints_hardly_moved"])
        snags.append(
            Snag("hardly moved", "optical", 0.0, take.duration_s, 1.5, f"hardly moved in the warm-up: {names}", "30°")
        )
    return snags


def _suit(take, stream, calibration, solution, labels, rate, figures):
    data, hz = read_stream(stream).astype(float), float(Fraction(stream.rate))
    fit = figures["streams"]["suit"]
    own = fit["offset_ms"] / 1000 + np.arange(len(data)) / hz * (1 + 1e-6 * fit["drift_ppm"])
    optical = figures["streams"]["optical"]["offset_ms"] / 1000 + np.arange(len(solution.motion)) / float(rate)
    model = calibration.model()
    measured = measured_bones(model, np.isfinite(labels.labelled_m[..., 0]))
    measured = measured[:, [model.skeleton.index(b) for b in SUIT_BONES]]
    _, world = motion_joints(solution.motion)
    bones = slerp(optical, world[:, [solution.motion.skeleton.index(b) for b in SUIT_BONES]], own)
    nearest = np.clip(np.searchsorted(optical, own), 0, len(optical) - 1)
    bones[~measured[nearest]] = np.nan
    return calibrate_suit(data[..., :4], bones)


def _gloves(take, stream, *_):
    return calibrate_gloves(read_stream(stream).astype(float), float(Fraction(stream.rate)))


def _face(take, stream, *_):
    return calibrate_face(read_stream(stream).astype(float))
