"""Level: origin, front and up from the wand at rest on the floor and, where they were recorded, floor markers."""

from dataclasses import replace

from otrevo.core.optics.blinds import blinded
from otrevo.core.optics.level import level
from otrevo.core.optics.rebuild import over_cameras
from otrevo.core.passes.contract import Figure, Parameter, Pass
from otrevo.core.passes.room import RoomOutcome


def run(material, parameters, report):
    """The calibration in a world that stands on the floor."""
    source = material.calibrated("level")
    at_rest, floor = material.recording("wand_on_floor"), material.floor_markers

    def seen(recording):
        centroids = over_cameras(recording.read(), recording.cameras, source.cameras)
        return centroids.only(~blinded(centroids, source.blinds))

    report(0.3)
    radius_m = parameters["marker_radius_mm"] / 1000
    found = level(seen(at_rest), source.cameras, at_rest.wand, seen(floor) if floor else None, radius_m)
    report(0.9)
    words = f"level from {at_rest.wand.name}{' and floor markers' if floor else ''}"
    moved = source.moved(found.rotation, found.shift_m)
    calibration = replace(
        moved, levelled=True, how="level", words=words, figures=moved.figures | {"level": found.figures}
    )
    return RoomOutcome(found.figures, calibration=calibration)


PASS = Pass(
    name="level",
    words="Level",
    doing="levelling",
    done="levelled",
    figure=Figure("floor_rms_mm", "mm", 3.0, "Distance of the floor markers from one plane, RMS. Up to 3 mm is a flat floor."),
    run=run,
    aside=lambda figures: f"{figures['floor_markers']} floor markers" if figures.get("floor_markers") else "by the wand alone",
    needs=("solve cameras",),
    about="room",
    parameters=(
        Parameter("marker_radius_mm", "Marker radius", 7.0, 0.0, 50.0, "mm",
                  "How high above the floor the middle of a floor marker lies. Usual: 7 mm."),
    ),
)  # fmt: skip
