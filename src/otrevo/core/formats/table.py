"""Tables of channels over time as CSV: header `time` and channel names, seconds that increase, empty cells where absent."""

import csv
import gzip
import zlib
from pathlib import Path

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.csv_layout import find_layout
from otrevo.core.formats.documents import write_whole

MAX_BYTES = 512 * 1024 * 1024


def write_table(path, times_s, values, names, digits=5):
    """Write channels (T, N) at times (T,) seconds from the take's zero."""
    lines = ["time," + ",".join(names)]
    for t, row in zip(times_s.tolist(), values.tolist(), strict=True):
        lines.append(f"{t:.6f}," + ",".join("" if v != v else f"{v:.{digits}f}" for v in row))
    write_whole(path, ("\n".join(lines) + "\n").encode())


def read_table(path, channels="channels"):
    """Times (T,) in seconds, values (T, N) with NaN for empty cells, and names. Raises InputError, `channels` in its words."""
    path = Path(path)
    if path.stat().st_size > MAX_BYTES:
        raise InputError(f"{path.name}: larger than 512 MiB; expected the {channels} of one take.")
    layout = find_layout(path, ("time",))
    try:
        with (gzip.open if layout.compressed else open)(path, "rt", newline="", encoding=layout.encoding) as file:
            rows = [(n, row) for n, row in enumerate(csv.reader(file, delimiter=layout.delimiter), 1) if row]
    except (EOFError, OSError, zlib.error):
        raise InputError(f"{path.name}: the compressed file is damaged; expected it whole.") from None
    except UnicodeDecodeError:
        raise InputError(
            f"{path.name}: not text; expected CSV with a header of 'time' and names of {channels}."
        ) from None
    first = layout.lines_above + 1
    if layout.names[:1] != ("time",):
        raise InputError(
            f"{path.name}: line {first}: the header must begin with 'time', followed by names of {channels}."
        )
    names = layout.names[1:]
    if len(set(names)) != len(names):
        raise InputError(f"{path.name}: line {first}: a name is used twice.")
    body = [(n, row) for n, row in rows if n > first]
    if not body:
        raise InputError(f"{path.name}: no samples under the header.")
    values = np.full((len(body), len(names) + 1), np.nan)
    for i, (line, row) in enumerate(body):
        if len(row) != len(names) + 1:
            raise InputError(f"{path.name}: line {line}: {len(row)} columns; the header has {len(names) + 1}.")
        try:
            values[i] = [float(v.replace(layout.decimal, ".")) if v.strip() else np.nan for v in row]
        except ValueError:
            raise InputError(f"{path.name}: line {line}: holds a word that is not a number.") from None
    times = values[:, 0]
    if not np.isfinite(times).all() or np.any(np.diff(times) <= 0):
        bad = int(np.argmax(np.diff(times) <= 0)) + 1 if np.isfinite(times).all() else 0
        raise InputError(f"{path.name}: line {body[bad][0]}: times must be seconds that always increase.")
    return times, values[:, 1:], names
