"""A take's optical stream from what its cameras saw: points rebuilt, and the calibration measured again by them."""

from fractions import Fraction

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.optics.blinds import blinded
from otrevo.core.optics.rebuild import RebuildSettings, rebuild
from otrevo.core.optics.trust import measure_trust
from otrevo.core.snags import Snag
from otrevo.server.stage.room import calibrated, need, newest_calibration, room_of
from otrevo.server.streams.store import read_centroids, recorded, write_stream

MOVED_LIMIT_PX = 0.5


def over(centroids, names, cameras):
    """Centroids numbered over solved cameras; those of cameras that were not solved are left out."""
    number = np.array([next((i for i, c in enumerate(cameras) if c.name == n), -1) for n in names])
    mine = centroids.only(number[centroids.camera] >= 0)
    order = np.lexsort((mine.xy[:, 0], number[mine.camera], mine.frame))
    return type(mine)(mine.frame[order], number[mine.camera][order], mine.xy[order], mine.radius[order])


def seen_by_cameras(take, cameras, blinds):
    """(Centroids over `cameras`, rate, stream) of a take, what lies in blinds left out."""
    stream = recorded(take, "cameras")
    if stream is None:
        raise InputError("This take has no camera recording, so there is nothing to rebuild.")
    centroids = over(read_centroids(stream), stream.details["cameras"], cameras)
    return centroids.only(~blinded(centroids, blinds)), Fraction(stream.rate), stream


def run_rebuild(run, report):
    """The take's nameless points with their uncertainty, and every camera's residual over time."""
    take = run.take
    if take.stage_calibration is None:
        take.stage_calibration = need(newest_calibration(room_of(take.production)))
        take.save(update_fields=["stage_calibration"])
    calibration = take.stage_calibration
    cameras, blinds = calibrated(calibration)
    centroids, rate, stream = seen_by_cameras(take, cameras, blinds)
    report(0.1)
    settings = RebuildSettings(run.parameters.get("min_cameras", 3), run.parameters.get("residual_limit_px", 0.7))
    found = rebuild(centroids, cameras, rate, settings, lambda s: report(0.1 + 0.7 * s))
    if found.points_m.shape[1] == 0:
        raise InputError(
            f"No point is seen by {settings.min_cameras} cameras within {settings.residual_limit_px:g} px; is calibration "
            f"{calibration.version} the one of this room?"
        )
    trust = measure_trust(found.points_m, centroids, cameras, rate)
    report(0.9)
    write_stream(take, "optical", "points", rate, found.points_m, run, stamps=stream.stamps)
    write_stream(take, "uncertainty", "uncertainty", rate, found.sd_m, run)
    names = [c.name for c in cameras]
    size = trust.off_px
    knocked = trust.knocked(MOVED_LIMIT_PX)
    run.figures = found.figures | {
        "min_cameras": settings.min_cameras, "residual_limit_px": settings.residual_limit_px,
        "calibration": calibration.version, "calibration_id": calibration.pk, "cameras": names,
        "trust": {
            "start_s": trust.start_s.tolist(), "shift_px": _listed(size), "spread_px": _listed(trust.spread_px),
            "support": _listed(trust.support),
        },
        "knocked": [{"camera": names[c], "since_s": since, "shift_px": px} for c, since, px in knocked],
    }  # fmt: skip
    return [
        Snag("camera moved", "cameras", since, take.duration_s, px / MOVED_LIMIT_PX,
             f"camera {names[c]} no longer stands where calibration {calibration.version} says: its picture is off by "
             f"{px:.1f} px", f"{MOVED_LIMIT_PX:g} px", names[c])
        for c, since, px in knocked
    ]  # fmt: skip


def _listed(values):
    """Nested lists with None where not known, by camera: (C, W)."""
    return [[None if not np.isfinite(v) else round(float(v), 4) for v in column] for column in values.T]
