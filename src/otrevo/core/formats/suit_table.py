"""A suit's recording as CSV: `time,sensor,qx,qy,qz,qw,ax,ay,az`, a row for each sensor and moment.

Seconds of the device's clock; rotation from the sensor's axes to its filter's own world; specific force in m/s² in the sensor's axes.
"""

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.core.formats.contract import FileStream, Format
from otrevo.core.formats.csv_layout import TABLE_ENDINGS
from otrevo.core.formats.documents import write_whole
from otrevo.core.formats.sample_table import has_columns, read_samples
from otrevo.core.inertial.recording import suit_recording
from otrevo.core.solve.suit_clock import OWN_CLOCK

COLUMNS = ("time", "sensor", "qx", "qy", "qz", "qw", "ax", "ay", "az")


def read_suit(path):
    """The SuitRecording in a file. Raises InputError in one sentence."""
    names, sensor, values, notes = read_samples(path, COLUMNS, "sensor", "the suit of one take")
    found = suit_recording(values[:, 0], sensor, names, values[:, 1:5], values[:, 5:], Path(path).name)
    return replace(found, notes=(*notes, *found.notes))


def write_suit(path, times_s, names, rotation, force_ms2):
    """Write rotations (T, S, 4) and specific forces (T, S, 3) at times (T,); samples with NaN are left out, whole or not at all."""
    values = np.concatenate([rotation, force_ms2], axis=2).reshape(-1, 7)
    known = np.flatnonzero(np.isfinite(values).all(axis=1))
    times, said = np.repeat(times_s, len(names))[known].tolist(), np.tile(names, len(times_s))[known].tolist()
    line = "%.6f,%s" + ",%.6f" * 7
    lines = [",".join(COLUMNS), *(line % one for one in zip(times, said, *values[known].T.tolist(), strict=True))]
    write_whole(path, ("\n".join(lines) + "\n").encode())


def _streams(path, timecode_format):
    found = read_suit(path)
    rate = Fraction(found.rate_hz).limit_denominator(1001)
    details = {"clock": OWN_CLOCK, "shown_s": found.start_s, "notes": list(found.notes)}
    return [FileStream("suit", "orientations", rate, found.samples(), details, True)]


FORMAT = Format(
    id="suit",
    words="CSV, sensors of a body suit",
    holds="suit",
    conventions="CSV, seconds, m/s², Y or Z up",
    ending="_suit.csv",
    check=read_suit,
    drops=TABLE_ENDINGS,
    streams=_streams,
    is_one=lambda path: has_columns(path, ("time", "sensor")),
    header=",".join(COLUMNS),
)
