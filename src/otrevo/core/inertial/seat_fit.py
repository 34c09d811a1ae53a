"""How every sensor of a suit sits on its limb, from poses held still and from the movement of a warm-up.

A sensor on bone b reads S(t) = H R_b(t) M: R_b the bone's rotation in a world in which the body faces +Z in the T-pose, H the heading of the
sensor's filter against it (+Y) and M how the sensor sits. The joints tell the headings and where the limbs' ends lie
(core.inertial.joints), the poses tell M as well as somebody holds them, elbows and knees bend about one axis only. All of it
goes into one least-squares fit.
"""

import numpy as np
from scipy.optimize import least_squares

from otrevo.core.body.skeleton import rest_joints
from otrevo.core.conventions import (
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.inertial.calibration import SuitCalibration, seats_sd
from otrevo.core.inertial.exchanged import limbs_of
from otrevo.core.inertial.poses import (
    ARMS_DOWN_SD,
    FOLLOWS,
    LIMBS,
    SEATS,
    T_POSE_SD,
    arms_down,
    arms_level,
    bone_end,
    plain,
    side_sign,
)
from otrevo.core.inertial.stills import mean_rotation

ARM_DOWN_DEG, ARM_LEVEL_DEG = 50.0, 35.0  # below and around the horizontal
STEP = 1e-6
FOUND_RAD = np.radians(6.0)  # of a heading that joints told, about which it is looked for anew
DRIFT_DEG = 1.0  # a minute; filters drift more, but a minute of warm-up cannot tell and the take can
# by what legs go to their own side by chance in so many seconds, how far sways go, and how well hip joints are placed across the pelvis
SPREAD_SD, SPREAD_S, SWAYING_DEG, ACROSS_SD_M = 0.15, 30.0, 3.0, 0.06
PLAINLY = 1.2  # legs that are so many sigma the wrong way round are not so by chance
HINGE_FRAMES, INDEPENDENT = 60, 20
KNEE_STEP = 5
LEAST_BEND_RAD = np.radians(10.0)  # of both knees together, for it to tell where left is
ALIKE_DEG = 12.0  # how differently sensors are inclined, on average, in stills of one pose
HINGES, BENT_RAD = (("UpperLeg", "LowerLeg"), ("UpperArm", "LowerArm")), np.radians(30)
LIMB_SD_M = 0.008
ARMS = "UpperArm", "LowerArm"
POSES = {"T-pose": arms_level, "arms down": arms_down}
UP = np.array([0.0, 1.0, 0.0])


class SeatFit:
    """The least-squares fit of headings and mounts; S sensors, N stills."""

    def __init__(self, recording, stills, links, skeleton):
        self.recording, self.links, self.skeleton = recording, links, skeleton
        self.names = recording.names
        self.number = {n: i for i, n in enumerate(self.names)}
        self.stills = stills
        self.held = np.stack(
            [[mean_rotation(recording.rotation[a:b, s]) for s in range(len(self.names))] for a, b in stills]
        )
        self.zero = links[0].zero_s if links else float(recording.times_s.mean())
        self.held_at = recording.times_s[stills.mean(axis=1).astype(int)] - self.zero
        self.lines, self.across = self._limb_lines(), self._across()
        self.follows = self._followed()
        self.posed = {kind: np.stack([pose(b) for b in self.names]) for kind, pose in POSES.items()}
        linked = {"hips"} | {link.below for link in links}
        alone = [n for n in self.names if n not in linked]
        self.notes = [f"no sensor next to {n}, so its heading comes from the poses alone" for n in alone]

    def exchanged_sides(self):
        """Pairs of sensors where both arms or both legs are worn left for right: against the way knees bend and legs are spread."""
        heading, drift = self._headings_by_links()
        knees = self._knees(heading, drift)
        if np.linalg.norm(knees[[0, 2]]) < LEAST_BEND_RAD:
            return []
        knees /= np.linalg.norm(knees)
        arms, hips = self._arms_across(heading, drift, self._kinds()), self._hips_across(heading, drift)
        arms_wrong = arms @ knees < -0.5 * np.linalg.norm(arms)
        seconds = float(np.ptp(self.recording.times_s))
        spread_sd = SPREAD_SD * np.sqrt(max(1.0, SPREAD_S / seconds))
        legs_right = self._spread_outwards(heading, drift, knees) / spread_sd + hips @ knees / ACROSS_SD_M
        # whoever has put on both sleeves the wrong way round has most likely put on a whole suit so
        wrong = arms_wrong, legs_right < (0.0 if arms_wrong else -PLAINLY)
        return [pair for legs in (0, 1) if wrong[legs] for pair in limbs_of(self.names, legs)]

    def _knees(self, heading, drift):
        """How both knees are bent while they are, on average (3,), as _knee_bends: about the way from right to left."""
        return sum((self._knee_bends(side, heading, drift) for side in ("left", "right")), np.zeros(3))

    def _knee_bends(self, side, heading, drift):
        """How a knee is bent while it is, on average (3,), a rotation vector in the world as the thigh is in a pose; zeros where it hardly bends.

        Both filters' headings are taken off first: between two that differ, one axis would look like another.
        """
        pair = [self.number.get(side + b) for b in ("UpperLeg", "LowerLeg")]
        if None in pair:
            return np.zeros(3)
        q = self.recording.rotation[:, pair]
        known = np.flatnonzero(np.isfinite(q[..., 0]).all(axis=1))[::KNEE_STEP]
        at, straight = self.recording.times_s[known] - self.zero, self._straight()
        held = self._turned(self.held[straight, pair], heading[pair] + drift[pair] * self.held_at[straight])
        world = self._turned(q[known], heading[pair] + drift[pair] * at[:, None])
        rest, now = (quaternion_multiply(quaternion_conjugate(x[..., 0, :]), x[..., 1, :]) for x in (held, world))
        bend = rotvec_from_quaternion(quaternion_multiply(now, quaternion_conjugate(rest)))
        bent = np.linalg.norm(bend, axis=1) > BENT_RAD
        return quaternion_rotate(held[0], bend[bent].mean(axis=0)) if bent.sum() >= 10 else np.zeros(3)

    def _spread_outwards(self, heading, drift, left):
        """How far legs go to their own side rather than to the other one, -1 to 1; left (3,): the way that knees bend about, a unit.

        Hips let a leg swing out twice as far as in, and people stand, step and squat with their feet apart.
        """
        names = ("hips", "leftUpperLeg", "rightUpperLeg")
        if not all(n in self.number for n in names):
            return 0.0
        at = [self.number[n] for n in names]
        q = self.recording.rotation[:, at]
        known = np.flatnonzero(np.isfinite(q[..., 0]).all(axis=1))[::KNEE_STEP]
        time, straight = self.recording.times_s[known] - self.zero, self._straight()
        if not len(known) or not np.isfinite(self.held[straight, at]).all():
            return 0.0
        held = self._turned(self.held[straight, at], heading[at] + drift[at] * self.held_at[straight])
        now = self._turned(q[known], heading[at] + drift[at] * time[:, None])
        turn = rotvec_from_quaternion(quaternion_multiply(now, quaternion_conjugate(held)))
        aside = np.degrees(turn @ np.cross(left, UP))
        aside = (aside[:, 1:] - aside[:, :1]) * [1.0, -1.0]  # outwards, against the pelvis
        return float((aside * np.abs(aside)).mean() / ((aside**2).mean() + SWAYING_DEG**2))

    def begin(self):
        """(headings, drifts, kinds of stills, mounts) as links and poses say before anything is fitted."""
        heading, drift = self._headings_by_links()
        kinds = self._kinds()
        if not any(kinds):
            if any(plain(n) in (*ARMS, "Hand") for n in self.names) and not self._arm_lines():
                raise InputError(
                    "No upper arm or forearm has a sensor next to it, so nothing tells a T-pose from arms that hang; expected one beside it."
                )
            raise InputError(
                "No still pose of the warm-up is a T-pose or has the arms down; expected both, each for two seconds."
            )
        heading = heading + self._facing(heading, drift, kinds)
        return heading, drift, kinds, self._first_mounts(heading, drift, kinds)

    def expected_places(self):
        """{joint: (place above (3,), place below (3,), heading, drift, sd of the heading)} by the poses and by where on limbs suits have their sensors."""
        _, _, _, mount = self.begin()
        return {
            link.joint: (*(quaternion_rotate(quaternion_conjugate(mount[self.number[bone]]), self._joint_from_seat(bone, link.joint))
                           for bone in (link.above, link.below)), link.heading_rad, link.drift_rad_s, FOUND_RAD)
            for link in self.links
        }  # fmt: skip

    def _joint_from_seat(self, bone, joint):
        """From where a sensor usually sits on a bone to a joint, in the bone's T-pose axes (3,), metres."""
        side, part = ("", bone) if bone in SEATS else (bone.removesuffix(plain(bone)), plain(bone))
        end = bone_end(self.skeleton, bone)
        seat = np.array(SEATS[part]) * ([side_sign(bone), 1, 1] if side else [1, 1, 1]) + (
            0.5 * end if end is not None else 0.0
        )
        return rest_joints(self.skeleton)[joint] - rest_joints(self.skeleton)[bone] - seat

    def solve(self, progress):
        heading, drift, kinds, mount = self.begin()
        progress(0.6)
        given = heading, drift, mount, kinds, self._bending()
        found = least_squares(
            self._residuals, np.zeros(5 * len(self.names)), self._jacobian_by_groups(given), args=given,
            loss="soft_l1", f_scale=2.0, max_nfev=40, xtol=1e-4, ftol=1e-3, x_scale="jac",
        )  # fmt: skip
        heading, drift, mount = self._moved(found.x, heading, drift, mount)
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
            *self._sd(found.jac),
            places,
            poses,
            notes=tuple(self.notes),
            t_pose=self._held_in_t_pose(heading, drift, mount, kinds),
        )

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

    def _headings_by_links(self):
        """Headings (S,) against the pelvis' filter and drifts, along the links outwards."""
        heading, drift = np.zeros(len(self.names)), np.zeros(len(self.names))
        for link in self.links:
            a, b = self.number[link.above], self.number[link.below]
            heading[b], drift[b] = heading[a] - link.heading_rad, drift[a] - link.drift_rad_s
        return heading, drift

    def _turned(self, q, heading):
        """World rotations (..., S, 4) times what is not known of the mounts, of readings q of filters with headings (..., S)."""
        return quaternion_multiply(quaternion_from_rotvec(-heading[..., None] * UP), q)

    def _limb_lines(self):
        """{bone: (from its joint to the next in its sensor's axes (3,) m, inverse square root of the covariance (3, 3))}."""
        ends = {}
        for link in self.links:
            ends.setdefault(link.below, {})["own"] = (link.below_m, link.below_cov)
            ends.setdefault(link.above, {})[link.joint] = (link.above_m, link.above_cov)
        out = {}
        for bone, known in ends.items():
            end = bone.removesuffix(plain(bone)) + LIMBS.get(plain(bone), "?")
            if end in known and "own" in known:
                out[bone] = known[end][0] - known["own"][0], _sharpness(known[end][1] + known["own"][1], LIMB_SD_M)
        return out

    def _across(self):
        """[(bone, from its right joint to its left one in its sensor's axes (3,) m, wanted (3,) m, sharpness)] of pelvis and chest."""
        ends, out = {}, []
        for link in self.links:
            ends.setdefault(link.above, {})[link.joint] = (link.above_m, link.above_cov)
        for bone, joint in (("hips", "UpperLeg"), ("chest", "Shoulder"), ("chest", "UpperArm")):
            both = [ends.get(bone, {}).get(side + joint) for side in ("left", "right")]
            if None not in both:
                wanted = np.array(
                    [
                        2
                        * sum(
                            self.skeleton.rest_offset_m[self.skeleton.index(b), 0]
                            for b in (
                                ("leftUpperLeg",)
                                if joint == "UpperLeg"
                                else ("leftShoulder", "leftUpperArm")[: 1 + (joint == "UpperArm")]
                            )
                        ),
                        0.0,
                        0.0,
                    ]
                )
                sharp = _sharpness(both[0][1] + both[1][1], ACROSS_SD_M)
                out.append((bone, both[0][0] - both[1][0], wanted, sharp))
        return out

    def _arm_lines(self):
        """{upper arm or forearm: along it in its sensor's axes (3,)}."""
        lines = {b: v for b, (v, _) in self.lines.items() if plain(b) in ARMS}
        if not lines:  # of one end of a limb alone its sensor tells as well: it lies along the limb from there
            lines = {k.below: -k.below_m for k in self.links if plain(k.below) in ARMS}
            lines |= {k.above: k.above_m for k in self.links if plain(k.above) in ARMS}
        return lines

    def _alike(self):
        """Whether each still is held like most of them (N,), by how sensors are inclined: without arms, whoever stands still stands upright."""
        up = quaternion_rotate(quaternion_conjugate(self.held), UP)  # (N, S, 3), whatever the headings are
        apart = np.degrees(np.nanmean(np.arccos(np.clip(np.einsum("nsi,msi->nms", up, up), -1.0, 1.0)), axis=2))
        alike = apart < ALIKE_DEG
        seconds = alike @ np.diff(self.stills, axis=1)[:, 0]
        return alike[int(np.argmax(seconds))]

    def _kinds(self):
        """ "T-pose", "arms down" or "" for every still, by how the arms' lines are inclined."""
        lines = self._arm_lines()
        if not lines and not any(plain(n) in (*ARMS, "Hand") for n in self.names):
            return ["arms down" if stands else "" for stands in self._alike()]
        out = []
        for held in self.held:
            slope = [
                np.degrees(np.arcsin(quaternion_rotate(held[self.number[b]], v / np.linalg.norm(v))[1]))
                for b, v in lines.items()
            ]
            slope = [s for s in slope if np.isfinite(s)]
            middle = float(np.median(slope)) if slope else np.nan
            out.append("arms down" if middle < -ARM_DOWN_DEG else "T-pose" if abs(middle) < ARM_LEVEL_DEG else "")
        return out

    def _facing(self, heading, drift, kinds):
        """What to add to all headings so that the body faces +Z: arms stretch to the sides in a T-pose, hips lie beside each other."""
        across = self._arms_across(heading, drift, kinds)
        if np.linalg.norm(across) < 0.3:  # no T-pose, or no arms
            across = self._knees(heading, drift)
            if np.linalg.norm(across[[0, 2]]) < LEAST_BEND_RAD:
                across = self._hips_across(heading, drift)
        return np.arctan2(-across[2], across[0])

    def _arms_across(self, heading, drift, kinds):
        """From right to left by the arms in the T-poses, (3,) in a world in which the pelvis' filter has heading 0."""
        across = np.zeros(3)
        for kind, held, at in zip(kinds, self.held, self.held_at, strict=True):
            world = self._turned(held, heading + drift * at)
            for bone, (line, _) in self.lines.items() if kind == "T-pose" else ():
                if plain(bone) in ARMS and np.isfinite(world[self.number[bone], 0]):
                    across += side_sign(bone) * quaternion_rotate(world[self.number[bone]], line)
        return across

    def _hips_across(self, heading, drift):
        """From the right hip joint to the left one, metres, as _arms_across: short of the truth where the pelvis hardly moved."""
        across, count = np.zeros(3), 0
        places = {link.joint: link.above_m for link in self.links if link.above == "hips"}
        if {"leftUpperLeg", "rightUpperLeg"} <= places.keys():
            for held, at in zip(self.held, self.held_at, strict=True):
                world = self._turned(held, heading + drift * at)
                if np.isfinite(world[self.number["hips"], 0]):
                    across += quaternion_rotate(
                        world[self.number["hips"]], places["leftUpperLeg"] - places["rightUpperLeg"]
                    )
                    count += 1
        return across / max(count, 1)

    def _first_mounts(self, heading, drift, kinds):
        """Mounts (S, 4) as the poses say, a T-pose first."""
        best = kinds.index("T-pose") if "T-pose" in kinds else next(i for i, k in enumerate(kinds) if k)
        world = self._turned(self.held[best], heading + drift * self.held_at[best])
        return quaternion_multiply(quaternion_conjugate(self.posed[kinds[best]]), world)

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
                straight = np.nanargmin(np.abs(self.held_at)) if len(self.held_at) else 0
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

    def _straight(self):
        """The still in which knees are straight: of the poses, the one nearest to the middle; a squat may be held as well."""
        poses = [i for i, kind in enumerate(self._kinds()) if kind] or range(len(self.held))
        return min(poses, key=lambda i: abs(self.held_at[i]))

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
        for n, (kind, held, at) in enumerate(zip(kinds, self.held, self.held_at, strict=True)):
            if not kind:
                continue
            world = quaternion_multiply(self._turned(held, heading + drift * at), quaternion_conjugate(mount))
            world = quaternion_multiply(world, quaternion_conjugate(self.posed[kind]))
            above, below = self.follows
            turn = quaternion_multiply(quaternion_conjugate(world[above]), world[below])
            out[n, below] = rotvec_from_quaternion(turn)
            rest = [s for s, b in enumerate(self.names) if np.isnan(out[n, s, 0])]
            out[n, rest] = rotvec_from_quaternion(world[rest])
            for side in ("left", "right"):
                foot, shin = (self.number.get(side + b) for b in ("Foot", "LowerLeg"))
                if foot is not None and shin is not None:  # it is flat on the floor, and points where the knee does
                    out[n, foot, 1] -= out[n, shin, 1]
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


def _sharpness(covariance, model_m):
    """Inverse square root (3, 3) of a covariance of places and of what the model lacks."""
    value, vector = np.linalg.eigh(covariance + np.eye(3) * model_m**2)
    return (vector / np.sqrt(value)) @ vector.T
