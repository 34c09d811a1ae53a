"""Passes of a take as work: one job that loads what a pass needs, calls it, and stores what it gives."""

from django.db import transaction

from otrevo.core.errors import InputError
from otrevo.core.passes.catalogue import from_there_on, pass_named, passes_of
from otrevo.core.snags import ranked
from otrevo.server.conflicts import Conflict
from otrevo.server.takes.material import characters_of, latest, material_of
from otrevo.server.takes.models import Appearance, Take
from otrevo.server.takes.picture import take_picture
from otrevo.server.takes.streams import write_stream
from otrevo.server.work.kinds import Kind
from otrevo.server.work.models import ACTIVE, Run
from otrevo.server.work.queue import queue


def passes_of_take(take):
    """The passes that a take goes through, in order."""
    played = any(characters_of(a) for a in take.appearances.select_related("performer"))
    return passes_of(set(take.streams.filter(run=None).values_list("name", flat=True)), take.slate.warm_up, played)


def runs_of(take, passes, parameters=None, user=None, performers=None, character=None):
    """Unsaved Runs of passes over a take; parameters are the first pass's.

    What is about a performer runs once for each of them, or of those given, and what is about a character once for each
    that they play, or for the one whose id is given. Settings that a character had in this take before stay.
    """
    appearances = take.appearances.select_related("performer")
    appearances = [a for a in appearances if performers is None or a.performer in performers]
    about = {
        "take": [(None, None)],
        "performer": [(a.performer, None) for a in appearances],
        "character": [
            (a.performer, c) for a in appearances for c in characters_of(a) if character in (None, c.pk)
        ],
    }  # fmt: skip
    out = []
    for number, one in enumerate(passes):
        for performer, on in about[one.about]:
            known = latest(take, one.name, performer, on) if on else None
            chosen = one.checked(parameters) if number == 0 and parameters else known.parameters if known else {}
            out.append(
                Run(take=take, name=one.name, performer=performer, character=on, parameters=chosen, asked_by=user)
            )
    return out


def queue_all(take, user=None):
    """Queue all passes of a take that has just been recorded; a warm-up calibrates its performer."""
    return queue(runs_of(take, passes_of_take(take), user=user))[0]


def queue_from(take, name, parameters=None, user=None, character=None):
    """Queue a pass, with its parameters, and every pass that builds on it. Returns the first Run.

    character: by its id, where a pass that is about characters is to run for that one alone. Raises InputError where
    there is nothing to run.
    """
    use_newest_calibrations(take)
    runs = runs_of(take, from_there_on(passes_of_take(take), name), parameters, user, character=character)
    if not runs:
        raise InputError("Nobody plays that character in this take.")
    return queue(runs)[0]


def need_settings_seen(take, name, based_on):
    """Raise Conflict where a pass has been run with other settings than in the run, by its id, that somebody saw."""
    seen = take.runs.filter(pk=based_on, name=name).first()
    mine = {} if seen is None else {"performer": seen.performer_id, "character": seen.character_id}
    newest = take.runs.filter(name=name, **mine).select_related("asked_by").order_by("-pk").first()
    if seen is not None and newest.parameters != seen.parameters:
        who = newest.asked_by.username if newest.asked_by else "Somebody"
        raise Conflict(
            f"{who} ran '{name}' with other settings meanwhile; look at them, then run it again.",
            {"parameters": newest.parameters}, who, newest.pk,
        )  # fmt: skip


def retarget_missing(take, user=None):
    """Queue what a take lacks: its motion on characters that are played now, and were not when it was solved."""
    one = next((p for p in passes_of_take(take) if p.about == "character"), None)
    wanted = []
    for run in runs_of(take, [one], user=user) if one else ():
        own = take.runs.filter(name=one.name, performer=run.performer, character=run.character)
        run.after = take.runs.filter(name="solve", performer=run.performer, state__in=ACTIVE).last()
        has_body = run.after or latest(take, "solve", run.performer) or take.streams.filter(name="body file").exists()
        if has_body and not own.filter(state__in=[*ACTIVE, Run.State.DONE]).exists():
            wanted.append(run)
    queue(wanted)


def retarget_anew(character, user=None):
    """Queue all takes of a character whose map has changed; everything else in the queue goes first.

    A take in which it waits already is left: the newest map is read when that begins.
    """
    runs = Run.objects.filter(character=character, take__isnull=False)
    waiting = set(runs.filter(state=Run.State.QUEUED).values_list("take_id", "performer_id"))
    for take in Take.objects.filter(pk__in=runs.filter(state=Run.State.DONE).values("take_id")):
        one = next((p for p in passes_of_take(take) if p.about == "character"), None)
        wanted = runs_of(take, [one], user=user, character=character.pk) if one else ()
        queue([r for r in wanted if (take.pk, r.performer_id) not in waiting], behind=True)


@transaction.atomic
def cast_in_take(take, performer_id, character_ids, user, before=None):
    """Say which characters a performer plays in a take, None for as the production does. Raises InputError for one of another.

    before: those that the user saw, where they say. Raises Conflict where others are played by now.
    """
    appearance = take.appearances.select_related("performer").filter(performer_id=performer_id).first()
    if appearance is None:
        raise InputError("This performer is not in the take.")
    now = [c.pk for c in characters_of(appearance)]
    if before is not None and set(before) != set(now):
        raise Conflict(
            f"Somebody has changed whom {appearance.performer.name} plays meanwhile; look, then change it.",
            {"character_ids": now},
        )
    appearance.characters = None if character_ids is None else sorted(set(character_ids))
    if character_ids is not None and len(characters_of(appearance)) != len(appearance.characters):
        raise InputError("Some of these characters are not in this production.")
    appearance.save(update_fields=["characters"])
    retarget_missing(take, user)


def use_newest_calibrations(take):
    """A take that was rolled before anything was calibrated takes the newest calibrations of its performers and room."""
    for appearance in take.appearances.filter(calibration=None).select_related("performer"):
        appearance.calibration = appearance.performer.calibrations.first()
        appearance.save(update_fields=["calibration"])
    if take.stage_calibration_id is None and (room := getattr(take.production, "room", None)):
        take.stage_calibration = room.calibrations.order_by("-version").first()
        take.save(update_fields=["stage_calibration"])


def solve_again(take, mends, user):
    """Have those performers of a take solved anew whom Mends are about; a solve that waits already will see them."""
    use_newest_calibrations(take)
    about = {m.performer_id for m in mends}
    waiting = set(take.runs.filter(name="solve", state=Run.State.QUEUED).values_list("performer_id", flat=True))
    appearances = take.appearances.select_related("performer")
    performers = [a.performer for a in appearances if None in about or a.performer_id in about]
    performers = [p for p in performers if p.pk not in waiting]
    if performers:
        queue(runs_of(take, from_there_on(passes_of_take(take), "solve"), user=user, performers=performers))


def busy(take):
    """Whether anything is queued or at work on a take."""
    return take.runs.filter(state__in=ACTIVE).exists()


def _lock(run):
    """One performer's work is done in order, so that takes find the calibration that was made before."""
    return f"performer-{run.take.slate.performer_id}"


def _carry_out(run, report):
    take = Take.objects.select_related("slate__day__production", "slate__performer", "stage_calibration").get(
        pk=run.take_id
    )
    use_newest_calibrations(take)
    one = pass_named(run.name)
    map_version = run.character.maps.first().version if run.character_id else None
    outcome = one.run(material_of(take, run.performer, run.character), one.checked(run.parameters), report)
    run.figures = outcome.figures | ({} if map_version is None else {"map_version": map_version})
    run.snags = [s.to_document() for s in ranked(outcome.snags)]

    def store():
        for t in outcome.tracks:
            write_stream(
                take, t.name, t.kind, t.rate, t.data, run, t.stamps, t.details, None,
                None if t.prop else run.performer, t.prop, t.clock,
            )  # fmt: skip
        if outcome.performer is not None:
            _keep_calibration(run, take, outcome.performer)

    return store


def _keep_calibration(run, take, document):
    """A new version of the performer's calibration, which this take is solved with from now on."""
    calibrations = type(run.performer).objects.select_for_update().get(pk=run.performer_id).calibrations
    version = 1 + max([c.version for c in calibrations.all()], default=0)
    made = calibrations.create(version=version, document=document, warm_up=take)
    Appearance.objects.filter(take=take, performer=run.performer).update(calibration=made)
    run.figures = run.figures | {"version": version}


def _ended(run):
    if run.state == Run.State.DONE:
        take = Take.objects.select_related("slate").get(pk=run.take_id)
        Take.objects.filter(pk=take.pk).update(picture=take_picture(take))


PASS = Kind(_lock, _carry_out, _ended)


def need_nothing_at_work(take):
    """Raise InputError while anything is queued or at work on a take."""
    if busy(take):
        raise InputError("A pass is already at work on this take; wait for it or cancel it.")
