"""Find blinds: what shines in a still room and never moves is masked in every camera's picture."""

from otrevo.core.optics.blinds import find_blinds
from otrevo.core.passes.contract import Figure, Pass
from otrevo.core.passes.room import RoomOutcome

MOST_USUAL = 60


def run(material, parameters, report):
    """Blinds over the rig, from the still room."""
    seen = material.recording("still").read()
    report(0.1)
    found = find_blinds(seen, len(material.rig))
    report(0.9)
    figures = {"blinds": len(found), "cameras": len({b.camera for b in found})}
    return RoomOutcome(figures, blinds=tuple(found))


PASS = Pass(
    name="find blinds",
    words="Find blinds",
    doing="finding blinds",
    done="masked",
    figure=Figure(
        "blinds", "blinds", MOST_USUAL, f"What shines and never moves. More than {MOST_USUAL} means that the room is too bright.", 0
    ),
    run=run,
    aside=lambda figures: f"in {figures['cameras']} cameras" if "cameras" in figures else "",
    about="room",
)  # fmt: skip
