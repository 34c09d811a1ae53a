"""What a suit sent, on one grid of time and with +Y up."""

from dataclasses import dataclass, replace

import numpy as np

from otrevo.core.conventions import quaternion_multiply, quaternion_rotate
from otrevo.core.errors import InputError
from otrevo.core.samples import common_grid, in_order, on_grid
from otrevo.core.solve.suit import SUIT_BONES

CALLED = {"pelvis": "hips"}  # names of sensors that are not the bone's own
SLOWEST_HZ, FASTEST_HZ = 15.0, 1000.0
LONGEST_GAP_S = 0.06  # what is lost for longer stays unknown
SHORTEST_S = 1.0
GRAVITY_MS2 = 9.81
_Z_TO_Y = np.array([-np.sqrt(0.5), 0.0, 0.0, np.sqrt(0.5)])


@dataclass(frozen=True)
class SuitRecording:
    """names (S): the bones that sensors say they are on; rate_hz; start_s: the device's time of the first sample.

    rotation (T, S, 4): from the sensor's axes to its filter's world, +Y up; force_ms2 (T, S, 3): specific force in the sensor's axes;
    both NaN where nothing came. up: "Y" or "Z", as it was in the file; notes: what was odd.
    """

    names: tuple[str, ...]
    rate_hz: float
    start_s: float
    rotation: np.ndarray
    force_ms2: np.ndarray
    up: str = "Y"
    notes: tuple[str, ...] = ()

    def __len__(self):
        return len(self.rotation)

    @property
    def times_s(self):
        """Of the device's clock, (T,)."""
        return self.start_s + np.arange(len(self)) / self.rate_hz

    def only(self, names):
        """The same with the sensors of these names, in their order."""
        at = [self.names.index(n) for n in names]
        return replace(self, names=tuple(names), rotation=self.rotation[:, at], force_ms2=self.force_ms2[:, at])


def suit_recording(times_s, sensor, names, rotation, force_ms2, where="suit"):
    """Put a suit's samples on one grid.

    Parameters
    ----------
    times_s : ndarray (N,)
        Seconds of the device's clock.
    sensor : ndarray (N,) of int
        Which of `names` each sample is of.
    names : sequence of str
    rotation : ndarray (N, 4)
        From the sensor's axes to its filter's world, x y z w, +Y or +Z up.
    force_ms2 : ndarray (N, 3)
    where : str
        For messages.

    Returns
    -------
    SuitRecording

    Raises
    ------
    InputError
        Time that runs backwards, unknown sensors, rates or readings that no suit sends.
    """
    notes, bones = [], [CALLED.get(n, n) for n in names]
    unknown = [names[i] for i, b in enumerate(bones) if b not in SUIT_BONES]
    if len(unknown) == len(names):
        raise InputError(
            f"{where}: no sensor of a suit ('{unknown[0]}'); expected names such as pelvis, chest, leftUpperArm."
        )
    if unknown:
        notes.append(f"left out what is not a sensor of a suit: {', '.join(sorted(unknown))}")
    size = np.linalg.norm(rotation, axis=1)
    good = np.isfinite(times_s) & np.isfinite(force_ms2).all(axis=1) & (np.abs(size - 1) < 0.2)
    if not good.any():
        raise InputError(f"{where}: no sample with a rotation and a force; expected unit quaternions and m/s².")
    if not good.all():
        notes.append(f"{int((~good).sum())} of {len(good)} samples held no rotation or no number and were left out")
    known = [b for b in bones if b in SUIT_BONES]
    double = next((b for b in known if known.count(b) > 1), None)
    if double:
        raise InputError(f"{where}: two sensors are called {double}; expected each once.")
    found, odd = in_order(
        times_s, sensor, good & np.isin(sensor, [i for i, b in enumerate(bones) if b in SUIT_BONES]), where
    )
    parts = {bones[i]: rows for i, rows in found.items()}
    if not parts:
        raise InputError(f"{where}: no sensor has two samples; expected a recording.")
    notes += odd
    names = tuple(b for b in SUIT_BONES if b in parts)
    rate, at = common_grid([times_s[parts[b]] for b in names], SLOWEST_HZ, FASTEST_HZ, SHORTEST_S, where)
    turned, force = np.empty((len(at), len(names), 4)), np.empty((len(at), len(names), 3))
    for s, bone in enumerate(names):
        part = parts[bone]
        unit = rotation[part] / np.maximum(size[part], 1e-9)[:, None]
        turned[:, s], force[:, s] = on_grid(times_s[part], unit, force_ms2[part], at, max(LONGEST_GAP_S, 1.6 / rate))
    up = _up(turned, force, where)
    if up == "Z":
        turned = quaternion_multiply(_Z_TO_Y, turned)
        notes.append("the filters' world has Z up")
    return SuitRecording(names, rate, float(at[0]), turned, force, up, tuple(notes))


def _up(rotation, force, where):
    """Which axis of the filters' world points up: the one along which specific force is 9.81 m/s² on average."""
    world = quaternion_rotate(rotation, force)
    mean = np.nanmedian(world.reshape(-1, 3), axis=0)
    axis = int(np.argmax(np.abs(mean[1:]))) + 1
    if not 0.75 * GRAVITY_MS2 < mean[axis] < 1.25 * GRAVITY_MS2:
        raise InputError(
            f"{where}: turned into its world, specific force is {mean[axis]:.1f} m/s² along {'XYZ'[axis]} on average; expected "
            f"9.8 upwards along Y or Z (m/s², pointing up at rest; rotation from sensor to world)."
        )
    return "XYZ"[axis]
