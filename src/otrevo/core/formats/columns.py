"""CSV read by named columns, with one sentence for everything that can be wrong with it."""

from pathlib import Path

from otrevo.core.errors import InputError

MOST_BYTES = 2 * 1024**3


def read_columns(path, kinds, holds):
    """A pyarrow Table of a CSV file, plain or .gz, that has at least one row.

    Parameters
    ----------
    path : path
    kinds : dict of str to type
        str (read as one dictionary), int or float for each column that the header has to name; others are read as they are.
    holds : str
        What the file should hold, for messages, such as "the suit of one take".

    Returns
    -------
    pyarrow.Table

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
    try:
        if path.stat().st_size > MOST_BYTES:
            raise InputError(f"{path.name}: larger than 2 GiB; expected {holds}.")
        table = csv.read_csv(path, convert_options=csv.ConvertOptions(column_types=wanted, strings_can_be_null=False))
        missing = [c for c in kinds if c not in table.column_names]
    except FileNotFoundError:
        raise InputError(f"{path.name}: there is no such file; expected {holds}, {header}.") from None
    except UnicodeDecodeError:
        raise InputError(f"{path.name}: is not text; expected {holds}, {header}.") from None
    except (pa.ArrowInvalid, OSError, EOFError) as error:
        reason = str(error).splitlines()[0].removeprefix("CSV parse error: ").removeprefix("In CSV column ")
        raise InputError(f"{path.name}: cannot be read as {header} ({reason}).") from None
    if missing:
        raise InputError(f"{path.name}: no column '{missing[0]}'; expected the header {header}.")
    if table.num_rows == 0:
        raise InputError(f"{path.name}: no samples under the header.")
    return table.unify_dictionaries()
