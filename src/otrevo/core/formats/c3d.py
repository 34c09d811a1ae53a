"""C3D points, read and written through ezc3d. In memory: metres, +Y up; in files written here: millimetres, +Y up."""

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import ezc3d
import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.c3d_layout import refuse_damaged
from otrevo.core.formats.contract import FileStream, Format, PackageFile

MAX_BYTES = 2 * 1024**3


@dataclass(frozen=True)
class Points:
    """points_m (T, N, 3), NaN where absent; names (N); rate Fraction; notes: what was detected about units and axes."""

    points_m: np.ndarray
    names: tuple[str, ...]
    rate: Fraction
    notes: tuple[str, ...] = ()


def _exact(hz):
    for rate in (Fraction(30000, 1001), Fraction(60000, 1001), Fraction(24000, 1001), Fraction(120000, 1001)):
        if abs(hz - float(rate)) < 2e-3 and abs(hz - round(hz)) > 1e-4:
            return rate
    return Fraction(hz).limit_denominator(1001)


def read_c3d(path):
    """Points of a C3D file. Units and up axis from the file where it says, else from the data; both are noted.

    Raises InputError for files that are no C3D, truncated, empty or without a usable rate.
    """
    path = Path(path)
    if not path.is_file():
        raise InputError(f"{path.name}: there is no such file; expected a C3D file.")
    size = path.stat().st_size
    if size > MAX_BYTES:
        raise InputError(f"{path.name}: larger than 2 GiB; expected the C3D of one take.")
    with path.open("rb") as file:
        head = file.read(512)
    if len(head) < 512 or head[1] != 0x50:
        raise InputError(f"{path.name}: not a C3D file (its first block lacks the C3D mark).")
    refuse_damaged(path)
    try:
        c3d = ezc3d.c3d(str(path))
    except Exception as error:  # the library raises bare RuntimeError and worse for broken files
        raise InputError(f"{path.name}: the C3D cannot be read ({str(error)[:80]}); it may be truncated.") from None
    data = c3d["data"]["points"]
    residual = c3d["data"]["meta_points"]["residuals"][0]
    point = c3d["parameters"]["POINT"]
    hz = float(c3d["header"]["points"]["frame_rate"] or 0)
    if "RATE" in point and len(point["RATE"]["value"]):
        hz = float(point["RATE"]["value"][0]) or hz
    if not 1 <= hz <= 2000:
        raise InputError(f"{path.name}: says {hz:g} frames a second; expected a rate between 1 and 2000.")
    if data.shape[1] == 0 or data.shape[2] == 0:
        raise InputError(
            f"{path.name}: holds {data.shape[1]} trajectories and {data.shape[2]} frames; nothing to read."
        )
    _refuse_truncated(path, head, data.shape[2])
    points = np.moveaxis(data[:3], 0, -1).transpose(1, 0, 2).astype(float)
    points[(residual.T < 0) | ~np.isfinite(points).all(axis=2)] = np.nan
    points[np.all(points == 0.0, axis=2)] = np.nan  # the old way of saying 'absent'
    if not np.isfinite(points).any():
        raise InputError(f"{path.name}: every point of every frame is marked absent.")
    notes = []
    points *= _unit(point, points, notes)
    points = _upright(point, points, notes)
    labels = [str(v) for v in point.get("LABELS", {"value": []})["value"]]
    for k in range(2, 1 + -(-data.shape[1] // 255)):
        labels += [str(v) for v in point.get(f"LABELS{k}", {"value": []})["value"]]
    labels += [f"*{i}" for i in range(len(labels), data.shape[1])]
    return Points(points, tuple(labels[: data.shape[1]]), _exact(hz), tuple(notes))


def _refuse_truncated(path, head, frames):
    """The library silently returns the frames that are there; the header (words 4 and 5) says how many there should be."""
    first, last = (int(v) for v in np.frombuffer(head[6:10], dtype="<u2"))
    announced = last - first + 1
    if last < 65535 and frames < announced:  # longer takes keep their count elsewhere
        raise InputError(f"{path.name}: truncated; {announced} frames announced, {frames} are there.")


def _unit(point, points, notes):
    said = str(point["UNITS"]["value"][0]).strip().lower() if "UNITS" in point and point["UNITS"]["value"] else ""
    factors = {"mm": 0.001, "cm": 0.01, "m": 1.0, "millimeters": 0.001, "meters": 1.0, "in": 0.0254}
    extent = np.nanmax(np.nanpercentile(points, 95, axis=(0, 1)) - np.nanpercentile(points, 5, axis=(0, 1)))
    guessed = "m" if extent < 30 else "cm" if extent < 300 else "mm"
    if said not in factors:
        notes.append(f"units not stated; {guessed} from the extent of the points")
        return factors[guessed]
    size = extent * factors[said]
    if size > 60 or size < 0.02:
        notes.append(f"says {said}, but the points span {size:.3g} m; read as {guessed}")
        return factors[guessed]
    return factors[said]


def _upright(point, points, notes):
    said = ""
    for name in ("Y_SCREEN", "UP", "UP_AXIS"):
        if name in point and point[name]["value"]:
            said = str(point[name]["value"][0]).upper()
            break
    axis = next((a for a in "YZ" if a in said), None)
    if axis is None:
        # people are taller than deep; floors are near zero: the up axis has its lowest points near 0 and spans 1-2.5 m
        low, high = np.nanpercentile(points, 1, axis=(0, 1)), np.nanpercentile(points, 99, axis=(0, 1))
        first = points[np.flatnonzero(np.isfinite(points[..., 0]).any(1))[0]]
        spread = np.nanmax(first, axis=0) - np.nanmin(first, axis=0)
        scores = [abs(low[i]) + 0.3 * abs(spread[i] - 1.6) + (0.5 if high[i] < 0.3 else 0.0) for i in (1, 2)]
        axis = "Y" if scores[0] <= scores[1] else "Z"
        notes.append(f"up axis not stated; {axis} from the lie of the points")
    if axis == "Z":
        notes.append("turned from Z up to Y up")
        points = np.stack([points[..., 0], points[..., 2], -points[..., 1]], axis=-1)
    return points


def write_c3d(path, points_m, names, rate, first_timecode=None):
    """Write labelled or nameless points (T, N, 3) metres as millimetres, +Y up; absent points carry residual -1."""
    points_m = np.asarray(points_m, dtype=float)
    if not np.isfinite(points_m).any():
        raise InputError(f"{Path(path).name}: there is no point to write.")
    c3d = ezc3d.c3d()
    frames, n = points_m.shape[:2]
    block = np.ones((4, n, frames))
    block[:3] = points_m.transpose(2, 1, 0) * 1000.0
    absent = ~np.isfinite(block[0])
    block[:, absent] = np.nan
    c3d["parameters"]["POINT"]["RATE"]["value"] = [float(rate)]
    c3d["parameters"]["POINT"]["UNITS"]["value"] = ["mm"]
    c3d["parameters"]["POINT"]["LABELS"]["value"] = list(names)
    c3d.add_parameter("POINT", "UP", ["+Y"])
    if first_timecode:
        c3d.add_parameter("POINT", "TIMECODE", [first_timecode])
    c3d["data"]["points"] = block
    c3d["data"]["meta_points"]["residuals"] = np.where(absent, -1.0, 0.0)[None]
    c3d["data"]["meta_points"]["camera_masks"] = np.zeros((7, n, frames), dtype=bool)
    partial = Path(path).with_name(Path(path).name + ".part.c3d")  # the library insists on the ending
    try:
        c3d.write(str(partial))
        partial.replace(path)
    except (OSError, RuntimeError) as error:
        partial.unlink(missing_ok=True)
        raise InputError(f"{Path(path).name}: could not be written ({error}); nothing was left behind.") from None


def _streams(path, timecode_format):
    """A dropped file's points as the take's optical stream."""
    points = read_c3d(path)
    return [FileStream("optical", "points", points.rate, points.points_m, {"notes": list(points.notes)})]


def _check(path):
    read_c3d(path)


def _files(take, rate):
    """The markers, named, at the rate they were recorded at."""
    if not take.markers_m.size:
        return []

    def write(path):
        write_c3d(path, take.markers_m, take.marker_names, take.marker_rate, take.log.get("first_timecode"))

    def compare(path):
        read = read_c3d(path)
        difference = {"position_mm": 1000 * float(np.nanmax(np.abs(read.points_m - take.markers_m)))}
        same_gaps = np.array_equal(np.isfinite(read.points_m), np.isfinite(take.markers_m))
        if not same_gaps or read.names != tuple(take.marker_names):
            difference["fault"] = "names or gaps differ when read back"
        return difference

    return [PackageFile(".c3d", write, compare)]


FORMAT = Format(
    id="c3d",
    words="C3D, the named markers",
    holds="markers",
    conventions="C3D, millimetres, +Y up",
    ending=".c3d",
    check=_check,
    files=_files,
    drops=(".c3d",),
    streams=_streams,
)
