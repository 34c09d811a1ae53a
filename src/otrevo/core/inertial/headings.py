"""Headings of a suit's filters over a take: they drift apart, and the body tells by how much.

What neighbours feel at their joint (core.inertial.joints), the one axis about which knees bend, and that nobody goes about twisted for
long hold the headings together in windows of some seconds; between them they wander as slowly as filters do. The heading of the whole
body nothing tells: it is what the calibration knew, averaged over all sensors.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.conventions import (
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.inertial.joints import Felt, find_links
from otrevo.core.inertial.poses import side_sign

WINDOW_S = 20.0
WANDER_RAD = np.radians(1.5)  # a minute, besides the drift that the calibration saw
UNKNOWN_RAD = np.radians(8.0)  # of filters whose age nobody knows
SURE_RAD = np.radians(1.0)
LONGEST_AGE_S = 2 * 3600.0
SURELY_ON_S = 150.0  # nobody sets a suit anew so soon after its warm-up
FARTHEST_RAD = np.radians(30.0)  # no filter drifts so far; what says so is no joint
HINGE_FRAMES = 60
# (bone, its neighbour, by how many degrees it is turned outwards against that about the vertical on average, one sigma)
POSTURE = ("chest", "hips", 0, 7), ("Shoulder", "chest", 0, 6), ("UpperLeg", "hips", 5, 12), ("Foot", "LowerLeg", 0, 8)
UPRIGHT = 0.85  # cosine of how far from the vertical a leg still stands
UP = np.array([0.0, 1.0, 0.0])


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
    """The Headings of a take's SuitRecording by a SuitCalibration of the same sensors, in the same order; sensed: its Felt."""
    start, end = float(recording.times_s[0]), float(recording.times_s[-1])
    count = max(1, round((end - start) / WINDOW_S))
    edges = np.linspace(start, end + 1e-6, count + 1)
    middle = (edges[1:] + edges[:-1]) / 2
    age = middle - calibration.zero_s
    number = {n: i for i, n in enumerate(recording.names)}

    def links(k, expected):
        """[(Link, numbers of both sensors, by how much it is off what is expected, rad)] of a window."""
        inside = (sensed.times_s >= edges[k]) & (sensed.times_s < edges[k + 1])
        if inside.sum() <= 20:
            return []
        part = Felt(
            sensed.names,
            *(x[inside] for x in (sensed.times_s, sensed.force, sensed.bend, sensed.known)),
            sensed.bend_noise,
        )
        near = {
            joint: (*places, *(x[number[above]] - x[number[below]] for x in (expected[k], calibration.drift_rad_s)))
            for above, below, joint, places in calibration.places_of(recording.names)
        }
        out = []
        for link in find_links(part, near):
            a, b = number[link.above], number[link.below]
            off = (link.heading_rad - (expected[k, a] - expected[k, b]) + np.pi) % (2 * np.pi) - np.pi
            if np.isfinite(link.heading_sd):
                out.append((link, a, b, off))
        return out

    anew = np.tile(calibration.heading_rad, (count, 1)) + (middle - middle[0])[:, None] * calibration.drift_rad_s
    expected, first_sd, first = anew, UNKNOWN_RAD, None
    if 0 <= age[0] <= LONGEST_AGE_S:  # the filters may have gone on since then, or been set to where they were
        on = calibration.heading_rad + age[:, None] * calibration.drift_rad_s
        on_sd = np.hypot(SURE_RAD, WANDER_RAD * age[0] / 60)
        if age[0] < SURELY_ON_S:
            expected, first_sd = on, on_sd
        else:
            gone_on, set_anew = links(0, on), links(0, anew)
            if _misfit(gone_on, on_sd) <= _misfit(set_anew, UNKNOWN_RAD):
                expected, first_sd, first = on, on_sd, gone_on
            else:
                first = set_anew
    sensors = len(recording.names)
    normal, aim = np.zeros((count * sensors,) * 2), np.zeros(count * sensors)

    def add(k, coefficients, value, sd):
        rows = [k * sensors + s for s in coefficients]
        c = np.array(list(coefficients.values()))
        normal[np.ix_(rows, rows)] += np.outer(c, c) / sd**2
        aim[rows] += c * value / sd**2

    for s in range(sensors):
        add(0, {s: 1.0}, 0.0, first_sd)
        for k in range(1, count):
            step = WANDER_RAD * (middle[k] - middle[k - 1]) / 60
            rows = [(k - 1) * sensors + s, k * sensors + s]
            normal[np.ix_(rows, rows)] += np.array([[1, -1], [-1, 1]]) / step**2
    for k in range(count):
        for link, a, b, off in links(k, expected) if k or first is None else first:
            if abs(off) < FARTHEST_RAD:
                add(k, {a: 1.0, b: -1.0}, off, link.heading_sd)
        for told in (_by_knees, _by_posture):
            for pair, value, sd in told(recording, calibration, expected[k], edges[k : k + 2], number):
                add(k, {pair[0]: 1.0, pair[1]: -1.0}, value, sd)
    found = np.linalg.solve(normal, aim).reshape(count, sensors)
    sd = np.sqrt(np.diag(np.linalg.inv(normal))).reshape(count, sensors)
    return Headings(middle, expected + found, sd)


def _misfit(links, sd_rad):
    """How badly links go with headings that are known within sd_rad, as a log-likelihood with outliers bounded."""
    out = 0.0
    for link, _, _, off in links:
        sd = np.sqrt(link.heading_sd**2 + 2 * sd_rad**2)
        out += min((off / sd) ** 2, 16.0) / 2 + np.log(sd)
    return out


def _by_knees(recording, calibration, heading, span, number):
    """Yield ((above, below), heading of the one above less expected, sd): by how knees bend aside, were the headings as expected."""
    for side in ("left", "right"):
        pair, readings = _readings(recording, span, number, (side + "UpperLeg", side + "LowerLeg"))
        if pair is None:
            continue

        def aside(turn, readings=readings, pair=pair):
            """Bends (K, 2) about y and z, weighed, with the filter above turned further by an angle."""
            angle = np.tile(heading[pair] + [turn, 0.0], (len(readings), 1))
            world = bone_rotations(readings, angle, calibration.mount[pair])
            bend = rotvec_from_quaternion(quaternion_multiply(quaternion_conjugate(world[:, 0]), world[:, 1]))
            return bend[:, 1:] / np.radians([8.0, 5.0])

        e = 0.02
        here, slope = aside(0.0), (aside(e) - aside(-e)) / (2 * e)
        information = (slope**2).mean()  # neighbours in time err alike: as much as one frame tells
        yield (
            tuple(pair),
            float(-(slope * here).mean() / max(information, 1e-9)),
            float(1 / np.sqrt(max(2 * information, 1e-9))),
        )


def _by_posture(recording, calibration, heading, span, number):
    """Yield likewise: by how bones are turned against their neighbours on average; nobody goes about twisted for long."""
    for bone, above, usual_deg, sd_deg in POSTURE:
        for side in ("left", "right") if bone[0].isupper() else ("",):
            names = above if above in number else side + above, side + bone
            pair, readings = _readings(recording, span, number, names)
            if pair is None:
                continue
            world = bone_rotations(readings, np.tile(heading[pair], (len(readings), 1)), calibration.mount[pair])
            if bone in ("UpperLeg", "Foot"):
                standing = quaternion_rotate(world[:, int(bone == "UpperLeg")], UP)[:, 1] > UPRIGHT
                if standing.mean() < 0.3:
                    continue
                world = world[standing]
            turned = quaternion_multiply(world[:, 1], quaternion_conjugate(world[:, 0]))
            turned = rotvec_from_quaternion(turned)[:, 1].mean()
            usual = np.radians(usual_deg) * (side_sign(side) if side else 1.0)
            yield tuple(pair), float(usual - turned), np.radians(sd_deg)


def _readings(recording, span, number, names):
    """(numbers of two sensors, their readings (K, 2, 4)) of frames all over a span; (None, None) where there are too few."""
    pair = [number.get(n) for n in names]
    if None in pair:
        return None, None
    q = recording.rotation[slice(*np.searchsorted(recording.times_s, span)), pair]
    at = np.flatnonzero(np.isfinite(q[..., 0]).all(axis=1))
    if len(at) < HINGE_FRAMES:
        return None, None
    return pair, q[at[np.linspace(0, len(at) - 1, HINGE_FRAMES).astype(int)]]


def bone_rotations(readings, heading, mount):
    """World rotations (T, S, 4) of bones by readings (T, S, 4), headings (T, S) and mounts (S, 4)."""
    back = quaternion_from_rotvec(-heading[..., None] * UP)
    return quaternion_multiply(quaternion_multiply(back, readings), quaternion_conjugate(mount))
