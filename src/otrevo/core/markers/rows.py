"""Rows of markers in `chart/1` and `prop/1` documents, checked the same way."""

import numpy as np

from otrevo.core.errors import InputError


def read_rows(rows, where, wanted, largest_m, origin, check=lambda row, place: None):
    """Names and offsets (K, 3) in metres of marker rows. Raises InputError naming the row.

    wanted: what a row should be, in words; largest_m: further than this from `origin` the unit must be wrong;
    check: what else a row has to hold, called with the row and its place.
    """
    names, offsets = [], []
    for i, row in enumerate(rows):
        place = f"{where}: markers[{i}]"
        if not isinstance(row, dict) or not isinstance(row.get("name"), str) or not row["name"]:
            raise InputError(f"{place}: expected an object with {wanted}.")
        if row["name"] in names:
            raise InputError(f"{place}: the name '{row['name']}' is used twice.")
        check(row, place)
        try:
            offset = np.array(row.get("offset_m"), dtype=float)
        except (TypeError, ValueError):
            offset = np.array([])
        if offset.shape != (3,) or not np.all(np.isfinite(offset)):
            raise InputError(f"{place}: offset_m must be three finite numbers in metres.")
        if np.abs(offset).max() > largest_m:
            raise InputError(
                f"{place}: offset_m is more than {largest_m:g} m from the {origin}; expected metres, not mm or cm."
            )
        names.append(row["name"])
        offsets.append(offset)
    return tuple(names), np.array(offsets)
