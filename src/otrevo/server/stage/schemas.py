"""What the Stage's routes take and give."""

from datetime import datetime
from typing import Literal

from ninja import Field, Schema

from otrevo.server.given import Given


class StageRunOut(Schema):
    id: int
    name: str
    state: str
    progress: float
    message: str
    asked_at: datetime


class RigCameraOut(Schema):
    id: str
    width: int
    height: int


class BlindOut(Schema):
    """A disc of a camera's picture that is left out, pixels; share: of the frames in which something was there."""

    camera: str
    x: float
    y: float
    radius: float
    share: float = 1.0
    by_hand: bool = False


class WandOut(Schema):
    name: str
    markers_m: list[list[float]]


class KnockedOut(Schema):
    """A camera that does not stand where the calibration says, from since_s of the take on."""

    camera: str
    since_s: float
    shift_px: float


class RecordingOut(Schema):
    id: int
    kind: str
    wand: str | None
    source: str
    seconds: float
    notes: list[str]
    made_at: datetime
    made_by: str
    stream_id: int
    frames: int


class CalibrationRow(Schema):
    id: int
    version: int
    how: str
    words: str
    world: str
    cameras: int
    failed: int
    reprojection_rms_px: float | None
    wand_rms_mm: float | None
    position_limit_mm: float | None
    made_at: datetime
    made_by: str
    source_id: int | None
    takes: int


class TrustRow(Schema):
    """A take against the calibration its points were rebuilt with."""

    take_id: int
    slate: str
    number: int
    calibration_id: int | None
    calibration_version: int | None
    knocked: list[KnockedOut]
    busy: bool
    older: bool


class RoomOut(Schema):
    id: int
    cameras: list[RigCameraOut]
    rate: str
    blinds: list[BlindOut]
    blinds_version: int
    blinds_words: str | None
    can_undo_blinds: bool
    can_redo_blinds: bool
    wands: list[WandOut]
    recordings: list[RecordingOut]
    calibrations: list[CalibrationRow]
    runs: list[StageRunOut]
    takes: list[TrustRow]
    simulated: bool


class CameraOut(Schema):
    """A calibrated camera as a calibration/1 document has it."""

    id: str
    width: int
    height: int
    focal_px: list[float]
    centre_px: list[float]
    distortion: list[float]
    position_m: list[float]
    rotation_xyzw: list[float]


class CameraFigures(Schema):
    """What the sweep said of one camera; by cells of its picture, rows from the top: how many sightings, and their mean
    residual x, y in pixels.
    """

    id: str
    samples: int
    rejected: int
    reprojection_rms_px: float | None
    covered: float
    coverage: list[list[int]] = []
    residual_pattern_px: list[list[list[float] | None]] = []
    focal_sd_px: float
    centre_sd_px: float
    position_sd_mm: float


class WandDistance(Schema):
    """A distance between two markers of the wand: as its description says, and as it was measured."""

    first: int
    last: int
    said_mm: float
    mean_mm: float
    sd_mm: float


class LevelFigures(Schema):
    floor_rms_mm: float | None = None
    floor_heights_mm: list[float] = []
    floor_left_out: int = 0
    bulge_mm: float | None = None
    wand_tilt_deg: float | None = None


class RoomFigures(Schema):
    """trail_m: positions of the wand in the sweep."""

    reprojection_rms_px: float | None = None
    position_limit_mm: float | None = None
    wand_rms_mm: float | None = None
    wand_mean_mm: float | None = None
    wand_sd_mm: float | None = None
    wand_worst_mm: float | None = None
    distances: list[WandDistance] = []
    trail_m: list[list[float]] = []
    level: LevelFigures | None = None


class StageCalibrationOut(Schema):
    row: CalibrationRow
    cameras: list[CameraOut]
    figures: RoomFigures
    rows: list[CameraFigures]
    failed: dict[str, str]
    notes: list[str]


class PlanOut(Schema):
    """Counts of cameras that see each place at one height, and the expected accuracy there; rows along z, columns along x."""

    x_m: list[float]
    z_m: list[float]
    height_m: float
    cameras: list[list[int]]
    sd_mm: list[list[float | None]]


class TrustOut(Schema):
    """Every camera's residual against the points of a take, for windows that begin at start_s; rows by camera."""

    calibration_version: int | None
    cameras: list[str]
    start_s: list[float]
    shift_px: list[list[float | None]]
    spread_px: list[list[float | None]]
    support: list[list[float | None]]


class MovedRow(Schema):
    id: str
    moved_mm: float
    turned_deg: float
    focal_px: float


class CompareOut(Schema):
    before: int
    after: int
    rows: list[MovedRow]
    world_turned_deg: float
    world_moved_mm: float
    only_before: list[str]
    only_after: list[str]


class RecordIn(Given):
    kind: Literal["still", "sweep", "wand on floor", "floor markers"]
    wand: str | dict | None = None


class StopIn(Given):
    keep: bool = True


class StepParameters(Schema):
    """What a step may be told; what is left out is the newest."""

    recording: int | None = None
    calibration: int | None = None
    wand_recording: int | None = None
    with_floor: bool = True
    marker_radius_mm: float = Field(7.0, ge=0, le=100)
    take: int | None = None
    camera: str | None = None


class StepIn(Given):
    name: str
    parameters: StepParameters = StepParameters()


class BlindsIn(Given):
    rows: list[dict]
    words: str = Field("blinds changed", max_length=160)
    based_on: int | None = None


class AdjustIn(Given):
    quarter_turns: int = 0
    raise_mm: float = 0.0


class RebuildIn(Given):
    takes: list[int]


class SizeIn(Given):
    cameras: int = Field(ge=6, le=24)


class KnockIn(Given):
    camera: str


class Words(Schema):
    words: str | None
