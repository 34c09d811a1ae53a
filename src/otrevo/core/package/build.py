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

from otrevo.core.errors import InputError
from otrevo.core.formats.catalogue import delivered, format_named
from otrevo.core.motion_rate import frames_at
from otrevo.core.package.report import quality_report

POSITION_LIMIT_MM, ROTATION_LIMIT_DEG = 0.1, 0.01


@dataclass
class PackageResult:
    """path of the zip; differences read back per file; faults: sentences, empty when it may be sent."""

    path: Path
    manifest: dict
    differences: list = field(default_factory=list)
    faults: list = field(default_factory=list)


def build_package(path, production, takes, formats, rate, progress=None):
    """Write a package, read it back and compare.

    Parameters
    ----------
    path : path
        Of the zip.
    production : str
        Its name.
    takes : sequence of PackageTake
        What goes in.
    formats : sequence of str
        Ids of formats that can be delivered.
    rate : Fraction
        The delivery rate.
    progress : callable, optional
        Called with the share that is done, 0 to 1. It may raise to stop the work.

    Returns
    -------
    PackageResult
        Manifest, differences read back and faults.

    Raises
    ------
    InputError
        When nothing can be written or two takes have the same name. Nothing is left behind then.
    """
    if not takes:
        raise InputError("The package holds no take; choose at least one solved take.")
    names = [t.name for t in takes]
    twice = sorted({n for n in names if names.count(n) > 1})
    if twice:
        raise InputError(f"Two takes would both be named '{twice[0]}'; change the naming pattern or one slate.")
    formats = [format_named(identity) for identity in formats]
    if not formats:
        raise InputError("The package has no format; choose at least one.")
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
            "conventions": {f.holds: f.conventions for f in delivered()} | {"rest": "T-pose facing +Z"},
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
    for made in (file for f in formats for file in f.files(take, rate)):
        name = f"{take.name}{made.ending}"
        path = folder / name
        made.write(path)
        difference = made.compare(path)
        if fault := difference.pop("fault", None):
            result.faults.append(f"{name}: {fault}.")
        position, rotation = difference.get("position_mm", 0), difference.get("rotation_deg", 0)
        if position > POSITION_LIMIT_MM or rotation > ROTATION_LIMIT_DEG:
            result.faults.append(
                f"{name}: read back {position:.3f} mm and {rotation:.4f}° away; the limits are {POSITION_LIMIT_MM} mm "
                f"and {ROTATION_LIMIT_DEG}°."
            )
        result.differences.append(difference | {"file": name})
        entries[name] = path.read_bytes()
        files.append(name)
    motion = take.motion
    return {
        "name": take.name, "files": files, "frames": frames_at(len(motion), motion.rate, rate),
        "bones": len(motion.skeleton.names),
        "marker_rate": f"{take.marker_rate.numerator}/{take.marker_rate.denominator}",
        "log": take.log, "figures": take.figures, "snags_left": len(take.snags), "runs": take.runs,
        "calibration": take.calibration,
        "characters": [
            {"name": c.name, "file": name, "scale": c.scale, "rotation_xyzw": list(c.rotation_xyzw)}
            for c in take.characters if (name := f"{take.name}_{c.name}.glb") in files
        ],
    }  # fmt: skip


def _shot_log(listed):
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(
        ["slate", "take", "status", "performer", "first_timecode", "last_timecode", "frames", "files", "note"]
    )
    for row in listed:
        log = row["log"]
        # a leading '=' or '+' would be run as a formula by a spreadsheet, and so would one after a tab or a line's end
        cells = [log.get("slate"), log.get("take"), log.get("status"), log.get("performer"), log.get("first_timecode"),
                 log.get("last_timecode"), row["frames"], " ".join(row["files"]), log.get("note", "")]  # fmt: skip
        writer.writerow([f"'{c}" if isinstance(c, str) and c[:1] in tuple("=+-@\t\r\n") else c for c in cells])
    return text.getvalue().encode()
