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
from otrevo.server.takes.material import appearance_of, characters_of, clocks, latest, played
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


def package_take(take, run, chosen=None):
    """One performer's take cut to its in and out points, as the core packages it. run: their newest solve.

    chosen: ids of the characters that go in, None for all that are played.
    """
    appearance = appearance_of(take, run.performer)
    performer = appearance.performer
    motion = stored_motion(run)
    markers = run.tracks.get(name="mended")
    clock = clocks(take, [markers])[markers.pk]

    start, end = (round((t - clock.start_s) * clock.hz) for t in (take.in_s, take.out_s))
    start = min(max(start, 0), len(motion) - 1)
    end = min(max(end, start + 1), len(motion))
    fmt = take.production.timecode_format
    first = take.first_timecode_frame + round(take.in_s * fmt.rate)
    last = take.first_timecode_frame + max(0, round(take.out_s * fmt.rate) - 1)
    label_run = latest(take, "label", run.performer)
    props = solved_props(run, label_run) if label_run else {}
    tracks = _channels(take, run.tracks.filter(details__has_key="device"))
    snags = [s for s in run.snags if s["end_s"] > take.in_s and s["start_s"] < take.out_s]
    return PackageTake(
        name=take_name(take, performer),
        motion=motion.window(start, end),
        marker_names=tuple(markers.details["names"]) + sum((names for _, names, _ in props.values()), ()),
        markers_m=np.concatenate(
            [read_stream(markers, start, end).astype(float), *(x[start:end] for _, _, x in props.values())], axis=1
        ),
        props={name: prop_motion.window(start, end) for name, (prop_motion, _, _) in props.items()},
        marker_rate=Fraction(markers.rate),
        tracks=tracks,
        readings=_channels(take, take.streams.filter(run=None, performer=performer, name__in=[d.id for d in worn()])),
        log={
            "slate": take.slate.name, "take": take.number, "status": take.status, "performer": performer.name,
            "first_timecode": fmt.label(first), "last_timecode": fmt.label(last), "note": take.note,
            "mends": run.figures.get("mends", 0), "in_s": take.in_s, "out_s": take.out_s,
        },
        figures={"solve": run.figures, "label": label_run.figures if label_run else {}},
        snags=snags,
        runs={r.name: {"id": r.pk, "code": r.code_version} for r in (run, label_run) if r},
        calibration=f"{performer.name} v{appearance.calibration.version}" if appearance.calibration else "",
        characters=tuple(_on_characters(appearance, motion.window(start, end), tracks.get(FACE), chosen, {
            name: (prop_motion.window(start, end), SHIPPED[name].offset_m) for name, (prop_motion, _, _) in props.items()
        })),
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


def _solves(package):
    """The newest solve of every performer in every take. Raises InputError naming one that is not solved."""
    out = []
    for take in package.takes.select_related("slate__day__production").order_by("pk"):
        for appearance in take.appearances.select_related("performer"):
            run = latest(take, "solve", appearance.performer)
            if run is None:
                raise InputError(
                    f"Slate {take.slate.name} take {take.number} is not solved; solve it before packaging."
                )
            out.append((take, run))
    return out


def _carry_out(run, report):
    package = Package.objects.select_related("production").get(pk=run.package_id)
    solves = _solves(package)
    takes = []
    for number, (take, solve) in enumerate(solves):
        takes.append(package_take(take, solve, package.characters))
        report(0.3 * (number + 1) / len(solves))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"{package.name}.zip"
        result = build_package(
            path, package.production.name, takes, package.formats, Fraction(package.rate), lambda s: report(0.3 + 0.7 * s)
        )  # fmt: skip
        archive = path.read_bytes()

    def store():
        package.runs.set(solve for _, solve in solves)
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
