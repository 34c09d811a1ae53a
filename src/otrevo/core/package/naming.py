"""File names from the slate by the production's pattern, such as `{production}_{slate}_t{take:02d}_{performer}`."""

import re

from otrevo.core.errors import InputError

_FIELD = re.compile(r"\{([a-z]+)(?::0?([1-9])d?)?\}")  # no attribute, no index, no format but a width
FIELDS = ("production", "day", "slate", "scene", "take", "performer")


def clean(text):
    """A word fit for any file system: letters, digits and hyphens; nothing that could lead into another folder."""
    return re.sub(r"[^A-Za-z0-9]+", "-", str(text)).strip("-") or "unnamed"


def name_from_pattern(pattern, values):
    """The name the pattern gives: fields in braces, of which numbers may have a width, as {take:02d}. Raises InputError."""
    used = [m[1] for m in _FIELD.finditer(pattern)]
    left = _FIELD.sub("", pattern)
    if "{" in left or "}" in left:
        at = max(left.find("{"), left.find("}"), 0)
        raise InputError(
            f"The naming pattern has '{left[at : at + 20]}' in it; expected fields such as {{slate}} or {{take:02d}}."
        )
    unknown = [f for f in used if f not in FIELDS]
    if unknown:
        raise InputError(f"The naming pattern uses {{{unknown[0]}}}; expected {', '.join(f'{{{f}}}' for f in FIELDS)}.")
    if not {"slate", "take"} <= set(used):
        raise InputError("The naming pattern must contain {slate} and {take}, or two takes would share a name.")

    def filled(field):
        value, width = values[field[1]], int(field[2] or 0)
        return f"{value:0{width}d}" if isinstance(value, int) else clean(value)

    return re.sub(r"[^A-Za-z0-9_.-]+", "-", _FIELD.sub(filled, pattern)).lstrip(".")[:120]
