"""What belongs to one take on one character: heights, reach, the floor. `retarget/1`."""

from dataclasses import dataclass, field

import numpy as np

from otrevo.core.errors import InputError

REACHING = ("leftHand", "rightHand", "leftFoot", "rightFoot")
PLACES = ("room", "other", "body", "prop")


@dataclass(frozen=True)
class RetargetSettings:
    """hips_height: factor on the character's standing height; scale: of the path, "character" or "performer".

    reach: {limb: [(seconds, 0 to 1), ...]}: from keeping the angle to keeping the place; reach_on: {limb: where that place is: in the
    "room", on the "other" hand or foot, on the own "body", or on a "prop" near it}; floor: soles stay over it; stance: whose rest posture, "character" or "performer"; out_of_reach: "lean" towards what is too far, or only "report" it.
    prop_size: of held props, "performer" for as they are or "character" for in its proportion. effectors: tracks for hips, hands,
    feet, elbows and knees come along, also those that the map sheet does not name.
    """

    hips_height: float = 1.0
    scale: str = "character"
    reach: dict = field(default_factory=dict)
    floor: bool = True
    stance: str = "character"
    out_of_reach: str = "lean"
    prop_size: str = "performer"
    reach_on: dict = field(default_factory=dict)
    effectors: bool = False

    def reach_at(self, limb, times):
        """The reach (T,) of a limb at times (T,)."""
        points = self.reach.get(limb)
        if not points:
            return np.zeros(len(times))
        seconds, values = np.array(points, dtype=float).T
        return np.interp(times, seconds, values)


def settings_from(document, where):
    """RetargetSettings of a `retarget/1` document. Raises InputError naming the place in it."""
    height = document.get("hips_height", 1.0)
    if not isinstance(height, (int, float)) or not 0.3 <= height <= 3:
        raise InputError(f"{where}: hips_height: {height!r}; expected a factor from 0.3 to 3.")
    chosen = {}
    for key, allowed in (
        ("scale", ("character", "performer")),
        ("stance", ("character", "performer")),
        ("out_of_reach", ("lean", "report")),
        ("prop_size", ("performer", "character")),
    ):
        chosen[key] = document.get(key, allowed[0])
        if chosen[key] not in allowed:
            raise InputError(f"{where}: {key}: {chosen[key]!r}; expected {' or '.join(allowed)}.")
    switches = {"floor": document.get("floor", True), "effectors": document.get("effectors", False)}
    for key, value in switches.items():
        if not isinstance(value, bool):
            raise InputError(f"{where}: {key}: {value!r}; expected true or false.")
    given = document.get("reach") or {}
    if not isinstance(given, dict):
        raise InputError(f"{where}: reach: expected an object of limbs.")
    reach = {limb: _points(limb, value, where) for limb, value in given.items()}
    on = document.get("reach_on") or {}
    if not isinstance(on, dict):
        raise InputError(f"{where}: reach_on: expected an object of limbs.")
    for limb, place in on.items():
        if limb not in REACHING or place not in PLACES:
            raise InputError(
                f"{where}: reach_on: {limb}: {place!r}; expected a hand or foot and one of {', '.join(PLACES)}."
            )
    return RetargetSettings(float(height), reach=reach, reach_on=dict(on), **switches, **chosen)


def _points(limb, value, where):
    if limb not in REACHING:
        raise InputError(f"{where}: reach: there is no limb '{limb}'; expected {', '.join(REACHING)}.")
    points = [[0.0, value]] if isinstance(value, (int, float)) else value
    try:
        table = np.array(points, dtype=float)
    except (TypeError, ValueError):
        table = np.zeros((0, 0))
    if table.ndim != 2 or table.shape[1] != 2 or not len(table) or not np.isfinite(table).all():
        raise InputError(
            f"{where}: reach.{limb}: expected a number from 0 to 1, or pairs of seconds and such a number."
        )
    if table[:, 1].min() < 0 or table[:, 1].max() > 1:
        raise InputError(f"{where}: reach.{limb}: {table[:, 1].min():g} to {table[:, 1].max():g}; expected 0 to 1.")
    if (np.diff(table[:, 0]) < 0).any():
        raise InputError(f"{where}: reach.{limb}: its seconds run backwards.")
    return [tuple(p) for p in table.tolist()]
