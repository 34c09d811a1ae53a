"""What a suit sent, on one grid of time and with +Y up."""

from dataclasses import dataclass, replace

import numpy as np

from otrevo.core.bone_names import worn_on
from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.samples import common_grid, in_order, in_seconds, on_grid, without_repeats
from otrevo.core.solve.suit import SUIT_BONES
from otrevo.core.words import in_words

CALLED = {"pelvis": "hips"}  # names of sensors that are not the bone's own
SLOWEST_HZ, FASTEST_HZ = 15.0, 1000.0
LONGEST_GAP_S = 0.06  # what is lost for longer stays unknown
SHORTEST_S = 1.0
GRAVITY_MS2 = 9.81
# a heading that leaps so far from one sample to the next, and twice as far as in the two before and after: its filter began anew
ANEW_RAD, ANEW_WITHIN_S, ANEW_UPRIGHT, BESIDE = np.radians(10.0), 0.025, np.cos(np.radians(15.0)), 2
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

    def samples(self):
        """(T, 17, 7) of SUIT_BONES as a stream holds them: rotation and force, NaN where lost or where there is no such sensor."""
        data = np.full((len(self), len(SUIT_BONES), 7), np.nan)
        data[:, [SUIT_BONES.index(n) for n in self.names]] = np.concatenate([self.rotation, self.force_ms2], axis=2)
        return data

    def only(self, names):
        """The same with the sensors of these names, in their order."""
        at = [self.names.index(n) for n in names]
        return replace(self, names=tuple(names), rotation=self.rotation[:, at], force_ms2=self.force_ms2[:, at])


def _bones_of(names):
    """(the bone that each sensor is on, or what else it is called, [note]): by our own names, else by what others call them."""
    bones = [CALLED.get(n, n) for n in names]
    if set(bones) <= set(SUIT_BONES):
        return bones, []
    called, notes = worn_on(names), []
    for i, name in enumerate(names):
        bone = called.get(name)
        if bones[i] not in SUIT_BONES and bone in SUIT_BONES and bone not in bones:
            bones[i] = bone
            notes.append(f"{name} as {in_words(bone)}")
    return bones, [f"sensors read as their names say: {', '.join(sorted(notes))}"] if notes else []


def suit_recording(times_s, sensor, names, rotation, force_ms2, where="suit"):
    """Put a suit's samples on one grid.

    Parameters
    ----------
    times_s : ndarray (N,)
        Of the device's clock; thousandths, millionths or billionths of a second are found out and said.
    sensor : ndarray (N,) of int
        Which of `names` each sample is of.
    names : sequence of str
    rotation : ndarray (N, 4)
        From the sensor's axes to its filter's world, x y z w, +Y or +Z up.
    force_ms2 : ndarray (N, 3)
        In the sensor's axes; if it is in g, that is found out and said.
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
    bones, notes = _bones_of(names)
    unknown = [names[i] for i, b in enumerate(bones) if b not in SUIT_BONES]
    if len(unknown) == len(names):
        raise InputError(
            f"{where}: no sensor of a suit ('{unknown[0]}'); expected names such as pelvis, chest, leftUpperArm."
        )
    if unknown:
        notes.append(f"left out what is not a sensor of a suit: {', '.join(sorted(unknown))}")
    size = np.linalg.norm(rotation, axis=1)
    times_s, unit = in_seconds(times_s, sensor, SLOWEST_HZ, FASTEST_HZ)
    notes += unit
    good = np.isfinite(times_s) & np.isfinite(force_ms2).all(axis=1) & (np.abs(size - 1) < 0.2)
    if not good.any():
        raise InputError(f"{where}: no sample with a rotation and a force; expected unit quaternions and m/s².")
    if not good.all():
        notes.append(f"{int((~good).sum())} of {len(good)} samples held no rotation or no number and were left out")
    known = [b for b in bones if b in SUIT_BONES]
    double = next((b for b in known if known.count(b) > 1), None)
    if double:
        raise InputError(f"{where}: two sensors are called {in_words(double)}; expected each once.")
    found, odd = in_order(
        times_s, sensor, good & np.isin(sensor, [i for i, b in enumerate(bones) if b in SUIT_BONES]), where
    )
    parts = {bones[i]: rows for i, rows in found.items()}
    if not parts:
        raise InputError(f"{where}: no sensor has two samples; expected a recording.")
    notes += odd
    parts, held_s = without_repeats({b: parts[b] for b in SUIT_BONES if b in parts}, times_s, rotation, force_ms2)
    names, anew = tuple(parts), []
    readings = {b: (times_s[p], rotation[p] / size[p, None], force_ms2[p]) for b, p in parts.items()}
    up, in_g = _up(*(np.concatenate([r[k] for r in readings.values()]) for k in (1, 2)), where)
    if in_g:
        readings = {b: (t, q, f * GRAVITY_MS2) for b, (t, q, f) in readings.items()}
        notes.append("specific force is in g")
    if up == "Z":
        readings = {b: (t, quaternion_multiply(_Z_TO_Y, q), f) for b, (t, q, f) in readings.items()}
        notes.append("the filters' world has Z up")
    if held_s:
        told = ", ".join(f"{in_words(b)} for {s:.1f} s" for b, s in held_s.items())
        notes.append(f"sent the same reading again and again, which counts as lost: {told}")
    rate, at = common_grid([t for t, *_ in readings.values()], SLOWEST_HZ, FASTEST_HZ, SHORTEST_S, where)
    turned, force = np.empty((len(at), len(names), 4)), np.empty((len(at), len(names), 3))
    for s, (bone, (own, reading, felt)) in enumerate(readings.items()):
        reading, leaps = as_one_heading(own, reading)
        anew += [f"{in_words(bone)} at {own[k] - at[0]:.1f} s by {abs(np.degrees(leap)):.0f}°" for k, leap in leaps]
        turned[:, s], force[:, s] = on_grid(own, reading, felt, at, max(LONGEST_GAP_S, 1.6 / rate))
    if anew:
        notes.append(f"filters that began anew, their headings put back: {', '.join(anew)}")
    return SuitRecording(names, rate, float(at[0]), turned, force, up, tuple(notes))


def as_one_heading(own, rotation):
    """(rotations (K, 4) of a sensor without leaps of its filter's heading, [(sample after it, leap in rad)]).

    own (K,), in s; rotation (K, 4), +Y up. No limb turns about the vertical by so much more from one sample to the next than before and after.
    """
    alike = np.abs(np.einsum("ti,ti->t", rotation[1:], rotation[:-1]))
    # a leap is twice what limbs turn beside it, so at least half of it is its own
    if (alike > np.cos(ANEW_RAD / 4)).all():
        return rotation, []
    turned = quaternion_multiply(rotation[1:], quaternion_conjugate(rotation[:-1]))  # in the filter's world
    step = np.pad(rotvec_from_quaternion(turned), ((BESIDE, BESIDE), (0, 0)))
    beside = [np.roll(step, k, axis=0)[BESIDE:-BESIDE] for k in range(-BESIDE, BESIDE + 1) if k]
    beyond = step[BESIDE:-BESIDE] - np.mean(beside, axis=0)
    far, usual = np.linalg.norm(beyond, axis=1), np.linalg.norm(beside, axis=2).max(axis=0)
    leapt = (far > np.maximum(ANEW_RAD, 2 * usual)) & (np.diff(own) < ANEW_WITHIN_S)
    leapt &= np.abs(beyond[:, 1]) > ANEW_UPRIGHT * far
    if not leapt.any():
        return rotation, []
    leap = np.where(leapt, beyond[:, 1], 0.0)
    back = quaternion_from_rotvec(np.outer(-np.r_[0.0, np.cumsum(leap)], [0.0, 1.0, 0.0]))
    return quaternion_multiply(back, rotation), [(int(k) + 1, float(leap[k])) for k in np.flatnonzero(leapt)]


def _up(rotation, force, where):
    """(which axis of the filters' world points up, whether forces are in g): along it specific force is 9.81 m/s² on average."""
    mean, size = np.median(quaternion_rotate(rotation, force), axis=0), np.median(np.linalg.norm(force, axis=1))
    axis = int(np.argmax(np.abs(mean[1:]))) + 1
    for one_g in (GRAVITY_MS2, 1.0):
        if 0.75 * one_g < mean[axis] < 1.25 * one_g and size < 1.5 * one_g:
            return "XYZ"[axis], one_g == 1.0
    if size < 0.5 * GRAVITY_MS2:
        raise InputError(
            f"{where}: accelerations are {size:.1f} m/s² as a rule, without gravity; expected specific force in the sensor's axes, "
            f"which is 9.8 m/s² upwards at rest."
        )
    raise InputError(
        f"{where}: turned into its world, specific force is {mean[axis]:.1f} m/s² along {'XYZ'[axis]} on average; expected 9.8 "
        f"upwards along Y or Z (m/s², pointing up at rest; rotation from sensor to world)."
    )
