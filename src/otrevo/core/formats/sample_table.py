"""CSV with a row for each source and moment: one column says whose the row is, all others are numbers."""

from pathlib import Path

import numpy as np

from otrevo.core.errors import InputError

MOST_BYTES = 2 * 1024**3
MOST_HEADER_BYTES = 4096


def has_columns(path, columns):
    """Whether the first line of a file names all these columns."""
    with Path(path).open("rb") as file:
        header = file.readline(MOST_HEADER_BYTES)
    said = [word.strip().strip('"') for word in header.decode("utf-8-sig", "replace").split(",")]
    return set(columns) <= set(said)


def read_samples(path, columns, source, holds):
    """Read such a table.

    Parameters
    ----------
    path : path
    columns : sequence of str
        All that the header has to name.
    source : str
        The one of them that names the source.
    holds : str
        What the file should hold, for messages, such as "the suit of one take".

    Returns
    -------
    tuple of list of str, ndarray (K,) of int and ndarray (K, C)
        Names of the sources, which of them each row is of, and the numbers in the order of the other columns.

    Raises
    ------
    InputError
        In one sentence.
    """
    import pyarrow as pa
    from pyarrow import csv

    path, header = Path(path), ",".join(columns)
    wanted = {name: pa.string() if name == source else pa.float64() for name in columns}
    try:
        if path.stat().st_size > MOST_BYTES:
            raise InputError(f"{path.name}: larger than 2 GiB; expected {holds}.")
        table = csv.read_csv(path, convert_options=csv.ConvertOptions(column_types=wanted, strings_can_be_null=False))
    except FileNotFoundError:
        raise InputError(f"{path.name}: there is no such file; expected {holds}, {header}.") from None
    except (pa.ArrowInvalid, OSError, EOFError) as error:
        reason = str(error).splitlines()[0].removeprefix("CSV parse error: ").removeprefix("In CSV column ")
        raise InputError(f"{path.name}: cannot be read as {header} ({reason}).") from None
    missing = [c for c in columns if c not in table.column_names]
    if missing:
        raise InputError(f"{path.name}: no column '{missing[0]}'; expected the header {header}.")
    if table.num_rows == 0:
        raise InputError(f"{path.name}: no samples under the header.")
    coded = table[source].dictionary_encode().combine_chunks()
    names = [n.strip() for n in coded.dictionary.to_pylist()]
    values = np.stack([np.asarray(table[c].to_numpy(), dtype=float) for c in columns if c != source], axis=1)
    return names, coded.indices.to_numpy(), values
