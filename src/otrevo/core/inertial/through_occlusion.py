"""What a suit says of bones while markers are out of sight.

A sensor reads S(t) = H(t) R(t) M (core.solve.suit). Wherever markers show its bone, they tell its heading H, what else it is off, and how much of
its limb's turning about its own line skin misses (core.inertial.skin). By all of this, sensors meet the markers' solution before and after
they stand in for it. What they stray within seconds cannot be foreseen. It says how sure they are.

All of this changes slowly, so that some tens of looks a second tell it. Every frame is worked through only where markers are gone.
"""

from dataclasses import dataclass

import numpy as np
import scipy

from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.inertial.levelled import at_frames, tilt_beside_markers
from otrevo.core.inertial.poses import plain, sensor_above
from otrevo.core.inertial.skin import SKIN, turned_about_line, with_whole_turn
from otrevo.core.solve.suit import SUIT_BONES, UP, yaw_of
from otrevo.core.solve.suit_faults import find_faults

HEADING_WINDOW_S = 4.0
LASTING_S, SETTLES_S = 0.6, 0.12
MAY_MISS = 0.3  # as skin.MISSED, but wider: markers tell it, at which joints only hint
GAP_S = 2.0  # for which it is looked how far sensors are off that stand in
UNLIKE_RAD = np.radians(20.0)  # a sensor that strays further from its bone within seconds is on another one
ALIKE_S = 0.5  # what is off stays so for about as long
LOOKS_HZ = 40.0  # at least, at a sensor whose bone is shown
LINE = {"UpperArm": 0, "LowerArm": 0, "Hand": 0, "UpperLeg": 1, "LowerLeg": 1}  # the axis along a limb


@dataclass(frozen=True)
class StandIn:
    """What sensors say of their bones.

    world: {bone: rotations (T, 4), NaN where the sensor was lost}; stray_rad: {bone: how far these are off about each axis across the bone,
    once nothing shows it, one sigma: about its own line markers tell worst how it is turned, and that moves no joint}; skin: {limb: share
    of its turns about its line that its skin misses}; faults: the SensorFaults that were found; unlike_rad: {bone: how far it is off about
    each axis} of those that are left out, as they do not turn as their bones do.
    """

    world: dict
    stray_rad: dict
    skin: dict
    faults: list
    unlike_rad: dict


def stand_in(sensor, calibration, bone_world, measured, rate_hz, names=SUIT_BONES, felt=None):
    """Turn sensor readings into world rotations of the bones, aligned with the markers wherever these show a bone.

    Parameters
    ----------
    sensor : ndarray (T, S, 4)
        Rotations that the sensors read, NaN where lost.
    calibration : dict
        As calibrate_suit gives it.
    bone_world : ndarray (T, S, 4)
        The optical solution, from which headings come.
    measured : ndarray (T, S) of bool
        Where markers show the bone.
    rate_hz : float
        Frames a second.
    names : sequence of str
        The S bones, whatever is above another one before it.
    felt : levelled.Felt, or None
        What the sensors feel meanwhile, by which tilts of their filters are taken out; None leaves them in.

    Returns
    -------
    StandIn
        Where a bone goes out of sight and comes back its rotations meet the optical solution; in between goes what the sensor said, and what
        it was off at both ends, eased from one to the other.
    """
    found, joints, count = StandIn({}, {}, {}, [], {}), {}, len(sensor)
    every = max(1, int(rate_hz / LOOKS_HZ))
    looks_hz = rate_hz / every
    for s, name in enumerate(names):
        if name not in calibration:
            continue
        unmount = quaternion_conjugate(calibration[name]["rotation_xyzw"])
        shown, heard = measured[:, s], np.isfinite(sensor[:, s, 0])
        if (shown & heard).sum() < 10:
            continue
        looked = _looks(shown, every) & heard
        frames = np.flatnonzero(looked | ~shown)
        at, among = np.flatnonzero(looked), np.flatnonzero(looked[frames])
        bone = bone_world[at, s]
        unmounted = quaternion_multiply(sensor[frames, s], unmount)
        yaw = np.unwrap(yaw_of(quaternion_multiply(unmounted[among], quaternion_conjugate(bone))))
        line = np.polyfit(at, yaw, 1)
        rotation = _headed(unmounted, np.polyval(line, frames))
        parent = sensor_above(name, found.world)
        above = found.world.get(parent)
        if felt is not None:
            joints[name] = _joint(s, names.index(parent) if parent else None, felt, measured, above, joints.get(parent))
            steady = np.polyval(line, felt.frame)
            turned = _headed(quaternion_multiply(sensor[felt.frame, s], unmount), steady)
            place = joints[name] + quaternion_rotate(turned, felt.seat_m[s])
            tilt = tilt_beside_markers(felt.force_ms2[:, s], steady, place, felt.step_s)
            rotation = quaternion_multiply(quaternion_from_rotvec(at_frames(tilt, felt.frame, frames)), rotation)
        off = _off(rotation[among], bone)
        faults = find_faults(name, at, yaw, off, count, rate_hz, every)
        slow = _slowly(yaw - np.polyval(line, at), looks_hz)
        rotation = _headed(rotation, np.interp(frames, at, slow))
        share = None
        if plain(name) in SKIN and above is not None:
            turned = turned_about_line(name, above[frames], rotation)
            share = _missed(turned[among], _off(rotation[among], bone) @ SKIN[plain(name)], looks_hz)
            rotation = with_whole_turn(name, rotation, turned, share)
        off = _off(rotation[among], bone)
        stray = _stray(off, at, rate_hz, every)
        if _rms(stray) > UNLIKE_RAD:
            found.unlike_rad[name] = _rms(stray)
            continue
        if share is not None:
            found.skin[name] = share / (1 + share)
        found.stray_rad[name] = _rms(np.delete(stray, LINE.get(plain(name), [])))
        found.faults.extend(faults)
        world = np.where((shown & heard)[:, None], bone_world[:, s], np.nan)
        away = ~shown[frames]
        carried = quaternion_from_rotvec(_carried(off, at, frames[away], rate_hz, every))
        world[frames[away]] = quaternion_multiply(rotation[away], carried)
        found.world[name] = world
    return found


def _looks(shown, every):
    """(T,) one in `every` of the frames in which markers show (T,) a bone, and all that are beside others."""
    out = shown.copy()
    between = shown[1:-1] & shown[:-2] & shown[2:]
    out[1:-1] &= ~between | (np.arange(1, len(shown) - 1) % every == 0)
    return out


def _joint(s, above, felt, measured, above_world, above_joint):
    """Where the joint of bone s is in steps (K, 3), about: as markers show it or, where they do not, as it hangs on the bone above, a number or
    None."""
    shown, hanging = measured[felt.frame, s], np.nan
    if above is not None:
        shown = shown | measured[felt.frame, above]
        hanging = above_joint + quaternion_rotate(above_world[felt.frame], felt.rest_m[s] - felt.rest_m[above])
    return np.where(shown[:, None], felt.joint_m[:, s], hanging)


def _headed(unmounted, yaw):
    """Rotations (T, 4) with headings (T,) taken off."""
    return quaternion_multiply(quaternion_from_rotvec(-yaw[:, None] * UP), unmounted)


def _slowly(values, rate_hz):
    """Values (K, ...) as they change over HEADING_WINDOW_S."""
    window = max(3, int(min(HEADING_WINDOW_S * rate_hz, len(values))) | 1)
    return scipy.ndimage.uniform_filter1d(values, window, axis=0, mode="nearest")


def _missed(turned, off, rate_hz):
    """By what share further a limb is turned about its line than a sensor shows (K,), which is off by so much about it (K,)."""
    turned, off = (v - _slowly(v, rate_hz) for v in (turned, off))
    counted = np.mean(off**2) / MAY_MISS**2 * ALIKE_S * rate_hz
    return max(0.0, float(turned @ off / (turned @ turned + counted + 1e-12)))


def _off(rotation, bone):
    """What rotations (K, 4) are off their bones (K, 4): rotation vectors (K, 3) in the axes of the bones."""
    return rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(rotation), bone))


def _lasting_window(looks_hz):
    return max(3, int(LASTING_S * looks_hz) | 1)


def _stray(off, at, rate_hz, every):
    """How far a sensor is off about each axis (3,) in the middle of a gap of GAP_S that is bridged, one sigma, by what it is off (K, 3) at frames `at`."""
    looks_hz = rate_hz / every
    half = round(GAP_S * looks_hz / 2)
    middle = np.arange(half, len(at) - half)
    middle = middle[at[middle + half] - at[middle - half] <= 2 * half * every]
    if len(middle) < looks_hz:  # hardly ever seen for as long
        return np.sqrt(np.mean((off - _slowly(off, looks_hz)) ** 2, axis=0))
    ends = scipy.ndimage.uniform_filter1d(off, _lasting_window(looks_hz), axis=0, mode="nearest")
    return np.sqrt(np.mean((off[middle] - (ends[middle - half] + ends[middle + half]) / 2) ** 2, axis=0))


def _rms(values):
    return float(np.sqrt(np.mean(values**2)))


def _carried(off, at, frames, rate_hz, every):
    """What a sensor is off (K, 3), radians, known at frames `at` (K,), at other frames (N,): (N, 3).

    Lasting errors, as of skin that has slipped, go on from either end of a gap to the other. What it was off at the very end goes within
    SETTLES_S, as skin that swings does.
    """
    apart = np.flatnonzero(np.diff(at) > LASTING_S * rate_hz / 2) + 1  # either side of a long gap speaks for itself
    window = _lasting_window(rate_hz / every)
    lasting = np.concatenate(
        [scipy.ndimage.uniform_filter1d(run, window, axis=0, mode="nearest") for run in np.split(off, apart)]
    )
    out = np.stack([np.interp(frames, at, lasting[:, k]) for k in range(3)], axis=1)
    after = np.searchsorted(at, frames)
    for end in (after - 1, after):
        known = (end >= 0) & (end < len(at))
        fade = np.exp(-np.abs(frames[known] - at[end[known]]) / (SETTLES_S * rate_hz))
        out[known] += fade[:, None] * (off - lasting)[end[known]]
    return out
