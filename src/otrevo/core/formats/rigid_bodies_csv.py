"""Rigid bodies of a tracker as CSV: `time,body,px,py,pz,qx,qy,qz,qw`, a row for each body and moment.

Seconds; where the body is and how it is turned, to the tracker's world: metres or millimetres, Y or Z up, which the data tell.
"""

from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.core.conventions import quaternion_multiply, quaternion_rotate
from otrevo.core.errors import InputError
from otrevo.core.formats.contract import FileStream, Format
from otrevo.core.formats.csv_layout import TABLE_ENDINGS
from otrevo.core.formats.sample_table import has_columns, read_samples
from otrevo.core.samples import common_grid, in_order, in_seconds, on_grid, without_repeats

COLUMNS = ("time", "body", "px", "py", "pz", "qx", "qy", "qz", "qw")
MOST_BODIES = 200
SLOWEST_HZ, FASTEST_HZ = 10.0, 1000.0
LONGEST_GAP_S = 0.1
SHORTEST_S = 1.0
MM_BEYOND = 20.0  # nobody is tracked so many metres away, or so few millimetres
_Z_TO_Y = np.array([-np.sqrt(0.5), 0.0, 0.0, np.sqrt(0.5)])


@dataclass(frozen=True)
class BodiesRecording:
    """names (N); rate_hz; start_s; position_m (T, N, 3) and rotation (T, N, 4) to the world, +Y up, NaN where a body was lost.

    unit: "m" or "mm" and up: "Y" or "Z", as they were in the file; notes: what was odd.
    """

    names: tuple[str, ...]
    rate_hz: float
    start_s: float
    position_m: np.ndarray
    rotation: np.ndarray
    unit: str
    up: str
    notes: tuple[str, ...] = ()

    def __len__(self):
        return len(self.position_m)


def read_bodies(path):
    """The BodiesRecording in a file. Raises InputError in one sentence."""
    names, body, values, notes = read_samples(path, COLUMNS, "body", "the rigid bodies of one take")
    found = bodies_recording(values[:, 0], body, names, values[:, 1:4], values[:, 4:], Path(path).name)
    return replace(found, notes=(*notes, *found.notes))


def bodies_recording(times_s, body, names, position, rotation, where="bodies"):
    """Put the samples of rigid bodies on one grid of time, in metres with +Y up.

    Parameters
    ----------
    times_s : ndarray (K,)
        Thousandths, millionths or billionths of a second are found out and said.
    body : ndarray (K,) of int
        Which of `names` each sample is of.
    names : sequence of str
    position : ndarray (K, 3)
        Metres or millimetres.
    rotation : ndarray (K, 4)
        To the tracker's world, x y z w, +Y or +Z up.
    where : str
        For messages.

    Returns
    -------
    BodiesRecording

    Raises
    ------
    InputError
        Time that runs backwards, too many bodies, or rates that no tracker has.
    """
    if len(names) > MOST_BODIES:
        raise InputError(f"{where}: {len(names)} bodies; expected at most {MOST_BODIES}.")
    times_s, notes = in_seconds(times_s, body, SLOWEST_HZ, FASTEST_HZ)
    size = np.linalg.norm(rotation, axis=1)
    good = np.isfinite(position).all(axis=1) & np.isfinite(times_s) & (np.abs(size - 1) < 0.1)
    if not good.all():
        notes.append(f"{(~good).sum()} samples have no place or no rotation; left out")
    parts, odd = in_order(times_s, body, good, where)
    if not parts:
        raise InputError(f"{where}: no body has two good samples; expected a place and a unit rotation for each.")
    notes += [f"'{name}' has no samples; left out" for i, name in enumerate(names) if i not in parts] + odd
    parts, held_s = without_repeats(parts, times_s, rotation, position)
    if held_s:
        told = ", ".join(f"'{names[i]}' for {s:.1f} s" for i, s in held_s.items())
        notes.append(f"sent the same place again and again, which counts as not seen: {told}")
    names, parts = tuple(names[i] for i in parts), list(parts.values())
    rate, at = common_grid([times_s[p] for p in parts], SLOWEST_HZ, FASTEST_HZ, SHORTEST_S, where)
    places, turns = np.empty((len(at), len(names), 3)), np.empty((len(at), len(names), 4))
    for n, part in enumerate(parts):
        turned = rotation[part] / size[part, None]
        turns[:, n], places[:, n] = on_grid(times_s[part], turned, position[part], at, max(LONGEST_GAP_S, 1.6 / rate))
    unit = "mm" if np.nanmedian(np.abs(places).max(axis=2)) > MM_BEYOND else "m"
    if unit == "mm":
        places = places / 1000.0
        notes.append("places are in millimetres")
    up = _up(places, names)
    if up == "Z":
        places, turns = quaternion_rotate(_Z_TO_Y, places), quaternion_multiply(_Z_TO_Y, turns)
        notes.append("Z is up")
    return BodiesRecording(names, rate, float(at[0]), places, turns, unit, up, tuple(notes))


def _up(position_m, names):
    """Which axis points up: along it bodies keep apart and hardly leave their heights, and nothing is under the floor."""
    middle, wander = np.nanmedian(position_m, axis=0), np.nanstd(np.nanmedian(position_m, axis=1), axis=0)
    score = {}
    for axis, name in ((1, "Y"), (2, "Z")):
        lowest = np.nanpercentile(position_m[..., axis], 1)
        score[name] = (
            np.ptp(middle[:, axis]) - 2 * wander[axis] - 4 * max(0.0, -0.1 - lowest) - 2 * max(0.0, lowest - 1.0)
        )
        heights = {
            word: [h for n, h in zip(names, middle[:, axis], strict=True) if word in n.lower()]
            for word in ("head", "foot")
        }
        if heights["head"] and heights["foot"]:
            score[name] += 2 * (np.median(heights["head"]) - np.median(heights["foot"]))
    return max(score, key=score.get)


def _streams(path, timecode_format):
    found = read_bodies(path)
    rate = Fraction(found.rate_hz).limit_denominator(1001)
    data = np.concatenate([found.position_m, found.rotation], axis=2)
    details = {"names": list(found.names), "notes": list(found.notes)}
    return [FileStream("tracker", "rigid bodies", rate, data, details, True)]


FORMAT = Format(
    id="rigid bodies",
    words="CSV, rigid bodies of a tracker",
    holds="rigid bodies",
    conventions="CSV, seconds, m or mm, Y or Z up",
    ending="_bodies.csv",
    check=read_bodies,
    drops=TABLE_ENDINGS,
    streams=_streams,
    is_one=lambda path: has_columns(path, ("time", "body")),
    header=",".join(COLUMNS),
)
