"""What a take tells of how sensors sit, and of skin that turns less than the bone under it.

Knees bend about one axis, elbows do not bend sideways, and hands do not turn about their line against the forearm
(core.inertial.joint_freedom). A seat that is off makes it look as if they did. So does skin: when a limb turns about its own line, what is
strapped to it comes along in part only (core.inertial.skin). One linear least squares tells both, within what the warm-up left open.
"""

from dataclasses import replace

import numpy as np

from otrevo.core.conventions import quaternion_from_rotvec, quaternion_multiply
from otrevo.core.inertial.calibration import passed_on, seats_sd
from otrevo.core.inertial.evidence import ANGLE_RAD, HEADING_RAD, MOUNT_RAD
from otrevo.core.inertial.felt_at_joints import PIECE_S
from otrevo.core.inertial.joint_freedom import angles_of
from otrevo.core.inertial.joints import LINKS, links_of
from otrevo.core.inertial.poses import plain, sensor_above
from otrevo.core.inertial.skin import MISSED, SKIN, turned_about_line

PIECES = 300  # of a take, at most
TELLING = {"LowerArm": (0, 1, 2), "LowerLeg": (0, 1, 2), "Hand": (0,)}  # joints, and which of their angles
AXIS_RAD = np.radians(3.0)  # how far a joint's own axis is turned about the limb above, as bones are shaped
LEAST_SD = 1e-6


def seats_in_take(times_s, world, calibration, headings):
    """(SuitCalibration, Headings, {limb: share of its turns about its line that its skin misses}) as a take tells.

    world (T, S, 4): what sensors say of bones at times_s, by the calibration and the headings of the same sensors.
    """
    names = calibration.names
    spacing_s, piece_of = pieces_of(times_s)
    world, piece_of = world[piece_of >= 0], piece_of[piece_of >= 0]
    angles = telling_angles(names, world, piece_of, spacing_s)
    unknown = _Unknown(calibration, headings, [(above, below) for above, below, _ in angles])
    normal, aim = np.diag(1 / unknown.sd**2), np.zeros(len(unknown.sd))
    for above, below, angle in angles:
        turned = None
        if above in unknown.limbs:
            turned = turned_about_line(
                above, world[:, names.index(sensor_above(above, names))], world[:, names.index(above)]
            )
            turned = np.array([turned[piece_of == piece].mean() for piece in angle.piece])
        by = unknown.by(above, below, angle, turned)
        firm = angle.certainty @ by
        normal += by.T @ firm
        aim += firm.T @ angle.value
    covariance = np.linalg.inv(normal)
    off = covariance @ aim
    further = unknown.skin[off[unknown.skin] < 0]
    if len(further):  # no skin turns further than its limb
        normal[further, further] += 1 / LEAST_SD**2
        covariance = np.linalg.inv(normal)
        off = covariance @ aim
    turn = unknown.mounts @ off[unknown.seats]
    covariance = unknown.mounts @ covariance[np.ix_(unknown.seats, unknown.seats)] @ unknown.mounts.T
    covariance = np.diagonal(covariance.reshape((len(names), 3) * 2), axis1=1, axis2=3)
    seat_sd_deg, joint_sd_deg = seats_sd(names, covariance)
    calibration = replace(
        calibration,
        mount=quaternion_multiply(quaternion_from_rotvec(turn.reshape(-1, 3)), calibration.mount),
        seat_sd_deg=seat_sd_deg,
        joint_sd_deg=joint_sd_deg,
    )
    headings = replace(headings, angle_rad=headings.angle_rad + off[unknown.headings])
    missed = np.maximum(off[unknown.skin], 0.0)
    missed = missed / (1 + missed)  # of the whole turn, where `off` is of what is seen of it
    return calibration, headings, dict(zip(unknown.limbs, missed.tolist(), strict=True))


class _Unknown:
    """What may be off in a take, U numbers within sd (U,): seats, by what each has of its own; headings; what the skin of limbs misses;
    and which way joints have their axes. seats, headings, skin, axes: where in the U.
    """

    def __init__(self, calibration, headings, pairs):
        """pairs: [(bone above, bone below)] of joints that tell."""
        self.names, count = calibration.names, len(calibration.names)
        self.limbs = list(dict.fromkeys(above for above, _ in pairs if sensor_above(above, self.names)))
        self.joints = list(dict.fromkeys(below for _, below in pairs))
        share, own = passed_on(calibration)
        self.mounts = np.einsum("suk,kl->skul", share, np.eye(3)).reshape(3 * count, 3 * count)  # by each one's own
        parts = [own.ravel(), np.sqrt((headings.sd_rad**2).mean(axis=0))]
        parts += [np.full(len(self.limbs), MISSED), np.full(len(self.joints), AXIS_RAD)]
        self.sd = np.maximum(np.concatenate(parts), LEAST_SD)
        ends = np.cumsum([len(part) for part in parts])
        self.seats, self.headings, self.skin, self.axes = np.split(np.arange(ends[-1]), ends[:-1])

    def by(self, above, below, angle, turned):
        """How an Angle over P pieces goes with them (P, U); turned (P,): how far the bone above is turned about its line, None if unknown."""
        pair = [self.names.index(above), self.names.index(below)]
        by_mount = np.zeros((len(angle.piece), len(self.names), 3))
        by_mount[:, pair] = angle.by_mount.swapaxes(0, 1)
        if plain(below) == "Hand":  # the other axes hardly matter, and what little they do misleads
            by_mount[:, :, 1:] = 0.0
        out = np.zeros((len(angle.piece), len(self.sd)))
        out[:, self.seats] = by_mount.reshape(len(out), -1) @ self.mounts
        out[:, self.headings[pair]] = angle.by_heading[:, None] * [1.0, -1.0]
        along = angle.by_mount[0] @ SKIN[plain(above)]
        out[:, self.axes[self.joints.index(below)]] = along
        if turned is not None:
            out[:, self.skin[self.limbs.index(above)]] = -turned * along
        return out


def pieces_of(times_s):
    """(seconds between pieces of a take, which of them each frame is in (T,), -1 of those in between)."""
    since = times_s - times_s[0]
    spacing_s = max(PIECE_S, float(since[-1]) / PIECES)
    piece_of = (since / spacing_s).astype(np.int64)
    return spacing_s, np.where(np.abs(since - (piece_of + 0.5) * spacing_s) <= PIECE_S / 2, piece_of, -1)


def telling_angles(names, world, piece_of, spacing_s):
    """[(bone above, bone below, Angle)] about which joints hardly turn, by rotations world (T, S, 4)."""
    out = []
    for above, below, joint in links_of(names):
        if (above, below, joint) in LINKS and plain(joint) in TELLING:
            a, b = names.index(above), names.index(below)
            found = angles_of(joint, world[:, a], world[:, b], piece_of, spacing_s, (MOUNT_RAD, ANGLE_RAD, HEADING_RAD))
            out += [(above, below, found[k]) for k in TELLING[plain(joint)] if k in found]
    return out
