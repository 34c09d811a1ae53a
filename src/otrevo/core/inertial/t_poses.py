"""T-poses in a take, held as the warm-up's was: they tell filters' headings, and which sensor sits otherwise than it did."""

from dataclasses import replace

import numpy as np

from otrevo.core.conventions import (
    mean_rotation,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    quaternion_rotate,
    rotvec_from_quaternion,
)
from otrevo.core.inertial.calibration import UP, bone_rotations
from otrevo.core.inertial.joints import links_of
from otrevo.core.inertial.stills import find_stills

TILTED_DEG, ALIKE_PERCENT = 10.0, 85  # so many bones may be inclined by no more against the warm-up's
SHIFTED_DEG, STEADY_DEG = 18.0, 8.0  # of a sensor that has slipped, and at most of its neighbours
MOVABLE = "head", "leftHand", "rightHand"  # nobody holds these alike


def find_t_poses(recording, calibration):
    """[(at s, readings (S, 4))] of stills in which bones are inclined as in the warm-up's T-pose, whatever the headings are.

    recording, calibration: of the same S sensors, in the same order.
    """
    out = []
    for a, b in find_stills(recording) if calibration.t_pose is not None else ():
        readings = np.stack([mean_rotation(recording.rotation[a:b, s]) for s in range(len(recording.names))])
        tilt = tilt_deg(off_t_pose(calibration, readings, calibration.heading_rad))
        if np.isfinite(tilt).any() and np.nanpercentile(tilt, ALIKE_PERCENT) < TILTED_DEG:
            out.append((float(recording.times_s[(a + b) // 2]), readings))
    return out


def off_t_pose(calibration, readings, heading):
    """World rotations (S, 4) from bones as they were in the warm-up's T-pose to where readings (S, 4) have them, by headings (S,)."""
    return quaternion_multiply(
        bone_rotations(readings, heading, calibration.mount), quaternion_conjugate(calibration.t_pose)
    )


def tilt_deg(turned):
    """By how much rotations (..., 4) incline the vertical, degrees."""
    return 2 * np.degrees(
        np.arctan2(np.hypot(turned[..., 0], turned[..., 2]), np.hypot(turned[..., 1], turned[..., 3]))
    )


def yaw_rad(turned):
    """By how much rotations (..., 4) turn about the vertical, after they have inclined it, rad."""
    return 2 * np.arctan2(turned[..., 1], turned[..., 3])


def shifted_since(recording, calibration):
    """{sensor: rotation vector (3,) about its bone's axes, rad} of those that sit otherwise than in the warm-up: inclined otherwise in
    every T-pose of a take, where their neighbours are not. How far they are turned about the vertical, headings hide."""
    poses = find_t_poses(recording, calibration)
    if not poses:
        return {}
    off = np.stack([off_t_pose(calibration, readings, calibration.heading_rad) for _, readings in poses])
    tilts = tilt_deg(off)
    tilt = np.where(np.isfinite(tilts), tilts, np.inf).min(axis=0)
    beside = {name: [] for name in recording.names}
    for above, below, _ in links_of(recording.names):
        beside[above].append(tilt[recording.names.index(below)])
        beside[below].append(tilt[recording.names.index(above)])
    out = {}
    for s, name in enumerate(recording.names):
        if (
            name not in MOVABLE
            and SHIFTED_DEG < tilt[s] < np.inf
            and beside[name]
            and np.max(beside[name]) < STEADY_DEG
        ):
            turned = off[np.nanargmin(tilts[:, s]), s]
            inclined = quaternion_multiply(quaternion_from_rotvec(-yaw_rad(turned) * UP), turned)
            held = quaternion_conjugate(calibration.t_pose[s])
            out[name] = quaternion_rotate(held, rotvec_from_quaternion(inclined))
    return out


def realigned(calibration, shifted):
    """A SuitCalibration of sensors that are turned by {sensor: rotation vector about its bone's axes} on their limbs since."""
    mount, places = calibration.mount.copy(), dict(calibration.places)
    for name, turned in shifted.items():
        s = calibration.names.index(name)
        before, mount[s] = mount[s], quaternion_multiply(quaternion_from_rotvec(turned), mount[s])
        moved = quaternion_multiply(quaternion_conjugate(mount[s]), before)
        for above, below, joint, (at_above, at_below) in calibration.places_of(calibration.names):
            at_above, at_below = places.get(joint, (at_above, at_below))
            if name == above:
                places[joint] = quaternion_rotate(moved, at_above), at_below
            elif name == below:
                places[joint] = at_above, quaternion_rotate(moved, at_below)
    return replace(calibration, mount=mount, places=places)
