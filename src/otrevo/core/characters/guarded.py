"""Read a character file in a process of its own, as dropped files are: what damages a reader stays there."""

import tempfile
from pathlib import Path

from otrevo.core.formats.guarded import answer_request, ask_child


def read_guarded(path, name):
    """(character/1 document, map/1 document) of the file at `path`, which its user calls `name`.

    Raises InputError in one sentence for what cannot be understood, also where reading it crashed or took too long.
    """
    with tempfile.TemporaryDirectory(prefix="otrevo-read-") as folder:
        found = ask_child(__name__, path, name, folder, {"name": Path(name).stem})
    return found["character"] | {"name": Path(name).stem, "source": name}, found["map"] | {"character": Path(name).stem}


def _answer(request):
    from otrevo.core.characters.character import read_character
    from otrevo.core.characters.sheet import propose_sheet

    character, proposal = read_character(request["path"])
    return {"character": character.document(), "map": propose_sheet(character, proposal).document()}


if __name__ == "__main__":
    answer_request(_answer)
