"""Place again: a camera that was knocked is placed anew from takes' own points and the other cameras."""

from dataclasses import replace

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.optics.blinds import blinded
from otrevo.core.optics.bundle import SIZE
from otrevo.core.optics.place_again import Recording, place_again
from otrevo.core.optics.rebuild import over_cameras, rebuilt_by
from otrevo.core.optics.trust import WINDOW_S, camera_move, measure_trust
from otrevo.core.passes.contract import Figure, Pass
from otrevo.core.passes.room import RoomOutcome

SAME_KNOCK_PX = 1.0  # takes that are off by more than this of each other do not tell of one knock


def run(material, parameters, report):
    """The calibration with that one camera placed anew."""
    source = material.calibrated("place a camera in")
    names = [c.name for c in source.cameras]
    if material.camera not in names:
        raise InputError(f"There is no camera {material.camera} in calibration {source.version}.")
    if not material.takes:
        raise InputError("There is no take to place the camera by.")
    number, recordings, used = names.index(material.camera), [], []
    for i, take in enumerate(material.takes):
        found = _recording_of(take, source, number, lambda s, i=i: report(0.6 * (i + s) / len(material.takes)))
        if found is None and i == 0:
            raise InputError(f"Camera {material.camera} shows none of the take's points near where they should be.")
        # knocked again in between, it stood elsewhere
        if found and (not recordings or np.linalg.norm(found.shift_px - recordings[0].shift_px) < SAME_KNOCK_PX):
            recordings.append(found)
            used.append(i)
    again = place_again(source.cameras, number, recordings, source.covariance, lambda s: report(0.6 + 0.35 * s))
    moved = camera_move(source.cameras[number], again.camera)
    figures = moved | {"residual_px": again.residual_px, "points": again.points}
    if again.covariance is not None:
        position = SIZE * number + np.arange(3, 6)
        figures["position_sd_mm"] = float(1000 * np.sqrt(np.trace(again.covariance[np.ix_(position, position)])))
    more = f" and {len(used) - 1} more" if len(used) > 1 else ""
    words = (
        f"{material.camera} placed anew from {material.takes[0].name}{more}: moved {moved['moved_mm']:.1f} mm and "
        f"{moved['turned_deg']:.2f}°"
    )
    calibration = replace(
        source, how="placed anew", words=words, covariance=again.covariance,
        cameras=tuple(again.camera if i == number else c for i, c in enumerate(source.cameras)),
        figures=source.figures | {"placed_anew": figures},
    )  # fmt: skip
    return RoomOutcome(figures, calibration=calibration, used=tuple(used))


def _recording_of(take, source, number, report):
    """What a take shows of camera `number` since it was knocked, or None when that is nothing."""
    cameras = source.cameras
    centroids = over_cameras(take.read(), take.cameras, cameras)
    centroids = centroids.only(~blinded(centroids, source.blinds))
    others = [i for i in range(len(cameras)) if i != number]
    points = rebuilt_by(others, centroids, cameras, take.rate, lambda s: report(0.9 * s))
    trust = measure_trust(points, centroids, cameras, take.rate)
    known = np.flatnonzero(np.isfinite(trust.shift_px[:, number, 0]))
    if len(known) == 0:
        return None
    since = {c: start for c, start, _ in trust.knocked()}.get(number, 0.0)
    later = known[trust.start_s[known] >= since]
    shift = np.median(trust.shift_px[later, number], axis=0)
    # the second in which it was knocked shows it in both places
    first = round((since + WINDOW_S) * float(take.rate)) if since > 0 and len(later) > 2 else 0
    return Recording(points, centroids, first, shift)


PASS = Pass(
    name="place again",
    words="Place again",
    doing="placing a camera anew",
    done="placed anew",
    figure=Figure(
        "residual_px", "px", 0.3, "Distance of the takes' points in the camera's picture from where it puts them now. Up to 0.3 px is good.",
        2, "±",
    ),
    run=run,
    aside=lambda figures: f"moved {figures['moved_mm']:.1f} mm" if "moved_mm" in figures else "",
    needs=("solve cameras",),
    about="room",
)  # fmt: skip
