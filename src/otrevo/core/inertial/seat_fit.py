"""How every sensor of a suit sits on its limb, from poses held still and from the movement of a warm-up.

A sensor on bone b reads S(t) = H R_b(t) M: R_b the bone's rotation in a world in which the body faces +Z in the T-pose, H the heading of the
sensor's filter against it (+Y) and M how the sensor sits. The joints tell the headings and where the limbs' ends lie
(core.inertial.joints), the poses tell M as well as somebody holds them, elbows and knees bend about one axis only. It begins
where core.inertial.first_seats says; all of it goes into one least-squares fit.
"""

import numpy as np
import scipy

from otrevo.core.conventions import (
    matrix_from_quaternion,
    mean_rotation,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.inertial.calibration import SuitCalibration, seats_sd
from otrevo.core.inertial.first_seats import ARMS, BENT_RAD, POSES, FirstSeats
from otrevo.core.inertial.poses import (
    ARMS_DOWN_SD,
    FOLLOWS,
    PALMS_FORWARD_RAD,
    T_POSE_SD,
    bone_end,
    plain,
    side_sign,
)

STEP = 1e-6
DRIFT_DEG = 1.0  # a minute; filters drift more, but a minute of warm-up cannot tell and the take can
HINGE_FRAMES, INDEPENDENT = 60, 20
ALONG_ARMS = np.array([1.0, 0.0, 0.0])  # in bone axes
HINGES = ("UpperLeg", "LowerLeg"), ("UpperArm", "LowerArm")


class SeatFit(FirstSeats):
    """The least-squares fit of headings and mounts; S sensors, N stills."""

    def solve(self, progress):
        heading, drift, kinds, mount, jacobian = self._fit(progress)
        self.rolled = self._palms_forward(heading, drift)
        if self.rolled:
            heading, drift, kinds, mount, jacobian = self._fit(progress)
            self.notes += self._said_of_palms()
        progress(0.95)
        off = self._pose_errors(heading, drift, mount, kinds)
        residual = np.sqrt(np.nanmean(np.square(np.degrees(off)).sum(axis=2), axis=0))
        rate, start = self.recording.rate_hz, self.recording.start_s
        poses = tuple(
            (kind, float(start + a / rate), float(start + b / rate)) for kind, (a, b) in zip(kinds, self.stills, strict=True) if kind
        )  # fmt: skip
        places = {link.joint: (link.above_m, link.below_m) for link in self.links}
        return SuitCalibration(
            self.names,
            mount,
            heading,
            drift,
            self.zero,
            residual,
            *self._sd(jacobian),
            places,
            poses,
            notes=tuple(self.notes),
            t_pose=self._held_in_t_pose(heading, drift, mount, kinds),
        )

    def _fit(self, progress):
        """Headings, drifts, kinds of stills, mounts, and the Jacobian where they fit best."""
        heading, drift, kinds, mount = self.begin()
        progress(0.6)
        self.follows = self._followed()
        given = heading, drift, mount, kinds, self._bending()
        found = scipy.optimize.least_squares(
            self._residuals, np.zeros(5 * len(self.names)), self._jacobian_by_groups(given), args=given,
            loss="soft_l1", f_scale=2.0, max_nfev=40, xtol=1e-4, ftol=1e-3, x_scale="jac",
        )  # fmt: skip
        heading, drift, mount = self._moved(found.x, heading, drift, mount)
        return heading, drift, kinds, mount, found.jac

    def _palms_forward(self, heading, drift):
        """{(forearm, kind of pose)} in which a palm is turned forward, as anatomists stand: the forearm is rolled out by far more than in the other."""
        mounts = {n: self._mounts_by(n, heading, drift) for n, kind in enumerate(self.kinds) if kind}
        out = set()
        for side in ("left", "right"):
            at = [self.number.get(side + b) for b in ARMS]
            rolls = {kind: [] for kind in POSES}
            known = [n for n in mounts if None not in at and np.isfinite(mounts[n][at, 0]).all()]
            for n in known:
                turn = quaternion_multiply(mounts[n][at], quaternion_conjugate(mounts[known[0]][at]))
                upper, lower = 2 * np.arctan2(turn[:, 0], turn[:, 3])
                rolls[self.kinds[n]].append(np.angle(np.exp(1j * (lower - upper))))
            if all(rolls.values()):
                rolled = np.median(rolls["T-pose"]) - np.median(rolls["arms down"])
                if abs(rolled) > PALMS_FORWARD_RAD:
                    out.add((at[1], "T-pose" if rolled < 0 else "arms down"))
        return out

    def _said_of_palms(self):
        said = {
            "T-pose": "in the T-pose, so arms that hang say",
            "arms down": "while the arms hung, so the T-pose says",
        }
        return [
            f"palms faced forward {said[k]} how forearms and hands are rolled"
            for k in sorted({k for _, k in self.rolled})
        ]

    def _held_in_t_pose(self, heading, drift, mount, kinds):
        """World rotations (S, 4) of bones in the T-poses, on average; None where none was held."""
        at = [n for n, kind in enumerate(kinds) if kind == "T-pose"]
        if not at:
            return None
        world = quaternion_multiply(
            self._turned(self.held[at], heading + drift * self.held_at[at, None]), quaternion_conjugate(mount)
        )
        return np.stack([mean_rotation(world[:, s]) for s in range(len(self.names))])

    def _sd(self, jacobian):
        """How well mounts are known, as of seats_sd, by the fit's Jacobian."""
        count = len(self.names)
        covariance = np.linalg.pinv(jacobian.T @ jacobian).reshape(count, 5, count, 5)[:, 2:, :, 2:]
        return seats_sd(self.names, np.diagonal(covariance, axis1=1, axis2=3))

    def _bending(self):
        """{(bone above, bone below): (readings of both (K, 2, 4), times from zero (K,))} of frames in which that hinge is bent."""
        out, q = {}, self.recording.rotation
        for side in ("left", "right"):
            for above, below in HINGES:
                pair = [self.number.get(side + b) for b in (above, below)]
                if None in pair:
                    continue
                a, b = pair
                known = np.flatnonzero(np.isfinite(q[:, a, 0]) & np.isfinite(q[:, b, 0]))
                straight = self._straight(pair)
                rest = quaternion_multiply(quaternion_conjugate(self.held[straight, a]), self.held[straight, b])
                now = quaternion_multiply(quaternion_conjugate(q[known, a]), q[known, b])
                bent = np.linalg.norm(
                    rotvec_from_quaternion(quaternion_multiply(now, quaternion_conjugate(rest))), axis=1
                )
                known = known[bent > BENT_RAD]
                at = (
                    known[np.linspace(0, len(known) - 1, min(HINGE_FRAMES, len(known))).astype(int)]
                    if len(known)
                    else known
                )
                out[side + above, side + below] = q[at][:, pair], self.recording.times_s[at] - self.zero
        return out

    def _moved(self, x, heading, drift, mount):
        """Headings, drifts and mounts at a step x (5 S,) from those given: heading, drift (rad/min), rotation vector of the bone's axes."""
        x = x.reshape(-1, 5)
        return heading + x[:, 0], drift + x[:, 1] / 60, quaternion_multiply(quaternion_from_rotvec(x[:, 2:]), mount)

    def _followed(self):
        """Numbers of sensors (2, K): those that others hang on in a pose, and those others."""
        pairs = []
        for below, bone in enumerate(self.names):
            side = bone.removesuffix(plain(bone))
            for above in FOLLOWS.get(plain(bone), ()):
                found = self.number.get(above, self.number.get(side + above))
                if found is not None:
                    pairs.append((found, below))
                    break
        return np.array(pairs, dtype=np.int64).reshape(-1, 2).T

    def _pose_errors(self, heading, drift, mount, kinds):
        """Rotation vectors (N, S, 3) from the poses as they should be to what the sensors say, NaN where not known."""
        out = np.full((*self.held.shape[:2], 3), np.nan)
        at = [n for n, kind in enumerate(kinds) if kind]
        kinds = np.array([kinds[n] for n in at])
        posed = np.stack([self.posed[kind] for kind in kinds])
        turned = self._turned(self.held[at], heading + drift * self.held_at[at, None])
        world = quaternion_multiply(
            quaternion_multiply(turned, quaternion_conjugate(mount)), quaternion_conjugate(posed)
        )
        above, below = self.follows
        turn = quaternion_multiply(quaternion_conjugate(world[:, above]), world[:, below])
        for s, kind in self.rolled:
            here = np.ix_(kinds == kind, below == s)
            turn[here] = _unrolled(turn[here], quaternion_rotate(self.posed[kind][s], ALONG_ARMS))
        off = rotvec_from_quaternion(world)
        followed = rotvec_from_quaternion(turn)
        off[:, below] = np.where(np.isnan(followed), off[:, below], followed)
        for side in ("left", "right"):
            foot, shin = (self.number.get(side + b) for b in ("Foot", "LowerLeg"))
            if foot is not None and shin is not None:  # it is flat on the floor, and points where the knee does
                off[:, foot, 1] -= off[:, shin, 1]
        out[at] = off
        return out

    def _residuals(self, x, heading, drift, mount, kinds, bending):
        heading, drift, mount = self._moved(x, heading, drift, mount)
        parts = [x.reshape(-1, 5)[:, 1] / np.radians(DRIFT_DEG)]
        count = {k: max(1, kinds.count(k)) for k in kinds}
        off = np.degrees(self._pose_errors(heading, drift, mount, kinds))
        for n, kind in enumerate(kinds):
            if kind:  # the same pose held again is not much news
                table = T_POSE_SD if kind == "T-pose" else ARMS_DOWN_SD
                sd = np.array([table[plain(b)] for b in self.names]) * np.sqrt(count[kind])
                parts.append(np.nan_to_num(off[n] / sd).ravel())
        for link in self.links:
            a, b = self.number[link.above], self.number[link.below]
            sd = min(link.heading_sd, np.radians(20.0))  # a joint that told nothing still begins there
            apart = heading[a] - heading[b] - link.heading_rad
            parts.append([np.arctan2(np.sin(apart), np.cos(apart)) / sd])
            parts.append([(drift[a] - drift[b] - link.drift_rad_s) * 60 / np.radians(2.5)])
        for bone, (line, sharp) in self.lines.items():
            wanted = bone_end(self.skeleton, bone)
            seen = quaternion_rotate(quaternion_conjugate(mount[self.number[bone]]), wanted / np.linalg.norm(wanted))
            parts.append(sharp @ (np.linalg.norm(line) * seen - line))  # how long the limb is, is not asked
        for bone, seen, wanted, sharp in self.across:
            parts.append(sharp @ (quaternion_rotate(quaternion_conjugate(mount[self.number[bone]]), wanted) - seen))
        parts += self._hinges(heading, drift, mount, bending)
        return np.concatenate([np.ravel(p) for p in parts])

    def _jacobian_by_groups(self, given):
        """A function for the Jacobian by differences: sensors that share no residual are moved at once."""
        zero = np.zeros(5 * len(self.names))
        base, touched, rng = self._residuals(zero, *given), [], np.random.default_rng(0)
        for s in range(len(self.names)):
            moved = zero.copy()
            moved[5 * s : 5 * s + 5] = 1e-4 * rng.uniform(0.5, 1.5, 5)
            touched.append(self._residuals(moved, *given) != base)
        groups = []
        for s in range(len(self.names)):
            group = next((g for g in groups if not any((touched[s] & touched[o]).any() for o in g)), None)
            groups.append([s]) if group is None else group.append(s)

        def jacobian(x, *given):
            base, out = self._residuals(x, *given), np.zeros((len(touched[0]), len(x)))
            for group in groups:
                for k in range(5):
                    moved = x.copy()
                    moved[[5 * s + k for s in group]] += STEP
                    slope = (self._residuals(moved, *given) - base) / STEP
                    for s in group:
                        out[touched[s], 5 * s + k] = slope[touched[s]]
            return out

        return jacobian

    def _hinges(self, heading, drift, mount, bending):
        """How far elbows and knees bend aside of their one axis, by degrees that skin and bones allow."""
        for (above, below), (readings, at) in bending.items():
            if len(at) < 10:
                continue
            pair = [self.number[above], self.number[below]]
            world = quaternion_multiply(
                self._turned(readings, heading[pair] + drift[pair] * at[:, None]), quaternion_conjugate(mount[pair])
            )
            local = quaternion_multiply(quaternion_conjugate(world[:, 0]), world[:, 1])
            many = np.sqrt(max(1.0, len(at) / INDEPENDENT))  # neighbours in time err alike, and so does the whole fit
            if plain(below) == "LowerLeg":
                bent = np.degrees(rotvec_from_quaternion(local))
                yield from (np.minimum(bent[:, 0] + 4, 0) / 4 / many, bent[:, 1] / 8 / many, bent[:, 2] / 4 / many)
            else:
                line = matrix_from_quaternion(local)[..., 0] * side_sign(below)
                yield from (np.degrees(line[:, 1]) / 6 / many, np.degrees(np.minimum(line[:, 2] + 0.07, 0)) / 4 / many)


def _unrolled(turn, line):
    """Rotations (..., 4) without what they turn about a line (3,), a unit, which comes first."""
    rolled = np.concatenate([(turn[..., :3] @ line)[..., None] * line, turn[..., 3:]], axis=-1)
    return quaternion_multiply(turn, quaternion_conjugate(rolled / np.linalg.norm(rolled, axis=-1, keepdims=True)))
