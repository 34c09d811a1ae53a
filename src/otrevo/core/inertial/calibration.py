"""How the sensors of one suit sit on one performer, as a warm-up tells."""

from dataclasses import dataclass, field, replace

import numpy as np

from otrevo.core.body.skeleton import BODY_BONES
from otrevo.core.conventions import quaternion_conjugate, quaternion_from_rotvec, quaternion_multiply
from otrevo.core.inertial.joints import links_of
from otrevo.core.inertial.poses import above_of

UP = np.array([0.0, 1.0, 0.0])


@dataclass(frozen=True)
class SuitCalibration:
    """names (S): bones; mount (S, 4): from the sensor's to the bone's axes; heading_rad (S,) of the filters at zero_s of the device's
    clock; drift_rad_s (S,); residual_deg (S,): how far the poses are from what they should be; seat_sd_deg (S, 3): how
    well the mount is known, one sigma about each of the bone's axes; joint_sd_deg (S, 3): the same against the mount on the
    bone above; places: {joint: (above (3,), below (3,))} as the sensors see it, metres; poses: [(name, start s, end s)]; exchanged: [(sensor, sensor)] that
    were worn in each other's place, put right here; notes; t_pose (S, 4): the bones' rotations in the T-pose as it was held, NaN
    of those that are not known.
    """

    names: tuple[str, ...]
    mount: np.ndarray
    heading_rad: np.ndarray
    drift_rad_s: np.ndarray
    zero_s: float
    residual_deg: np.ndarray
    seat_sd_deg: np.ndarray
    joint_sd_deg: np.ndarray
    places: dict = field(default_factory=dict)
    poses: tuple = ()
    exchanged: tuple = ()
    notes: tuple[str, ...] = ()
    t_pose: np.ndarray | None = None

    @property
    def sd_deg(self):
        """How well each mount is known (S,): one sigma, the root mean square of its axes."""
        return np.sqrt((self.seat_sd_deg**2).mean(axis=1))

    def only(self, names):
        """The same for the sensors of these names, in their order. Of a joint whose sensor is missing the place is not known."""
        at = [self.names.index(n) for n in names]
        links = [link for link in links_of(names) if link in links_of(self.names)]
        return replace(
            self, names=tuple(names), mount=self.mount[at], heading_rad=self.heading_rad[at], drift_rad_s=self.drift_rad_s[at],
            residual_deg=self.residual_deg[at], seat_sd_deg=self.seat_sd_deg[at],
            joint_sd_deg=self.joint_sd_deg[at], t_pose=None if self.t_pose is None else self.t_pose[at],
            places={joint: self.places[joint] for _, _, joint in links if joint in self.places},
        )  # fmt: skip

    def places_of(self, names):
        """(above, below, joint, (above (3,), below (3,))) for every link among sensors `names` whose joint's place is known."""
        for above, below, joint in links_of(names):
            if joint in self.places and above in self.names and below in self.names:
                yield above, below, joint, self.places[joint]


def sure_apart(names, sd_deg):
    """(seat_sd_deg, joint_sd_deg) of seats that are known within sd_deg (S,) about every axis, none by way of another one."""
    variance = np.radians(np.asarray(sd_deg, dtype=float)) ** 2
    return seats_sd(names, np.diag(variance)[..., None] * np.ones(3))


def seats_sd(names, covariance):
    """(seat_sd_deg, joint_sd_deg) by the covariance (S, S, 3) of seats, axis by axis, rad.

    What hangs on its neighbour in a pose is known better against it than by itself.
    """
    above = np.array([names.index(a) if (a := above_of(n)) in names else -1 for n in names], dtype=np.int64)
    sensors = np.arange(len(names))
    own = covariance[sensors, sensors]
    joint = own + np.where(above[:, None] >= 0, own[above] - 2 * covariance[sensors, above], 0.0)
    return np.degrees(np.sqrt(own)), np.degrees(np.sqrt(np.maximum(joint, 0.0)))


def passed_on(calibration):
    """How much of the error of one seat another one has, (S, S, 3), and what each has of its own, (S, 3) rad.

    A seat that is known against the one above has its error in part; what is left is its own.
    """
    names = calibration.names
    own, joint = np.radians(calibration.seat_sd_deg) ** 2, np.radians(calibration.joint_sd_deg) ** 2
    share, news = np.zeros((len(names), len(names), 3)), own.copy()
    for s in sorted(range(len(names)), key=lambda s: BODY_BONES.index(names[s])):
        above = above_of(names[s])
        if above in names:
            a = names.index(above)
            part = np.clip((own[s] + own[a] - joint[s]) / (2 * own[a]), 0.0, np.sqrt(own[s] / own[a]))
            share[s] = part * share[a]
            news[s] = np.maximum(own[s] - part**2 * own[a], 0.0)
        share[s, s] = 1.0
    return share, np.sqrt(news)


def bone_rotations(readings, heading, mount):
    """World rotations (T, S, 4) of bones by readings (T, S, 4), headings (T, S) and mounts (S, 4)."""
    back = quaternion_from_rotvec(-heading[..., None] * UP)
    return quaternion_multiply(quaternion_multiply(back, readings), quaternion_conjugate(mount))
