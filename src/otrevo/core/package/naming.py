"""File names from the slate by the production's pattern, such as `{production}_{slate}_t{take:02d}_{performer}`."""

import re
import string

from otrevo.core.errors import InputError

FIELDS = ("production", "day", "slate", "scene", "take", "performer")


def clean(text):
    """A word fit for any file system: letters, digits and hyphens; nothing that could lead into another folder."""
    return re.sub(r"[^A-Za-z0-9]+", "-", str(text)).strip("-") or "unnamed"


def name_from_pattern(pattern, values):
    """The name the pattern gives. Raises InputError for unknown fields or an empty pattern."""
    try:
        used = [f for _, f, _, _ in string.Formatter().parse(pattern) if f is not None]
    except ValueError as error:
        raise InputError(f"The naming pattern '{pattern}' is malformed: {error}.") from None
    unknown = [f for f in used if f not in FIELDS]
    if unknown:
        raise InputError(f"The naming pattern uses {{{unknown[0]}}}; expected {', '.join(f'{{{f}}}' for f in FIELDS)}.")
    if not {"slate", "take"} <= set(used):
        raise InputError("The naming pattern must contain {slate} and {take}, or two takes would share a name.")
    filled = {k: v if isinstance(v, int) else clean(v) for k, v in values.items()}
    try:
        name = pattern.format(**filled)
    except (ValueError, KeyError) as error:
        raise InputError(f"The naming pattern '{pattern}' cannot be filled: {error}.") from None
    return re.sub(r"[^A-Za-z0-9_.-]+", "-", name).lstrip(".")[:120]
