"""Face tracks as CSV: header `time` (or `timecode`) then shape names, values 0 to 1, empty where the face was lost."""

import csv
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.formats.contract import FileStream, Format, PackageFile
from otrevo.core.formats.documents import write_whole

MAX_BYTES = 512 * 1024 * 1024


def write_face_csv(path, times_s, values, names=FACE_SHAPES):
    """Write tracks (T, N) at times (T,) seconds from the take's zero."""
    lines = ["time," + ",".join(names)]
    for t, row in zip(times_s.tolist(), values.tolist(), strict=True):
        lines.append(f"{t:.6f}," + ",".join("" if v != v else f"{v:.5f}" for v in row))
    write_whole(path, ("\n".join(lines) + "\n").encode())


def read_face_csv(path):
    """Times (T,) in seconds, values (T, N) with NaN for empty cells, and names. Raises InputError."""
    path = Path(path)
    if path.stat().st_size > MAX_BYTES:
        raise InputError(f"{path.name}: larger than 512 MiB; expected the face track of one take.")
    try:
        with path.open(newline="", encoding="utf-8-sig") as file:
            rows = list(csv.reader(file))
    except UnicodeDecodeError:
        raise InputError(f"{path.name}: not text; expected CSV with a header of 'time' and shape names.") from None
    if not rows or not rows[0] or rows[0][0].strip() != "time":
        raise InputError(f"{path.name}: line 1: the header must begin with 'time', followed by shape names.")
    names = [n.strip() for n in rows[0][1:]]
    if len(set(names)) != len(names):
        raise InputError(f"{path.name}: line 1: a shape name is used twice.")
    unknown = [n for n in names if n not in FACE_SHAPES]
    if unknown:
        raise InputError(f"{path.name}: line 1: '{unknown[0]}' is not one of the 52 face shapes.")
    body = [r for r in rows[1:] if r]
    if not body:
        raise InputError(f"{path.name}: no samples under the header.")
    values = np.full((len(body), len(names) + 1), np.nan)
    for i, row in enumerate(body):
        if len(row) != len(names) + 1:
            raise InputError(f"{path.name}: line {i + 2}: {len(row)} columns; the header has {len(names) + 1}.")
        try:
            values[i] = [float(v) if v.strip() else np.nan for v in row]
        except ValueError:
            raise InputError(f"{path.name}: line {i + 2}: holds a word that is no number.") from None
    times = values[:, 0]
    if not np.isfinite(times).all() or np.any(np.diff(times) <= 0):
        bad = int(np.argmax(np.diff(times) <= 0)) + 3 if np.isfinite(times).all() else 2
        raise InputError(f"{path.name}: line {bad}: times must be seconds that always increase.")
    if np.nanmax(values[:, 1:]) > 1.5 or np.nanmin(values[:, 1:]) < -0.5:
        raise InputError(f"{path.name}: values reach {np.nanmax(values[:, 1:]):g}; expected 0 to 1.")
    return times, values[:, 1:], tuple(names)


def _streams(path, timecode_format):
    """A dropped face track over all shapes, those the file lacks absent."""
    times, values, names = read_face_csv(path)
    rate = Fraction(60)
    if len(times) > 1:
        rate = Fraction(1 / float(np.median(np.diff(times)))).limit_denominator(1001)
    whole = np.zeros((len(values), len(FACE_SHAPES)))
    whole[:, [FACE_SHAPES.index(n) for n in names]] = values
    return [FileStream("face", "shapes", rate, whole, {"names": list(FACE_SHAPES)}, True)]


def _check(path):
    read_face_csv(path)


def _files(take, rate):
    """The face at its own rate."""
    if take.face_values is None:
        return []

    def compare(path):
        _, values, _ = read_face_csv(path)
        return {"shape_value": float(np.nanmax(np.abs(values - take.face_values)))}

    return [PackageFile("_face.csv", lambda path: write_face_csv(path, take.face_times_s, take.face_values), compare)]


FORMAT = Format(
    id="face",
    words="CSV, the face",
    holds="face",
    conventions="CSV, seconds, 0 to 1",
    ending="_face.csv",
    check=_check,
    files=_files,
    drops=(".csv",),
    streams=_streams,
)
