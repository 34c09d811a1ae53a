"""A package: files, manifest, shot log and quality report in one zip, read back and compared before it can be sent."""

import csv
import hashlib
import io
import json
import tempfile
import zipfile
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply
from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import read_bvh, write_bvh
from otrevo.core.formats.c3d import read_c3d, write_c3d
from otrevo.core.formats.face_csv import read_face_csv, write_face_csv
from otrevo.core.motion_rate import at_rate
from otrevo.core.package.report import quality_report

POSITION_LIMIT_MM, ROTATION_LIMIT_DEG = 0.1, 0.01
FORMATS = ("bvh", "c3d", "face")


@dataclass(frozen=True)
class PackageTake:
    """One take as it goes into a package. Ranges and times are in take time; motion and markers already cut to in/out.

    name: file name without ending; props: the Motion of each prop by name; log: slate, take, status, note, timecodes; figures by pass; snags left (documents).
    """

    name: str
    motion: Motion
    marker_names: tuple[str, ...]
    markers_m: np.ndarray
    marker_rate: Fraction
    face_times_s: np.ndarray | None
    face_values: np.ndarray | None
    log: dict
    figures: dict
    snags: list
    runs: dict
    calibration: str
    props: dict = field(default_factory=dict)


@dataclass
class PackageResult:
    """path of the zip; differences read back per file; faults: sentences, empty when it may be sent."""

    path: Path
    manifest: dict
    differences: list = field(default_factory=list)
    faults: list = field(default_factory=list)


def _motion_difference(written, read):
    """Largest joint distance (mm) and joint turn (degrees) between two motions of the same skeleton."""
    if read.skeleton.names != written.skeleton.names:
        order = [read.skeleton.names.index(n) for n in written.skeleton.names]
    else:
        order = slice(None)
    a, ra = motion_joints(written)
    b, rb = motion_joints(read)
    turn = quaternion_multiply(quaternion_conjugate(ra), rb[:, order])
    angle = 2 * np.arctan2(np.linalg.norm(turn[..., :3], axis=-1), np.abs(turn[..., 3]))
    return 1000 * float(np.abs(a - b[:, order]).max()), float(np.degrees(angle.max()))


def build_package(path, production, takes, formats, rate, progress=None):
    """Write the zip at `path`, read it back, compare. Raises InputError when nothing can be written or a name repeats.

    formats: some of FORMATS; rate: the delivery rate. Every file is written, compared and only then added.
    """
    if not takes:
        raise InputError("The package holds no take; choose at least one solved take.")
    names = [t.name for t in takes]
    twice = sorted({n for n in names if names.count(n) > 1})
    if twice:
        raise InputError(f"Two takes would both be named '{twice[0]}'; change the naming pattern or one slate.")
    unknown = [f for f in formats if f not in FORMATS]
    if unknown or not formats:
        raise InputError(f"Formats must be some of {', '.join(FORMATS)}.")
    path = Path(path)
    result = PackageResult(path, {})
    partial = path.with_name(path.name + ".part")
    entries, listed = {}, []
    try:
        with tempfile.TemporaryDirectory(dir=path.parent) as folder:
            for i, take in enumerate(takes):
                listed.append(_write_take(Path(folder), take, formats, rate, entries, result))
                if progress:
                    progress((i + 1) / (len(takes) + 1))
        entries["shot-log.csv"] = _shot_log(listed)
        manifest = {
            "otrevo": "package/1",
            "production": production,
            "rate": f"{Fraction(rate).numerator}/{Fraction(rate).denominator}",
            "conventions": {"body": "BVH, centimetres, +Y up, VRM bone names", "markers": "C3D, millimetres, +Y up",
                            "face": "CSV, seconds, 0 to 1", "rest": "T-pose facing +Z"},
            "takes": listed,
            "differences": result.differences,
        }  # fmt: skip
        entries["quality-report.html"] = quality_report(manifest, takes).encode()
        manifest["files"] = [
            {"path": name, "bytes": len(data), "sha256": hashlib.sha256(data).hexdigest()}
            for name, data in entries.items()
        ]
        with zipfile.ZipFile(partial, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, data in entries.items():
                archive.writestr(name, data)
            archive.writestr("manifest.json", json.dumps(manifest, indent=1, allow_nan=False))
        partial.replace(path)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise InputError(f"{path.name} could not be written ({error.strerror}); nothing was left behind.") from None
    result.manifest = manifest
    if progress:
        progress(1.0)
    return result


def _write_take(folder, take, formats, rate, entries, result):
    files = []

    def add(ending, write, compare):
        name = f"{take.name}{ending}"
        file = folder / name
        write(file)
        difference = compare(file)
        difference["file"] = name
        result.differences.append(difference)
        if (
            difference.get("position_mm", 0) > POSITION_LIMIT_MM
            or difference.get("rotation_deg", 0) > ROTATION_LIMIT_DEG
        ):
            result.faults.append(
                f"{name}: read back {difference.get('position_mm', 0):.3f} mm and {difference.get('rotation_deg', 0):.4f}° "
                f"away; the limits are {POSITION_LIMIT_MM} mm and {ROTATION_LIMIT_DEG}°."
            )
        entries[name] = file.read_bytes()
        files.append(name)

    motion = at_rate(take.motion, rate)
    if "bvh" in formats:

        def add_motion(ending, moved):
            def compare(file):
                mm, degrees = _motion_difference(moved, read_bvh(file))
                return {"position_mm": mm, "rotation_deg": degrees}

            add(ending, lambda file: write_bvh(file, moved), compare)

        add_motion(".bvh", motion)
        for name, prop_motion in take.props.items():
            add_motion(f"_{name}.bvh", at_rate(prop_motion, rate))
    if "c3d" in formats and len(take.markers_m):

        def compare_markers(file):
            read = read_c3d(file)
            apart = np.abs(read.points_m - take.markers_m)
            same_gaps = np.array_equal(np.isfinite(read.points_m), np.isfinite(take.markers_m))
            if not same_gaps or read.names != tuple(take.marker_names):
                result.faults.append(f"{take.name}.c3d: names or gaps differ when read back.")
            return {"position_mm": 1000 * float(np.nanmax(apart))}

        add(".c3d", lambda file: write_c3d(file, take.markers_m, take.marker_names, take.marker_rate,
                                           take.log.get("first_timecode")), compare_markers)  # fmt: skip
    if "face" in formats and take.face_values is not None:

        def compare_face(file):
            _, values, _ = read_face_csv(file)
            return {"shape_value": float(np.nanmax(np.abs(values - take.face_values)))}

        add("_face.csv", lambda file: write_face_csv(file, take.face_times_s, take.face_values), compare_face)
    return {
        "name": take.name, "files": files, "frames": len(motion), "bones": len(motion.skeleton.names),
        "marker_rate": f"{take.marker_rate.numerator}/{take.marker_rate.denominator}",
        "log": take.log, "figures": take.figures, "snags_left": len(take.snags), "runs": take.runs,
        "calibration": take.calibration,
    }  # fmt: skip


def _shot_log(listed):
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(
        ["slate", "take", "status", "performer", "first_timecode", "last_timecode", "frames", "files", "note"]
    )
    for row in listed:
        log = row["log"]
        # a leading '=' or '+' would be run as a formula by a spreadsheet
        cells = [log.get("slate"), log.get("take"), log.get("status"), log.get("performer"), log.get("first_timecode"),
                 log.get("last_timecode"), row["frames"], " ".join(row["files"]), log.get("note", "")]  # fmt: skip
        writer.writerow([f"'{c}" if isinstance(c, str) and c[:1] in "=+-@" else c for c in cells])
    return text.getvalue().encode()
