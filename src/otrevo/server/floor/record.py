"""Recording a take from the simulated stage, through the same stream-writing code that real devices will use."""

from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.formats.centroids import from_rows
from otrevo.core.passes.catalogue import passes_of
from otrevo.core.props.prop import SHIPPED
from otrevo.core.sim.stage import OPTICAL_RATE, roll
from otrevo.server.stage.room import room_of, simulated
from otrevo.server.takes.jobs import PASS, runs_of
from otrevo.server.takes.models import Take
from otrevo.server.takes.streams import recorded, write_centroids, write_stream
from otrevo.server.work.kinds import Kind
from otrevo.server.work.models import Run
from otrevo.server.work.queue import queue

SHORTEST_TAKE_S = 2.0
WORN = ("suit", "gloves", "face")  # the others are about the room


def scene_of(slate, parameters):
    """What the cameras are to be shown of a slate's performance: a request's `scene`, with the performance's numbers."""
    performance = {
        "motion": slate.performance, "performer_seed": slate.performer.body_seed, "seed": parameters["seed"],
        "height_m": slate.performer.height_m, "facing_rad": parameters["facing_rad"], "props": slate.props,
    }  # fmt: skip
    return {"scene": "take", "seed": parameters["seed"], "performance": performance}


def queue_take(take, parameters, user=None):
    """Have what was rolled written, and the passes that will then be there to do; a warm-up calibrates its performer."""
    streams = {"cameras", *take.slate.performer.kit}
    recording = Run(kind="recording", name="record", take=take, parameters=parameters, asked_by=user)
    return queue([recording, *runs_of(take, passes_of(streams, take.slate.warm_up), user=user)])[0]


def _carry_out(run, report):
    """What every device of the performer's kit recorded between roll and cut; what the recorder kept is there."""
    take = Take.objects.select_related("slate__day__production", "slate__performer").get(pk=run.take_id)
    slate, performer = take.slate, take.slate.performer
    parameters = run.parameters
    rolled_s = parameters.get("seconds") or 0.0
    if 0.0 < rolled_s < SHORTEST_TAKE_S:
        raise InputError(
            f"The take is {rolled_s:.1f} s long; cut no earlier than {SHORTEST_TAKE_S:.0f} s after the roll."
        )
    kept = recorded(take, "cameras")
    worn = [k for k in performer.kit if k != "optical" or kept is None]
    rolled = roll(
        slate.performance, performer.body_seed, parameters["seed"], performer.height_m,
        take.production.timecode_format, take.first_timecode_frame, kit=(*worn, "sound"),
        hidden=parameters.get("hidden", 0.06), facing_rad=parameters.get("facing_rad", 0.4),
        props=[SHIPPED[name] for name in slate.props], room=simulated(room_of(take.production)),
        seconds=rolled_s,
    )  # fmt: skip
    report(0.9)
    length = rolled_s or len(rolled.performance.motion) / float(OPTICAL_RATE)

    def store():
        for name, stream in rolled.streams.items():
            count = min(len(stream.data), int(length * stream.rate))
            stamps = stream.stamps[stream.stamps[:, 0] < int(length * stream.rate)]
            if stream.kind == "centroids":
                seen = from_rows(stream.data)
                seen = seen.only(seen.frame < int(length * stream.rate))
                write_centroids(take, name, stream.rate, seen, stream.extra["cameras"], stamps)
                continue
            write_stream(take, name, stream.kind, stream.rate, stream.data[:count], stamps=stamps,
                         details={"names": list(FACE_SHAPES)} if stream.kind == "shapes" else None,
                         performer=performer if name in WORN else None)  # fmt: skip
        take.duration_s, take.in_s, take.out_s = length, 0.0, length
        take.save(update_fields=["duration_s", "in_s", "out_s"])

    return store


RECORDING = Kind(PASS.lock, _carry_out, PASS.ended)
