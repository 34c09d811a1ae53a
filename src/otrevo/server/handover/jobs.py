"""Building packages in the background."""

import logging
import tempfile
from fractions import Fraction
from pathlib import Path

import numpy as np
from procrastinate.contrib.django import app

from otrevo.core.body.kinematics import Motion
from otrevo.core.errors import InputError
from otrevo.core.formats.contract import PackageTake
from otrevo.core.package.build import build_package
from otrevo.core.package.naming import name_from_pattern
from otrevo.core.props.prop import SHIPPED
from otrevo.server.bench.passes import latest, stored_motion
from otrevo.server.handover.models import Package
from otrevo.server.streams.store import read_stream

log = logging.getLogger("otrevo.packages")


def take_name(take):
    """The file name of a take by the production's pattern."""
    slate = take.slate
    values = {
        "production": take.production.code, "day": slate.day.number, "slate": slate.name, "scene": slate.name,
        "take": take.number, "performer": slate.performer.name,
    }  # fmt: skip
    return name_from_pattern(take.production.naming_pattern, values)


def solved_props(run, label_run):
    """Motion and named markers of every prop that a finished solve run stored: {name: (Motion, names, (T, K, 3))}."""
    out = {}
    for stream in run.tracks.filter(kind="pose"):
        name, rate = stream.details["prop"], Fraction(stream.rate)
        pose = read_stream(stream).astype(float)
        turn = pose[:, 3:] / np.linalg.norm(pose[:, 3:], axis=1, keepdims=True)
        motion = Motion(SHIPPED[name].skeleton, rate, pose[:, :3], turn[:, None])
        markers = label_run.tracks.get(name=f"prop {name} markers")
        out[name] = motion, tuple(markers.details["names"]), read_stream(markers).astype(float)
    return out


def package_take(take, run):
    """A take cut to its in and out points, as the core packages it. Raises InputError when it is not solved."""
    motion = stored_motion(run)
    rate = motion.rate
    start, end = round(take.in_s * rate), min(len(motion), max(round(take.in_s * rate) + 1, round(take.out_s * rate)))
    markers = run.tracks.get(name="mended")
    face = run.tracks.filter(name="face shapes").first()
    times = values = None
    if face is not None:
        face_rate = Fraction(face.rate)
        a, b = round(take.in_s * face_rate), round(take.out_s * face_rate)
        values = read_stream(face, a, b).astype(float)
        times = np.arange(len(values)) / float(face_rate)
    fmt = take.production.timecode_format
    first = take.first_timecode_frame + round(take.in_s * fmt.rate)
    last = take.first_timecode_frame + max(0, round(take.out_s * fmt.rate) - 1)
    label_run = latest(take, "label")
    props = solved_props(run, label_run) if label_run else {}
    snags = [s for s in run.snags if s["end_s"] > take.in_s and s["start_s"] < take.out_s]
    return PackageTake(
        name=take_name(take),
        motion=motion.window(start, end),
        marker_names=tuple(markers.details["names"]) + sum((names for _, names, _ in props.values()), ()),
        markers_m=np.concatenate(
            [read_stream(markers, start, end).astype(float), *(x[start:end] for _, _, x in props.values())], axis=1
        ),
        props={name: prop_motion.window(start, end) for name, (prop_motion, _, _) in props.items()},
        marker_rate=Fraction(markers.rate),
        face_times_s=times,
        face_values=values,
        log={
            "slate": take.slate.name, "take": take.number, "status": take.status, "performer": take.slate.performer.name,
            "first_timecode": fmt.label(first), "last_timecode": fmt.label(last), "note": take.note,
            "mends": run.figures.get("mends", 0), "in_s": take.in_s, "out_s": take.out_s,
        },
        figures={"solve": run.figures, "label": label_run.figures if label_run else {}},
        snags=snags,
        runs={r.name: {"id": r.pk, "code": r.code_version} for r in (run, label_run) if r},
        calibration=f"{take.slate.performer.name} v{take.calibration.version}" if take.calibration else "",
    )  # fmt: skip


@app.task(name="build_package", queue="passes", retry=False)
def build(package_id):
    package = Package.objects.select_related("production").get(pk=package_id)

    def report(share):
        Package.objects.filter(pk=package_id).update(progress=round(share, 3))

    try:
        takes = []
        for take in package.takes.select_related("slate__day__production", "slate__performer", "calibration").order_by(
            "pk"
        ):
            run = latest(take, "solve")
            if run is None:
                raise InputError(
                    f"Slate {take.slate.name} take {take.number} is not solved; solve it before packaging."
                )
            package.runs.add(run)
            takes.append(package_take(take, run))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / f"{package.name}.zip"
            result = build_package(
                path, package.production.name, takes, package.formats, Fraction(package.rate), report
            )
            package.archive = path.read_bytes()
            package.archive_bytes = len(package.archive)
        package.manifest = result.manifest
        package.state = Package.State.FAULTY if result.faults else Package.State.READY
        package.message = result.faults[0] if result.faults else ""
    except InputError as error:
        package.state, package.message = Package.State.FAULTY, str(error)
    except Exception:
        log.exception("package %s failed", package_id)
        package.state, package.message = (
            Package.State.FAULTY,
            "Packaging stopped by a fault of ours; the log of the worker says more.",
        )
    package.progress = 1.0
    package.save()
