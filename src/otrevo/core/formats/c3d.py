"""C3D points, read and written through ezc3d. In memory: metres, +Y up; in files written here: millimetres, +Y up."""

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import ezc3d
import numpy as np

from otrevo.core.errors import InputError

MAX_BYTES = 2 * 1024**3
MAX_PARAMETER_BYTES = 4 * 1024**2


@dataclass(frozen=True)
class Points:
    """points_m (T, N, 3), NaN where absent; names (N); rate Fraction; notes: what was detected about units and axes."""

    points_m: np.ndarray
    names: tuple[str, ...]
    rate: Fraction
    notes: tuple[str, ...] = ()


def _signed(byte):
    return byte - 256 if byte > 127 else byte


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
    _refuse_malformed(path, head, size)
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


def _refuse_malformed(path, head, size):
    """Walk the header and the parameter section before the library does: it trusts the sizes it finds there.

    Only the layout of files in Intel order is walked (all that is written today); others are left to the library.
    """

    def refuse(why):
        raise InputError(f"{path.name}: the C3D is damaged ({why}).")

    start = (head[0] - 1) * 512
    with path.open("rb") as file:
        file.seek(max(start, 0))
        section = file.read(4)
        if start < 512 or len(section) < 4:
            refuse("its parameters lie outside the file")
        if section[3] != 84:
            return
        # some writers count too few blocks: the parameters reach to where the data begin
        length = max(section[2] * 512, (int(np.frombuffer(head[16:18], dtype="<u2")[0]) - 1) * 512 - start)
        section += file.read(max(0, min(length, MAX_PARAMETER_BYTES) - 4))
    points, analog, first, last = (int(v) for v in np.frombuffer(head[2:10], dtype="<u2"))
    scale, data_block = np.frombuffer(head[12:16], dtype="<f4")[0], int(np.frombuffer(head[16:18], dtype="<u2")[0])
    if not np.isfinite(scale) or last < first or not 2 <= data_block <= size // 512 + 1:
        refuse("its header makes no sense")
    word = 4 if scale < 0 else 2
    frame_bytes = (4 * points + analog) * word
    if last < 65535 and (last - first + 1) * frame_bytes > size + 512:
        raise InputError(
            f"{path.name}: truncated; {last - first + 1} frames of {points} points announced, the file is too short."
        )
    at, end = 4, len(section)
    while at + 2 <= end:
        name_length, group = np.frombuffer(section[at : at + 2], dtype=np.int8)
        name_length = abs(int(name_length))
        if name_length == 0:
            return
        link = at + 2 + name_length
        step = int(np.frombuffer(section[link : link + 2], dtype="<i2")[0]) if link + 2 <= end else -1
        if step < 0 or (step and link + step > end):
            refuse("a parameter reaches beyond its section")
        body = section[link + 2 : link + step if step else end]
        used = 0
        if group > 0:  # a parameter: type, dimensions, values, and, like a group, a description
            if len(body) < 2 or _signed(body[0]) not in (-1, 1, 2, 4) or body[1] > 7:
                refuse("a parameter has no known type")
            dimensions = [int(d) for d in body[2 : 2 + body[1]]]
            used = 2 + body[1] + abs(_signed(body[0])) * int(np.prod(dimensions))
        if used > len(body) or (used < len(body) and used + 1 + body[used] > len(body)):
            refuse("a parameter is larger than its place")
        if step == 0:
            return
        at = link + step
    refuse("its parameters have no end")


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
