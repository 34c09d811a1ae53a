"""Where the recorder, the cameras and the other devices listen, and how to ask the recorder or the cameras for something."""

import json
import os
import socket

from django.conf import settings

from otrevo.core.errors import InputError

PATIENCE_S = 30.0


def ports():
    """(recorder's port, cameras' port, the other devices' port), each None when nobody started them."""
    found = (os.environ.get(f"OTREVO_{name}_PORT") for name in ("RECORDER", "CAMERAS", "KIT"))
    return tuple(int(port) if port else None for port in found)


def greeting():
    """What the recorder wants to hear first: nobody else on this machine may command it."""
    return {"key": settings.RECORDER_KEY}


def to_stage(request):
    """A request as cameras and devices want it: the stand-ins listen to nobody who has not their key."""
    return request | {"key": settings.STAGE_KEY}


class NoRecorder(InputError):
    """The recorder does not answer."""


class RecorderBusy(InputError):
    """The recorder was asked, and has not answered yet: what it was asked for still comes to pass, but for a roll."""


def ask(request):
    """Ask the recorder and return its answer.

    Raises InputError with its sentence, NoRecorder when it cannot be reached, RecorderBusy when it takes longer than PATIENCE_S.
    """
    try:
        answer = _asked(ports()[0], greeting() | request)
    except TimeoutError:
        raise RecorderBusy("The recorder has a lot to do and has not answered yet; look again in a minute.") from None
    except (OSError, ValueError):
        raise NoRecorder("The recorder does not answer; start Otrevo again if it stays so.") from None
    return _sentence(answer)


def ask_cameras(request):
    """Ask the camera system itself, who it is or, where it is simulated, for something to happen. Raises InputError."""
    try:
        answer = _asked(ports()[1], to_stage({"otrevo": "stage/1"} | request))
    except (OSError, ValueError):
        raise InputError("The cameras cannot be reached; are they switched on?") from None
    return _sentence(answer)


def _asked(port, request):
    if port is None:
        raise ConnectionRefusedError
    with socket.create_connection(("127.0.0.1", port), timeout=PATIENCE_S) as link:
        link.sendall(json.dumps(request).encode() + b"\n")
        return json.loads(link.makefile("rb").readline())


def _sentence(answer):
    if "error" in answer:
        raise InputError(answer["error"])
    return answer
