"""Label: the points of props and of the performer get their names."""

from otrevo.core.markers.label import by_marker, label_take
from otrevo.core.passes.contract import Figure, Outcome, Pass, Track
from otrevo.core.props.follow import find_prop, without
from otrevo.core.snags import gap_snags, nameless_snag, spike_snags


def run(material, parameters, report):
    """Named markers of the performer and of every prop, with the confidence of each name."""
    stream, scatter = material.points()
    if not material.calibrated_performer().marker_names:
        return Outcome(figures={"without_markers": True})  # beside others who wear some
    performer, clock, rate = material.calibrated_performer(), stream.clock, stream.rate
    points = stream.read().astype(float)
    report(0.05)
    found = []
    for prop in material.props:
        track = find_prop(points, rate, prop)
        points = without(points, track.labels)  # what is the prop's is nobody's marker
        found.append((prop, track))
    report(0.15)
    sd_m = None if scatter is None else scatter.read().astype(float)
    labels = label_take(points, rate, performer.model(), sd_m=sd_m)
    report(0.8)
    names = performer.marker_names
    tracks = [
        Track("labelled", "markers", rate, labels.labelled_m, clock, {"names": names}),
        Track("confidence", "confidence", rate, labels.confidence, clock),
    ]
    if sd_m is not None:
        named = by_marker(labels.labels, sd_m, len(names))
        tracks.append(Track("marker uncertainty", "uncertainty", rate, named, clock))
    for prop, track in found:
        details = {"names": prop.marker_names, "prop": prop.name}
        tracks.append(Track("prop markers", "markers", rate, track.labelled_m, clock, details, prop.name))
    figures = labels.figures | {"props": {prop.name: track.figures for prop, track in found}}
    snags = gap_snags(labels.labelled_m, names, clock.hz, clock.start_s)
    snags += nameless_snag(labels, clock.hz, clock.start_s)
    snags += spike_snags(labels.labelled_m, names, clock.hz, clock.start_s)
    return Outcome(tuple(tracks), figures, tuple(snags))


PASS = Pass(
    name="label",
    words="Label",
    doing="labelling",
    done="labelled",
    figure=Figure(
        "named_share", "%", 97.0,
        "Share of all points that have a marker’s name. The rest are ghosts or unclaimed. From 97 % on is good.", 1,
        scale=100.0, more_is_better=True,
    ),
    run=run,
    aside=lambda figures: "wears no markers" if figures.get("without_markers") else "of points named",
    needs=("rebuild", "line up", "performer"),
    about="performer",
    streams=("cameras", "optical"),
    found_anew={"solve": ("gap", "spike", "missing marker")},
)  # fmt: skip
