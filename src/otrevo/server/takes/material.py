"""A take's streams, runs and calibrations as the core's passes want them; samples are read only when they are asked for."""

from fractions import Fraction

import numpy as np

from otrevo.core.body.performer import performer_from_document
from otrevo.core.characters.character import character_from
from otrevo.core.characters.face import drivers_from
from otrevo.core.characters.sheet import sheet_from
from otrevo.core.errors import InputError
from otrevo.core.optics.documents import calibration_from_document
from otrevo.core.passes.catalogue import PASSES
from otrevo.core.passes.contract import PlayedCharacter, TakeMaterial, TakeStream
from otrevo.core.passes.line_up import label_of
from otrevo.core.props.prop import SHIPPED
from otrevo.server.takes.streams import clock_of, read_stream
from otrevo.server.work.models import Run


def latest(take, name, performer=None, character=None):
    """The newest finished run of a pass, or None; performer, character: where a pass runs once for each."""
    runs = take.runs.filter(kind="pass", name=name, state=Run.State.DONE)
    if performer is not None:
        runs = runs.filter(performer=performer)
    if character is not None:
        runs = runs.filter(character=character)
    return runs.order_by("-id").first()


def appearance_of(take, performer=None):
    """The Appearance of a performer in a take, or that of the only one (the first) where none is given, or None."""
    found = take.appearances.select_related("performer", "calibration")
    return (found.filter(performer=performer) if performer else found).first()


def clocks(take, streams):
    """{stream id: SampleClock} of a take's Streams: computed ones by the clock they carry, recorded ones by the line-up.

    Rebuilt points run by the cameras' clock, which is lined up under the name of the points.
    """
    line_up = latest(take, "line up")
    fits = line_up.figures.get("streams", {}) if line_up else {}
    raw = [s for s in streams if s.run_id is None]
    owners = {s.pk: s.performer.name if s.performer_id else "" for s in raw}
    shown = [_Named(s.name, owners[s.pk]) for s in raw]
    out = {}
    for stream in streams:
        document = stream.clock
        if document is None and (stream.run_id is None or stream.name in ("optical", "uncertainty")):
            own = _Named(stream.name, owners.get(stream.pk, ""))
            name = {"cameras": "optical", "uncertainty": "optical"}.get(stream.name) or label_of(own, shown)
            fit = fits.get(name)
            document = fit and {"offset_s": fit["offset_ms"] / 1000, "drift_ppm": fit["drift_ppm"]}
        out[stream.pk] = clock_of(document, Fraction(stream.rate))
    return out


class _Named:
    """What the line-up calls a stream by."""

    def __init__(self, name, owner):
        self.name, self.owner = name, owner


def take_stream(stream, clock):
    """A stored Stream as passes see it."""
    return TakeStream(
        stream.name, stream.kind, Fraction(stream.rate), lambda: read_stream(stream), clock,
        np.array(stream.stamps, dtype=float).reshape(-1, 2), stream.details,
        stream.performer.name if stream.performer_id else "", stream.prop, f"stream {stream.pk}",
    )  # fmt: skip


def characters_of(appearance):
    """The Characters that a performer plays in a take: as the take says, or else as the production does; without their files."""
    performer = appearance.performer
    if appearance.characters is None:
        return list(performer.plays.defer("file"))
    return list(performer.plays.model.objects.defer("file").filter(
        production_id=performer.production_id, pk__in=appearance.characters))  # fmt: skip


def newest_map(character):
    """The newest CharacterMap of a Character. Raises InputError where it went while somebody was at work with it."""
    newest = character.maps.first()
    if newest is None:
        raise InputError(f"{character.name} has just been removed.")
    return newest


def played(character):
    """The PlayedCharacter of a stored Character, by its newest map. Raises InputError as newest_map does."""
    found = character_from(character.document, character.name)
    newest = newest_map(character)
    where = f"{character.name}'s map"
    drivers = drivers_from(newest.document, found.shapes, where, found.expressions)
    return PlayedCharacter(character.name, found, sheet_from(newest.document, found, where), tuple(drivers))


def material_of(take, performer=None, character=None):
    """The TakeMaterial of a take, for a pass about one performer, one of their characters or, without one, about the take."""
    appearance = appearance_of(take, performer)
    runs = {
        p.name: latest(take, p.name, None if p.about == "take" else performer) for p in PASSES if p.about != "character"
    }
    runs = {name: run for name, run in runs.items() if run is not None}
    streams = list(take.streams.filter(run=None).select_related("performer"))
    tracks = list(take.streams.filter(run__in=runs.values()).select_related("performer"))
    clock = clocks(take, streams + tracks)
    if performer is not None:
        streams = [s for s in streams if s.performer_id in (None, performer.pk)]
    calibration = appearance.calibration if appearance else None
    cameras, blinds = None, ()
    if take.stage_calibration is not None:
        version = take.stage_calibration.version
        cameras, blinds = calibration_from_document(take.stage_calibration.document, f"calibration {version}")
    mends = take.mends.filter(active=True)
    return TakeMaterial(
        duration_s=take.duration_s,
        zero_s=take.zero_s,
        timecode_format=take.production.timecode_format,
        props=tuple(SHIPPED[name] for name in take.slate.props),
        streams=tuple(take_stream(s, clock[s.pk]) for s in streams),
        made={
            name: tuple(take_stream(s, clock[s.pk]) for s in tracks if s.run_id == run.pk) for name, run in runs.items()
        },
        figures={name: run.figures for name, run in runs.items()},
        performer_name=appearance.performer.name if appearance else "",
        height_m=appearance.performer.height_m if appearance else 0.0,
        measures=appearance.performer.measures if appearance else {},
        performer=performer_from_document(calibration.document, f"{appearance.performer.name}'s calibration")
        if calibration
        else None,
        character=played(character) if character else None,
        cameras=cameras,
        blinds=tuple(blinds),
        calibration_version=take.stage_calibration.version if take.stage_calibration else None,
        mends=tuple(m.document for m in (mends.filter(performer=performer) if performer else mends)),
    )
