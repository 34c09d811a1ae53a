"""Warm-up: a performer's calibration. Markers and bones first, then every device that was worn."""

import numpy as np

from otrevo.core.devices.catalogue import DEVICES
from otrevo.core.devices.contract import SolvedBody
from otrevo.core.errors import InputError
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.passes import suit_alone
from otrevo.core.passes.contract import Figure, Outcome, Pass
from otrevo.core.snags import Snag
from otrevo.core.solve.body import solve_take
from otrevo.core.warm_up.calibrate import calibrate_performer


def run(material, parameters, report):
    """A `performer/1` document from a warm-up."""
    if suit_alone.has_suit_alone(material):
        return suit_alone.calibrate(material, report)
    points, _ = material.points()
    chart = material.chart or shipped_chart()
    calibration, labels = calibrate_performer(
        points.read().astype(float), points.rate, chart, material.height_m, lambda s: report(0.7 * s)
    )
    solution = solve_take(labels.labelled_m, points.rate, calibration, progress=lambda s: report(0.7 + 0.1 * s))
    document, snags = calibration.to_document(), []
    solved = SolvedBody(
        calibration, solution.motion, np.isfinite(labels.labelled_m[..., 0]), points.clock.times(len(solution.motion))
    )
    for device in DEVICES:
        stream = material.recorded(device.id) if device.calibrate else None
        if stream is None:
            continue  # a half-kit is no fault
        try:
            document[device.id] = device.calibrate(stream, solved)
        except InputError as error:
            words = f"{device.words}: {error}"
            snags.append(Snag("not calibrated", device.id, 0.0, material.duration_s, 3.0, words, "calibrated"))
            continue
        if device.doubts:
            snags += device.doubts(document[device.id], material.duration_s)
    report(0.95)
    figures = calibration.figures | {
        "devices": {d.id: d.says(document[d.id])[0] for d in DEVICES if d.says and document.get(d.id)}
    }
    if calibration.figures["joints_hardly_moved"]:
        names = ", ".join(calibration.figures["joints_hardly_moved"])
        snags.append(
            Snag(
                "hardly moved", "optical", 0.0, material.duration_s, 1.5, f"hardly moved in the warm-up: {names}", "30°"
            )
        )
    return Outcome((), figures, tuple(snags), document)


def _aside(figures):
    if "suit_residual_deg" in figures:
        return f"suit alone, poses {figures['suit_residual_deg']:.1f}° off"
    return f"{100 * figures['named_share']:.0f} % named" if "named_share" in figures else ""


PASS = Pass(
    name="warm-up",
    words="Warm-up",
    doing="calibrating",
    done="calibrated",
    figure=Figure(
        "residual_rms_mm", "mm", 5.0, "Distance of the markers from the fitted body in the warm-up, RMS. Up to 5 mm is good."
    ),
    run=run,
    aside=_aside,
    needs=("rebuild", "line up"),
    about="performer",
    warm_up=True,
)  # fmt: skip
