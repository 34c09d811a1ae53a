"""Sensors that sit on other limbs than they say, found by the limbs that markers show.

However a sensor sits on a limb, both turn equally fast about the same axis, so one rotation makes the angular velocities of the two alike. No
pose is needed, and no filter's heading. Every sensor is compared with every limb, and the limbs are given out so that the least is left.
"""

import numpy as np
import scipy

from otrevo.core.inertial.exchanged import pairs_of, rounds_of
from otrevo.core.solve.suit_clock import angular_velocity

LOOKS_HZ = 30.0
FEWEST_S = 8.0  # of a warm-up in which a limb is seen while its sensor is heard
# what is left, and so much more besides it, must be less by so much after a round of exchanges, as a sum of logarithms. In ten warm-ups with
# foreign bodies the closest two were a chest and its collar bone, 0.3 the other way; a forearm and a stiff hand were 0.6
LEAST, PLAINLY = 0.02, 0.3
UNTOLD = 10.0  # more than is ever left, so that no limb is given to a sensor that was hardly heard while it was seen


def find_exchanged_beside_markers(recording, bone_world):
    """[(sensor, sensor)] of a warm-up's SuitRecording that have changed places, one pair after the other.

    bone_world (T, S, 4): world rotations of the bones that its sensors say they are on, NaN where markers do not show them.
    """
    left, seconds = _left(recording, bone_world)
    told = np.flatnonzero(np.diag(seconds) >= FEWEST_S)
    left = np.where(seconds >= FEWEST_S, np.log(left + LEAST), UNTOLD)[np.ix_(told, told)]
    bone, sensor = scipy.optimize.linear_sum_assignment(left)
    names = [recording.names[k] for k in told]
    better = {names[b]: left[b, b] - left[b, s] for b, s in zip(bone, sensor, strict=True)}
    worn = {names[b]: names[s] for b, s in zip(bone, sensor, strict=True) if b != s}
    plain = {n for r in rounds_of(pairs_of(worn)) if sum(better[n] for n in r) > PLAINLY for n in r}
    return pairs_of({n: worn[n] for n in sorted(plain)})


def _left(recording, bone_world):
    """(What is left of the angular velocities of every bone and every sensor, turned as it fits best, as a share of both (S, S); for how many
    seconds both are known (S, S)).
    """
    step = max(1, round(recording.rate_hz / LOOKS_HZ))
    sensor, bone = (angular_velocity(q, recording.rate_hz)[::step] for q in (recording.rotation, bone_world))
    heard, seen = (np.isfinite(v).all(axis=2) for v in (sensor, bone))
    sensor, bone = np.where(heard[..., None], sensor, 0.0), np.where(seen[..., None], bone, 0.0)
    count, sensors = heard.shape
    across = (bone.reshape(count, -1).T @ sensor.reshape(count, -1)).reshape(sensors, 3, sensors, 3).swapaxes(1, 2)
    both = (bone**2).sum(axis=2).T @ heard + seen.T @ (sensor**2).sum(axis=2)
    u, alike, vt = np.linalg.svd(across)
    alike[..., 2] *= np.sign(np.linalg.det(u @ vt))
    left = np.maximum(both - 2 * alike.sum(axis=2), 0.0) / np.maximum(both / 2, 1e-9)
    return np.sqrt(left), seen.T.astype(float) @ heard * step / recording.rate_hz
