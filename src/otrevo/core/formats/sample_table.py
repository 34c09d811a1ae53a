"""CSV with a row for each source and moment: one column says whose the row is, all others are numbers."""

import numpy as np

from otrevo.core.formats.columns import read_columns
from otrevo.core.formats.csv_layout import find_layout


def has_columns(path, columns):
    """Whether the header of a file names all these columns."""
    return set(columns) <= set(find_layout(path, columns).names)


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
    tuple of list of str, ndarray (K,) of int, ndarray (K, C) and list of str
        Names of the sources, which of them each row is of, the numbers in the order of the other columns, and what was odd.

    Raises
    ------
    InputError
        In one sentence.
    """
    table, notes = read_columns(path, {name: str if name == source else float for name in columns}, holds)
    coded = table[source].combine_chunks()
    names = [n.strip() for n in coded.dictionary.to_pylist()]
    values = np.stack([np.asarray(table[c].to_numpy(), dtype=float) for c in columns if c != source], axis=1)
    return names, coded.indices.to_numpy(), values, notes
