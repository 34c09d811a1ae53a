"""What the web socket of a production carries. The browser's types are made from this (docs/openapi.json)."""

from pydantic import BaseModel


class Change(BaseModel):
    """A row that changed: its table, what it is about where it says so, and the state of a run."""

    table: str
    state: str | None = None
    production: int | None = None
    take: int | None = None
    slate: int | None = None
    day: int | None = None
    room: int | None = None
    performer: int | None = None
    package: int | None = None


class Changed(BaseModel):
    """Everything that has changed since the last of these."""

    changed: list[Change]


class LiveCamera(BaseModel):
    """What a camera sees now: packets a second and lost ones, and points as x, y, radius in pixels."""

    id: str
    fps: float
    lost: int
    points: list[list[float]]


class CameraSweep(BaseModel):
    """How well the sweep so far covers one camera; cells and looks by rows of the picture."""

    id: str
    readings: int
    covered: float
    cells: list[list[float]]
    looks: list[list[int]]
    lacks: str
    share: float


class Sweep(BaseModel):
    """A sweep so far. Positions in metres of the room as it is known now; wanted: x, y, z and how many cameras lack it."""

    share: float
    good_enough: bool
    sentence: str
    go_to_m: list[float] | None
    positions_m: list[list[float] | None]
    been_m: list[list[float]]
    wanted: list[list[float]]
    cameras: list[CameraSweep]


class LiveDevice(BaseModel):
    """How a device is doing: samples a second, nominal and received, lost ones, the share of its parts that answer.
    waited_for: it has sent nothing yet, and may still be starting."""

    id: str
    words: str
    performer: str
    trouble: str | None
    rate: float
    hz: float
    lost: int
    waited_for: bool
    answering: float


class Knock(BaseModel):
    """A camera that does not stand any more where its calibration says."""

    camera: str
    shift_px: float
    at_s: float


class Live(BaseModel):
    """What the recorder sees of a room, some twelve times a second. sweep: only when it has changed."""

    kind: str
    recording: bool
    seconds: float
    frame: int
    timecode_s: float | None
    rate: float
    cameras: list[LiveCamera]
    points: list[list[float]]
    sweep: Sweep | None
    knocked: list[Knock]
    devices: list[LiveDevice]
    trouble: str | None


class Trouble(BaseModel):
    """Nothing is seen, and why."""

    trouble: str


MESSAGES = (Changed, Live, Trouble)
