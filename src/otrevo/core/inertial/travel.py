"""Where a body in a suit goes: what it stands on holds still, between that its own accelerometers carry it.

The hips and whatever else touches the ground (heels, balls of the feet, knees, hands) are places over time of their own, found at once
for the whole take by linear least squares: each is accelerated as its sensor feels, limbs tie it to the hips by place, and while it
touches the ground it stays. So do the hips of somebody who sits or lies on the ground. A swaying thigh therefore does not push the hips
about. Flight needs no rule: gravity is what sensors do not feel. World axes, metres.
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy

from otrevo.core.body.kinematics import forward_kinematics
from otrevo.core.body.limb import STRETCHED, bend
from otrevo.core.conventions import (
    find_runs,
    make_continuous,
    quaternion_conjugate,
    quaternion_multiply,
    quaternion_rotate,
)
from otrevo.core.inertial.contacts import (
    Contact,
    accelerations,
    felt_in_world,
    find_carried,
    find_ends,
    find_touches,
    joint_place,
)
from otrevo.core.inertial.recording import GRAVITY_MS2

BLURRED_S = 0.03  # by so much what is filtered makes a contact begin late and end early
WRONG_M, WRONG_M_S = (0.04, 0.10), 0.1  # a limb that is so far from where its pose says does not stand
BESIDE_S, ROUNDS = 0.3, 8  # contacts so near in time strain each other
FEWEST = 4  # rounds at least until it is known how fast what the body leans on is
HIPS_SD_MS2, END_SD_MS2 = 0.6, 2.5
# what nobody hears for so long goes about as people do, and the hips, unless they are heard to go on, nowhere in particular
UNHEARD_S, UNHEARD_SD_MS2, UNHEARD_SD_M_S = 0.1, 6.0, 0.5
TIE_SD_M = 0.10
STAND_SD_M, SIT_SD_M = 0.0003, 0.002  # from frame to frame
LEANING_SD_M_S, LEANING_SD_M, LEANING_S = 0.3, 0.05, 1.2
LEANING_MS2, LEANING_M_S = 10.0, 1.5  # what feels so much, or goes so fast, carries nothing
FLOOR_SD_M, SEAT_SD_M = 0.02, 0.05  # how high points lie over the ground; nobody's flesh is measured
EDGE_S, LEAST_BELIEVED = 3.0, 0.01  # at the ends of a take accelerations count less
ANCHOR = 1e4
UPRIGHT, LOWER_M = 0.8, 0.05  # legs nearer to the vertical than this cosine let the hips down, at most by so much
# how far legs turn as skin swings, how fast, and how well that is known, as a share
LEG_ERROR_RAD, SWINGS_HZ, FEIGNED_SD = np.radians(0.45), (0.3, 3.0), 0.5
STRIDES, STRIDE_M, STRIDE_S = 4, 0.2, 4.0  # so many, so far and so short at most, tell how long legs are
EASE_S = 0.2  # over which a leg goes to where its foot stands
STEP_M, UNSURE_M_S = 0.12, 0.08  # what is less is the same floor, and more the longer nothing stood before


@dataclass(frozen=True)
class Travel:
    """root_m (T, 3): the hips; rotation_local (T, B, 4), legs bent by the little that keeps feet from sliding; contacts."""

    root_m: np.ndarray
    rotation_local: np.ndarray
    contacts: tuple[Contact, ...]


def find_travel(recording, calibration, headings, skeleton, rotation_local, level_floor=True):
    """The Travel of a take: SuitRecording, SuitCalibration and Headings of the same sensors; rotation_local (T, B, 4) of the Skeleton."""
    count = len(recording)
    if not any(n.endswith(("Foot", "LowerLeg")) for n in recording.names):
        # nothing tells of the ground: whoever it is sits
        return Travel(np.tile(skeleton.rest_offset_m[0], (count, 1)), rotation_local, ())
    joint, world = forward_kinematics(skeleton, np.zeros((count, 3)), rotation_local)
    system = _system_of(recording, calibration, headings, skeleton, joint, world, BLURRED_S)
    for number in range(ROUNDS):
        free = system.solve()
        if not system.lets_go(free) and (number + 1 >= FEWEST or not system.leans):
            break
    ends, contacts = system.ends, _with_levels(system, free)
    found = system.solve(contacts if level_floor else ())
    root = found[:, 0].copy()
    root -= [root[0, 0], 0.0, root[0, 2]]
    if not level_floor or not contacts:
        root[:, 1] -= (root[:, 1] + joint[..., 1].min(axis=1)).min()
    feet = {}
    for bone, k in ends.order.items():
        if bone.endswith("Foot"):
            pose, own = ends.relative[:, k - 1], [c for c in contacts if system.points[c.point].end == bone]
            feet[bone] = pose + _held(found[:, k] - found[:, 0] - pose, own, recording.rate_hz)
    down = _lowered(skeleton, joint, feet, contacts, recording.rate_hz)[:, None] * [0.0, 1.0, 0.0]
    feet = {bone: wanted + down for bone, wanted in feet.items()}
    return Travel(root - down, keep_feet(skeleton, rotation_local, joint, world, feet), tuple(contacts))


def find_leg_factor(recording, calibration, headings, skeleton, rotation_local):
    """(factor, one sigma): by how much legs are longer than the Skeleton's, as the strides of a warm-up tell.

    Where feet stand, the hips' own accelerometer says how far they go, and the angles of the legs say it in lengths of legs. The factor is
    one more unknown of the least squares that finds the way. Arguments as those of `find_travel`. Without strides sigma is infinite.
    """
    count = len(recording)
    joint, world = forward_kinematics(skeleton, np.zeros((count, 3)), rotation_local)
    system = _system_of(recording, calibration, headings, skeleton, joint, world)
    n = system.n
    legs, hips = np.zeros((2, count, n, 3))
    for bone, k in system.ends.order.items():
        if not bone.endswith(("Foot", "LowerLeg")):
            continue
        side = bone.removesuffix("Foot").removesuffix("LowerLeg")
        hips[:, k] = joint[:, skeleton.index(side + "UpperLeg")] - joint[:, 0]
        legs[:, k] = system.ends.relative[:, k - 1] - hips[:, k]
    errors = _leg_errors(legs, recording.rate_hz)
    grows, strays = (_tie_aims(v) for v in (legs, errors))
    for _ in range(3):
        if _strides(system) < STRIDES:  # who marches on the spot turns the legs by little more than they are off
            return 1.0, np.inf
        band, aim = system.standing_still()
        # what the ties aim at, and so the places, is fixed + factor * grown
        solved = scipy.linalg.solveh_banded(band, np.concatenate([aim - grows, grows, strays], axis=1), lower=True)
        fixed, grown, strayed = solved[:, :3], solved[:, 3:6], solved[:, 6:]
        known = (legs**2).sum() / TIE_SD_M**2 - (grows * grown).sum()
        # what legs are off turns them as well, though the hips do not go along
        feigned = (errors**2).sum() / TIE_SD_M**2 - (strays * strayed).sum()
        told = (grows * fixed).sum() - (legs * hips).sum() / TIE_SD_M**2
        factor = told / max(known - feigned, 0.5 * known)
        if not system.lets_go((fixed + factor * grown).reshape(count, n, 3)):
            break
    return float(factor), float(np.hypot(1 / np.sqrt(known), FEIGNED_SD * feigned / known))


def _strides(system):
    """How often hips go far over a foot while it stands."""
    feet = [c for c in system.standing if c.point.endswith("Foot") and c.end - c.start < STRIDE_S * system.rate]
    ways = (system.ends.relative[c.start : c.end, system.ends.number(c.point) - 1] for c in feet)
    return sum(np.linalg.norm(np.ptp(way, axis=0)) > STRIDE_M for way in ways)


def _tie_aims(vectors):
    """What ties aim at (T (1 + E), 3) where limbs are vectors (T, 1 + E, 3) from the hips."""
    aim = vectors / TIE_SD_M**2
    aim[:, 0] -= aim[:, 1:].sum(axis=1)
    return aim.reshape(-1, 3)


def _leg_errors(legs, rate):
    """Made-up errors (T, 1 + E, 3) of legs (T, 1 + E, 3), as large and as quick as those of sensors on skin that swings."""
    own = np.random.default_rng(0).normal(size=legs.shape)
    low, high = (max(1, int(rate / f)) for f in SWINGS_HZ)
    own = scipy.ndimage.uniform_filter1d(own, high, axis=0) - scipy.ndimage.uniform_filter1d(own, low, axis=0)
    return LEG_ERROR_RAD * np.linalg.norm(legs, axis=2, keepdims=True) * own / own.std()


def _system_of(recording, calibration, headings, skeleton, joint, world, blurred_s=0.0):
    """The _System of a take: joint (T, B, 3) and world (T, B, 4) of the pose with its hips in the origin.

    blurred_s: by how much contacts begin earlier and end later than they are seen to.
    """
    sensed = felt_in_world(recording, calibration, headings)
    ends, points = find_ends(recording, skeleton, joint, world, calibration, sensed)
    hips = accelerations(sensed, "hips", joint_place(calibration, "hips", skeleton), GRAVITY_MS2)
    rate = recording.rate_hz
    unheard = np.stack([_unheard(recording, bone) for bone in ("hips", *ends.order)], axis=1)
    return _System(
        len(recording),
        rate,
        hips,
        ends,
        points,
        find_touches(points, rate, blurred_s),
        find_carried(sensed, rate),
        unheard,
    )


def _stay(band, at, n, weight):
    """Add that places, by their numbers `at` (N,) in a system of n a frame, are in the next frame where they are."""
    band[0, at] += weight
    band[0, at + n] += weight
    band[n, at] -= weight


def _unheard(recording, bone):
    """The frames (T,) in which nothing is heard of a bone's sensor for longer than for a moment."""
    missing = np.isnan(recording.rotation[:, recording.names.index(bone), 0])
    for a, b in find_runs(missing):
        missing[a:b] = b - a > UNHEARD_S * recording.rate_hz
    return missing


class _System:
    """The banded least squares over places (T, 1 + E, 3) of the hips and the ends."""

    def __init__(self, count, rate, hips, ends, points, contacts, carried, unheard):
        self.count, self.rate, self.ends, self.points, self.standing = count, rate, ends, points, contacts
        self.carried, self.places, self.leans, self.unheard = carried, None, False, unheard[:, 0]
        self.n = n = 1 + len(ends.order)
        self.band = np.zeros((2 * n + 1, count * n))  # lower form: band[k, i] couples i and i + k
        self.aim = np.zeros((count * n, 3))
        felt = np.concatenate([hips[:, None], ends.felt], axis=1)
        self._accelerated(np.where(unheard[..., None], 0.0, felt), unheard)
        # the speed of hips that nobody hears lasts for about a second
        _stay(self.band, np.flatnonzero(unheard[:-1, 0]) * n, n, self.rate / UNHEARD_SD_M_S**2)
        for k in range(1, n):
            self._tied(k, ends.relative[:, k - 1])
        self.band[0, 0] += ANCHOR  # the hips begin at the origin

    def _accelerated(self, felt, unheard):
        n, inner = self.n, slice(1, self.count - 1)
        # tilts err steadily, which only the ends of a take would notice
        edge = np.minimum(np.arange(1, self.count - 1), np.arange(self.count - 2, 0, -1)) / self.rate
        believed = np.maximum(0.5 - 0.5 * np.cos(np.pi * np.minimum(edge / EDGE_S, 1.0)), LEAST_BELIEVED)
        for k in range(n):
            sd_ms2 = np.where(unheard[inner, k], UNHEARD_SD_MS2, HIPS_SD_MS2 if k == 0 else END_SD_MS2)
            w = believed * (self.rate**2 / sd_ms2) ** 2
            at = np.arange(self.count - 2) * n + k
            value = felt[inner, k] / self.rate**2
            for i, ci in ((0, 1.0), (1, -2.0), (2, 1.0)):
                for j, cj in ((0, 1.0), (1, -2.0), (2, 1.0)):
                    if j >= i:
                        self.band[(j - i) * n, at + i * n] += w * ci * cj
                self.aim[at + i * n] += (w * ci)[:, None] * value

    def _tied(self, k, relative):
        at = np.arange(self.count) * self.n
        w = np.full(self.count, 1 / TIE_SD_M**2)
        self.band[0, at] += w
        self.band[0, at + k] += w
        self.band[k, at] -= w
        self.aim[at + k] += w[:, None] * relative
        self.aim[at] -= w[:, None] * relative

    def _leaning(self):
        """{point: its frames (N,)} in which nothing is known to stand for long, the body does not fly and the point is its lowest."""
        stands = np.zeros(self.count, dtype=bool)
        for c in self.standing:
            stands[c.start : c.end] = True
        free = np.zeros(self.count, dtype=bool)
        for a, b in find_runs(~stands):
            free[a:b] = b - a > LEANING_S * self.rate
        free &= self.carried
        if not self.points:
            return {}
        low = np.stack([p.relative[:, 1] - p.height_m for p in self.points.values()], axis=1).argmin(axis=1)
        return {name: np.flatnonzero(free & (low == k)) for k, name in enumerate(self.points)}

    def _slow(self, name, t):
        """How far (N,), 0 to 1, to believe that a point, the lowest of the body, is slow in frames t.

        What is thrown about is not, nor what was fast when the way was last found.
        """
        p = self.points[name]
        out = 1 / (1 + (np.linalg.norm(p.felt[t], axis=1) / LEANING_MS2) ** 2) ** 2
        if self.places is not None:
            way = self.places[:, self.ends.number(p.end)] + p.offset
            speed = np.linalg.norm(np.gradient(way, 1 / self.rate, axis=0)[t], axis=1)
            out = out / (1 + (speed / LEANING_M_S) ** 2) ** 2
        return out

    def _leans(self, leaning, slow, band, aim):
        """Whatever the body leans on is slow; leaning, slow: {point: its frames (N,)} and {point: how far that is believed (N,)}."""
        for name, t in leaning.items():
            p, inner = self.points[name], t < self.count - 1
            t = t[inner]
            at = t * self.n + self.ends.number(p.end)
            w = (self.rate / LEANING_SD_M_S) ** 2 * slow[name][inner]
            step = (p.offset[t + 1] - p.offset[t]) * -w[:, None]
            np.add.at(band[0], at, w)
            np.add.at(band[0], at + self.n, w)
            np.add.at(band[self.n], at, -w)
            np.add.at(aim, at + self.n, step)
            np.add.at(aim, at, -step)

    def strained(self, contact, places):
        """How far the limb of a contact leaves, while it stands, where the pose has it: 1 is as much as it may."""
        k = self.ends.number(self.points[contact.point].end)
        if k == 0:
            return 0.0
        inner = int(BLURRED_S * self.rate)  # at the ends the limb already leaves, or still comes
        span = slice(contact.start + inner, contact.end - inner)
        off = places[span, k] - places[span, 0] - self.ends.relative[span, k - 1]
        may = min(WRONG_M[0] + WRONG_M_S * (span.stop - span.start) / self.rate, WRONG_M[1])
        return float(np.linalg.norm(np.ptp(off, axis=0))) / may

    def lets_go(self, places):
        """Whether there are contacts that do not stand, by places (T, 1 + E, 3); they are none from now on.

        One that does not strains those beside it as well: of each such group the worst goes.
        """
        strain = np.array([self.strained(c, places) for c in self.standing])
        start, end = (np.array([getattr(c, of) for c in self.standing]) for of in ("start", "end"))
        beside = BESIDE_S * self.rate
        wrong = [
            i
            for i in np.flatnonzero(strain > 1.0)
            if strain[i] >= strain[(start < end[i] + beside) & (end > start[i] - beside)].max()
        ]
        self.standing = [c for i, c in enumerate(self.standing) if i not in wrong]
        return len(wrong) > 0

    def standing_still(self):
        """(band, aim) in which what touches the ground stays where it is."""
        band, aim, n = self.band.copy(), self.aim.copy(), self.n
        for c in self.standing:
            p, start, end = self.points[c.point], c.start, c.end
            at = np.arange(start, end - 1) * n + self.ends.number(p.end)
            w = 1 / (SIT_SD_M if c.point == "hips" else STAND_SD_M) ** 2
            step = (p.offset[start + 1 : end] - p.offset[start : end - 1]) * -w
            _stay(band, at, n, w)
            aim[at + n] += step
            aim[at] -= step
        return band, aim

    def solve(self, grounded=()):
        """Places (T, 1 + E, 3); grounded: contacts with the levels they stand on."""
        band, aim = self.standing_still()
        n, leaning = self.n, self._leaning()
        self.leans = any(len(t) for t in leaning.values())
        slow = {name: self._slow(name, t) for name, t in leaning.items()}
        self._leans(leaning, slow, band, aim)
        level_band, level_aim = band.copy(), aim[:, 1].copy()

        def hold(point, t, level_m, sd_m, share=1.0):
            p, w = self.points[point], share / sd_m**2
            at = t * n + self.ends.number(p.end)
            level_band[0, at] += w
            level_aim[at] += w * (level_m + p.height_m - p.offset[t, 1])

        if grounded:
            level_band[0, 0] -= ANCHOR
            for c in grounded:
                hold(c.point, np.arange(c.start, c.end), c.level_m, SEAT_SD_M if c.point == "hips" else FLOOR_SD_M)
            ground = _ground(grounded, self.count)
            for point, t in leaning.items():
                hold(point, t, ground[t], LEANING_SD_M, slow[point])
        flat = scipy.linalg.solveh_banded(band, aim[:, [0, 2]], lower=True)
        high = scipy.linalg.solveh_banded(level_band, level_aim, lower=True)
        self.places = np.stack([flat[:, 0], high, flat[:, 1]], axis=1).reshape(self.count, n, 3)
        return self.places


def _ground(contacts, count):
    """The level (T,) of the contact next in time to each frame."""
    edges = np.array([(t, c.level_m) for c in contacts for t in (c.start, c.end)])
    at, frames = edges[np.argsort(edges[:, 0], kind="stable")], np.arange(count)
    after = np.clip(np.searchsorted(at[:, 0], frames), 1, len(at) - 1)
    nearer = after - (frames - at[after - 1, 0] <= at[after, 0] - frames)
    return at[nearer, 1]


def _with_levels(system, places):
    """The contacts of a _System with the levels they stand on: that of the one before, or a step up or down where it is plainly another."""
    out, seen, levels = [], [], []
    for c in system.standing:
        p = system.points[c.point]
        own = places[c.start : c.end, system.ends.number(p.end), 1] + p.offset[c.start : c.end, 1] - p.height_m
        own = float(np.median(own))
        if seen:
            before = max(seen, key=lambda one: (min(one[0].end, c.start), -abs(one[1] - own)))
            guess = before[0].level_m + own - before[1]
            level = min(levels, key=lambda v: abs(v - guess))
            between = slice(before[0].end, max(before[0].end, c.start))
            unheard_s = system.unheard[between].sum() / system.rate
            unsure = UNSURE_M_S * (between.stop - between.start) / system.rate + UNHEARD_SD_M_S * unheard_s
            if abs(level - guess) > STEP_M + unsure:
                level = guess
                levels.append(level)
        else:
            level = 0.0
            levels.append(level)
        out.append(replace(c, level_m=level))
        if c.point != "hips":  # how high they lie over what they sit on is not known well enough to tell others' levels
            seen.append((out[-1], own))
    return out


def _held(off, contacts, rate):
    """What has to be added (T, 3) to the places where a pose has a foot, so that it stands still during its contacts.

    off (T, 3): from there to where the foot was found. Only what changes during a contact counts, and between contacts nothing does: a leg
    that is nearly straight would have to bend by many degrees for every centimetre.
    """
    stands = np.zeros(len(off), dtype=bool)
    for c in contacts:
        stands[c.start : c.end] = True
    spans = find_runs(stands)
    if not len(spans):
        return np.zeros_like(off)
    usual = np.repeat([off[a:b].mean(axis=0) for a, b in spans], 2, axis=0)
    edges = (spans - [0, 1]).ravel()
    usual = np.stack([np.interp(np.arange(len(off)), edges, column) for column in usual.T], axis=1)
    away = scipy.ndimage.distance_transform_edt(~stands) / rate
    return (off - usual) * (0.5 + 0.5 * np.cos(np.pi * np.minimum(away / EASE_S, 1.0)))[:, None]


def _lowered(skeleton, joint, feet, contacts, rate):
    """How far (T,) the hips go down, metres, so that legs reach where their feet stand: feet {bone: (T, 3) from the hips}.

    At the ends of a take little holds the hips, and no leg is longer than it is.
    """
    low = np.zeros(len(joint))
    for foot, wanted in feet.items():
        side = foot.removesuffix("Foot")
        hip = joint[:, skeleton.index(side + "UpperLeg")] - joint[:, 0]
        lengths = np.linalg.norm(
            skeleton.rest_offset_m[[skeleton.index(side + part) for part in ("LowerLeg", "Foot")]], axis=1
        )
        away = wanted - hip
        distance = np.linalg.norm(away, axis=1)
        upright = -away[:, 1] / np.maximum(distance, 1e-9)
        beyond = np.where(upright > UPRIGHT, (distance - STRETCHED * lengths.sum()) / np.maximum(upright, UPRIGHT), 0.0)
        stands = np.zeros(len(joint), dtype=bool)
        for c in contacts:
            if c.point in (foot, side + "Toes"):
                stands[c.start : c.end] = True
        low = np.maximum(low, np.where(stands, beyond, 0.0))
    width = int(EASE_S * rate) | 1
    low = scipy.ndimage.maximum_filter1d(np.minimum(low, LOWER_M), width)
    for _ in range(2):
        low = scipy.ndimage.uniform_filter1d(low, width // 2 | 1)
    return low


def keep_feet(skeleton, rotation_local, joint, world, feet):
    """Local rotations in which legs bend until ankles are where they belong, feet {bone: (T, 3) from the hips}; feet keep their rotation."""
    world = world.copy()
    for foot, wanted in feet.items():
        side = foot.removesuffix("Foot")
        a, b, c = (skeleton.index(side + part) for part in ("UpperLeg", "LowerLeg", "Foot"))
        hinge = quaternion_rotate(world[:, a], np.array([1.0, 0.0, 0.0]))
        first, second = bend(joint[:, a], joint[:, b], joint[:, c], joint[:, 0] + wanted, hinge)
        world[:, a], world[:, b] = quaternion_multiply(first, world[:, a]), quaternion_multiply(second, world[:, b])
    local = rotation_local.copy()
    for side in ("left", "right"):
        for part in ("UpperLeg", "LowerLeg", "Foot"):
            b = skeleton.index(side + part)
            local[:, b] = quaternion_multiply(quaternion_conjugate(world[:, skeleton.parents[b]]), world[:, b])
    return make_continuous(local)
