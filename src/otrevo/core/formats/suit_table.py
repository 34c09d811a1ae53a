"""A suit's recording as CSV: `time,sensor,qx,qy,qz,qw,ax,ay,az`, a row for each sensor and moment.

Seconds of the device's clock; rotation from the sensor's axes to its filter's own world; specific force in m/s² in the sensor's axes.
"""

from pathlib import Path

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.documents import write_whole
from otrevo.core.inertial.recording import suit_recording

COLUMNS = ("time", "sensor", "qx", "qy", "qz", "qw", "ax", "ay", "az")
MOST_BYTES = 2 * 1024**3


def read_suit(path):
    """The SuitRecording in a file. Raises InputError in one sentence."""
    import pyarrow as pa
    from pyarrow import csv

    path = Path(path)
    header = ",".join(COLUMNS)
    wanted = {name: pa.string() if name == "sensor" else pa.float64() for name in COLUMNS}
    try:
        if path.stat().st_size > MOST_BYTES:
            raise InputError(f"{path.name}: larger than 2 GiB; expected the suit of one take.")
        table = csv.read_csv(path, convert_options=csv.ConvertOptions(column_types=wanted, strings_can_be_null=False))
    except FileNotFoundError:
        raise InputError(f"{path.name}: there is no such file; expected a suit's recording, {header}.") from None
    except (pa.ArrowInvalid, OSError, EOFError) as error:
        reason = str(error).splitlines()[0].removeprefix("CSV parse error: ").removeprefix("In CSV column ")
        raise InputError(f"{path.name}: cannot be read as {header} ({reason}).") from None
    missing = [c for c in COLUMNS if c not in table.column_names]
    if missing:
        raise InputError(f"{path.name}: no column '{missing[0]}'; expected the header {header}.")
    if table.num_rows == 0:
        raise InputError(f"{path.name}: no samples under the header.")
    coded = table["sensor"].dictionary_encode().combine_chunks()
    names = [n.strip() for n in coded.dictionary.to_pylist()]
    values = [np.asarray(table[c].to_numpy(), dtype=float) for c in COLUMNS if c != "sensor"]
    return suit_recording(
        values[0], coded.indices.to_numpy(), names, np.stack(values[1:5], axis=1), np.stack(values[5:], axis=1), path.name
    )  # fmt: skip


def write_suit(path, times_s, names, rotation, force_ms2):
    """Write rotations (T, S, 4) and specific forces (T, S, 3) at times (T,); samples with NaN are left out, whole or not at all."""
    lines = [",".join(COLUMNS)]
    values = np.concatenate([rotation, force_ms2], axis=2)
    for t, row, known in zip(times_s.tolist(), values.tolist(), np.isfinite(values).all(axis=2).tolist(), strict=True):
        lines += [
            f"{t:.6f},{name}," + ",".join(f"{v:.6f}" for v in one)
            for name, one, there in zip(names, row, known, strict=True)
            if there
        ]
    write_whole(path, ("\n".join(lines) + "\n").encode())
