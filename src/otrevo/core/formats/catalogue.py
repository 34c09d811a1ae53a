"""All file formats. A new one is a file that declares it and a line in FORMATS."""

from otrevo.core.errors import InputError
from otrevo.core.formats import (
    bvh,
    c3d,
    character_bvh,
    face_csv,
    glb,
    readings,
    rigid_bodies_csv,
    suit_table,
    usd,
    vrma,
    wav,
)

FORMATS = (
    bvh.FORMAT,
    c3d.FORMAT,
    face_csv.FORMAT,
    rigid_bodies_csv.FORMAT,
    suit_table.FORMAT,
    glb.FORMAT,
    usd.FORMAT,
    character_bvh.FORMAT,
    vrma.FORMAT,
    readings.FORMAT,
    wav.FORMAT,
)


def delivered():
    """The Formats that a package can hold."""
    return tuple(f for f in FORMATS if f.files is not None)


def dropped():
    """The endings of files that can be dropped on a slate."""
    return tuple(dict.fromkeys(ending for f in FORMATS for ending in f.drops))


def format_named(identity):
    """The Format of that id. Raises InputError naming those there are."""
    for found in delivered():
        if found.id == identity:
            return found
    raise InputError(f"There is no format '{identity}'; expected some of {', '.join(f.id for f in delivered())}.")


def format_of_drop(name):
    """The Format that reads a dropped file of that name. Raises InputError naming the endings that can be read."""
    for found in FORMATS:
        if found.drops and name.lower().endswith(found.drops):
            return found
    raise InputError(f"{name}: expected a file that ends in {', '.join(dropped())}.")


def format_of_file(path):
    """The Format of a dropped file by its name and, where several have its ending, by what is in it. Raises InputError."""
    first = format_of_drop(path.name)
    same = [f for f in FORMATS if f.is_one and set(f.drops) & set(first.drops)]
    if not same:
        return first
    found = next((f for f in same if f.is_one(path)), None)
    if found is None:
        headers = "; ".join(f"{f.header} ({f.words})" for f in same)
        raise InputError(f"{path.name}: no line in it is the header of a table that is known here; expected {headers}.")
    return found


def format_in_package(name):
    """The Format of a file in a package by its name, or None: the longest ending that fits."""
    fits = [f for f in FORMATS if f.files is not None and name.endswith(f.ending)]
    return max(fits, key=lambda f: len(f.ending), default=None)
