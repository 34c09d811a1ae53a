"""How a CSV file is written: what parts its columns, which sign its decimals have, and where its header is.

Spreadsheets part columns by semicolons where the comma is the decimal sign, and by tabs when they save text; devices put lines of their own above the header.
"""

import re
import zlib
from dataclasses import dataclass
from pathlib import Path

TABLE_ENDINGS = ".csv", ".tsv", ".txt", ".gz"  # of files that hold a table; what is in them tells which
LOOKED_AT_BYTES = 64 * 1024
MOST_LINES_ABOVE = 50
DELIMITERS = ",", ";", "\t"
_GZIP, _UTF16 = b"\x1f\x8b", (b"\xff\xfe", b"\xfe\xff")
_DECIMAL_COMMA = re.compile(r"[+-]?\d+,\d+")


@dataclass(frozen=True)
class CsvLayout:
    """names: the columns, those that were asked for as they were asked for; delimiter; decimal: its sign; lines_above: how many are above the
    header; encoding; compressed: whether it is gzip, whatever it is called.
    """

    names: tuple[str, ...]
    delimiter: str
    decimal: str
    lines_above: int
    encoding: str
    compressed: bool


def find_layout(path, columns):
    """The CsvLayout of the file in which a line names most of `columns`, the topmost of these. Upper and lower case are alike.

    Raises OSError where it cannot be opened.
    """
    with Path(path).open("rb") as file:
        begins = file.read(LOOKED_AT_BYTES)
    compressed = begins.startswith(_GZIP)
    if compressed:
        begins = _inflated(begins)
    encoding = "utf-16" if begins[:2] in _UTF16 else "utf-8-sig"
    lines = begins.decode(encoding, "replace").splitlines()
    best, above, delimiter = (), 0, DELIMITERS[0]
    for number, line in enumerate(lines[:MOST_LINES_ABOVE]):
        for sign in DELIMITERS:
            names = _names(line, sign, columns)
            if len(set(names) & set(columns)) > len(set(best) & set(columns)):
                best, above, delimiter = names, number, sign
    decimal = "."
    if delimiter != ",":
        cells = [cell.strip(' "') for line in lines[above + 1 : above + 50] for cell in line.split(delimiter)]
        decimal = "," if any(_DECIMAL_COMMA.fullmatch(cell) for cell in cells) else "."
    return CsvLayout(best, delimiter, decimal, above, encoding, compressed)


def _inflated(begins):
    """As much of what gzip compressed as its first bytes tell."""
    try:
        return zlib.decompressobj(wbits=31).decompress(begins, LOOKED_AT_BYTES)
    except zlib.error:
        return b""


def _names(line, delimiter, columns):
    """The names in a header, those of `columns` as they are there."""
    said = [name.strip().strip('"').strip() for name in line.split(delimiter)]
    alike = {c.casefold(): c for c in columns if c not in said}
    return tuple(alike.pop(name.casefold(), name) for name in said)
