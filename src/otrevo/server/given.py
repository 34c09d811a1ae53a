"""What browsers give: a Schema whose texts have no characters that cannot be seen."""

import unicodedata

from ninja import Schema
from pydantic import model_validator

LINES = {"note"}  # texts of several lines, by the names of their fields
TURNING = {*map(chr, range(0x202A, 0x202F)), *map(chr, range(0x2066, 0x206A))}  # they show a name as another one


class Given(Schema):
    """Base of everything that comes in a request."""

    @model_validator(mode="before")
    @classmethod
    def check_texts(cls, values):
        told = getattr(values, "_obj", values)  # as the framework wraps it
        if isinstance(told, dict):
            for name, value in told.items():
                for text in _texts(value):
                    if bad := next((c for c in text if _is_hidden(c, name in LINES)), None):
                        raise ValueError(f"{name} has a character that cannot be seen (U+{ord(bad):04X})")
        return values


def _texts(value):
    if isinstance(value, str):
        yield value
    elif isinstance(value, (list, tuple)):
        for one in value:
            yield from _texts(one)
    elif isinstance(value, dict):
        for key, one in value.items():
            yield str(key)
            yield from _texts(one)


def _is_hidden(character, lines):
    if lines and character in "\n\r\t":
        return False
    return unicodedata.category(character) == "Cc" or character in TURNING
