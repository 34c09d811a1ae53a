"""Rebuild: a take's nameless points from what its cameras saw, and the calibration measured again by them."""

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.centroids import from_rows
from otrevo.core.optics.blinds import blinded
from otrevo.core.optics.rebuild import RebuildSettings, over_cameras, rebuild
from otrevo.core.optics.trust import measure_trust
from otrevo.core.passes.contract import Figure, Outcome, Parameter, Pass, Track
from otrevo.core.snags import Snag

MOVED_LIMIT_PX = 0.5


def run(material, parameters, report):
    """Points with their uncertainty, and every camera's residual over time."""
    stream = material.recorded("cameras")
    if stream is None:
        raise InputError("This take has no camera recording, so there is nothing to rebuild.")
    if material.cameras is None:
        raise InputError("The stage has no calibration yet; sweep and solve its cameras in Stage, then run this again.")
    cameras, names = material.cameras, [c.name for c in material.cameras]
    centroids = over_cameras(from_rows(stream.read()), stream.details["cameras"], cameras)
    centroids = centroids.only(~blinded(centroids, material.blinds))
    report(0.1)
    settings = RebuildSettings(parameters["min_cameras"], parameters["residual_limit_px"])
    found = rebuild(centroids, cameras, stream.rate, settings, lambda s: report(0.1 + 0.7 * s))
    if found.points_m.shape[1] == 0:
        raise InputError(
            f"No point is seen by {settings.min_cameras} cameras within {settings.residual_limit_px:g} px; is "
            f"calibration {material.calibration_version} the one of this room?"
        )
    trust = measure_trust(found.points_m, centroids, cameras, stream.rate)
    report(0.9)
    knocked = trust.knocked(MOVED_LIMIT_PX)
    figures = found.figures | parameters | {
        "calibration": material.calibration_version, "cameras": names,
        "trust": {
            "start_s": trust.start_s.tolist(), "shift_px": _listed(trust.off_px),
            "spread_px": _listed(trust.spread_px), "support": _listed(trust.support),
        },
        "knocked": [{"camera": names[c], "since_s": since, "shift_px": px} for c, since, px in knocked],
    }  # fmt: skip
    snags = [
        Snag("camera moved", "cameras", since, material.duration_s, px / MOVED_LIMIT_PX,
             f"camera {names[c]} no longer stands where calibration {material.calibration_version} says: its picture is "
             f"off by {px:.1f} px", f"{MOVED_LIMIT_PX:g} px", names[c])
        for c, since, px in knocked
    ]  # fmt: skip
    tracks = (
        Track("optical", "points", stream.rate, found.points_m, stamps=stream.stamps),
        Track("uncertainty", "uncertainty", stream.rate, found.sd_m),
    )
    return Outcome(tracks, figures, tuple(snags))


def _listed(values):
    """Nested lists with None where not known, by camera: (C, W)."""
    return [[None if not np.isfinite(v) else round(float(v), 4) for v in column] for column in values.T]


def aside(figures):
    moved = [k["camera"] for k in figures.get("knocked", [])]
    return f"✕ {', '.join(moved)} moved" if moved else "cameras true"


PASS = Pass(
    name="rebuild",
    words="Rebuild",
    doing="rebuilding",
    done="rebuilt",
    figure=Figure(
        "sd_mm", "mm", 0.3, "Expected scatter of the rebuilt points, from the noise of the centroids. Up to 0.3 mm is "
        "good. A camera that moved is placed anew in Stage, Trust.", 2, "±",
    ),
    run=run,
    aside=aside,
    streams=("cameras",),
    parameters=(
        Parameter(
            "min_cameras", "cameras that must see a new point", 3, 2, 12, "cameras",
            "Two find more behind bodies, and more ghosts; four and more find fewer of both. Usual: 3.", 1, True,
        ),
        Parameter(
            "residual_limit_px", "how far off a sighting may lie", 0.7, 0.2, 10, "px",
            "From where the point appears in that camera’s picture; beyond, the sighting is left out. Usual: 0.7, seven "
            "times the noise. More only for a room that is no longer true.",
        ),
    ),
)  # fmt: skip
