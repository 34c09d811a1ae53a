"""What a tracker says of rigid bodies: where each is and how it is turned, over time. Read from files, with unit and up found out."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from otrevo.core.conventions import make_continuous, quaternion_multiply, quaternion_rotate, slerp
from otrevo.core.errors import InputError

COLUMNS = ("time", "body", "px", "py", "pz", "qx", "qy", "qz", "qw")
MOST_BYTES = 2 * 1024**3
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
    import pyarrow as pa
    from pyarrow import csv

    path = Path(path)
    header = ",".join(COLUMNS)
    wanted = {name: pa.string() if name == "body" else pa.float64() for name in COLUMNS}
    try:
        if path.stat().st_size > MOST_BYTES:
            raise InputError(f"{path.name}: larger than 2 GiB; expected the rigid bodies of one take.")
        table = csv.read_csv(path, convert_options=csv.ConvertOptions(column_types=wanted, strings_can_be_null=False))
    except FileNotFoundError:
        raise InputError(f"{path.name}: there is no such file; expected rigid bodies, {header}.") from None
    except (pa.ArrowInvalid, OSError, EOFError) as error:
        reason = str(error).splitlines()[0].removeprefix("CSV parse error: ").removeprefix("In CSV column ")
        raise InputError(f"{path.name}: cannot be read as {header} ({reason}).") from None
    missing = [c for c in COLUMNS if c not in table.column_names]
    if missing:
        raise InputError(f"{path.name}: no column '{missing[0]}'; expected the header {header}.")
    if table.num_rows == 0:
        raise InputError(f"{path.name}: no samples under the header.")
    coded = table["body"].dictionary_encode().combine_chunks()
    names = [n.strip() for n in coded.dictionary.to_pylist()]
    values = np.stack([np.asarray(table[c].to_numpy(), dtype=float) for c in COLUMNS if c != "body"], axis=1)
    return bodies_recording(values[:, 0], coded.indices.to_numpy(), names, values[:, 1:4], values[:, 4:], path.name)


def bodies_recording(times_s, body, names, position, rotation, where="bodies"):
    """Put the samples of rigid bodies on one grid of time, in metres with +Y up.

    Parameters
    ----------
    times_s : ndarray (K,)
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
    notes, back, twice = [], 0, 0
    size = np.linalg.norm(rotation, axis=1)
    good = np.isfinite(position).all(axis=1) & np.isfinite(times_s) & (np.abs(size - 1) < 0.1)
    if not good.all():
        notes.append(f"{(~good).sum()} samples have no place or no rotation; left out")
    parts = {}
    for i, name in enumerate(names):
        mine = np.flatnonzero((body == i) & good)
        if len(mine) < 2:
            notes.append(f"'{name}' has no samples; left out")
            continue
        back += int((np.diff(times_s[mine]) < 0).sum())
        order = mine[np.argsort(times_s[mine], kind="stable")]
        once = np.concatenate([[True], np.diff(times_s[order]) > 1e-6])
        twice += int((~once).sum())
        parts[name] = order[once]
    if not parts:
        raise InputError(f"{where}: no body has two good samples; expected a place and a unit rotation for each.")
    if back > 0.05 * sum(len(p) for p in parts.values()):
        raise InputError(f"{where}: time runs backwards {back} times; expected seconds that increase.")
    if back:
        notes.append(f"{back} samples came late and were sorted in")
    if twice:
        notes.append(f"{twice} samples were there twice; kept once")
    names = tuple(parts)
    rate = 1.0 / np.median(np.concatenate([np.diff(times_s[parts[n]]) for n in names]))
    start, end = min(times_s[p[0]] for p in parts.values()), max(times_s[p[-1]] for p in parts.values())
    if not SLOWEST_HZ <= rate <= FASTEST_HZ:
        raise InputError(f"{where}: {rate:.1f} samples a second; expected {SLOWEST_HZ:.0f} to {FASTEST_HZ:.0f}.")
    if end - start < SHORTEST_S:
        raise InputError(f"{where}: {end - start:.1f} s long; expected at least {SHORTEST_S:.0f} s.")
    rate = round(rate, 1) if abs(rate - round(rate, 1)) < 0.02 else rate
    at = start + np.arange(int((end - start) * rate + 1e-6) + 1) / rate
    places, turns = np.full((len(at), len(names), 3), np.nan), np.full((len(at), len(names), 4), np.nan)
    for n, name in enumerate(names):
        own = times_s[parts[name]]
        after = np.clip(np.searchsorted(own, at - 1e-9), 1, len(own) - 1)
        near = np.minimum(np.abs(at - own[after]), np.abs(at - own[after - 1])) < 1e-4
        known = (at >= own[0] - 1e-9) & (at <= own[-1] + 1e-9)
        known &= near | (own[after] - own[after - 1] <= max(LONGEST_GAP_S, 1.6 / rate))
        q = make_continuous(rotation[parts[name]] / size[parts[name], None])
        turns[known, n] = slerp(own, q, at[known])
        for k in range(3):
            places[known, n, k] = np.interp(at[known], own, position[parts[name], k])
    unit = "mm" if np.nanmedian(np.abs(places).max(axis=2)) > MM_BEYOND else "m"
    if unit == "mm":
        places = places / 1000.0
        notes.append("places are in millimetres")
    up = _up(places, names)
    if up == "Z":
        places, turns = quaternion_rotate(_Z_TO_Y, places), quaternion_multiply(_Z_TO_Y, turns)
        notes.append("Z is up")
    return BodiesRecording(names, float(rate), float(start), places, turns, unit, up, tuple(notes))


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
