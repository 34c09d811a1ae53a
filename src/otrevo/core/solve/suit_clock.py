"""The clock of a suit against the cameras', by motion alone.

A bone that markers show and the sensor on it turn alike. How fast they turn depends neither on how the sensor sits nor on where its
filter's heading lies, so speeds tell roughly where the two recordings match. Then the angular velocities themselves do, each in its own
body's axes: one fixed rotation for each sensor, one offset and one drift for the suit, by robust least squares.
Both sides are differenced over the same stretch about the same moment, or half a sample of it would pass for an offset.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply, rotvec_from_quaternion
from otrevo.core.correlation import correlated

OWN_CLOCK = "own"  # of a stream whose clock nobody has lined up: the motion tells
KNOWN_CLOCK = "known"
HALF_S = (
    0.12  # turns are differenced from so long before a moment to so long after it: quicker ones are skin that swings
)
SLOPE_HALF_S = 0.05
COARSE_HZ, FINE_HZ = 50.0, 30.0
BONES_HZ = 60.0  # at least: as often it is told how bones turn
OVERLAP_S = 2.0
SENSORS_AGREE = 3  # at least
MATCHES, ELSEWHERE_S = 12, 0.5  # that are looked at, so far apart
ENOUGH = 400  # samples that tell which match is the right one; no fewer than ten a second
EXPLAINS = 0.6  # what the right one may leave of the bones' velocities; unlike movements leave about all
SHARE_SD = 0.15  # what it may leave of any bone's: less is no better
PLAINLY = 1.5  # as often as what the best leaves of bones, what others must leave
DRIFT_SD = 200e-6
STEADY = 2e-6  # of a quartz between recordings, one sigma: it warms and cools
OTHERWISE_SD = 3.0
SURE_S = 0.004
PIECES = 12  # neighbours in time err alike; what such pieces say apart tells how sure the clock is


@dataclass(frozen=True)
class MotionClock:
    """At t seconds from the bones' first sample the suit is offset_s + (1 + drift_ppm / 1e6) t from its own; sd_s: of that in the
    middle of what both saw; drift_sd_ppm; sensors: how many told.
    """

    offset_s: float
    drift_ppm: float
    sd_s: float
    drift_sd_ppm: float
    sensors: int

    @property
    def rate(self):
        """Seconds of the suit's clock in one second of the cameras'."""
        return 1 + 1e-6 * self.drift_ppm


def angular_velocity(rotation, hz, every=1):
    """Angular velocities (T, S, 3), rad/s in the body's own axes, of rotations (T, S, 4) at `hz`, in one of `every` samples; NaN where not known."""
    half = max(1, round(HALF_S * hz))
    out = np.full((len(rotation[::every]), rotation.shape[1], 3), np.nan)
    at = np.arange(0, len(rotation), every)
    inside = np.flatnonzero((at >= half) & (at < len(rotation) - half))
    if len(inside):
        a, b = at[inside[0]], at[inside[-1]] + 1
        before, after = (rotation[a + d : b + d : every] for d in (-half, half))
        out[inside] = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(before), after)) * hz / (2 * half)
    return out


def _at(values, index):
    """Values (N, ...) of values (T, ...) at fractional sample numbers (N,), NaN outside."""
    whole = np.floor(index).astype(int)
    inside = (whole >= 0) & (whole < len(values) - 1)
    whole = np.clip(whole, 0, len(values) - 2)
    out = values[whole] + (index - whole)[:, None, None] * (values[whole + 1] - values[whole])
    out[~inside] = np.nan
    return out


def _slope(velocity, hz):
    """How fast velocity (T, S, 3) changes, by second: over a stretch that lies evenly about each sample and leaves it out.

    A slope in which the sample itself has a share errs with it, and a limb that hardly moves would shift the clock by its noise.
    """
    half, out = max(2, round(SLOPE_HALF_S * hz)), np.full(velocity.shape, np.nan)
    out[half:-half] = (velocity[2 * half :] - velocity[: -2 * half]) * hz / (2 * half)
    return out


def _matches(suit, suit_hz, bone, bone_hz):
    """By how much the suit's samples may come later than the bones', seconds from either one's first: the likeliest first."""
    suit, bone = (
        np.linalg.norm(_at(v, np.arange(0, len(v) - 1, hz / COARSE_HZ)), axis=2)
        for v, hz in ((suit, suit_hz), (bone, bone_hz))
    )
    enough = OVERLAP_S * COARSE_HZ
    told = np.minimum(np.isfinite(suit).sum(axis=0), np.isfinite(bone).sum(axis=0)) >= enough
    if told.sum() < SENSORS_AGREE:
        return []
    a, b = _standard(suit[:, told]), _standard(bone[:, told])
    total, overlap = _correlated(a, b), _correlated((a != 0.0).astype(float), (b != 0.0).astype(float))
    score = np.where(overlap > told.sum() * enough, total / np.sqrt(np.maximum(overlap, 1.0)), 0.0)
    return [(peak - (len(bone) - 1)) / COARSE_HZ for peak in _peaks(score)]


def _peaks(score):
    """The samples of up to MATCHES peaks of a score (N,) that lie ELSEWHERE_S apart: the highest first."""
    beside = np.pad(score, 1)
    peaks, kept = np.flatnonzero((score > 1e-9) & (score >= beside[:-2]) & (score > beside[2:])), []
    while len(peaks) and len(kept) < MATCHES:
        kept.append(peaks[np.argmax(score[peaks])])
        peaks = peaks[np.abs(peaks - kept[-1]) >= ELSEWHERE_S * COARSE_HZ]
    return kept


def _best_match(matches, suit, suit_hz, at, bone):
    """That one of `matches` at which velocities agree in direction too, or None where none does, or several do.

    How fast limbs turn matches itself a step later in whoever marches; what else moves tells steps apart. A recording that
    was looped fits alike once round later; then less of the two overlaps.
    """
    if not matches:
        return None
    step = int(np.clip(len(at) // ENOUGH, 1, FINE_HZ / 10))
    at, bone = at[::step], bone[::step]
    fits = [_left(bone, _at(suit, (offset + at) * suit_hz)) for offset in matches]
    left, whole, overlap_s = (np.array(v) for v in zip(*fits, strict=True))
    overlap_s = overlap_s * step / FINE_HZ
    # of a limb that is hidden all the while nothing is explained
    share = np.sqrt(np.divide(left, whole, out=np.ones_like(left), where=whole > 0))
    worse = np.mean(np.maximum(share, SHARE_SD) / np.maximum(share.min(axis=0), SHARE_SD), axis=1)
    alike = np.flatnonzero(worse < PLAINLY * worse.min())
    best, *others = alike[np.argsort(-overlap_s[alike])]
    if left[best].sum() > EXPLAINS**2 * whole[best].sum():
        return None
    if others and overlap_s[best] < overlap_s[others[0]] + ELSEWHERE_S:
        return None
    return matches[best]


def _left(bone, sensor):
    """(What is left, squared, of each bone's velocities (N, S, 3) by its sensor's, turned as they fit best (S,); the bones' own
    squares (S,); in how many samples the two overlap).
    """
    known = np.isfinite(sensor[..., 0] + bone[..., 0])
    bone, sensor = (np.where(known[..., None], v, 0.0) for v in (bone, sensor))
    left = bone - _turned(sensor, _fitting_turns(bone, sensor))
    return (left**2).sum(axis=(0, 2)), (bone**2).sum(axis=(0, 2)), known.any(axis=1).sum()


def _standard(speed):
    """Logarithms of speeds (N, S), about each sensor's mean over one sigma; 0 where not known."""
    value = np.log(0.2 + speed)
    return np.nan_to_num((value - np.nanmean(value, axis=0)) / np.maximum(np.nanstd(value, axis=0), 1e-9))


def _correlated(a, b):
    """Correlation (N + M - 1,) of a (N, S) with b (M, S), of all sensors together; the first value is for the last of b on the first of a."""
    return np.roll(correlated(a[:, None], b)[:, 0], len(b) - 1)[: len(a) + len(b) - 1]


def find_suit_clock(suit, suit_hz, bone_world, bone_hz, near_s=None, drift_before=None):
    """Find a suit's clock by the motion of bones. Both recordings count from their own first sample.

    Parameters
    ----------
    suit : ndarray (T, S, 4)
        Rotations from the sensors' axes to their filters' worlds, NaN where lost, at `suit_hz`.
    bone_world : ndarray (N, S, 4)
        World rotations of the bones that the sensors are on, NaN where markers do not show them, at `bone_hz`.
    near_s : float, optional
        The offset is about this; sought everywhere where it is not given.
    drift_before : (float, float), optional
        The drift against the same cameras that an earlier recording told, and one sigma of it, in ppm. It is left out where
        this recording plainly says otherwise, as another suit's clock does.

    Returns
    -------
    MotionClock or None
        None where the motion does not tell.
    """
    every = max(1, int(bone_hz / BONES_HZ))
    mine, theirs = angular_velocity(suit, suit_hz), angular_velocity(bone_world, bone_hz, every)
    bone_hz /= every
    step = max(1, round(bone_hz / FINE_HZ))
    at, bone = np.arange(0, len(theirs), step) / bone_hz, theirs[::step]
    offset = near_s
    if offset is None:
        offset = _best_match(_matches(mine, suit_hz, theirs, bone_hz), mine, suit_hz, at, bone)
    if offset is None:
        return None
    slope = _slope(mine, suit_hz)
    drift = 0.0
    for _ in range(12):
        index = (offset + (1 + drift) * at) * suit_hz
        sensor, rate = _at(mine, index), _at(slope, index)
        known = np.isfinite(rate[..., 0] + sensor[..., 0] + bone[..., 0])
        told = np.flatnonzero(known.sum(axis=0) > OVERLAP_S * FINE_HZ / 2)
        if len(told) < SENSORS_AGREE:
            return None
        known = known[:, told]
        push, pull = _compared(bone[:, told], sensor[:, told], rate[:, told], known)
        middle = float(np.average(at, weights=pull))
        design = np.stack([np.ones(len(at)), at - middle], axis=1)
        normal = np.einsum("ka,k,kb->ab", design, pull, design) + np.diag([0.0, 1 / DRIFT_SD**2])
        moved = np.linalg.solve(normal, design.T @ push - [0.0, drift / DRIFT_SD**2])
        moved = np.clip(moved, [-0.05, -2e-4], [0.05, 2e-4])
        offset, drift = offset + moved[0] - moved[1] * middle, drift + moved[1]
        if abs(moved[0]) < 2e-5 and abs(moved[1]) < 5e-7:
            break
    # pieces of the take push as wholes: what is left of them at the solution is their error
    edges = np.quantile(np.repeat(at, known.sum(axis=1)), np.linspace(0, 1, PIECES + 1))
    piece = np.clip(np.searchsorted(edges, at, "right") - 1, 0, PIECES - 1)
    left = np.stack([np.bincount(piece, push * d, PIECES) for d in design.T], axis=1)
    inverse = np.linalg.inv(normal)
    covariance = inverse @ (left.T @ left) @ inverse + inverse
    if drift_before is not None:
        before, before_variance = 1e-6 * drift_before[0], (1e-6 * drift_before[1]) ** 2 + STEADY**2
        variance = covariance[1, 1] + before_variance
        if (before - drift) ** 2 < OTHERWISE_SD**2 * variance:
            gain = covariance[1] / variance
            covariance = covariance - np.outer(gain, covariance[1])
            moved = gain * (before - drift)
            offset, drift = offset + moved[0] - moved[1] * middle, drift + moved[1]
    sd, drift_sd = np.sqrt(np.diag(covariance))
    if sd > SURE_S:
        return None
    return MotionClock(float(offset), float(1e6 * drift), float(sd), float(1e6 * drift_sd), len(told))


def _fitting_turns(bone, sensor):
    """Rotations (S, 3, 3) from sensors' axes to bones', by velocities (N, S, 3) of both (Kabsch)."""
    u, _, vt = np.linalg.svd(bone.transpose(1, 2, 0) @ sensor.swapaxes(0, 1))
    u[..., 2] *= np.sign(np.linalg.det(u @ vt))[:, None]
    return u @ vt


def _turned(velocity, turns):
    """Velocities (N, S, 3) by rotations (S, 3, 3)."""
    return (velocity.swapaxes(0, 1) @ turns.swapaxes(1, 2)).swapaxes(0, 1)


def _compared(bone, sensor, rate, known):
    """How each moment pushes the offset (N,), and how firmly (N,), by all sensors, each turned as it fits best.

    bone, sensor, rate (N, S, 3) velocities, and how fast the sensor's change; known (N, S).
    """
    bone, sensor, rate = (np.where(known[..., None], v, 0.0) for v in (bone, sensor, rate))
    turn = _fitting_turns(bone, sensor)
    sensor, rate = _turned(sensor, turn), _turned(rate, turn)
    left = bone - sensor
    size = np.linalg.norm(left, axis=2)
    middle = np.sort(np.where(known, size, np.inf), axis=0)[known.sum(axis=0) // 2, np.arange(known.shape[1])]
    noise = np.maximum(middle, 1e-3)
    weight = np.where(known, 1 / (1 + (size / (2.5 * noise)) ** 2) ** 2 / noise**2, 0.0)
    return (weight * (rate * left).sum(axis=2)).sum(axis=1), (weight * (rate**2).sum(axis=2)).sum(axis=1)
