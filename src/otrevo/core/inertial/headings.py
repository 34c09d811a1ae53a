"""Headings of a suit's filters over a take: they drift apart, and the body tells by how much.

What neighbours feel at their joint (core.inertial.joints), T-poses held as in the warm-up, the one axis about which knees bend, and that
nobody goes about twisted for long tell the headings against each other, in windows of some seconds; between them they wander as slowly as filters do. The
heading of the whole body nothing tells: it is what the calibration knew, averaged over all sensors.
"""

from dataclasses import dataclass, replace

import numpy as np

from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
    within_half_a_turn,
)
from otrevo.core.inertial.calibration import UP, bone_rotations
from otrevo.core.inertial.joints import find_links
from otrevo.core.inertial.poses import sensor_above, side_sign
from otrevo.core.inertial.t_poses import find_t_poses, off_t_pose, tilt_deg, yaw_rad

WINDOW_S = 20.0
FIRST_WINDOWS = 6  # in which it is looked how filters are turned when a take begins,
MOST = 0.7  # until so many sensors have told
WANDER_RAD = np.radians(1.5)  # a minute, besides the drift
DRIFT_RAD_S = np.radians(2.5) / 60  # so little does one minute of warm-up tell of how a filter drifts; the take goes on
DRIFTS_RAD_S = np.radians(0.3) / 60  # by how much that changes in a minute
UNKNOWN_RAD = np.radians(8.0)  # of filters that were set anew
SURE_RAD = np.radians(1.0)  # of filters just after the warm-up
ANY_RAD = np.radians(104.0)  # of filters that are turned anyhow
FARTHEST_RAD = np.radians(20.0)  # further than three sigma; what says so is no joint
HINGE_FRAMES = 60
# (bone, its neighbour, by how many degrees it is turned outwards against that about the vertical on average, one sigma)
POSTURE = (
    ("chest", "hips", 0, 7),
    ("head", "chest", 0, 20),
    ("Shoulder", "chest", 0, 6),
    ("UpperLeg", "hips", 5, 12),
    ("Foot", "LowerLeg", 0, 8),
)
# in a T-pose that is held as in the warm-up bones are turned against their neighbours as they were there, within so many degrees
HELD_AGAIN_DEG, LOOSELY_DEG, LOOSE = 4.0, 8.0, ("head", "leftHand", "rightHand")
UPRIGHT = 0.85  # cosine of how far from the vertical a leg still stands


@dataclass(frozen=True)
class Headings:
    """times_s (K,) of the device's clock; angle_rad (K, S) at them and sd_rad (K, S) against the body's mean heading."""

    times_s: np.ndarray
    angle_rad: np.ndarray
    sd_rad: np.ndarray

    def at(self, times_s):
        """Angles (T, S) at times, straight between the windows' middles and on beyond them."""
        return np.stack([np.interp(times_s, self.times_s, column) for column in self.angle_rad.T], axis=1)


def find_headings(recording, calibration, sensed):
    """The Headings of a take's SuitRecording by a SuitCalibration of the same sensors, in the same order; sensed: its Felt.

    Window by window: what is known of the headings and their drifts goes on from the one before, less surely, and what the window tells is
    added to it; afterwards the later windows tell the earlier ones (H. E. Rauch, F. Tung, C. T. Striebel, Maximum likelihood estimates of linear dynamic
    systems, 1965). So a joint's heading is looked for as far around as the filters may have drifted, however old the warm-up is.
    """
    start, end = float(recording.times_s[0]), float(recording.times_s[-1])
    count = max(1, round((end - start) / WINDOW_S))
    edges = np.linspace(start, end + 1e-6, count + 1)
    middle, step_s = (edges[1:] + edges[:-1]) / 2, (end - start) / count
    held = find_t_poses(recording, calibration)
    windows = [_Window(recording, calibration, sensed, edges[k : k + 2], held) for k in range(count)]
    known = _at_first(calibration, windows, middle[0])
    before, after = [], []
    for k, window in enumerate(windows):
        if k:
            known = known.gone_on(step_s)
        before.append(known)
        known = window.told(known)
        after.append(known)
    found = after[-1:]
    for k in range(count - 2, -1, -1):
        found.insert(0, after[k].told_later(before[k + 1], found[0], step_s))
    times, angle = np.r_[start, middle, end], np.stack([f.angle for f in found])
    beyond = [f.drift * (t - m) for f, t, m in ((found[0], start, middle[0]), (found[-1], end, middle[-1]))]
    angle = np.concatenate([angle[:1] + beyond[0], angle, angle[-1:] + beyond[1]])
    return Headings(times, angle, np.stack([f.sd_from_mean() for f in (found[0], *found, found[-1])]))


def told_by_span(recording, calibration, sensed, span):
    """What a span of a take, (from, to) s, tells of its headings by itself, however the filters are turned: `angle` (S,) in its middle and
    the `covariance` (2 S, 2 S) of angles and drifts. The mean of all angles it does not tell.
    """
    age_s, drift = np.mean(span) - calibration.zero_s, calibration.drift_rad_s
    window = _Window(recording, calibration, sensed, span, find_t_poses(recording, calibration))
    return window.told(_Known.alike(calibration.heading_rad + age_s * drift, drift, ANY_RAD))


@dataclass(frozen=True)
class _Known:
    """What is known of headings: angle (S,), rad, how they drift (S,), rad/s, and the covariance (2 S, 2 S) of both."""

    angle: np.ndarray
    drift: np.ndarray
    covariance: np.ndarray

    @classmethod
    def alike(cls, angle, drift, sd, age_s=0.0):
        """Every angle within sd, but for how it has drifted otherwise than its `drift` for age_s."""
        one = np.array([[sd**2 + (DRIFT_RAD_S * age_s) ** 2, DRIFT_RAD_S**2 * age_s], [0.0, DRIFT_RAD_S**2]])
        one[1, 0] = one[0, 1]
        return cls(angle, drift, np.kron(one, np.eye(len(angle))))

    @property
    def state(self):
        return np.r_[self.angle, self.drift]

    def _goes_on(self, step_s):
        return np.kron([[1.0, step_s], [0.0, 1.0]], np.eye(len(self.angle)))

    def gone_on(self, step_s):
        """What is known of them so much later."""
        on = self._goes_on(step_s)
        angle, drift = np.split(on @ self.state, 2)
        minutes = step_s / 60
        wander = np.repeat([(WANDER_RAD * minutes) ** 2, DRIFTS_RAD_S**2 * minutes], len(angle))
        return _Known(angle, drift, on @ self.covariance @ on.T + np.diag(wander))

    def told_later(self, expected, later, step_s):
        """The same, when what was `expected` so much later has become known as `later`."""
        back = self.covariance @ self._goes_on(step_s).T @ np.linalg.inv(expected.covariance)
        angle, drift = np.split(self.state + back @ (later.state - expected.state), 2)
        return _Known(angle, drift, self.covariance + back @ (later.covariance - expected.covariance) @ back.T)

    def apart_sd(self, above, below):
        """How well the heading of one sensor less that of another is known, one sigma."""
        c = self.covariance
        return float(np.sqrt(c[above, above] + c[below, below] - 2 * c[above, below]))

    def sd_from_mean(self):
        """How well each heading is known against the mean of all, one sigma (S,)."""
        count = len(self.angle)
        less_mean = np.eye(count) - 1 / count
        return np.sqrt(np.diag(less_mean @ self.covariance[:count, :count] @ less_mean))

    def difference(self, above, below):
        """The heading of one sensor less that of another, rad."""
        return self.angle[above] - self.angle[below]

    def off(self, above, below, difference):
        """How far that is from another `difference`, rad."""
        return within_half_a_turn(difference - self.difference(above, below))

    def with_difference(self, above, below, difference, sd):
        """The same, when something tells the heading of one less that of another, one sigma sd."""
        c = self.covariance
        gain = (c[:, above] - c[:, below]) / (self.apart_sd(above, below) ** 2 + sd**2)
        angle, drift = np.split(self.state + gain * self.off(above, below, difference), 2)
        return _Known(angle, drift, c - np.outer(gain, c[above] - c[below]))


def _at_first(calibration, windows, at_s):
    """What is known of the headings when a take begins, in the middle of the first of its _Windows, at at_s: the filters may have
    gone on as in the warm-up, been set to where they were then, or be turned anyhow. The first windows in which most of the body moves
    tell which, and how the body is held in the last of them."""
    age_s = at_s - calibration.zero_s
    drift = calibration.drift_rad_s
    on = calibration.heading_rad + age_s * drift
    gone_on = _Known.alike(on, drift, SURE_RAD, abs(age_s))
    anyhow, anew = _Known.alike(on, drift, ANY_RAD), _Known.alike(calibration.heading_rad, drift, UNKNOWN_RAD)
    told = []
    for window in windows[:FIRST_WINDOWS]:
        told += [t for t in (*window.by_t_poses(anyhow), *window.by_joints(anyhow)) if t[2] < ANY_RAD]
        if len({pair for pair, *_ in told}) > MOST * (len(on) - 1):
            break
    told += window.by_posture(anyhow)
    return min((gone_on, anew, anyhow), key=lambda known: _misfit(known, told))


def _with_told(known, told):
    """A _Known with what is told, [((above, below), difference, sd)], but for what is too far from it."""
    for pair, difference, sd in told:
        if abs(known.off(*pair, difference)) < FARTHEST_RAD + 3 * known.apart_sd(*pair):
            known = known.with_difference(*pair, difference, sd)
    return known


def _misfit(known, told):
    """How badly what is told, [((above, below), difference, sd)], goes with what is known, as a log-likelihood with outliers bounded."""
    out = 0.0
    for pair, difference, sd in told:
        likely = np.hypot(sd, known.apart_sd(*pair))
        out += min((known.off(*pair, difference) / likely) ** 2, 16.0) / 2 + np.log(likely)
    return out


class _Window:
    """What a span of a take tells of headings."""

    def __init__(self, recording, calibration, sensed, span, t_poses):
        self.recording, self.calibration, self.span = recording, calibration, span
        self.number = {n: i for i, n in enumerate(recording.names)}
        self.t_poses = [held for at_s, held in t_poses if span[0] <= at_s < span[1]][:1]  # they are held alike
        inside = (sensed.times_s >= span[0]) & (sensed.times_s < span[1])
        parts = {k: getattr(sensed, k)[inside] for k in ("times_s", "force", "bend", "known", "shakes")}
        felt_ = replace(sensed, **parts)
        self.felt = felt_ if inside.sum() > 20 else None

    def told(self, known):
        """A _Known with what this window tells."""
        for by in (self.by_t_poses, self.by_posture, self.by_joints, self.by_knees):
            known = _with_told(known, by(known))
        return known

    def by_t_poses(self, known):
        """[((above, below), heading of the one above less that of the one below, sd)]: bones are turned against their neighbours
        as they were in the warm-up's T-pose."""
        out = []
        for readings in self.t_poses:
            off = off_t_pose(self.calibration, readings, known.angle)
            tilt, yaw = tilt_deg(off), yaw_rad(off)
            for b, below in enumerate(self.recording.names):
                a = self.number.get(sensor_above(below, self.number))
                if a is not None and np.isfinite(tilt[[a, b]]).all():
                    # what is tilted otherwise than it was may be turned as much
                    sd = np.linalg.norm([LOOSELY_DEG if below in LOOSE else HELD_AGAIN_DEG, tilt[a], tilt[b]])
                    out.append(((a, b), known.difference(a, b) + yaw[a] - yaw[b], np.radians(sd)))
        return out

    def by_joints(self, known):
        """The same: by what neighbours feel at their joint."""
        if self.felt is None:
            return []
        near, drift = {}, self.calibration.drift_rad_s
        for above, below, joint, places in self.calibration.places_of(self.recording.names):
            a, b = self.number[above], self.number[below]
            near[joint] = (*places, known.difference(a, b), drift[a] - drift[b], known.apart_sd(a, b))
        links = [link for link in find_links(self.felt, near) if np.isfinite(link.heading_sd)]
        return [((self.number[k.above], self.number[k.below]), k.heading_rad, k.heading_sd) for k in links]

    def by_knees(self, known):
        """The same: by how knees bend aside."""
        for side in ("left", "right"):
            pair, readings = self._readings((side + "UpperLeg", side + "LowerLeg"))
            if pair is None:
                continue

            def aside(turn, readings=readings, pair=pair):
                """Bends (K, 2) about y and z, weighed, with the filter above turned further by an angle."""
                angle = np.tile(known.angle[pair] + [turn, 0.0], (len(readings), 1))
                world = bone_rotations(readings, angle, self.calibration.mount[pair])
                bend = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(world[:, 0]), world[:, 1]))
                return bend[:, 1:] / np.radians([8.0, 5.0])

            e = 0.02
            here, slope = aside(0.0), (aside(e) - aside(-e)) / (2 * e)
            information = (slope**2).mean()  # neighbours in time err alike: as much as one frame tells
            yield (
                tuple(pair),
                known.difference(*pair) - (slope * here).mean() / max(information, 1e-9),
                float(1 / np.sqrt(max(2 * information, 1e-9))),
            )

    def by_posture(self, known):
        """The same: by how bones are turned against their neighbours on average; nobody goes about twisted for long."""
        for bone, above, usual_deg, sd_deg in POSTURE:
            for side in ("left", "right") if bone[0].isupper() else ("",):
                names = above if above in self.number else side + above, side + bone
                pair, readings = self._readings(names)
                if pair is None:
                    continue
                world = bone_rotations(
                    readings, np.tile(known.angle[pair], (len(readings), 1)), self.calibration.mount[pair]
                )
                if bone in ("UpperLeg", "Foot"):
                    standing = quaternion_rotate(world[:, int(bone == "UpperLeg")], UP)[:, 1] > UPRIGHT
                    if standing.mean() < 0.3:
                        continue
                    world = world[standing]
                turn = quaternion_multiply(world[:, 1], quaternion_conjugate(world[:, 0]))
                turned = np.angle(((turn[:, 3] + 1j * turn[:, 1]) ** 2).mean())  # about the vertical, however far it is
                usual = np.radians(usual_deg) * (side_sign(side) if side else 1.0)
                yield tuple(pair), known.difference(*pair) + usual - turned, np.radians(sd_deg)

    def _readings(self, names):
        """(numbers of two sensors, their readings (K, 2, 4)) of frames all over the window; (None, None) where there are too few."""
        pair = [self.number.get(n) for n in names]
        if None in pair:
            return None, None
        q = self.recording.rotation[slice(*np.searchsorted(self.recording.times_s, self.span)), pair]
        at = np.flatnonzero(np.isfinite(q[..., 0]).all(axis=1))
        if len(at) < HINGE_FRAMES:
            return None, None
        return pair, q[at[np.linspace(0, len(at) - 1, HINGE_FRAMES).astype(int)]]
