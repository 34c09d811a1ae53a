"""Read a file that somebody else wrote in a process of its own, with limits of memory and time.

Readers are libraries in C as often as not, and a damaged file can end them: by a wrong address, an endless loop or a
length of four thousand million. What happens in the child stays there, and the parent has one sentence to say. The
child hands back arrays and plain JSON through files; nothing of it is unpickled.
"""

import json
import math
import os
import resource
import signal
import subprocess
import sys
import tempfile
import time
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.catalogue import format_of_drop, format_of_file
from otrevo.core.formats.contract import FileStream
from otrevo.core.timecode.labels import TimecodeFormat

LEAST_MEMORY, MEMORY_PER_BYTE, MOST_MEMORY = 2 * 1024**3, 24, 8 * 1024**3
LEAST_S, BYTES_PER_S = 30.0, 4 * 1024**2
BESIDE_OTHERS = 6  # times as long where others compute as well, or where the child waits for what never comes


def read_dropped(path, name, timecode_format):
    """The FileStreams of a dropped file at `path` whose user calls it `name`.

    Raises InputError in one sentence that has the user's name for it, also where reading crashed, computed longer than
    30 s and a second for each 4 MiB, or needed more than 2 GiB of memory and 24 times the file's size.
    """
    module = format_of_drop(Path(path).name).read_by
    more = {"rate": str(timecode_format.rate), "drop": timecode_format.drop}
    with tempfile.TemporaryDirectory(prefix="otrevo-read-") as folder:
        found = ask_child(module, path, name, folder, more)
        return [
            FileStream(
                s["name"],
                s["kind"],
                Fraction(s["rate"]),
                np.load(Path(folder) / f"{i}.npy"),
                s["details"],
                s["of_performer"],
            )
            for i, s in enumerate(found["streams"])
        ]


def ask_child(module, path, name, folder, more):
    """The answer of `python -m module`, a reader in a process of its own, about the file at `path`, which users call `name`.

    It gets `more` with the path, a folder for arrays and its limits. Raises InputError as read_dropped does.
    """
    path = Path(path)
    size = path.stat().st_size
    seconds = LEAST_S + size / BYTES_PER_S
    memory = min(LEAST_MEMORY + MEMORY_PER_BYTE * size, MOST_MEMORY)
    request = {"path": str(path), "out": str(folder), "memory": memory, "seconds": seconds} | more
    environment = os.environ | {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    try:
        child = subprocess.run(
            [sys.executable, "-m", module], input=json.dumps(request).encode(), env=environment,
            timeout=BESIDE_OTHERS * seconds, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
        )  # fmt: skip
        slow = child.returncode == -signal.SIGXCPU
    except subprocess.TimeoutExpired:
        slow = True
    if slow:
        raise InputError(f"{name}: was not read within {seconds:.0f} s; it is probably damaged.")
    answer = Path(folder) / "answer.json"
    if not answer.is_file():
        raise InputError(f"{name}: reading it failed ({_how_it_ended(child)}); it is probably damaged.")
    found = json.loads(answer.read_text())
    if "error" in found:
        raise InputError(found["error"].replace(path.name, name))
    return found


def _how_it_ended(child):
    if child.returncode < 0:
        return f"the reader was stopped by {signal.Signals(-child.returncode).name}"
    if b"MemoryError" in child.stderr or b"bad_alloc" in child.stderr or b"Unable to allocate" in child.stderr:
        return "it asks for more memory than a file of its size may need"
    return f"the reader ended with status {child.returncode}"


def _answer(request):
    """What the child has to say. Raises InputError for a file that cannot be used."""
    path = Path(request["path"])
    timecode_format = TimecodeFormat(Fraction(request["rate"]), request["drop"])
    return answer_with(request, format_of_file(path).streams(path, timecode_format))


def answer_with(request, streams):
    """What a reader of dropped files has to say: {"streams": [...]} with the arrays of FileStreams written beside."""
    for i, stream in enumerate(streams):
        np.save(Path(request["out"]) / f"{i}.npy", np.ascontiguousarray(stream.data), allow_pickle=False)
    return {
        "streams": [
            {"name": s.name, "kind": s.kind, "rate": str(s.rate), "details": s.details, "of_performer": s.of_performer}
            for s in streams
        ]
    }  # fmt: skip


def answer_request(answer):
    """Be the child: take one request from standard input, and write what answer(request) says into its folder."""
    request = json.load(sys.stdin)
    resource.setrlimit(resource.RLIMIT_AS, (request["memory"], request["memory"]))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # of computing, not of waiting for a processor that others keep busy; this process has used some already
    seconds = math.ceil(time.process_time() + request["seconds"])
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, resource.RLIM_INFINITY))
    try:
        found = answer(request)
    except InputError as error:
        found = {"error": str(error)}
    text = json.dumps(found, allow_nan=False)
    (Path(request["out"]) / "answer.json").write_text(text)  # last: a crash before this leaves no answer


if __name__ == "__main__":
    answer_request(_answer)
