"""CSV with a row for each source and moment: one column says whose the row is, all others are numbers."""

from pathlib import Path

import numpy as np

from otrevo.core.formats.columns import read_columns

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
    table = read_columns(path, {name: str if name == source else float for name in columns}, holds)
    coded = table[source].combine_chunks()
    names = [n.strip() for n in coded.dictionary.to_pylist()]
    values = np.stack([np.asarray(table[c].to_numpy(), dtype=float) for c in columns if c != source], axis=1)
    return names, coded.indices.to_numpy(), values
