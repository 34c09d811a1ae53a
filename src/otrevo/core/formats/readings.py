"""Device readings as CSV: what each worn device sent, as it came, on the take's time by its fitted clock."""

import numpy as np

from otrevo.core.formats.contract import Format, PackageFile
from otrevo.core.formats.table import read_table, write_table

ENDING = "_readings.csv"
DIGITS = 6


def _check(path):
    read_table(path, "readings")


def _file(device, readings):
    def compare(path):
        times, values, names = read_table(path, "readings")
        if names != tuple(readings.names) or values.shape != readings.values.shape:
            return {"fault": "read back with other channels or another length than it was written with"}
        lost = np.isnan(values) != np.isnan(readings.values)
        off = np.nanmax(np.abs(values - readings.values), initial=0.0)
        if lost.any() or off > 10.0**-DIGITS or np.abs(times - readings.times_s).max(initial=0.0) > 1e-6:
            return {"fault": f"read back up to {off:g} away from what was recorded"}
        return {}

    def write(path):
        write_table(path, readings.times_s, readings.values, readings.names, DIGITS)

    return PackageFile(f"_{device}{ENDING}", write, compare)


FORMAT = Format(
    id="readings",
    words="CSV, readings of the worn devices",
    holds="readings",
    conventions="CSV, seconds, the device's own units",
    ending=ENDING,
    check=_check,
    files=lambda take, rate: [_file(device, readings) for device, readings in take.readings.items()],
    usual=False,
)
