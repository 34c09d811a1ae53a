"""Building packages, as work."""

import math
import tempfile
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.devices.catalogue import device_named, worn
from otrevo.core.errors import InputError
from otrevo.core.formats.contract import Channels, PackageTake
from otrevo.core.formats.face_csv import TRACK as FACE
from otrevo.core.package.build import build_package
from otrevo.core.package.naming import clean, name_from_pattern
from otrevo.core.passes.catalogue import pass_named
from otrevo.core.passes.retarget import settings_of
from otrevo.core.props.prop import SHIPPED
from otrevo.core.retarget.deliver import package_character
from otrevo.server.handover.models import Package
from otrevo.server.takes.material import characters_of, clocks, latest, material_of, played
from otrevo.server.takes.mends import stored_motion
from otrevo.server.takes.streams import read_stream
from otrevo.server.work.kinds import Kind
from otrevo.server.work.models import Run
from otrevo.server.work.queue import queue


def take_name(take, performer):
    """The file name of a performer's take by the production's pattern."""
    slate = take.slate
    values = {
        "production": take.production.code, "day": slate.day.number, "slate": slate.name, "scene": slate.name,
        "take": take.number, "performer": performer.name,
    }  # fmt: skip
    return name_from_pattern(take.production.naming_pattern, values)


def solved_props(run, label_run):
    """Motion and named markers of every prop that a finished solve run stored: {name: (Motion, names, (T, K, 3))}."""
    out = {}
    for stream in run.tracks.filter(kind="pose"):
        name, rate = stream.details["prop"], Fraction(stream.rate)
        pose = read_stream(stream).astype(float)
        rotation = pose[:, 3:] / np.linalg.norm(pose[:, 3:], axis=1, keepdims=True)
        motion = Motion(SHIPPED[name].skeleton, rate, pose[:, :3], rotation[:, None])
        markers = label_run.tracks.get(name="prop markers", prop=name)
        out[name] = motion, tuple(markers.details["names"]), read_stream(markers).astype(float)
    return out


def _channels(take, streams):
    """{stream name: Channels} between a take's in and out points, for streams whose samples are rows of numbers."""
    streams, out = list(streams), {}
    clock = clocks(take, streams)
    for stream in streams:
        own = clock[stream.pk]
        first, end = (max(0, math.ceil((t - own.start_s) * own.hz - 1e-6)) for t in (take.in_s, take.out_s))
        values = read_stream(stream, first, end)
        times = own.start_s + (first + np.arange(len(values))) / own.hz - take.in_s
        names = stream.details.get("names") or device_named(stream.name).channel_names()
        out[stream.name] = Channels(times, values.reshape(len(values), -1).astype(float), tuple(names))
    return out


def package_take(take, appearance, run, chosen=None):
    """One performer's take cut to its in and out points, as the core packages it.

    run: their newest solve, or None for a body that a file brought; chosen: ids of the characters that go in, None for all
    that are played.
    """
    performer = appearance.performer
    markers = run.tracks.filter(name="mended").first() if run else None  # a suit alone has none
    body = markers or (run.tracks.get(name="body root") if run else take.streams.get(run=None, name="body file"))
    motion = stored_motion(run) if run else material_of(take, performer).body()[0]
    clock = clocks(take, [body])[body.pk]

    start, end = (round((t - clock.start_s) * clock.hz) for t in (take.in_s, take.out_s))
    start = min(max(start, 0), len(motion) - 1)
    end = min(max(end, start + 1), len(motion))
    fmt = take.production.timecode_format
    first = take.first_timecode_frame + round(take.in_s * fmt.rate)
    last = take.first_timecode_frame + max(0, round(take.out_s * fmt.rate) - 1)
    label_run = latest(take, "label", performer) if run else None
    props = solved_props(run, label_run) if label_run else {}
    tracks = _channels(take, run.tracks.filter(details__has_key="device")) if run else {}
    seen = [read_stream(markers, start, end).astype(float)] if markers else [np.zeros((end - start, 0, 3))]
    snags = [s for s in run.snags if s["end_s"] > take.in_s and s["start_s"] < take.out_s] if run else []
    figures = {"solve": run.figures if run else {}, "label": label_run.figures if label_run else {}}
    held = {n: (moved.window(start, end), SHIPPED[n].offset_m) for n, (moved, _, _) in props.items()}
    return PackageTake(
        name=take_name(take, performer),
        motion=motion.window(start, end),
        marker_names=(tuple(markers.details["names"]) if markers else ()) + sum((names for _, names, _ in props.values()), ()),
        markers_m=np.concatenate([*seen, *(x[start:end] for _, _, x in props.values())], axis=1),
        props={name: moved for name, (moved, _) in held.items()},
        marker_rate=Fraction(body.rate),
        tracks=tracks,
        readings=_channels(take, take.streams.filter(run=None, performer=performer, name__in=[d.id for d in worn()])),
        log={
            "slate": take.slate.name, "take": take.number, "status": take.status, "performer": performer.name,
            "first_timecode": fmt.label(first), "last_timecode": fmt.label(last), "note": take.note,
            "mends": figures["solve"].get("mends", 0), "in_s": take.in_s, "out_s": take.out_s,
        },
        figures=figures,
        snags=snags,
        runs={r.name: {"id": r.pk, "code": r.code_version} for r in (run, label_run) if r},
        calibration=f"{performer.name} v{appearance.calibration.version}" if run and appearance.calibration else "",
        characters=tuple(_on_characters(appearance, motion.window(start, end), tracks.get(FACE), chosen, held)),
    )  # fmt: skip


def _on_characters(appearance, motion, face, chosen, props):
    """The PackageCharacter of every character that a performer plays in a take, with that take's settings; face: Channels or None."""
    one = pass_named("retarget")
    for character in characters_of(appearance):
        if chosen is not None and character.pk not in chosen:
            continue
        known = latest(appearance.take, one.name, appearance.performer, character)
        settings = settings_of(one.checked(known.parameters if known else {}))
        yield package_character(
            clean(character.name), motion, played(character), bytes(character.file), face, settings, props
        )


def queue_package(package):
    """Have a package built."""
    return queue([Run(kind="package", name="package", package=package, asked_by=package.made_by)])[0]


def _bodies(package):
    """(take, appearance, newest solve) of every performer in every take; None for a solve where a file brought the body.

    Raises InputError naming a take that has neither.
    """
    out = []
    for take in package.takes.select_related("slate__day__production").order_by("pk"):
        for appearance in take.appearances.select_related("performer", "calibration"):
            run = latest(take, "solve", appearance.performer)
            if run is None and not take.streams.filter(run=None, name="body file").exists():
                raise InputError(
                    f"Slate {take.slate.name} take {take.number} is not solved; solve it before packaging."
                )
            out.append((take, appearance, run))
    return out


def _carry_out(run, report):
    package = Package.objects.select_related("production").get(pk=run.package_id)
    bodies = _bodies(package)
    takes = []
    for number, (take, appearance, solve) in enumerate(bodies):
        takes.append(package_take(take, appearance, solve, package.characters))
        report(0.3 * (number + 1) / len(bodies))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"{package.name}.zip"
        result = build_package(
            path, package.production.name, takes, package.formats, Fraction(package.rate), lambda s: report(0.3 + 0.7 * s)
        )  # fmt: skip
        archive = path.read_bytes()

    def store():
        package.runs.set(solve for *_, solve in bodies if solve)
        package.archive, package.archive_bytes, package.manifest = archive, len(archive), result.manifest
        package.state = Package.State.FAULTY if result.faults else Package.State.READY
        package.message = result.faults[0] if result.faults else ""
        package.save(update_fields=["archive", "archive_bytes", "manifest", "state", "message"])

    return store


def _ended(run):
    """A package whose building did not end well says why."""
    state = {Run.State.FAILED: Package.State.FAULTY, Run.State.CANCELLED: Package.State.CANCELLED}.get(run.state)
    if state is not None:
        Package.objects.filter(pk=run.package_id).update(state=state, message=run.message)


PACKAGE = Kind(lambda run: f"package-{run.package_id}", _carry_out, _ended)
