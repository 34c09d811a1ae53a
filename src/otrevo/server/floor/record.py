"""Recording a take from the simulated stage, through the same stream-writing code that real devices will use."""

from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.props.prop import SHIPPED
from otrevo.core.sim.stage import roll
from otrevo.server.streams.store import write_stream

SHORTEST_TAKE_S = 2.0


def run_record(run, report):
    """Write what every device of the performer's kit recorded between roll and cut."""
    take = run.take
    slate, performer = take.slate, take.slate.performer
    parameters = run.parameters
    rolled = roll(
        slate.performance, performer.body_seed, parameters["seed"], performer.height_m,
        take.production.timecode_format, take.first_timecode_frame, kit=(*performer.kit, "sound"),
        hidden=parameters.get("hidden", 0.06), facing_rad=parameters.get("facing_rad", 0.4),
        props=[SHIPPED[name] for name in slate.props],
    )  # fmt: skip
    report(0.4)
    whole = len(rolled.performance.motion) / 120.0
    length = min(parameters.get("seconds") or whole, whole)
    if length < SHORTEST_TAKE_S:
        raise InputError(
            f"The take is {length:.1f} s long; cut no earlier than {SHORTEST_TAKE_S:.0f} s after the roll."
        )
    take.streams.filter(run=None).delete()  # a second try after a lost worker begins anew
    for name, stream in rolled.streams.items():
        count = min(len(stream.data), int(length * stream.rate))
        stamps = stream.stamps[stream.stamps[:, 0] < count]
        write_stream(take, name, stream.kind, stream.rate, stream.data[:count], stamps=stamps,
                     details={"names": list(FACE_SHAPES)} if stream.kind == "shapes" else None)  # fmt: skip
    take.duration_s, take.in_s, take.out_s = length, 0.0, length
    take.save(update_fields=["duration_s", "in_s", "out_s"])
    report(1.0)
    return []
