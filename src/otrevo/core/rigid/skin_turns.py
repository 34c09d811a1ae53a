"""What bodies strapped to skin miss of how their limbs turn (core.inertial.skin), by how the joints below bend.

An elbow does not bend sideways, a knee bends about one axis, and a hand does not turn about its line against the forearm
(core.inertial.joint_freedom). When an upper arm turns about its own line and its body comes along in part, a bent elbow seems to bend
sideways, the further the arm has turned. For every limb one linear least squares tells that from bodies that sit otherwise than thought.
"""

import numpy as np

from otrevo.core.conventions import quaternion_rotate
from otrevo.core.inertial.evidence import MOUNT_RAD
from otrevo.core.inertial.poses import plain, sensor_above
from otrevo.core.inertial.seats_in_take import AXIS_RAD, pieces_of, telling_angles
from otrevo.core.inertial.skin import MISSED, SKIN, turned_about_line, with_whole_turn


def missed_by_skin(bones, world, times_s):
    """{limb: by what share of what its body shows it turns further about its line}, where the joint below tells.

    bones: names of the N bones with a body; world (T, N, 4): their rotations as the bodies say, NaN where lost, at times_s (T,).
    """
    spacing_s, piece_of = pieces_of(times_s)
    kept = piece_of >= 0
    world, piece_of = world[kept], piece_of[kept]
    told = {}
    for limb, _, angle in telling_angles(bones, world, piece_of, spacing_s):
        above = sensor_above(limb, bones)
        if plain(limb) not in SKIN or above is None:
            continue
        turned = turned_about_line(limb, world[:, bones.index(above)], world[:, bones.index(limb)])
        turned = (np.bincount(piece_of, turned) / np.maximum(np.bincount(piece_of), 1))[angle.piece]
        along = angle.by_mount[0] @ SKIN[plain(limb)]
        by = np.column_stack([*angle.by_mount.swapaxes(1, 2).reshape(6, -1), along, -turned * along])
        firm = angle.certainty @ by
        normal, aim = told.setdefault(
            limb, (np.diag(1 / np.array([MOUNT_RAD] * 6 + [AXIS_RAD, MISSED]) ** 2), np.zeros(8))
        )
        normal += by.T @ firm
        aim += firm.T @ angle.value
    return {limb: max(0.0, float(np.linalg.solve(*both)[-1])) for limb, both in told.items()}


def turned_further(bones, world, position_m, seat_m, missed):
    """World rotations (T, N, 4) of limbs and positions (T, N, 3) of their bodies as they would be had skin come along.

    world, position_m: as the bodies say; seat_m (N, 3): of bodies on their bones; missed: as from missed_by_skin.
    """
    world, position_m = world.copy(), position_m.copy()
    for limb, share in missed.items():
        n = bones.index(limb)
        turned = turned_about_line(limb, world[:, bones.index(sensor_above(limb, bones))], world[:, n])
        further = with_whole_turn(limb, world[:, n], turned, share)
        position_m[:, n] += quaternion_rotate(further, seat_m[n]) - quaternion_rotate(world[:, n], seat_m[n])
        world[:, n] = further
    return world, position_m
