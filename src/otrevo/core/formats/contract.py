"""What a file format says of itself, and what goes in and out through it.

A format is one file that declares a Format, and one line in `core.formats.catalogue`. Dropped files, the form of the
Handover, packages, their read-back and the command line come from there; no other place lists formats.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.core.body.kinematics import Motion


@dataclass(frozen=True)
class FileStream:
    """One stream of a take as a file brings it.

    name and kind: of the stream; rate: samples a second; data (T, ...), NaN where absent; details: what the stream's
    reader needs besides, and `notes` on what was odd about the file; of_performer: it is about the one who performs.
    """

    name: str
    kind: str
    rate: Fraction
    data: np.ndarray
    details: dict = field(default_factory=dict)
    of_performer: bool = False

    @property
    def seconds(self):
        return len(self.data) / float(self.rate)


@dataclass(frozen=True)
class Channels:
    """values (T, N), NaN where absent, of named channels at times_s (T,), seconds from a take's in point."""

    times_s: np.ndarray
    values: np.ndarray
    names: tuple[str, ...]


@dataclass(frozen=True)
class PackageTake:
    """One take as it goes into a package. Ranges and times are in take time; motion and markers already cut to in/out.

    name: file name without ending; props: the Motion of each prop by name; log: slate, take, status, note, timecodes;
    figures by pass; snags left (documents). tracks: Channels that devices added to the solve, by track name; readings:
    Channels as worn devices sent them, by device. characters: the PackageCharacters that the performer plays.
    """

    name: str
    motion: Motion
    marker_names: tuple[str, ...]
    markers_m: np.ndarray
    marker_rate: Fraction
    log: dict
    figures: dict
    snags: list
    runs: dict
    calibration: str
    props: dict = field(default_factory=dict)
    tracks: dict = field(default_factory=dict)
    readings: dict = field(default_factory=dict)
    characters: tuple = ()


@dataclass(frozen=True)
class PackageFile:
    """One file of a take in a package.

    ending: after the take's name, with the dot; write(path); compare(path) reads the file back and returns the largest
    differences from what was to be written: `position_mm`, `rotation_deg`, `shape_value`, and `fault`, a sentence.
    """

    ending: str
    write: Callable[[Path], None]
    compare: Callable[[Path], dict]


@dataclass(frozen=True)
class PackageCharacter:
    """A character that a performer plays in a take. name; files(format id, rate) -> PackageFiles of it at a delivery rate,
    none where the character's own file does not allow that format.

    scale, rotation_xyzw: take the numbers of its file to our axes and metres, for whoever shows it.
    """

    name: str
    files: Callable[[str, Fraction], list[PackageFile]]
    scale: float = 1.0
    rotation_xyzw: tuple = (0.0, 0.0, 0.0, 1.0)


def of_characters(identity):
    """The `files` of a Format that holds characters."""
    return lambda take, rate: [file for c in take.characters for file in c.files(identity, rate)]


@dataclass(frozen=True)
class Format:
    """id: stays the same for ever; words: as a person reads it in a form; holds: what is in it ("body", "markers");
    conventions: its units and axes, which a package's manifest says under `holds`.

    ending: of its files in a package; files(take, rate) -> PackageFiles at a delivery rate, none when the take lacks
    what the format holds; check(path) -> number of frames or None, raises InputError for what cannot be opened.
    drops: endings of files that can be dropped on a slate; streams(path, timecode_format) -> FileStreams; read_by: instead, the
    module that reads dropped files in a process of its own (core.formats.guarded), for what needs more than a format knows.
    A format without `files` cannot be delivered, one without `drops` cannot be dropped. is_one(path): whether a dropped file is of
    this format, where several have its ending; header: of its table, for whoever dropped one that is none of them.
    usual: a new package holds it unless somebody takes it out.
    """

    id: str
    words: str
    holds: str
    conventions: str
    ending: str
    check: Callable[[Path], int | None]
    files: Callable[[PackageTake, Fraction], list[PackageFile]] | None = None
    drops: tuple[str, ...] = ()
    streams: Callable[[Path, object], list[FileStream]] | None = None
    usual: bool = True
    read_by: str = "otrevo.core.formats.guarded"
    is_one: Callable[[Path], bool] | None = None
    header: str = ""
