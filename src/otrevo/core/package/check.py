"""Check a package as its receiver would: manifest, checksums, and every file opened and compared with the manifest."""

import hashlib
import json
import tempfile
import zipfile
import zlib
from dataclasses import dataclass, field
from pathlib import Path

from otrevo.core.errors import InputError
from otrevo.core.formats.catalogue import format_in_package

MAX_UNPACKED_BYTES = 8 * 1024**3
_DAMAGE = (
    zipfile.BadZipFile,
    OSError,
    EOFError,
    zlib.error,
    NotImplementedError,
    RuntimeError,
    ValueError,
)  # what a broken zip raises


@dataclass
class PackageCheck:
    """lines to print; faults: one sentence each."""

    lines: list = field(default_factory=list)
    faults: list = field(default_factory=list)

    @property
    def ok(self):
        return not self.faults


def check_package(path):
    """Check a package: files, checksums, contents.

    Parameters
    ----------
    path : path
        Of the zip.

    Returns
    -------
    PackageCheck
        A line for each file, and the faults.

    Raises
    ------
    InputError
        When it is no package at all.
    """
    path = Path(path)
    try:
        archive = zipfile.ZipFile(path)
        if any(i.compress_size > path.stat().st_size for i in archive.infolist()):
            raise zipfile.BadZipFile  # as much would be made ready as such a length says
        manifest = json.loads(archive.read("manifest.json"))
        listed = {f["path"]: f for f in manifest.get("files", [])}
        frames = {f: t["frames"] for t in manifest.get("takes", []) for f in t.get("files", [])}
    except FileNotFoundError:
        raise InputError(f"{path.name}: there is no such file; expected a package (zip).") from None
    except (*_DAMAGE, KeyError, TypeError, AttributeError):
        raise InputError(f"{path.name}: not a package; expected a zip with a manifest.json.") from None
    if manifest.get("otrevo") != "package/1":
        raise InputError(f"{path.name}: manifest.json is {manifest.get('otrevo')}; expected package/1.")
    if sum(i.file_size for i in archive.infolist()) > MAX_UNPACKED_BYTES:
        raise InputError(f"{path.name}: unpacks to more than 8 GiB; expected a package of takes.")
    check = PackageCheck()
    names = set(archive.namelist()) - {"manifest.json"}
    check.faults += [f"{n} is in the zip but not in the manifest." for n in sorted(names - set(listed))]
    check.faults += [f"{n} is in the manifest but not in the zip." for n in sorted(set(listed) - names)]
    with archive, tempfile.TemporaryDirectory() as folder:
        for name in sorted(names & set(listed)):
            try:
                data = archive.read(name)
            except _DAMAGE:
                check.faults.append(f"{name}: damaged inside the zip.")
                continue
            if hashlib.sha256(data).hexdigest() != listed[name].get("sha256"):
                check.faults.append(f"{name}: its checksum differs from the manifest.")
                continue
            check.lines.append(f"ok  {name}  {len(data)} bytes")
            file = Path(folder) / ("file" + Path(name).suffix)  # never a path from the archive
            file.write_bytes(data)
            _open(file, name, frames, check)
    check.lines.append(f"{len(listed)} files, {len(check.faults)} faults")
    return check


def _open(file, name, frames, check):
    found = format_in_package(name)
    if found is None:  # the shot log and the report
        return
    try:
        count = found.check(file)
    except InputError as error:
        check.faults.append(str(error).replace(file.name, name))
        return
    if count is not None and frames.get(name) != count:
        check.faults.append(f"{name}: {count} frames; the manifest says {frames.get(name)}.")
