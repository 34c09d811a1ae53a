"""What joints, poses and knees of a warm-up say of headings and of how sensors sit, before anything is fitted (core.inertial.seat_fit).

The joints tell headings and where the limbs' ends lie, arms that hang or are level tell the poses, and knees tell left from right.
"""

import numpy as np

from otrevo.core.body.skeleton import rest_joints
from otrevo.core.conventions import (
    matrix_from_quaternion,
    mean_rotation,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.errors import InputError
from otrevo.core.inertial.exchanged import limbs_of
from otrevo.core.inertial.poses import (
    LIMBS,
    arms_down,
    arms_level,
    plain,
    side_sign,
    usual_seat,
)
from otrevo.core.inertial.t_poses import yaw_rad
from otrevo.core.words import bones_in_a_row, in_words

ARM_DOWN_DEG, ARM_LEVEL_DEG = 50.0, 35.0  # below and around the horizontal
FOUND_RAD = np.radians(6.0)  # of a heading that joints told, about which it is looked for anew
# by what legs go to their own side by chance in so many seconds, and how far sways go
SPREAD_SD, SPREAD_S, SWAYING_DEG = 0.2, 30.0, 3.0
# how well hip joints are placed across the pelvis, and apart from each other, to which comes a share of what the joints say of it themselves:
# in 70 warm-ups hips were off by a fifth to a half of that
ACROSS_SD_M, HIPS_SD_M, HIPS_SHARE = 0.06, 0.04, 1 / 3
OUTSIDE_SD_M = 0.042  # how well it is told how far out of its line a thigh has its sensor, which is on its outside
# Legs that are so many sigma the wrong way round are not so by chance; and, where arms are, legs so many sigma the right way round are right.
# In 70 warm-ups legs were 1.1 to 5.8 sigma the right way round.
PLAINLY, ALONE = 1.0, 0.6
LEAST_ARMS_M, LEAST_TOLD = 0.3, 0.1  # of arms that stretch to the sides; of how one limb lies or bends, m or rad
FACED_RAD = np.radians(45.0)  # of headings that tell left from right, one sigma at most
KNEE_STEP, BENT_RAD = 5, np.radians(30)
# how far from both together either knee bends: no more than headings are off, and from where on a thigh's heading decides which way it swings
KNEES_APART_RAD, LITTLE_APART_RAD = np.radians(25.0), np.radians(12.0)
BENT_M = 0.012  # a leg that is shorter by so much from hip to ankle is bent, by 20 degrees and more
LEAST_BEND_RAD = np.radians(10.0)  # of both knees together, for it to tell where left is
ALIKE_DEG = 12.0  # how differently sensors are inclined, on average, in stills of one pose
# of a limb that moves while all else is still, RMS, and of one that is not held as it is in the other stills of a pose
STRAYS_DEG, ASTRAY_DEG = 8.0, 20.0
LIMB_SD_M = 0.008
ARMS = "UpperArm", "LowerArm"
POSES = {"T-pose": arms_level, "arms down": arms_down}
UP = np.array([0.0, 1.0, 0.0])


class FirstSeats:
    """Headings, kinds of poses and mounts as a warm-up says at first; S sensors, N stills."""

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
        self.faced = self._heading_sd() < FACED_RAD
        self.held, self.kinds = self._as_posed()
        self.held = self._facing_alike()
        self.posed = {kind: np.stack([pose(b) for b in self.names]) for kind, pose in POSES.items()}
        self.rolled = set()  # (forearm, kind of pose): how it is rolled in that pose says nothing
        linked = {"hips"} | {link.below for link in links}
        alone = [n for n in self.names if n not in linked]
        self.notes = [f"no sensor next to the {in_words(n)}, so its heading comes from the poses alone" for n in alone]

    def exchanged_sides(self):
        """Pairs of sensors where both arms or both legs are worn left for right: against the way knees bend and legs are spread."""
        heading, drift = self._headings_by_links()
        each = self._each_knee(heading, drift, self.faced)
        knees = sum(each, np.zeros(3))
        if np.linalg.norm(knees[[0, 2]]) < LEAST_BEND_RAD:
            return []
        knees /= np.linalg.norm(knees)
        bent = [knee / np.linalg.norm(knee) for knee in each if knee.any()]
        apart = max(float(np.arccos(np.clip(knee @ knees, -1.0, 1.0))) for knee in bent)
        if apart > KNEES_APART_RAD:
            return []  # the heading of a thigh is off, so nothing is sure of either leg
        arms = self._arms_across(heading, drift, self.faced)
        hips, hips_cov = self._hips_across(heading, drift)
        arms_wrong = arms @ knees < -0.5 * np.linalg.norm(arms)
        seconds = float(np.ptp(self.recording.times_s))
        spread_sd = SPREAD_SD * np.sqrt(max(1.0, SPREAD_S / seconds)) * np.hypot(1.0, apart / LITTLE_APART_RAD)
        hips_sd = np.hypot(HIPS_SD_M, HIPS_SHARE * np.sqrt(knees @ hips_cov @ knees))
        legs_right = self._spread_outwards(heading, drift, knees) / spread_sd + hips @ knees / hips_sd
        legs_right += self._seated_outside(heading, drift, knees)
        # whoever has put on both sleeves the wrong way round has most likely put on a whole suit so
        wrong = arms_wrong, legs_right < (ALONE if arms_wrong else -PLAINLY)
        return [pair for legs in (0, 1) if wrong[legs] for pair in limbs_of(self.names, legs)]

    def _knees(self, heading, drift, of=None):
        """How both knees are bent while they are, on average (3,), as _knee_bends: about the way from right to left; of (S,): by which thighs, or by both."""
        return sum(self._each_knee(heading, drift, of), np.zeros(3))

    def _each_knee(self, heading, drift, of=None):
        """The same of one knee after the other, [(3,)]."""
        thighs = {side: self.number.get(side + "UpperLeg") for side in ("left", "right")}
        sides = [side for side, s in thighs.items() if s is not None and (of is None or of[s])]
        return [self._knee_bends(side, heading, drift) for side in sides]

    def _knee_bends(self, side, heading, drift):
        """How a knee is bent while it is, on average (3,), a rotation vector in the world as the thigh is in a pose; zeros where it hardly bends.

        Both filters' headings are taken off first: between two that differ, one axis would look like another.
        """
        pair = [self.number.get(side + b) for b in ("UpperLeg", "LowerLeg")]
        if None in pair:
            return np.zeros(3)
        q = self.recording.rotation[:, pair]
        known = np.flatnonzero(np.isfinite(q[..., 0]).all(axis=1))[::KNEE_STEP]
        at, straight = self.recording.times_s[known] - self.zero, self._straight(pair)
        held = self._as_held(straight, pair, heading, drift)
        world = self._turned(q[known], heading[pair] + drift[pair] * at[:, None])
        rest, now = (quaternion_multiply(quaternion_conjugate(x[..., 0, :]), x[..., 1, :]) for x in (held, world))
        bend = rotvec_from_quaternion(quaternion_multiply(now, quaternion_conjugate(rest)))
        bent = np.linalg.norm(bend, axis=1) > BENT_RAD
        return quaternion_rotate(held[0], bend[bent].mean(axis=0)) if bent.sum() >= 10 else np.zeros(3)

    def _spread_outwards(self, heading, drift, left):
        """How far legs swing to their own side rather than to the other one, -1 to 1; left (3,): the way that knees bend about, a unit.

        Hips let a leg swing out twice as far as in. It is told from where legs mostly are, as nobody knows how a pose was held.
        """
        names = ("hips", "leftUpperLeg", "rightUpperLeg")
        if not all(n in self.number and self.faced[self.number[n]] for n in names):
            return 0.0  # a thigh whose heading is off seems to swing as its knee is lifted
        at = [self.number[n] for n in names]
        q = self.recording.rotation[:, at]
        known = np.flatnonzero(np.isfinite(q[..., 0]).all(axis=1))[::KNEE_STEP]
        time, straight = self.recording.times_s[known] - self.zero, self._straight(at)
        if not len(known) or not np.isfinite(self.held[straight, at]).all():
            return 0.0
        held = self._as_held(straight, at, heading, drift)
        now = self._turned(q[known], heading[at] + drift[at] * time[:, None])
        with_pelvis = quaternion_multiply(held[0], quaternion_conjugate(now[:, :1]))  # however the body has turned
        turn = quaternion_multiply(quaternion_multiply(with_pelvis, now[:, 1:]), quaternion_conjugate(held[1:]))
        outwards = np.degrees(rotvec_from_quaternion(turn) @ np.cross(left, UP)) * [1.0, -1.0]
        outwards -= np.median(outwards, axis=0)
        return float((outwards * np.abs(outwards)).mean() / ((outwards**2).mean() + SWAYING_DEG**2))

    def _seated_outside(self, heading, drift, left):
        """By how many sigma the thighs' sensors are out of the line from hip to knee, to the thighs' own side; left (3,) as above."""
        out = []
        for link in self.links:
            s = self.number[link.below]
            if plain(link.below) == "UpperLeg" and link.below in self.lines and self.faced[s]:
                line, _ = self.lines[link.below]
                still = self._straight([s])
                along = line / np.linalg.norm(line)
                sensor = along * (along @ link.below_m) - link.below_m  # seen from the line
                world = self._as_held(still, s, heading, drift)
                out.append(side_sign(link.below) * quaternion_rotate(world, sensor) @ left)
        return float(np.nan_to_num(np.sum(out))) / (OUTSIDE_SD_M * np.sqrt(len(out))) if out else 0.0

    def begin(self):
        """(headings, drifts, kinds of stills, mounts) as links and poses say before anything is fitted."""
        heading, drift = self._headings_by_links()
        if not any(self.kinds):
            if any(plain(n) in (*ARMS, "Hand") for n in self.names) and not self._arm_lines():
                raise InputError(
                    "No upper arm or forearm has a sensor next to it, so nothing tells a T-pose from arms that hang; expected one beside it."
                )
            raise InputError(
                "No still pose of the warm-up is a T-pose or has the arms down; expected both, each for two seconds."
            )
        heading = heading + self._facing(heading, drift)
        heading = heading + self._limbs_facing(heading, drift)
        mount = self._first_mounts(heading, drift)
        unheard = [n for n, known in zip(self.names, np.isfinite(mount[:, 0]), strict=True) if not known]
        if unheard:
            raise InputError(
                f"In no still pose of the warm-up was anything heard of {bones_in_a_row(unheard)}; expected every sensor in one of them."
            )
        return heading, drift, self.kinds, mount

    def expected_places(self):
        """{joint: (place above (3,), place below (3,), heading, drift, sd of the heading)} by the poses and by where on limbs suits have their sensors."""
        heading, _, _, mount = self.begin()
        out = {}
        for link in self.links:
            a, b = self.number[link.above], self.number[link.below]
            places = [
                quaternion_rotate(
                    quaternion_conjugate(mount[self.number[bone]]), self._joint_from_seat(bone, link.joint)
                )
                for bone in (link.above, link.below)
            ]
            out[link.joint] = *places, heading[a] - heading[b], link.drift_rad_s, FOUND_RAD
        return out

    def _joint_from_seat(self, bone, joint):
        """From where a sensor usually sits on a bone to a joint, in the bone's T-pose axes (3,), metres."""
        return rest_joints(self.skeleton)[joint] - rest_joints(self.skeleton)[bone] - usual_seat(self.skeleton, bone)

    def _headings_by_links(self):
        """Headings (S,) against the pelvis' filter and drifts, along the links outwards."""
        heading, drift = np.zeros(len(self.names)), np.zeros(len(self.names))
        for link in self.links:
            a, b = self.number[link.above], self.number[link.below]
            heading[b], drift[b] = heading[a] - link.heading_rad, drift[a] - link.drift_rad_s
        return heading, drift

    def _heading_sd(self):
        """How well links know the headings (S,) against the pelvis' filter, one sigma, rad; infinite where a limb on the way hardly moves."""
        variance = np.full(len(self.names), np.inf)
        variance[self.number["hips"]] = 0.0
        for link in self.links:
            variance[self.number[link.below]] = variance[self.number[link.above]] + link.heading_sd**2
        return np.sqrt(variance)

    def _turned(self, q, heading):
        """World rotations (..., S, 4) times what is not known of the mounts, of readings q of filters with headings (..., S)."""
        return quaternion_multiply(quaternion_from_rotvec(-heading[..., None] * UP), q)

    def _as_held(self, stills, sensors, heading, drift):
        """The same of what sensors, by number, read in stills, by number."""
        return self._turned(self.held[stills, sensors], heading[sensors] + drift[sensors] * self.held_at[stills])

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
        for bone, joint, *within in (
            ("hips", "UpperLeg"), ("chest", "Shoulder"), ("chest", "UpperArm", "Shoulder"),
        ):  # fmt: skip
            both = [ends.get(bone, {}).get(side + joint) for side in ("left", "right")]
            if None not in both:
                half = sum(self.skeleton.rest_offset_m[self.skeleton.index(f"left{b}"), 0] for b in (joint, *within))
                wanted = np.array([2 * half, 0.0, 0.0])
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

    def _as_posed(self):
        """(what sensors read in the stills (N, S, 4), NaN where that says nothing about the pose, the stills' kinds).

        Where a sensor says nothing in any pose, what it read is kept: it is all that is known of it.
        """
        held = np.where(self._astray()[..., None], np.nan, self.held)
        read, self.held = self.held, held
        kinds = self._kinds()
        posed = np.array(kinds) != ""
        silent = ~np.isfinite(held[posed, :, 0]).any(axis=0)
        held[np.ix_(posed, silent)] = read[np.ix_(posed, silent)]
        return held, kinds

    def _astray(self):
        """Whether each sensor (N, S) says nothing about the pose in a still: a leg may swing, be bent or lifted, while the arms hang and all else rests."""
        kinds, seconds = np.array(self._kinds()), np.diff(self.stills, axis=1)[:, 0]
        up = quaternion_rotate(quaternion_conjugate(self.held), UP)
        out = np.zeros(self.held.shape[:2], dtype=bool)
        for n, (a, b) in enumerate(self.stills):
            along = np.abs(np.einsum("tsi,si->ts", self.recording.rotation[a:b], self.held[n]))
            known = np.isfinite(along)
            off = np.where(known, 2 * np.arccos(np.clip(along, 0.0, 1.0)), 0.0)
            out[n] = (off**2).sum(axis=0) > np.radians(STRAYS_DEG) ** 2 * known.sum(axis=0)
        for side in ("left", "right"):  # a leg that is bent, or lifted, where it is straight in another pose
            leg = [b for b in (side + "UpperLeg", side + "LowerLeg") if b in self.lines]
            if len(leg) == 2:
                at = [self.number[b] for b in leg]
                down = [
                    quaternion_rotate(self.held[:, n], self.lines[b][0])[:, 1] for n, b in zip(at, leg, strict=True)
                ]
                high = -np.sum(down, axis=0)
                out[:, at] |= (high < np.nanmax(high[kinds != ""], initial=0.0) - BENT_M)[:, None]
        for s, bone in enumerate(self.names):
            of_arms = plain(bone) in (*ARMS, "Hand", "Shoulder")  # all else is held alike in both poses
            for alike in [kinds == kind for kind in POSES] if of_arms else [kinds != ""]:
                posed = np.flatnonzero(alike & np.isfinite(up[:, s, 0]))
                steady = posed[~out[posed, s]]
                if not len(steady):
                    out[posed, s] = False  # it is all that is known of it
                    continue
                apart = np.degrees(np.arccos(np.clip(up[steady, s] @ up[steady, s].T, -1.0, 1.0)))
                usual = int(np.argmax((apart < ASTRAY_DEG) @ seconds[steady]))
                out[steady, s] = apart[usual] > ASTRAY_DEG
        return out

    def _facing_alike(self):
        """What stills read (N, S, 4), turned about the vertical until the body faces in all of them as it does in the longest T-pose: who has
        taken some steps between two poses seldom faces as before."""
        pose = next((k for k in POSES if k in self.kinds), "")
        seconds = np.diff(self.stills, axis=1)[:, 0] * np.isfinite(self.held[..., 0]).mean(axis=1)
        reference = int(np.argmax(seconds * [kind == pose for kind in self.kinds]))
        trunk = [s for s, bone in enumerate(self.names) if plain(bone) not in (*ARMS, "Hand", "head")]
        _, drift = self._headings_by_links()
        held = self._turned(self.held, drift * self.held_at[:, None])
        turned = yaw_rad(quaternion_multiply(held[:, trunk], quaternion_conjugate(held[reference, trunk])))
        facing = np.nan_to_num(_middle_angle(turned))
        return self._turned(self.held, facing[:, None])

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

    def _facing(self, heading, drift):
        """What to add to all headings so that the body faces +Z: arms stretch to the sides in a T-pose, knees bend backwards, hips lie beside each other.

        Limbs whose headings links tell come first; of the others each may face its own way.
        """
        for of in (self.faced, None):
            across = self._arms_across(heading, drift, of)
            if np.linalg.norm(across) >= LEAST_ARMS_M:
                break
            across = self._knees(heading, drift, of)
            if np.linalg.norm(across[[0, 2]]) >= LEAST_BEND_RAD:
                break
        else:
            across, _ = self._hips_across(heading, drift)
        return np.arctan2(-across[2], across[0])

    def _limbs_facing(self, heading, drift):
        """What to add to headings (S,) of limbs of which links do not tell: a knee bends backwards, an arm of a T-pose stretches to its side."""
        out = np.zeros(len(self.names))
        for side in ("left", "right"):
            for limb in (("UpperLeg", "LowerLeg", "Foot"), ("UpperArm", "LowerArm", "Hand")):
                at = [self.number[side + b] for b in limb if side + b in self.number]
                if not at or self.faced[at[0]]:
                    continue
                if limb[0] == "UpperLeg":
                    across = self._knee_bends(side, heading, drift)
                else:
                    across = self._arms_across(heading, drift, np.isin(np.arange(len(self.names)), at))
                if np.linalg.norm(across[[0, 2]]) > LEAST_TOLD:
                    out[at] = np.arctan2(-across[2], across[0])
        return out

    def _arms_across(self, heading, drift, of=None):
        """From right to left by the arms in the T-poses, (3,) in a world in which the pelvis' filter has heading 0; of (S,): by which sensors, or by all."""
        across = np.zeros(3)
        for kind, held, at in zip(self.kinds, self.held, self.held_at, strict=True):
            world = self._turned(held, heading + drift * at)
            for bone, (line, _) in self.lines.items() if kind == "T-pose" else ():
                if (
                    plain(bone) in ARMS
                    and np.isfinite(world[self.number[bone], 0])
                    and (of is None or of[self.number[bone]])
                ):
                    across += side_sign(bone) * quaternion_rotate(world[self.number[bone]], line)
        return across

    def _hips_across(self, heading, drift):
        """(from the right hip joint to the left one (3,), metres, as _arms_across, its covariance (3, 3)): short of the truth where the pelvis hardly moved."""
        links = {link.joint: link for link in self.links if link.above == "hips"}
        left, right = (links.get(f"{side}UpperLeg") for side in ("left", "right"))
        told = np.flatnonzero(np.isfinite(self.held[:, self.number["hips"], 0]))
        if left is None or right is None or not len(told):
            return np.zeros(3), np.zeros((3, 3))
        hips = self.number["hips"]
        world = self._as_held(told, hips, heading, drift)
        turn = matrix_from_quaternion(world).mean(axis=0)
        return turn @ (left.above_m - right.above_m), turn @ (left.above_cov + right.above_cov) @ turn.T

    def _first_mounts(self, heading, drift):
        """Mounts (S, 4) as the poses say, a T-pose first; hands and forearms that are rolled in it come after."""
        mount, late = np.full((len(self.names), 4), np.nan), np.zeros(len(self.names), dtype=bool)
        for s, bone in enumerate(self.names):
            forearm = self.number.get(bone.replace("Hand", "LowerArm"))
            late[s] = forearm is not None and (forearm, "T-pose") in self.rolled
        for kinds, of in ((POSES, ~late), (reversed(POSES), late)):
            for n in [i for kind in kinds for i, k in enumerate(self.kinds) if k == kind]:
                said = self._mounts_by(n, heading, drift)
                mount = np.where(np.isfinite(mount) | ~of[:, None], mount, said)
        return mount

    def _mounts_by(self, n, heading, drift):
        """Mounts (S, 4) as one still that is a pose says."""
        return quaternion_multiply(
            quaternion_conjugate(self.posed[self.kinds[n]]), self._as_held(n, slice(None), heading, drift)
        )

    def _straight(self, sensors):
        """The still in which knees are straight: of the poses in which these sensors, by number, tell, the one nearest to the middle."""
        told = np.isfinite(self.held[:, sensors, 0]).all(axis=1)
        poses = [i for i, kind in enumerate(self.kinds) if kind and told[i]] or range(len(self.held))
        return min(poses, key=lambda i: abs(self.held_at[i]))


def _middle_angle(angles):
    """The angle (N,) in the middle of angles (N, S), wherever they break off at half a turn; NaN left out, NaN where there is none."""
    known = np.isfinite(angles)
    mean = np.angle(np.where(known, np.exp(1j * np.where(known, angles, 0.0)), 0.0).sum(axis=1))
    around = np.angle(np.exp(1j * (angles - mean[:, None])))
    return np.array([m + np.median(a[k]) if k.any() else np.nan for m, a, k in zip(mean, around, known, strict=True)])


def _sharpness(covariance, model_m):
    """Inverse square root (3, 3) of a covariance of places and of what the model lacks."""
    value, vector = np.linalg.eigh(covariance + np.eye(3) * model_m**2)
    return (vector / np.sqrt(value)) @ vector.T
