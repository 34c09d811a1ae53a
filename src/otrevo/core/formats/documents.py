"""JSON documents of the core: `{"otrevo": "<kind>/1", ...}`, checked at the door, written whole or not at all."""

import json
import os
from pathlib import Path

from otrevo.core.errors import InputError


def read_document(path, kind):
    """The document at `path`, of the given kind such as "chart/1", None for any JSON. Raises InputError in one sentence."""
    path = Path(path)
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise InputError(
            f"{path.name}: there is no such file; expected {f'a {kind} document' if kind else 'JSON'}."
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"{path.name}: cannot be read as text ({error.__class__.__name__}); expected JSON.") from None
    return parse_document(text, kind, path.name)


def parse_document(text, kind, name):
    """The document in `text` (str or bytes) of a file called `name`. Raises InputError in one sentence."""

    def refuse(value):
        raise InputError(f"{name}: contains {value}; expected finite numbers or null.")

    try:
        document = json.loads(text, parse_constant=refuse)
    except json.JSONDecodeError as error:
        raise InputError(f"{name}: line {error.lineno}: not valid JSON ({error.msg}).") from None
    except UnicodeDecodeError as error:
        raise InputError(f"{name}: cannot be read as text ({error.__class__.__name__}); expected JSON.") from None
    if kind is None:
        return document
    found = document.get("otrevo") if isinstance(document, dict) else None
    if found != kind:
        raise InputError(f'{name}: this is {found or "not an Otrevo document"}; expected "otrevo": "{kind}".')
    return document


def write_document(path, document):
    """Write JSON whole or not at all."""
    write_whole(path, json.dumps(document, indent=1, allow_nan=False).encode() + b"\n")


def write_whole(path, data):
    """Write bytes to a neighbour file first, then rename, so that nobody ever finds half a file."""
    path = Path(path)
    partial = path.with_name(path.name + ".part")
    try:
        partial.write_bytes(data)
        os.replace(partial, path)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise InputError(f"{path.name}: could not be written ({error.strerror}); nothing was left behind.") from None
