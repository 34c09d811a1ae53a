"""What a pass says of itself, what it works on and what it gives.

A pass is one file here that declares a Pass, and one line in `core.passes.catalogue`. Order, queueing, the API's
parameters, the strip on the Bench, the verdict, the command line and the shared tests come from there.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.skeleton import Skeleton
from otrevo.core.errors import InputError
from otrevo.core.snags import Snag


@dataclass(frozen=True)
class SampleClock:
    """Sample i lies at start_s + i / hz seconds of the take: a rate as it was fitted, drift included."""

    start_s: float
    hz: float

    def times(self, count):
        """Take times (count,) of the samples, seconds."""
        return self.start_s + np.arange(count) / self.hz


@dataclass(frozen=True)
class TakeStream:
    """A recorded stream or a computed track, as passes see it.

    owner: the performer it is about, by name, or "" for the room; prop: the prop it is about, by name, or "".
    read() -> samples (T, ...), NaN where absent; stamps (K, 2): sample numbers and the seconds of day shown there.
    clock: by the newest line-up, or by its nominal rate from the take's zero where there is none.
    identity: streams of one identity have the same samples; "" where nobody knows.
    """

    name: str
    kind: str
    rate: Fraction
    read: Callable[[], np.ndarray]
    clock: SampleClock
    stamps: np.ndarray = field(default_factory=lambda: np.zeros((0, 2)))
    details: dict = field(default_factory=dict)
    owner: str = ""
    prop: str = ""
    identity: str = ""


@dataclass(frozen=True)
class PlayedCharacter:
    """A character that a performer plays in a take: its Character, the MapSheet that says what moves it, and ShapeDrivers."""

    name: str
    character: object
    sheet: object
    drivers: tuple = ()


@dataclass(frozen=True)
class TakeMaterial:
    """All that a pass may work on.

    duration_s; zero_s: the take's zero in seconds of day; timecode_format; props: the Props in the take.
    streams: recorded, of the performer the pass is about and of the room, or of everybody for a pass about the take.
    made: tracks of the newest finished run of every pass, by pass; figures: of these runs, by pass.
    character: the PlayedCharacter that the pass is about, None for a pass about something else.
    performer_name, height_m, measures (what else was measured, metres) and performer, their PerformerCalibration or None: of the one the pass is about; chart: the
    Chart they wear in a warm-up, None for the shipped one.
    cameras, blinds (over them) and calibration_version: of the room's calibration, None where there is none.
    mends: accepted repairs, in order.
    """

    duration_s: float
    zero_s: float = 0.0
    timecode_format: object = None
    props: tuple = ()
    streams: tuple[TakeStream, ...] = ()
    made: Mapping[str, tuple[TakeStream, ...]] = field(default_factory=dict)
    figures: Mapping[str, dict] = field(default_factory=dict)
    performer_name: str = ""
    height_m: float = 0.0
    measures: Mapping[str, float] = field(default_factory=dict)
    performer: object = None
    chart: object = None
    character: object = None
    cameras: tuple | None = None
    blinds: tuple = ()
    calibration_version: int | None = None
    mends: tuple = ()

    def recorded(self, name):
        """The recorded TakeStream of that name, or None."""
        return next((s for s in self.streams if s.name == name), None)

    def track(self, of_pass, name, prop=""):
        """A track that the newest run of a pass made, or None."""
        return next((s for s in self.made.get(of_pass, ()) if (s.name, s.prop) == (name, prop)), None)

    def points(self):
        """(nameless points, their uncertainty or None): rebuilt, or as a file brought them. Raises InputError for none."""
        stream = self.track("rebuild", "optical") or self.recorded("optical")
        if stream is None:
            raise InputError("This take has no optical stream, so there is nothing to work on.")
        return stream, self.track("rebuild", "uncertainty")

    def solved_motion(self, performer):
        """The Motion of the newest solve, over the performer's skeleton, or None where there is none of that skeleton."""
        rotation, root = self.track("solve", "body rotation"), self.track("solve", "body root")
        if rotation is None or root is None or list(rotation.details["bones"]) != list(performer.skeleton.names):
            return None
        return Motion(performer.skeleton, rotation.rate, root.read().astype(float), rotation.read().astype(float))

    def body(self):
        """(Motion, its clock) of the newest solve, or as a file brought it. Raises InputError where there is neither."""
        rotation, root = self.track("solve", "body rotation"), self.track("solve", "body root")
        file = self.recorded("body file")
        if rotation is None and file is None:
            raise InputError("The take is not solved yet; run Solve first.")
        told = (rotation or file).details
        skeleton = Skeleton(tuple(told["bones"]), np.array(told["parents"]), np.array(told["offsets_m"]))
        if rotation is None:
            rows = file.read().astype(float)
            places, turns = rows[:, :3], rows[:, 3:].reshape(len(rows), -1, 4)
        else:
            places, turns = root.read().astype(float), rotation.read().astype(float)
        turns = turns / np.linalg.norm(turns, axis=-1, keepdims=True)
        found = rotation or file
        return Motion(skeleton, found.rate, places, turns), found.clock

    def calibrated_performer(self):
        """The performer's calibration. Raises InputError when there is none."""
        if self.performer is None:
            raise InputError(
                f"{self.performer_name} has no calibration yet; roll a warm-up in Cast, then run this pass again."
            )
        return self.performer


@dataclass(frozen=True)
class Track:
    """One track that a pass gives; prop: the prop it is about. The other fields are those of a TakeStream."""

    name: str
    kind: str
    rate: Fraction
    data: np.ndarray
    clock: SampleClock | None = None
    details: dict = field(default_factory=dict)
    prop: str = ""
    stamps: np.ndarray | tuple = ()


@dataclass(frozen=True)
class Outcome:
    """tracks; figures: plain JSON; snags; performer: a new PerformerCalibration document, from a warm-up only."""

    tracks: tuple[Track, ...] = ()
    figures: dict = field(default_factory=dict)
    snags: tuple[Snag, ...] = ()
    performer: dict | None = None


MOST_POINTS = 200


@dataclass(frozen=True)
class Parameter:
    """A setting of a pass. sentence: what it does and what is usual; whole: only whole numbers make sense.

    choices: where given, the words for 0, 1 and so on, of which a person chooses one. over_time: it may change in the take, and
    is then a list of [seconds, value], straight lines between.
    """

    name: str
    words: str
    default: float
    low: float
    high: float
    unit: str
    sentence: str
    step: float = 0.1
    whole: bool = False
    choices: tuple[str, ...] = ()
    over_time: bool = False

    def checked(self, value):
        """The value as a number, or as a list of [seconds, number]. Raises InputError with what was expected."""
        if self.over_time and isinstance(value, list):
            return self._points(value)
        try:
            number = float(value)
        except (TypeError, ValueError):
            number = float("nan")
        if not self.low <= number <= self.high or (self.whole and number != int(number)):
            kind = "a whole number" if self.whole else "a number"
            raise InputError(f"{self.words}: {value!r}; expected {kind} from {self.low:g} to {self.high:g}.")
        return int(number) if self.whole else number

    def _points(self, rows):
        """Checked [[seconds, number], ...] in order of time; one value for all of the take where there is one alone."""
        if not 1 <= len(rows) <= MOST_POINTS or not all(isinstance(r, (list, tuple)) and len(r) == 2 for r in rows):
            raise InputError(f"{self.words}: expected 1 to {MOST_POINTS} pairs of seconds and a number.")
        seconds = [r[0] for r in rows]
        if not all(isinstance(s, (int, float)) and 0 <= s < float("inf") for s in seconds) or seconds != sorted(
            seconds
        ):
            raise InputError(f"{self.words}: expected seconds from 0 on that do not run backwards.")
        return [[float(s), self.checked(v)] for s, v in rows]


MOST_ROWS = 200


@dataclass(frozen=True)
class SettingTable:
    """A setting with a value for each of several things, {name: value}; what is not in it is left to the pass.

    of: what may have a value, anything where empty; choices: where given, the words of which a value is one, and no two
    things may have the same; else values are numbers from low to high.
    """

    name: str
    words: str
    sentence: str
    of: tuple[str, ...] = ()
    choices: tuple[str, ...] = ()
    low: float = 0.0
    high: float = 1.0

    def checked(self, value):
        """The table as a new dict. Raises InputError with what was expected."""
        if not isinstance(value, dict) or len(value) > MOST_ROWS or not all(isinstance(k, str) for k in value):
            raise InputError(f"{self.words}: expected a value for each of at most {MOST_ROWS} names.")
        for name in value:
            if self.of and name not in self.of:
                raise InputError(f"{self.words}: there is no '{name}'; expected some of {', '.join(self.of)}.")
        return self._words(value) if self.choices else {k: self._number(k, v) for k, v in value.items()}

    def _words(self, value):
        for name, chosen in value.items():
            if chosen not in self.choices:
                raise InputError(f"{self.words}: '{chosen}' for {name}; expected one of {', '.join(self.choices)}.")
        chosen = list(value.values())
        twice = [w for w in chosen if chosen.count(w) > 1]
        if twice:
            both = [name for name, word in value.items() if word == twice[0]]
            raise InputError(f"{self.words}: {both[0]} and {both[1]} are both on {twice[0]}; expected one.")
        return dict(value)

    def _number(self, name, value):
        good = isinstance(value, (int, float)) and not isinstance(value, bool) and self.low <= value <= self.high
        if not good:
            raise InputError(f"{self.words}: {value!r} for {name}; expected {self.low:g} to {self.high:g}.")
        return float(value)


@dataclass(frozen=True)
class Figure:
    """The figure a pass is judged by. name: in the run's figures; good: the limit up to (or from) which it is good.

    Shown as sign, scale * value with `digits`, unit; sentence: what it means and why that limit.
    """

    name: str
    unit: str
    good: float
    sentence: str
    digits: int = 1
    sign: str = ""
    scale: float = 1.0
    more_is_better: bool = False

    def value(self, figures):
        """The figure as it is shown, or None when the run has none."""
        found = figures.get(self.name)
        return None if found is None else self.scale * float(found)

    def is_good(self, figures):
        value = self.value(figures)
        return value is None or (value >= self.good if self.more_is_better else value <= self.good)


@dataclass(frozen=True)
class Pass:
    """name: stays the same for ever; words: as a heading; doing, done: as "solving" and "solved".

    needs: passes whose tracks or figures it reads, or "performer"; streams: recorded streams of which a take has one
    at least that goes through it (none given: any take). about: "take", "performer" when it runs once for each of them, "character" when it
    runs once for each character that a performer plays, or "room", and then it works on a RoomMaterial and gives a
    RoomOutcome (core.passes.room).
    warm_up: only warm-ups go through it. run(material, parameters, report) -> Outcome; report(share) tells how far it
    is and may raise to stop it. aside(figures) -> a few words beside the figure.
    found_anew: kinds of its snags that a later pass, by name, looks for again once it is done.
    """

    name: str
    words: str
    doing: str
    done: str
    figure: Figure
    run: Callable[[TakeMaterial, dict, Callable[[float], None]], Outcome]
    aside: Callable[[dict], str]
    needs: tuple[str, ...] = ()
    about: str = "take"
    streams: tuple[str, ...] = ()
    parameters: tuple[Parameter, ...] = ()
    tables: tuple[SettingTable, ...] = ()
    warm_up: bool = False
    found_anew: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    def checked(self, given):
        """All parameters, those not given at their default. Raises InputError for an unknown or impossible one."""
        known = {p.name: p for p in (*self.parameters, *self.tables)}
        for name in given:
            if name not in known:
                expected = ", ".join(known) or "none"
                raise InputError(f"{self.words} has no setting '{name}'; it takes {expected}.")
        numbers = {p.name: p.checked(given.get(p.name, p.default)) for p in self.parameters}
        return numbers | {t.name: t.checked(given.get(t.name, {})) for t in self.tables}
