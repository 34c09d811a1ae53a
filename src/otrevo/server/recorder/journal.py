"""What a recording has received, on disk as it comes: it outlives the recorder, and memory does not grow with it.

A recording has a folder. `about.json` says what is recorded; every source has `NAME.rows`, its samples as plain float32 one
after the other, and `NAME.pairs`, pairs of float64 that say more of them (where a device's clock stood; which frames are done).
Files are only ever added to. A process that is killed while it writes leaves half a sample at the end, which is cut off
when the file is opened again. No Django in here.
"""

import contextlib
import json
import os
import shutil
import time
from pathlib import Path

import numpy as np

BEGUN_S = 30.0  # a recording that begins has said by then what it is
PAD_ROWS = 4096  # of nothing, written at one time


class Rows:
    """A file of rows of `width` numbers. Writing raises OSError where it cannot be done, and then nothing was written."""

    def __init__(self, path, width, kind="<f4"):
        self.path, self.width, self.kind = Path(path), width, np.dtype(kind)
        self.row_bytes = width * self.kind.itemsize
        self.path.touch()
        self.file = self.path.open("r+b", buffering=0)
        self.count = self.path.stat().st_size // self.row_bytes
        self.cut(self.count)

    def __len__(self):
        return self.count

    def cut(self, count):
        """Leave the first rows alone."""
        self.count = min(count, self.count)
        self.file.truncate(self.count * self.row_bytes)
        self.file.seek(self.count * self.row_bytes)

    def add(self, rows):
        """Write rows (n, width) at the end."""
        data = np.asarray(rows, dtype=self.kind).reshape(-1, self.width)
        view = memoryview(data.tobytes())
        try:
            while len(view):
                view = view[self.file.write(view) :]
        except OSError:
            with contextlib.suppress(OSError):
                self.cut(self.count)
            raise
        self.count += len(data)

    def pad(self, count):
        """Rows of nothing up to so many."""
        while self.count < count:
            self.add(np.full((min(PAD_ROWS, count - self.count), self.width), np.nan))

    def read(self, start=0, end=None):
        """Rows [start, end) (n, width)."""
        end = self.count if end is None else min(end, self.count)
        size = max(0, end - start) * self.width
        return np.fromfile(self.path, self.kind, size, offset=start * self.row_bytes).reshape(-1, self.width)

    def close(self):
        self.file.close()


class Journal:
    """The folder of one recording. about: plain JSON; began: when it began, on the clock of this machine that nobody sets."""

    def __init__(self, folder, about):
        self.folder, self.about, self.opened = Path(folder), about, []

    @classmethod
    def begin(cls, root, about):
        """A new one in the folder `root`, with `began` and `boot` said of it."""
        about = dict(about) | {"began": now(), "boot": this_boot()}
        folder = Path(root) / f"{time.time_ns():x}"
        folder.mkdir(parents=True)
        text = folder / "about.json.part"
        text.write_text(json.dumps(about))
        text.rename(folder / "about.json")
        return cls(folder, about)

    def rows(self, name, width):
        self.opened.append(Rows(self.folder / f"{name}.rows", width))
        return self.opened[-1]

    def pairs(self, name):
        self.opened.append(Rows(self.folder / f"{name}.pairs", 2, "<f8"))
        return self.opened[-1]

    def runs_for_s(self):
        """Seconds since it began; more than were recorded, where the recorder was away."""
        return now() - self.about["began"]

    def goes_on(self, patience_s):
        """Whether it was written to so short a time ago, since this machine was started, that its devices still send."""
        written = [path.stat().st_mtime for path in self.folder.iterdir()]
        return self.about["boot"] == this_boot() and time.time() - max(written, default=0.0) < patience_s

    def is_kept(self):
        """What it holds is kept elsewhere, or by nobody: after a restart it is not looked at any more."""
        (self.folder / "about.json").unlink(missing_ok=True)

    def end(self):
        """Close and remove it: what it holds is kept elsewhere, or by nobody."""
        for rows in self.opened:
            rows.close()
        shutil.rmtree(self.folder, ignore_errors=True)


def unfinished(root):
    """The Journals that a recorder which ended left in a folder, oldest first; what cannot be read is left lying."""
    out = []
    for folder in sorted(Path(root).glob("*/about.json")):
        with contextlib.suppress(OSError, ValueError):
            out.append(Journal(folder.parent, json.loads(folder.read_text())))
    return out


def forget_kept(root):
    """Remove what was kept elsewhere and a recorder that ended had no time to remove."""
    for folder in Path(root).glob("*"):
        if folder.is_dir() and not [*folder.glob("about.json*")] and time.time() - folder.stat().st_mtime > BEGUN_S:
            shutil.rmtree(folder, ignore_errors=True)


def now():
    """Seconds on a clock that goes on while the machine sleeps, is never set, and is one for all processes."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


def this_boot():
    """A name for the time since this machine was started: `now` means nothing in another one."""
    with contextlib.suppress(OSError):
        return Path("/proc/sys/kernel/random/boot_id").read_text().strip()
    return f"pid 1 of {os.stat('/proc/1').st_ctime:.0f}"
