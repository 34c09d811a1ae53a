"""CSV read by named columns, with one sentence for everything that can be wrong with it."""

import re
from pathlib import Path

from otrevo.core.errors import InputError
from otrevo.core.formats.csv_layout import find_layout

MOST_BYTES = 2 * 1024**3
TAIL_BYTES = 4096
_NO_VALUE = re.compile(r"In CSV column #(\d+): .*invalid value '(.*)'")


def read_columns(path, kinds, holds):
    """A pyarrow Table of a CSV file, plain or compressed by gzip, that has at least one row; and what was odd.

    Parameters
    ----------
    path : path
    kinds : dict of str to type
        str (read as one dictionary), int or float for each column that the header has to name; others are left out.
    holds : str
        What the file should hold, for messages, such as "the suit of one take".

    Returns
    -------
    tuple of pyarrow.Table and list of str

    Raises
    ------
    InputError
        In one sentence.
    """
    import pyarrow as pa
    from pyarrow import csv

    path, header = Path(path), ",".join(kinds)
    types = {str: pa.dictionary(pa.int32(), pa.string()), int: pa.int64(), float: pa.float64()}
    wanted = {name: types[kind] for name, kind in kinds.items()}
    notes, wrong = [], []
    try:
        size = path.stat().st_size
        if size > MOST_BYTES:
            raise InputError(f"{path.name}: larger than 2 GiB; expected {holds}.")
        if not size:
            raise InputError(f"{path.name}: is empty; expected {holds}, {header}.")
        layout = find_layout(path, kinds)
        missing = [c for c in kinds if c not in layout.names]
        if missing:
            raise InputError(f"{path.name}: no column '{missing[0]}'; expected the header {header}.")
        last = "" if layout.compressed else _last_line(path, layout.encoding)

        def not_as_wide(row):
            if row.text.strip() == last and row.actual_columns < row.expected_columns:
                notes.append("the last line breaks off and was left out")
                return "skip"
            wrong.append(row)
            return "error"

        with pa.input_stream(str(path), compression="gzip" if layout.compressed else None) as file:
            table = csv.read_csv(
                file,
                csv.ReadOptions(
                    skip_rows=layout.lines_above + 1, column_names=layout.names, encoding=layout.encoding.removesuffix("-sig"),
                ),
                csv.ParseOptions(delimiter=layout.delimiter, invalid_row_handler=not_as_wide),
                csv.ConvertOptions(
                    column_types=wanted, strings_can_be_null=False, decimal_point=layout.decimal, include_columns=list(kinds),
                ),
            )  # fmt: skip
    except FileNotFoundError:
        raise InputError(f"{path.name}: there is no such file; expected {holds}, {header}.") from None
    except UnicodeDecodeError:
        raise InputError(f"{path.name}: is not text; expected {holds}, {header}.") from None
    except pa.ArrowInvalid as error:
        raise InputError(f"{path.name}: {_in_words(str(error), wrong, layout.names, kinds)}") from None
    except (OSError, EOFError) as error:
        raise InputError(f"{path.name}: {_unread(str(error))}") from None
    if table.num_rows == 0:
        raise InputError(f"{path.name}: no samples under the header.")
    return table.unify_dictionaries(), notes


def _last_line(path, encoding):
    with path.open("rb") as file:
        file.seek(max(0, path.stat().st_size - TAIL_BYTES))
        lines = file.read().decode(encoding, "replace").split("\n")
    return lines[-1].strip()


def _in_words(error, wrong, names, kinds):
    """What a parser says is wrong with a CSV file, as one says it; wrong: rows that are not as wide as the header, with these names."""
    if wrong:
        row = wrong[0]
        return f"a line has {row.actual_columns} columns where the header has {row.expected_columns}: {row.text[:60]}"
    found = _NO_VALUE.search(error)
    if found:
        name = names[int(found[1])]
        numbers = "whole numbers" if kinds[name] is int else "numbers"
        return f"column '{name}' holds '{found[2][:30]}'; expected {numbers}."
    if "Could not skip" in error:
        return "no samples under the header."
    if "UTF8" in error:
        return "is not text in UTF-8."
    return _unread(error)


def _unread(error):
    """The same where the file itself cannot be read to its end."""
    if "Truncated" in error:
        return "breaks off before its end; expected the whole file."
    return f"cannot be read as CSV ({error.splitlines()[0]})."
