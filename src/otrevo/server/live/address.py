"""Where the recorder and the cameras listen, and how to ask the recorder for something."""

import json
import os
import socket

from django.conf import settings

from otrevo.core.errors import InputError

PATIENCE_S = 30.0


def ports():
    """(recorder's port, cameras' port), each None when nobody started them."""
    found = (os.environ.get(name) for name in ("OTREVO_RECORDER_PORT", "OTREVO_CAMERAS_PORT"))
    return tuple(int(port) if port else None for port in found)


def greeting():
    """What the recorder wants to hear first: nobody else on this machine may command it."""
    return {"key": settings.SECRET_KEY}


class NoRecorder(InputError):
    """The recorder does not answer."""


def ask(request):
    """Ask the recorder and return its answer. Raises InputError with its sentence, NoRecorder when it cannot be reached."""
    port, _ = ports()
    try:
        if port is None:
            raise ConnectionRefusedError
        with socket.create_connection(("127.0.0.1", port), timeout=PATIENCE_S) as link:
            link.sendall(json.dumps(greeting() | request).encode() + b"\n")
            line = link.makefile("rb").readline()
        answer = json.loads(line)
    except (OSError, ValueError):
        raise NoRecorder("The recorder does not answer; start Otrevo again if it stays so.") from None
    if "error" in answer:
        raise InputError(answer["error"])
    return answer
