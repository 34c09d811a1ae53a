"""Takes and their runs as lists show them."""

from datetime import datetime

from django.db.models import F, Func, IntegerField, JSONField, Prefetch, Value
from ninja import Schema

from otrevo.core.passes.catalogue import PASSES
from otrevo.server.accounts.access import DESK_ROLES, fetch
from otrevo.server.takes.material import clocks
from otrevo.server.takes.models import Appearance, Take
from otrevo.server.takes.streams import pieces_of
from otrevo.server.work.models import Run

WORSE = "$[*] ? (@.severity >= 1)"
NOT_IN_LISTS = "trust"  # a figure as large as all others together
BY_NAME = {p.name: p for p in PASSES}
ORDER = {name: i for i, name in enumerate(BY_NAME)}


class FigureOut(Schema):
    """The figure a pass is judged by: as text with its unit, whether it is good, and what it means."""

    text: str
    value: float
    good: bool
    sentence: str


class RunOut(Schema):
    """A run of a pass; knocked: cameras that it found not to stand where the calibration says; map_version: of the
    character's map that it went by, where it is about a character.
    """

    id: int
    name: str
    words: str
    doing: str
    done: str
    performer: str
    character_id: int | None
    character: str
    map_version: int | None
    state: str
    progress: float
    message: str
    knocked: list[str]
    figure: FigureOut | None
    aside: str
    parameters: dict
    snag_count: int
    asked_at: datetime
    code_version: str


class StreamDetails(Schema):
    """What is said of a stream beside its samples. names: of markers; bones with their parents and offsets from them in
    T-pose, metres; worn: markers on them, each the bone's number and the offset from its joint; file and notes: what it came from, and what was odd about it; cameras and frames: of centroids.
    Of rigid bodies: bones: the one that each sits on, or ""; how confident that is, its RMS distance and why it is left out; joints and how
    far each turns about its mean, RMS.
    """

    names: list[str] = []
    bones: list[str] = []
    parents: list[int] = []
    offsets_m: list[list[float]] = []
    worn: list[list[float]] = []
    file: str = ""
    notes: list[str] = []
    cameras: list[str] = []
    frames: int = 0
    confidence: list[float] = []
    residual_mm: list[float | None] = []
    left_out: list[str] = []
    joints: list[str] = []
    turned_deg: list[float] = []


class StreamOut(Schema):
    """One stream; start_s and rate_hz are its fitted clock: sample i lies at start_s + i / rate_hz seconds of the take.

    pieces: names of its stretches of per_piece samples each; two stretches of one name have the same samples.
    """

    id: int
    name: str
    kind: str
    rate: str
    shape: list[int]
    samples: int
    start_s: float
    rate_hz: float
    details: StreamDetails
    computed: bool
    performer: str
    prop: str
    character: str
    per_piece: int
    pieces: list[int]


class PictureOut(Schema):
    """The small picture of a take (takes.picture): a letter for each stretch of time, 0 to z, or a dot where there is nothing."""

    optical: list[str] | None = None
    tracker: list[str] | None = None
    suit: str | None = None
    jaw: str | None = None
    sound: str | None = None


class TakeRow(Schema):
    id: int
    number: int
    version: int
    status: str
    note: str
    duration_s: float
    in_s: float
    out_s: float
    first_timecode: str
    rolled_at: datetime
    made_from: str
    performers: list[str]
    picture: PictureOut
    runs: list[RunOut]
    packages: list[str]


def newest_runs(**about):
    """A queryset of the newest run of every name, performer and character, without what lists do not show.

    `shown` are the figures but for the large ones, `snag_count` how many snags are worse than acceptable.
    """
    shown = Func(
        F("figures"), Value(NOT_IN_LISTS), template="%(expressions)s", arg_joiner=" - ", output_field=JSONField()
    )
    worse = Func(F("snags"), Value(WORSE), function="jsonb_path_query_array", output_field=JSONField())
    count = Func(worse, function="jsonb_array_length", output_field=IntegerField())
    newest = Run.objects.filter(**about).order_by("take_id", "name", "performer_id", "character_id", "-id")
    newest = newest.distinct("take_id", "name", "performer_id", "character_id").defer(
        "figures", "snags", "character__file"
    )
    return newest.annotate(shown=shown, snag_count=count).select_related("performer", "character")


def run_out(run):
    """A run of `newest_runs`, or one with all its fields."""
    figures = run.shown if hasattr(run, "shown") else {k: v for k, v in run.figures.items() if k != NOT_IN_LISTS}
    one = BY_NAME.get(run.name)
    return {
        "id": run.pk, "name": run.name, "words": one.words if one else run.name.capitalize(),
        "doing": one.doing if one else "writing", "done": one.done if one else "written",
        "performer": run.performer.name if run.performer_id else "", "character_id": run.character_id,
        "character": run.character.name if run.character_id else "", "map_version": figures.get("map_version"), "state": run.state, "progress": run.progress,
        "message": run.message, "knocked": [k["camera"] for k in figures.get("knocked", [])], "figure": one and figure_out(one.figure, figures),
        "aside": one.aside(figures) if one and figures else "", "parameters": run.parameters,
        "snag_count": run.snag_count if hasattr(run, "snag_count") else sum(s["severity"] >= 1 for s in run.snags),
        "asked_at": run.asked_at,
        "code_version": run.code_version,
    }  # fmt: skip


def figure_out(figure, figures):
    value = figure.value(figures)
    if value is None:
        return None
    return {
        "text": f"{figure.sign}{value:.{figure.digits}f} {figure.unit}", "value": value,
        "good": figure.is_good(figures), "sentence": figure.sentence,
    }  # fmt: skip


def runs_out(runs):
    """Newest runs in the order of the passes; snags that a later pass has looked for anew are counted there."""
    done = {r.name for r in runs if r.state == Run.State.DONE}
    out = [run_out(r) for r in sorted(runs, key=lambda r: (ORDER.get(r.name, len(ORDER)), r.pk))]
    for row in out:
        if row["name"] in BY_NAME and done & set(BY_NAME[row["name"]].found_anew):
            row["snag_count"] = 0
    return out


def streams_out(take, streams):
    """Streams of a take, their performers and the characters of their runs at hand, as StreamOut."""
    clock, pieces = clocks(take, streams), pieces_of(streams)
    return [
        {
            "id": s.pk, "name": s.name, "kind": s.kind, "rate": s.rate, "shape": s.shape, "samples": s.samples,
            "start_s": clock[s.pk].start_s, "rate_hz": clock[s.pk].hz, "details": s.details,
            "computed": s.run_id is not None, "performer": s.performer.name if s.performer_id else "", "prop": s.prop,
            "character": s.run.character.name if s.run_id and s.run.character_id else "",
            "per_piece": pieces[s.pk][0], "pieces": pieces[s.pk][1],
        }
        for s in streams
    ]  # fmt: skip


def with_rows(takes):
    """A queryset of takes with everything that take_row needs, in a number of queries that does not grow with them."""
    return takes.prefetch_related(
        Prefetch("runs", newest_runs(), to_attr="newest"),
        Prefetch("appearances", Appearance.objects.select_related("performer"), to_attr="in_it"),
        Prefetch("packages", _states(), to_attr="in_packages"),
    )


def _states():
    return Take._meta.get_field("packages").related_model.objects.only("state")


def take_row(take):
    """A take of `with_rows`, its slate's day and production at hand."""
    fmt = take.slate.day.production.timecode_format
    return {
        "id": take.pk, "number": take.number, "version": take.version, "status": take.status, "note": take.note, "duration_s": take.duration_s,
        "in_s": take.in_s, "out_s": take.out_s, "first_timecode": fmt.label(take.first_timecode_frame),
        "rolled_at": take.rolled_at, "made_from": take.made_from, "performers": [a.performer.name for a in take.in_it],
        "picture": take.picture, "runs": runs_out(take.newest), "packages": [p.state for p in take.in_packages],
    }  # fmt: skip


def fetch_take(request, take_id, roles=DESK_ROLES):
    """A take that the user may see in one of these roles, ready for take_row."""
    queryset = with_rows(Take.objects.select_related("slate__day__production", "slate__performer", "stage_calibration"))
    return fetch(request.user, queryset, "production_id", roles, pk=take_id)
