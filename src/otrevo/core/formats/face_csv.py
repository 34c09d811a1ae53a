"""Face tracks as CSV: header `time` (or `timecode`) then shape names, values 0 to 1, empty where the face was lost."""

from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.face.shapes import FACE_SHAPES
from otrevo.core.formats.contract import FileStream, Format, PackageFile
from otrevo.core.formats.csv_layout import TABLE_ENDINGS, find_layout
from otrevo.core.formats.table import read_table, write_table

TRACK = "face shapes"


def write_face_csv(path, times_s, values, names=FACE_SHAPES):
    """Write tracks (T, N) at times (T,) seconds from the take's zero."""
    write_table(path, times_s, values, names)


def read_face_csv(path):
    """Times (T,) in seconds, values (T, N) with NaN for empty cells, and names. Raises InputError."""
    path = Path(path)
    times, values, names = read_table(path, "face shapes")
    unknown = [n for n in names if n not in FACE_SHAPES]
    if unknown:
        raise InputError(f"{path.name}: line 1: '{unknown[0]}' is not one of the 52 face shapes.")
    if np.nanmax(values, initial=0.0) > 1.5 or np.nanmin(values, initial=0.0) < -0.5:
        raise InputError(f"{path.name}: values reach {np.nanmax(values):g}; expected 0 to 1.")
    return times, values, names


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
    face = take.tracks.get(TRACK)
    if face is None:
        return []

    def compare(path):
        _, values, _ = read_face_csv(path)
        return {"shape_value": float(np.nanmax(np.abs(values - face.values), initial=0.0))}

    return [PackageFile("_face.csv", lambda path: write_face_csv(path, face.times_s, face.values), compare)]


FORMAT = Format(
    id="face",
    words="CSV, the face",
    holds="face",
    conventions="CSV, seconds, 0 to 1",
    ending="_face.csv",
    check=_check,
    files=_files,
    drops=TABLE_ENDINGS,
    streams=_streams,
    is_one=lambda path: bool(set(find_layout(path, ("time", *FACE_SHAPES)).names) & set(FACE_SHAPES)),
    header="time,jawOpen,…",
)
