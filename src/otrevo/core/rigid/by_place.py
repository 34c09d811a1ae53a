"""Which rigid body is on which limb where no name says so: by where bodies are in the T-pose, and which way they go from there.

A T-pose looks the same from the front and from behind. But hands do what they do in front of the body, and thighs are lifted forwards:
seen from the pelvis, arms and thighs go to the front over a whole recording.
"""

import numpy as np
import scipy

from otrevo.core.body.skeleton import BODY_BONES, generic_skeleton, rest_joints
from otrevo.core.conventions import quaternion_conjugate, quaternion_multiply, quaternion_rotate
from otrevo.core.inertial.poses import LIMBS, plain

# limbs that bodies are worn on
WORN = ("hips", "chest", "head", *(
    side + bone for side in ("left", "right") for bone in ("UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg", "Foot")))  # fmt: skip
# from a bone's joint to where a body on it usually is, outwards and up, metres; of limbs it is their middle
USUALLY = {"hips": (0.0, 0.05), "chest": (0.0, 0.1), "head": (0.0, 0.12), "Hand": (0.06, 0.0), "Foot": (0.0, 0.0)}
AWAY_M = 0.25  # a body further from every limb is on none
TO_THE_FRONT = ("UpperArm", "LowerArm", "Hand", "UpperLeg")
FEWEST_WORN = 5  # bodies beside limbs, the pelvis and a hand or foot on either side among them: fewer are no performer
LOST_M = 1.0  # how far a body that is lost counts as being from where it is in the T-pose
LEAST_AHEAD_M = 0.03  # on average, for it to tell where the front is
DIRECTIONS = 36  # in which it is looked how wide a body is


def widths(position_m):
    """How wide and how high (T,) bodies at position_m (T, N, 3) are spread, metres, NaN where fewer than two are seen."""
    wide = np.zeros(len(position_m))
    for angle in np.arange(DIRECTIONS) * np.pi / DIRECTIONS:
        wide = np.maximum(wide, _extent(position_m[..., 0] * np.cos(angle) + position_m[..., 2] * np.sin(angle)))
    return wide, _extent(position_m[..., 1])


def bones_by_place(place_m, position_m, rotation, height_m):
    """({body's number: bone}, whether it is known which way the performer faces); no bone where the bodies are not on a performer.

    Parameters
    ----------
    place_m : ndarray (N, 3)
        Of the bodies in the T-pose, on a floor at 0, metres, NaN where not seen.
    position_m, rotation : ndarray (T, N, 3), (T, N, 4)
        The same bodies over the recording, NaN where lost.
    height_m : float
        Of the performer.
    """
    seen = np.flatnonzero(np.isfinite(place_m).all(axis=1))
    across = widest(place_m[seen])
    aside = place_m[seen] @ across
    aside -= (aside.max() + aside.min()) / 2
    expected = _expected(height_m)
    away = np.hypot(aside[:, None] - expected[:, 0], place_m[seen, 1, None] - expected[:, 1])
    body, bone = scipy.optimize.linear_sum_assignment(np.minimum(away, 2 * AWAY_M) ** 2)
    bones = {int(seen[b]): WORN[k] for b, k in zip(body, bone, strict=True) if away[b, k] < AWAY_M}
    ends = [{side + end for side in ("left", "right")} for end in ("Hand", "Foot")]
    if len(bones) < FEWEST_WORN or "hips" not in bones.values() or not any(e <= set(bones.values()) for e in ends):
        return {}, False
    ahead = going_ahead(bones, position_m, rotation, place_m, np.cross(across, [0.0, 1.0, 0.0]))
    if ahead < 0:
        bones = {b: other_side(name) for b, name in bones.items()}
    return bones, abs(ahead) > LEAST_AHEAD_M


def widest(place_m):
    """The level direction (3,) in which bodies (N, 3) are spread widest."""
    level = place_m[:, [0, 2]]
    apart = level[:, None] - level
    a, b = np.unravel_index(np.argmax((apart**2).sum(axis=2)), (len(level),) * 2)
    x, z = apart[a, b] / max(np.linalg.norm(apart[a, b]), 1e-9)
    return np.array([x, 0.0, z])


def _expected(height_m):
    """Where on the WORN bones bodies are in the T-pose, (B, 2): to the left and up, metres."""
    skeleton = generic_skeleton(height_m)
    joints = rest_joints(skeleton)
    out = []
    for bone in WORN:
        part, side = plain(bone), bone.removesuffix(plain(bone))
        if part in LIMBS:
            out.append((joints[bone] + joints[side + LIMBS[part]])[:2] / 2)
        else:
            outwards, up = USUALLY[part]
            out.append(joints[bone][:2] + [outwards if side == "left" else -outwards, up])
    return np.array(out)


def going_ahead(bones, position_m, rotation, place_m, front):
    """How far arms and thighs go to the `front` (3,) from where they are in the T-pose, seen from the pelvis, on average, metres."""
    hips = next((b for b, bone in bones.items() if bone == "hips"), None)
    going = [b for b, bone in bones.items() if plain(bone) in TO_THE_FRONT]
    if hips is None or not going:
        return 0.0
    away = np.linalg.norm(position_m[:, [hips, *going]] - place_m[[hips, *going]], axis=2)
    posed = np.argmin(np.nan_to_num(away, nan=LOST_M).sum(axis=1) + np.where(np.isnan(away[:, 0]), np.inf, 0.0))
    back = quaternion_multiply(rotation[posed, hips], quaternion_conjugate(rotation[:, hips]))
    seen = quaternion_rotate(back[:, None], position_m[:, going] - position_m[:, hips, None])
    ahead = (seen - seen[posed]) @ front
    return float(ahead[np.isfinite(ahead)].mean()) if np.isfinite(ahead).any() else 0.0


def places_in_t_pose(height_m, facing, bones, place):
    """{bone: where its middle is in the T-pose (3,)}, the skeleton put where the bodies are."""
    skeleton = generic_skeleton(height_m)
    joints = rest_joints(skeleton)
    middle = {}
    for bone in BODY_BONES:
        below = [n for n in skeleton.names if skeleton.parents[skeleton.index(n)] == skeleton.index(bone)]
        end = joints[below[0]] if len(below) == 1 else joints[bone]
        middle[bone] = (joints[bone] + end) / 2
    c, s = np.cos(facing), np.sin(facing)
    turn = np.array([[c, 0.0, s], [0.0, 1.0, 0.0], [-s, 0.0, c]])
    known = [(place[n], turn @ middle[b]) for n, b in bones.items() if n in place]
    shift = np.median([p - m for p, m in known], axis=0)
    shift[1] = 0.0
    return {b: turn @ m + shift for b, m in middle.items()}


def other_side(bone):
    """The bone of the other side, or the same of the trunk."""
    return {"left": "right", "right": "left"}.get(bone.removesuffix(plain(bone)), "") + plain(bone)


def _extent(values):
    """How far apart the values (T, N) of each moment are, (T,), NaN where fewer than two are known."""
    known = np.isfinite(values)
    highest = np.where(known, values, -np.inf).max(axis=1, initial=-np.inf)
    lowest = np.where(known, values, np.inf).min(axis=1, initial=np.inf)
    return np.where(known.sum(axis=1) > 1, highest - lowest, np.nan)
