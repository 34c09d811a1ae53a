"""The parts of Otrevo as processes of their own, watched: one that ends is started again, and the others go on.

What runs is written down in `parts.json` of the data folder, for whoever asks how Otrevo is doing and for the next start.
Whoever started the parts takes them along: the kernel ends them when it is killed itself.
"""

import contextlib
import ctypes
import fcntl
import json
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

LOOK_S = 0.05
BACK_OFF_S = (0.0, 0.5, 1.0, 2.0, 5.0, 10.0)  # before it is started again, the more often it ends in a row
CALM_S = 30.0  # one that has run so long ended for another reason than the time before
END_S = 10.0
_SET_DEATH_SIGNAL = 1  # prctl(2)
_LIBC = ctypes.CDLL(None)


def tied(death_signal=signal.SIGTERM):
    """For Popen's preexec_fn: a process that gets this signal when the thread that started it ends, however that happens."""
    parent = os.getpid()

    def tie():
        _LIBC.prctl(_SET_DEATH_SIGNAL, int(death_signal))
        if os.getppid() != parent:  # it ended in between
            os.kill(os.getpid(), death_signal)

    return tie


class Part:
    """name; start() -> Popen; end_signal: how it is asked to end."""

    def __init__(self, name, start, end_signal=signal.SIGTERM):
        self.name, self.start, self.end_signal = name, start, end_signal
        self.process, self.restarts, self.in_a_row, self.begun, self.due, self.why = None, 0, 0, 0.0, 0.0, ""

    @classmethod
    def of_python(cls, name, data, environment, home, *command):
        """A part that is a Python module, logging into the data folder."""

        def start():
            with (data / f"{name}.log").open("ab") as log:
                return subprocess.Popen(
                    [sys.executable, "-m", *command], stdout=log, stderr=log, stdin=subprocess.DEVNULL, cwd=home,
                    start_new_session=True, env=environment | {"OTREVO_PART": name}, preexec_fn=tied(),
                )  # fmt: skip

        return cls(name, start)

    def begin(self):
        self.process, self.begun = self.start(), time.monotonic()

    @property
    def runs(self):
        return self.process is not None and self.process.poll() is None

    def look(self, now):
        """Start it again when it has ended and its time has come. Returns what happened in words, or None."""
        if self.runs:
            return None
        if self.due == 0.0:
            self.in_a_row = 0 if now - self.begun > CALM_S else self.in_a_row + 1
            self.due = now + BACK_OFF_S[min(self.in_a_row, len(BACK_OFF_S)) - 1 if self.in_a_row else 0]
            self.why = _how_it_ended(self.process.returncode)
            if now < self.due:
                return f"{self.name} {self.why}; it is started again in {self.due - now:.1f} s"
        if now < self.due:
            return None
        self.due, self.restarts = 0.0, self.restarts + 1
        try:
            self.begin()
        except OSError as error:
            self.due = now + BACK_OFF_S[-1]
            return f"{self.name} could not be started again: {error}"
        return f"{self.name} {self.why}; started again"


def _how_it_ended(status):
    if status < 0:
        with contextlib.suppress(ValueError):
            return f"was ended by {signal.Signals(-status).name}"
    return f"ended with status {status}"


class Supervisor:
    """Parts that run together. say(words): what happens to them."""

    def __init__(self, data, say=print):
        self.data, self.say, self.parts = Path(data), say, []
        self.ending, self.ended, self.looking, self.watching = (
            threading.Event(),
            threading.Event(),
            threading.Lock(),
            None,
        )

    def add(self, part):
        """Start a part, or take over one that runs already, and look after it from now on."""
        if part.process is None:
            part.begin()
        self.parts.append(part)
        self._write()

    def watch(self):
        """Look after the parts beside this thread until `stop`."""
        self.watching = threading.Thread(target=self._watch, name="supervisor", daemon=True)
        self.watching.start()

    def _watch(self):
        while not self.ending.wait(LOOK_S):
            with self.looking:
                happened = [] if self.ending.is_set() else [w for p in self.parts if (w := p.look(time.monotonic()))]
            for words in happened:
                self.say(f"{time.strftime('%H:%M:%S')} {words}")
            if happened:
                self._write()
        self.ended.wait()  # the parts that this thread has started end with it, and not before their turn

    def _write(self):
        parts = {
            p.name: {
                "pid": p.process.pid,
                "runs": p.runs,
                "restarts": p.restarts,
                "why": p.why,
                "since": time.time() - (time.monotonic() - p.begun),
            }
            for p in self.parts
        }
        text = self.data / "parts.json.part"
        with contextlib.suppress(OSError):  # a full disk must not end the supervision
            text.write_text(json.dumps({"launcher": os.getpid(), "parts": parts}))
            text.replace(self.data / "parts.json")

    def stop(self):
        """End the parts, those that were started last first, and wait for them."""
        self.ending.set()
        with self.looking:
            pass  # nothing is being started any more
        first, rest = self.parts[:1], self.parts[1:]  # what all others need ends last
        for group in (rest, first):
            for part in reversed(group):
                if part.runs:
                    part.process.send_signal(part.end_signal)
            for part in group:
                try:
                    part.process.wait(END_S)
                except subprocess.TimeoutExpired:
                    part.process.kill()
                    part.process.wait()
        self.ended.set()
        (self.data / "parts.json").unlink(missing_ok=True)


def alone_in(data):
    """Hold the data folder for this process alone; None when another one holds it. The lock goes with the process."""
    file = (Path(data) / "launcher.lock").open("ab")  # noqa: SIM115, closed when the process ends
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        file.close()
        return None
    return file


def end_leftovers(data):
    """End what an earlier launcher left of this data folder, if anything; parts that are ending get the time they need."""
    with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
        told = json.loads((Path(data) / "parts.json").read_text())
        left = [p["pid"] for p in told["parts"].values() if _is_of(p["pid"], data)]
        for end_signal, seconds in ((signal.SIGINT, END_S), (signal.SIGKILL, 5.0)):
            for pid in left:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(pid, end_signal)
            deadline = time.monotonic() + seconds
            while (left := [pid for pid in left if _is_of(pid, data)]) and time.monotonic() < deadline:
                time.sleep(0.1)


def _is_of(pid, data):
    """Whether a process lives and was started for this data folder."""
    try:
        words = Path(f"/proc/{pid}/environ").read_bytes() + Path(f"/proc/{pid}/cmdline").read_bytes()
        state = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0]
    except OSError:
        return False
    return state != "Z" and str(data).encode() in words
