"""Where a body goes while all of it is out of sight: what the pelvis' sensor feels, between two ends that markers show.

Twice integrated, accelerations drift: tilts err by parts of a degree and sensors have a bias. Place and speed are known at both ends, so what
the integral misses at the far one is an error of the acceleration that was constant or grew steadily; it is taken off as the cubic that
brings both back. Where a recording begins or ends out of sight only one end is known, and the body is carried for some seconds. Where nothing is felt, that cubic is all there is: the body leaves and arrives as fast as it went there.

Where the sensor sits counts for much: a pelvis that turns quickly accelerates a sensor a hand's breadth off by metres a second squared. The
warm-up tells it by the spine's joint alone, which hardly bends. Wherever markers show the pelvis, they tell as well how it goes, so the lever
is fitted in the take itself: what is felt less how the pelvis accelerates is how its turning accelerates the lever.
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy

from otrevo.core.body.kinematics import Motion, bone_in_motion
from otrevo.core.conventions import find_runs, matrix_from_quaternion, quaternion_rotate
from otrevo.core.zero_phase import low_pass

FEWEST_MARKERS = 3  # with fewer the place of the body is not known
SPEED_S = 0.12  # beside a gap, over which its speed is measured
LONGEST_S = 20.0
OPEN_S, BESIDE_S = 3.0, 4.0  # carried on towards an open end, by so much of what is seen beside it
BY_SPEED_S = 0.5  # where nothing is felt, the speed at an end counts half in a gap of twice this
LEVER_SD_M = 0.1  # how far off the lever may be that comes from elsewhere
SMOOTHED_S = 0.04  # one sigma of what is compared: skin that carries the markers trembles
ALIKE_S = 0.15  # what is felt wrongly is wrong for about as long
STRAYS_S = 0.12  # and by so much what makes a path stray
SLOW_HZ = 0.19  # of what changes slowly
FEWEST_S = 1.0  # of the take that tell a lever


@dataclass(frozen=True)
class FeltAt:
    """What a sensor on a bone feels: lever_m (3,) from the bone's joint in T-pose axes; acceleration_ms2 (T, 3) in the world, gravity
    taken off, NaN where it is not known; density: m² / s³, how far the place strays that is integrated from it, as of white noise.
    """

    bone: str
    lever_m: np.ndarray
    acceleration_ms2: np.ndarray
    density: float = np.nan


def with_fitted_lever(felt, motion, held):
    """A FeltAt with the lever that a Motion (T frames) tells, and how far places stray that are integrated from what is felt.

    held (T,) of bool: where markers show the bone. The lever stays what it was where too little is seen.
    """
    hz = float(motion.rate)
    known = held & np.isfinite(felt.acceleration_ms2).all(axis=1)
    known = ~scipy.ndimage.binary_dilation(~known, iterations=int(np.ceil(3 * SMOOTHED_S * hz)), border_value=True)
    if known.sum() < FEWEST_S * hz:
        return felt
    joint, world = bone_in_motion(motion, motion.skeleton.index(felt.bone))
    smooth = scipy.ndimage.gaussian_filter1d(np.nan_to_num(felt.acceleration_ms2), SMOOTHED_S * hz, axis=0)
    turning, beyond = (
        _quickly(v[known], hz) for v in (_second(matrix_from_quaternion(world), hz), smooth - _second(joint, hz))
    )
    turning, beyond = turning.reshape(-1, 3), beyond.reshape(-1)
    lever = np.array(felt.lever_m, dtype=float)
    for _ in range(4):
        off = beyond - turning @ lever
        scale = max(1.4826 * float(np.median(np.abs(off))), 1e-6)
        weight = 1.0 / (1.0 + (off / (2 * scale)) ** 2) / (scale**2 * ALIKE_S * hz)
        normal = turning.T @ (weight[:, None] * turning) + np.eye(3) / LEVER_SD_M**2
        lever = np.linalg.solve(normal, turning.T @ (weight * beyond) + felt.lever_m / LEVER_SD_M**2)
    # What trembles is not what makes a path stray. Noise of density q, smoothed by a Gaussian of sigma s, keeps q / (2 s sqrt(pi)).
    off = scipy.ndimage.gaussian_filter1d(
        (beyond - turning @ lever).reshape(-1, 3), np.sqrt(STRAYS_S**2 - SMOOTHED_S**2) * hz, axis=0
    )
    return replace(felt, lever_m=lever, density=float(np.mean(off**2) * 2 * STRAYS_S * np.sqrt(np.pi)))


def _second(values, hz):
    """Second derivatives of values (T, ...), smoothed."""
    return scipy.ndimage.gaussian_filter1d(values, SMOOTHED_S * hz, axis=0, order=2) * hz**2


def _quickly(values, hz):
    """Values (T, ...) less how they change slowly: what is felt has a bias, and its tilt drifts."""
    return values - low_pass(values, hz, SLOW_HZ)


def out_of_sight(seen):
    """Where (T,) so few of the markers seen (T, M) are there that they do not tell the place of a body."""
    return seen.sum(axis=1) < FEWEST_MARKERS


def without_few(points_m):
    """Points (T, M, 3) without the one or two of a body out of sight: they would bend what they cannot place."""
    out = points_m.copy()
    out[out_of_sight(np.isfinite(points_m[..., 0]))] = np.nan
    return out


def carry_root(motion, seen, felt=None):
    """The Motion with its root carried through stretches without markers, and the frames (T,) of bool that what is felt carried.

    motion (T frames); seen (T, M) of bool: the markers that were there; felt: FeltAt at the same frames, where a sensor tells.
    """
    hz, unseen = float(motion.rate), out_of_sight(seen)
    if not unseen.any():
        return motion, unseen
    root, by_sensor = motion.root_position_m.copy(), np.zeros(len(motion), dtype=bool)
    still = np.zeros((len(root), 3))
    reach, levers = max(1, round(SPEED_S * hz)), still
    if felt is not None:
        joint, world = bone_in_motion(motion, motion.skeleton.index(felt.bone))
        levers = joint + quaternion_rotate(world, felt.lever_m) - root
    for start, end in find_runs(unseen):
        around = slice(start - 1 - reach, end + reach + 1)
        if start <= reach or end + reach >= len(root):
            if felt is not None and (start == 0) != (end == len(root)):
                way = slice(None, None, -1 if start == 0 else 1)  # towards the open end
                _carry_on(root[way], by_sensor[way], levers[way], felt.acceleration_ms2[way], unseen[way], reach, hz)
            continue
        seconds = (end - start + 1) / hz
        is_felt = felt is not None and seconds < LONGEST_S and np.isfinite(felt.acceleration_ms2[around]).all()
        acceleration, lever = (felt.acceleration_ms2, levers) if is_felt else (still, still)
        place = root[around] + lever[around]
        told = 1.0 if is_felt else 1.0 / (1.0 + (seconds / (2 * BY_SPEED_S)) ** 2)
        path = _between(place, acceleration[around], reach, told, hz)
        root[start:end] = path[1:-1] - lever[start:end]
        by_sensor[start:end] = is_felt
    return Motion(motion.skeleton, motion.rate, root, motion.rotation_local), by_sensor


def _carry_on(root, by_sensor, lever, acceleration, unseen, reach, hz):
    """Carry a root (T, 3), in place, into the stretch out of sight with which a recording ends, for OPEN_S; there it stays.

    What is felt wrongly all the time is told by the seconds before, in which markers show where the sensor goes.
    """
    shown = np.flatnonzero(~unseen)[-1] + 1
    unfelt = ~np.isfinite(acceleration).all(axis=1)
    before = np.flatnonzero((unseen | unfelt)[:shown])
    after = np.flatnonzero(unfelt[shown:])
    first = max(shown - round(BESIDE_S * hz), before[-1] + 1 if len(before) else 0)
    last = min(shown + round(OPEN_S * hz), shown + after[0] if len(after) else len(root))
    if shown - first < 4 * reach:
        return
    place, felt = root[first:shown] + lever[first:shown], acceleration[first:last]
    entering = -_speed_at_end(place[reach::-1], felt[reach::-1], hz)
    leaving = _speed_at_end(place[-reach - 1 :], felt[len(place) - reach - 1 : len(place)], hz)
    bias = felt[: len(place)].mean(axis=0) - (leaving - entering) * hz / (len(place) - 1)
    path, _ = _integrated(place[-1], leaving, felt[len(place) - 1 :] - bias, hz)
    root[shown:last] = path[1:] - lever[shown:last]
    root[last:] = root[last - 1]
    by_sensor[shown:last] = True


def _between(place, acceleration, reach, told, hz):
    """The path (K - 2 reach, 3) from places (K, 3) of which `reach` are known at either end, and one more, by accelerations (K, 3).

    told: how much the speeds at the ends count, 0 to 1.
    """
    leaving = told * _speed_at_end(place[: reach + 1], acceleration[: reach + 1], hz)
    arriving = -told * _speed_at_end(place[: -reach - 2 : -1], acceleration[: -reach - 2 : -1], hz)
    place = place[reach:-reach]
    path, speed = _integrated(place[0], leaving, acceleration[reach:-reach], hz)
    seconds = np.arange(len(path))[:, None] / hz
    total = seconds[-1]
    missed, too_slow = place[-1] - path[-1], arriving - speed[-1]
    square = (3 * missed - too_slow * total) / total**2
    cube = (too_slow * total - 2 * missed) / total**3
    return path + square * seconds**2 + cube * seconds**3


def _integrated(place, speed, acceleration, hz):
    """(path (K, 3), speed (K, 3)) from a place (3,) and a speed (3,) on, by accelerations (K, 3)."""
    nothing, middle = np.zeros((1, 3)), (acceleration[1:] + acceleration[:-1]) / 2
    speed = speed + np.concatenate([nothing, np.cumsum(middle, axis=0) / hz])
    path = place + np.concatenate([nothing, np.cumsum(speed[:-1] / hz + middle / (2 * hz**2), axis=0)])
    return path, speed


def _speed_at_end(place, acceleration, hz):
    """Velocity (3,) at the last of places (K, 3): the line through them once what the acceleration (K, 3) bends is taken off."""
    back, seconds = acceleration[::-1], -np.arange(len(place))[:, None] / hz
    middle = (back[1:] + back[:-1]) / 2
    speed = np.concatenate([np.zeros((1, 3)), -np.cumsum(middle, axis=0) / hz])
    bent = np.concatenate([np.zeros((1, 3)), np.cumsum(-(speed[1:] + speed[:-1]) / 2 / hz, axis=0)])
    straight = place[::-1] - bent
    return np.polyfit(seconds[:, 0], straight, 1)[0]
