"""About which axes joints hardly turn, and by how much they do all the same.

A shin does not turn about its own line against the thigh, nor sideways; a hand does not turn about its line against the forearm. A sensor that
something else turns makes it look as if they did. Every such angle strays a little, as skin and joints give, and comes back within a second
or two.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.body.compiled_rotations import angles_of_forearms
from otrevo.core.conventions import (
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_from_rotvec,
    quaternion_multiply,
    rotvec_from_quaternion,
)
from otrevo.core.inertial.poses import plain

# joint: how far it strays, one sigma, degrees, about the x, y and z of the T-pose (left, up, forward); None where it turns freely.
# At an elbow: rolling, bending and sideways.
STRAYS_DEG = {
    "spine": (None, 20, 16), "Shoulder": (10, 10, 12), "LowerArm": (None, None, 6), "Hand": (5, 20, None),
    "UpperLeg": (None, 20, 20), "LowerLeg": (None, 5, 4), "Foot": (None, 14, 10),
}  # fmt: skip
# the same of an arm against the chest, where no sensor is on the collar bone between them
ACROSS_DEG = {"UpperArm": (None, 30, None)}
HINGES = "LowerLeg", "Foot"  # they bend about x, the axis of which the others tell nothing
LOOSENED, LOOSENED_RAD = ("spine", "UpperLeg"), np.radians(65.0)  # bent so far, they stray as much again
STRAYS_S = 1.5  # how long an angle stays astray
LASTS, LASTS_S = 0.6, 60.0  # as much of that is another posture, and stays for so long
# as much of the usual a joint strays at least where it alone tells of a sensor: a chest that twists twice in a warm-up is no magnet
ALONE = 2 / 3
USUAL_MOMENTS = 5.0  # how many moments of a take are needed to be believed as much as STRAYS_DEG
READ_RAD = np.radians(0.7)  # what sensors themselves err by from piece to piece
STEP_RAD = 0.01


@dataclass(frozen=True)
class Angle:
    """One angle of a joint over K pieces of a take: piece (P,), in which it is known; value (P,) rad; by_heading (P,): by how much it
    changes as the heading above does; by_mount (2, P, 3): as the bone above, the bone below turns about its own axes;
    certainty (P, P): the inverse of its covariance, 1/rad².
    """

    piece: np.ndarray
    value: np.ndarray
    by_heading: np.ndarray
    by_mount: np.ndarray
    certainty: np.ndarray


def angles_of(joint, above, below, piece_of, piece_s, priors, across=False, alone=False):
    """The Angles about which a joint hardly turns, {which of three: Angle}.

    Parameters
    ----------
    joint : str
        The bone whose joint it is.
    above, below : ndarray (T, 4)
        World rotations of the bones beside it, NaN where they are not known.
    piece_of : ndarray (T,) of int
        The piece that each frame is in, increasing.
    piece_s : float
    priors : tuple of float
        How far mounts, the angle itself and the heading may be off all along, one sigma, rad.
    across : bool
        Whether the bone in between has no sensor.
    alone : bool
        Whether no other joint tells how the bone below is turned.
    """
    strays = (ACROSS_DEG if across else STRAYS_DEG).get(plain(joint))
    if strays is None:
        return {}
    known = np.flatnonzero(np.isfinite(above[:, 0]) & np.isfinite(below[:, 0]))
    piece, first, count = np.unique(piece_of[known], return_index=True, return_counts=True)
    if len(piece) < 4:
        return {}
    above, below = above[known], below[known]
    value = np.add.reduceat(joint_angles(joint, above, below), first, axis=0) / count[:, None]
    middle = first + count // 2
    by_mount, by_heading = _changes(joint, above[middle], below[middle])
    if plain(joint) in HINGES:  # what a turn about it seems to change is what has strayed, and would be taken for news
        by_mount[..., 0] = 0.0
    apart_s = np.abs(piece[:, None] - piece[None]) * piece_s
    alike, lasting = np.exp(-apart_s / STRAYS_S), LASTS**2 * np.exp(-apart_s / LASTS_S)
    out = {}
    for k, usual_deg in enumerate(strays):
        if usual_deg is None:
            continue
        always = np.column_stack(
            [*by_mount[:, :, k].swapaxes(1, 2).reshape(6, -1), np.ones(len(piece)), by_heading[:, k]]
        )
        stray = _stray(value[:, k], always, np.radians(usual_deg), np.repeat(priors, [6, 1, 1]), piece_s)
        if alone:
            stray = max(stray, ALONE * np.radians(usual_deg))
        covariance = stray**2 * alike + np.radians(usual_deg) ** 2 * lasting + READ_RAD**2 * np.eye(len(piece))
        if plain(joint) in LOOSENED:
            more = np.radians(usual_deg) * (value[:, 0] / LOOSENED_RAD) ** 2
            covariance += np.outer(more, more) * (alike + lasting)
        certainty = np.linalg.inv(covariance)
        out[k] = Angle(piece, value[:, k], by_heading[:, k], by_mount[:, :, k], certainty)
    return out


def joint_angles(joint, above, below):
    """(..., 3) rad of a joint by the rotations of the bones beside it."""
    turn = quaternion_multiply(quaternion_conjugate(above), below)
    if plain(joint) != "LowerArm":
        return rotvec_from_quaternion(turn)
    return angles_of_forearms(matrix_from_quaternion(turn))


def _changes(joint, above, below):
    """(by_mount (2, P, 3, 3): angles by axes; by_heading (P, 3)) as in Angle."""
    turns = quaternion_from_rotvec(STEP_RAD * np.eye(3))[:, None]
    back = quaternion_conjugate(turns)

    def slope(one, two):
        return (joint_angles(joint, *one) - joint_angles(joint, *two)) / (2 * STEP_RAD)

    by_above = slope((quaternion_multiply(above, turns), below), (quaternion_multiply(above, back), below))
    by_below = slope((above, quaternion_multiply(below, turns)), (above, quaternion_multiply(below, back)))
    by_heading = slope((quaternion_multiply(turns[1], above), below), (quaternion_multiply(back[1], above), below))
    return np.stack([by_above, by_below]).transpose(0, 2, 3, 1), by_heading


def _stray(value, always, usual, priors, piece_s):
    """How far an angle strays, one sigma: the usual, the better known from the take itself the longer it is.

    always (P, N): what may be off all along, within priors (N,).
    """
    phi, moments, stray = np.exp(-piece_s / STRAYS_S), len(value) * piece_s / (2 * STRAYS_S), usual
    for _ in range(3):
        firm = piece_s / (2 * STRAYS_S) / stray**2
        left = value - always @ np.linalg.solve(
            firm * always.T @ always + np.diag(1 / priors**2), firm * always.T @ value
        )
        news = np.abs(left[1:] - phi * left[:-1]) / np.sqrt(1 - phi**2)
        seen = max(1.48 * np.median(news), np.percentile(news, 80) / 1.28)
        stray = np.sqrt((USUAL_MOMENTS * usual**2 + moments * seen**2) / (USUAL_MOMENTS + moments))
    return stray
