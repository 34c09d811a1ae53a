"""Warm-up: a performer's calibration. Markers and bones first, then suit, gloves and face where they were worn."""

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.conventions import slerp
from otrevo.core.errors import InputError
from otrevo.core.face.shapes import calibrate_face
from otrevo.core.hands.gloves import calibrate_gloves
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.passes.contract import Figure, Outcome, Pass
from otrevo.core.snags import Snag
from otrevo.core.solve.body import measured_bones, solve_take
from otrevo.core.solve.suit import SUIT_BONES, calibrate_suit
from otrevo.core.warm_up.calibrate import calibrate_performer


def run(material, parameters, report):
    """A `performer/1` document from a warm-up."""
    points, _ = material.points()
    calibration, labels = calibrate_performer(
        points.read().astype(float), points.rate, shipped_chart(), material.height_m, lambda s: report(0.7 * s)
    )
    solution = solve_take(labels.labelled_m, points.rate, calibration, progress=lambda s: report(0.7 + 0.1 * s))
    document, snags = calibration.to_document(), []
    for name, calibrate in (("suit", _suit), ("gloves", _gloves), ("face", _face)):
        stream = material.recorded(name)
        if stream is None:
            continue  # a half-kit is no fault
        try:
            document[name] = calibrate(stream, points, calibration, solution, labels)
        except InputError as error:
            snags.append(Snag("not calibrated", name, 0.0, material.duration_s, 3.0, f"{name}: {error}", "calibrated"))
    report(0.95)
    suit = [s["residual_deg"] for s in document["suit"].values()]
    figures = calibration.figures | {
        "suit_sensors": len(suit),
        "suit_residual_deg": float(np.sqrt(np.mean(np.square(suit)))) if suit else None,
        "gloves": bool(document["gloves"]),
        "face_weak": document["face"].get("weak") if document["face"] else None,
    }
    if calibration.figures["joints_hardly_moved"]:
        names = ", ".join(calibration.figures["joints_hardly_moved"])
        snags.append(
            Snag(
                "hardly moved", "optical", 0.0, material.duration_s, 1.5, f"hardly moved in the warm-up: {names}", "30°"
            )
        )
    return Outcome((), figures, tuple(snags), document)


def _suit(stream, points, calibration, solution, labels):
    data = stream.read().astype(float)
    own, optical = stream.clock.times(len(data)), points.clock.times(len(solution.motion))
    model = calibration.model()
    measured = measured_bones(model, np.isfinite(labels.labelled_m[..., 0]))
    measured = measured[:, [model.skeleton.index(b) for b in SUIT_BONES]]
    _, world = motion_joints(solution.motion)
    bones = slerp(optical, world[:, [solution.motion.skeleton.index(b) for b in SUIT_BONES]], own)
    nearest = np.clip(np.searchsorted(optical, own), 0, len(optical) - 1)
    bones[~measured[nearest]] = np.nan
    return calibrate_suit(data[..., :4], bones)


def _gloves(stream, *_):
    return calibrate_gloves(stream.read().astype(float), float(stream.rate))


def _face(stream, *_):
    return calibrate_face(stream.read().astype(float))


PASS = Pass(
    name="warm-up",
    words="Warm-up",
    doing="calibrating",
    done="calibrated",
    figure=Figure(
        "residual_rms_mm", "mm", 5.0, "Distance of the markers from the fitted body in the warm-up, RMS. Up to 5 mm is good."
    ),
    run=run,
    aside=lambda figures: f"{100 * figures['named_share']:.0f} % named" if "named_share" in figures else "",
    needs=("rebuild", "line up"),
    about="performer",
    warm_up=True,
)  # fmt: skip
