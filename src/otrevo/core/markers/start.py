"""Finding a performer in T-pose: wherever they stand, whichever way they face, among nameless points and ghosts.

The first still moment is averaged to one cloud. The body model in T-pose is placed at many facings, fitted to the
cloud by articulated closest points with tightening gates, and the facing with the lowest truncated cost wins. When
proportions are unknown, limb lengths are tried as well, and names are then settled segment by segment: closest points
alone can hand a missing marker's name to its neighbour and turn the segment to suit, so each segment's markers are
matched as one rigid piece from several turns about T-pose, at a price for turning.
"""

from dataclasses import dataclass, replace
from itertools import product

import numpy as np
import scipy

from otrevo.core.body.tree_solver import Expected, Observed, place_markers, pose_joints, refine_pose
from otrevo.core.conventions import matrix_from_quaternion, quaternion_from_rotvec, rigid_move
from otrevo.core.errors import InputError
from otrevo.core.markers.matching import icp_pose

FACINGS = 24
STEP_M, STRAY_M = 0.02, 0.10  # from one looked-at frame to the next, and in all
_COARSE = np.array([0.30, 0.25, 0.2, 0.16, 0.13, 0.11, 0.10, 0.09, 0.08, 0.08])
_FINE = np.array([0.12, 0.10, 0.09, 0.08, 0.07, 0.06, 0.06, 0.06])
_STIFF, _LOOSE = (0.12, 0.04), (0.35, 0.02)  # joint sigma in radians, point sigma in metres
GOOD_COST = 0.01  # a calibrated body explains its own markers in T-pose better than this
LEANING_COST = 0.3
_LEANS = np.array(
    [[0, 0, -0.45], [0, 0, -0.22], [0, 0, 0.22], [0, 0, 0.45], [0.35, 0, 0], [-0.35, 0, 0]]
)  # of the spine
FOUND_COST = 0.3  # a start worse than this is taken only if no other moment is better
SEARCH_S, SEARCH_STEP_S = 30.0, 0.5
STILL_S = 0.4  # of a T-pose, that is averaged
_LIMB_FACTORS = (0.93, 1.0, 1.07)
_LIMBS = {
    "trunk": ("spine", "chest", "upperChest", "neck"),
    "arm": ("UpperArm", "LowerArm", "Hand"),
    "leg": ("LowerLeg", "Foot"),
}


@dataclass(frozen=True)
class Start:
    """root_m (3,), local (B, 3, 3), cost 0..1, matched share of markers, and the model whose limbs fitted best.

    slip (M, 3): where each named point really sits on its bone against the model's place, NaN for markers without a
    point; None when names were not settled.
    """

    root_m: np.ndarray
    local: np.ndarray
    cost: float
    matched: float
    model: object
    slip: np.ndarray | None = None


def still_cloud(points_m, rate, first=0, seconds=STILL_S):
    """Mean positions (K, 3) of what all but stands still over a short moment, whatever columns it is in.

    Every point of a full frame near the moment's middle is followed to both sides by nearness; what is there in half of
    the frames and strays no further than somebody swaying is averaged.
    """
    part = points_m[first : first + max(2, int(seconds * float(rate)))]
    part = part[:: max(1, len(part) // 24)]  # two dozen frames at most
    seen = [frame[np.isfinite(frame[:, 0])] for frame in part]
    fullness = np.array([len(s) for s in seen]) - 0.01 * np.abs(np.arange(len(seen)) - len(seen) // 2)
    middle = int(fullness.argmax())
    base = seen[middle]
    if len(base) == 0:
        return base
    total, count, strayed = base.copy(), np.ones(len(base)), np.zeros(len(base))
    for steps in (range(middle + 1, len(part)), range(middle - 1, -1, -1)):
        position = base.copy()
        for f in steps:
            if len(seen[f]) == 0:
                continue
            distance, nearest = scipy.spatial.cKDTree(seen[f]).query(position, distance_upper_bound=STEP_M)
            near = np.isfinite(distance)
            position[near] = seen[f][nearest[near]]
            total[near] += position[near]
            count[near] += 1
            strayed = np.maximum(strayed, np.linalg.norm(position - base, axis=1))
    steady = (count >= 0.5 * len(part)) & (strayed < STRAY_M)
    return total[steady] / count[steady, None]


def find_start(
    model,
    points_m,
    rate,
    plain_cost=FOUND_COST,
    near_s=0.0,
    latest_s=SEARCH_S,
    step_s=SEARCH_STEP_S,
    unknown_limbs=False,
):
    """Find the first T-pose of a take or a warm-up.

    Parameters
    ----------
    model : BodyModel
        The performer's body.
    points_m : ndarray (T, N, 3)
        Nameless points in metres, Y up, NaN where absent.
    rate : Fraction
        Frames a second.
    plain_cost : float
        A T-pose that costs less is taken at once; one under FOUND_COST where there is no better one in the first near_s.
    near_s, latest_s, step_s : float
        How far moments are compared, how far they are searched where none is good, and how far apart they are.
    unknown_limbs : bool
        Try limb lengths as well.

    Returns
    -------
    tuple of Start and int
        The pose and its frame.

    Raises
    ------
    InputError
        When nobody stands in T-pose.

    Notes
    -----
    Either begins in T-pose. Where it does not, because the roll was early, the moments after are searched.
    """
    refusal, best = None, None
    step = max(1, int(step_s * float(rate)))
    for frame in range(0, max(1, min(len(points_m) - step, int(latest_s * float(rate)))), step):
        try:
            start = find_t_pose(model, still_cloud(points_m, rate, frame), unknown_limbs)
        except InputError as error:
            refusal = refusal or error
            continue
        if best is None or start.cost < best[0].cost:
            best = start, frame
        if best[0].cost < plain_cost or (best[0].cost < FOUND_COST and frame >= near_s * float(rate)):
            break
    if best is None:
        raise refusal
    return best


def _scaled(model, factors):
    offsets = model.skeleton.rest_offset_m.copy()
    markers = model.marker_offset_m.copy()
    for b, name in enumerate(model.skeleton.names):
        plain = name.removeprefix("left").removeprefix("right")
        for limb, bones in _LIMBS.items():
            if plain in bones:
                offsets[b] *= factors[limb]
                parent = model.skeleton.parents[b]
                along = np.argmax(np.abs(offsets[b]))  # markers move along with the bone they ride on
                if limb != "trunk" and plain != "UpperArm":
                    markers[model.marker_bone == parent, along] *= factors[limb]
    return model.with_geometry(offsets, markers)


def _fit(model, cloud, root, local, gates, sigma_rad, point_sigma_m):
    """Closest points with every joint held to T-pose by `sigma_rad`: people in T-pose are off by 5 to 10 degrees."""
    marker_of = np.empty(len(cloud), dtype=np.int64)
    point_of = np.empty(len(model.marker_bone), dtype=np.int64)
    root, local = root.copy(), local.copy()
    sigma = np.minimum(model.sigma, sigma_rad)
    sigma[0] = model.sigma[0]  # the hips may face anywhere
    body = model.arrays._replace(sigma=sigma)
    cost = icp_pose(body, cloud, gates, 1.0 / point_sigma_m**2, root, local, marker_of, point_of)
    return cost, root, local, np.mean(point_of >= 0)


def find_t_pose(model, cloud, unknown_limbs=False, settle=True):
    """Find a performer in T-pose in one cloud of points.

    Parameters
    ----------
    model : BodyModel
        The performer's body.
    cloud : ndarray (N, 3)
        Points that stand still, metres, Y up.
    unknown_limbs : bool
        Try limb lengths as well.
    settle : bool
        Settle names segment by segment, unless the fit is good already.

    Returns
    -------
    Start
        Pose, names and how well they match.

    Raises
    ------
    InputError
        When nobody stands there in T-pose.
    """
    cloud = np.ascontiguousarray(cloud)
    needed = max(6, int(0.35 * len(model.marker_bone)))
    if len(cloud) < needed:
        raise InputError(
            f"The take begins with {len(cloud)} steady points, but finding the performer in T-pose needs at least "
            f"{needed}; begin with a T-pose held still for half a second."
        )
    bones = len(model.skeleton.names)
    rest = np.tile(np.eye(3), (bones, 1, 1))
    middle = np.median(cloud, axis=0)
    height = model.skeleton.rest_offset_m[0, 1]
    spine = model.skeleton.index("spine")

    def standing(facing, lean=None):
        local = rest.copy()
        c, s = np.cos(facing), np.sin(facing)
        local[0] = [[c, 0, s], [0, 1, 0], [-s, 0, c]]
        if lean is not None:
            local[spine] = matrix_from_quaternion(quaternion_from_rotvec(lean))
        return local

    def facing_of(local):
        return np.arctan2(local[0, 0, 2], local[0, 2, 2])

    results = []
    for k in range(FACINGS):
        root = np.array([middle[0], height, middle[2]])
        start = standing(2 * np.pi * k / FACINGS)
        results.append((*_fit(model, cloud, root, start, _COARSE, *_STIFF), None))
    results.sort(key=lambda r: r[0])
    if (
        results[0][0] > LEANING_COST
    ):  # several joints of the trunk off the same way: nothing above them is where it should be
        for _, _, local, _, _ in results[:FACINGS:4]:
            for lean in _LEANS:
                start = standing(facing_of(local), lean)
                position = np.array([middle[0], height, middle[2]])
                results.append((*_fit(model, cloud, position, start, _COARSE, *_STIFF), lean))
        results.sort(key=lambda r: r[0])
    best, bodies = [], []
    if unknown_limbs:
        bodies = [
            (legs, _scaled(model, dict(zip(_LIMBS, (trunk, arms, legs), strict=True))))
            for trunk, arms, legs in product(_LIMB_FACTORS, repeat=3)
        ]
    for _, root, local, _, lean in results[:6]:
        if not unknown_limbs:
            best.append((*_fit(model, cloud, root, local, _FINE, *_LOOSE), model))
            continue
        for legs, scaled in bodies:
            again = standing(facing_of(local), lean)
            position = root.copy()
            position[1] = scaled.skeleton.rest_offset_m[0, 1] * (1 + 0.9 * (legs - 1))
            best.append((*_fit(scaled, cloud, position, again, _COARSE, *_STIFF), scaled))
    best.sort(key=lambda r: r[0])
    if unknown_limbs:
        best = sorted(((*_fit(m, cloud, r, p, _FINE, *_LOOSE), m) for _, r, p, _, m in best[:8]), key=lambda b: b[0])
    cost, root, local, matched, chosen = best[0]
    start = Start(root, local, float(cost), float(matched), chosen)
    unexplained = start.cost - (1.0 - start.matched)  # a marker that is not there explains itself
    if matched > 0.35 and settle and (unknown_limbs or unexplained > GOOD_COST):
        start = settle_names(start, cloud)
    if start.matched < 0.5 or start.cost > 0.72:
        raise InputError(
            f"No performer in T-pose was found at the start: only {start.matched:.0%} of the chart's markers match; "
            "begin with a T-pose held still, and check that the chart and the height belong to this performer."
        )
    return start


# segments that move as one while somebody stands in T-pose
_SEGMENTS = (
    ("hips",), ("spine", "chest", "upperChest", "neck"), ("head",),
    ("leftUpperLeg",), ("rightUpperLeg",), ("leftLowerLeg",), ("rightLowerLeg",),
    ("leftFoot", "leftToes"), ("rightFoot", "rightToes"),
    ("leftShoulder", "leftUpperArm"), ("rightShoulder", "rightUpperArm"),
    ("leftLowerArm", "leftHand"), ("rightLowerArm", "rightHand"),
)  # fmt: skip


def _every_rotation(x, y, z):
    """Rotations (J, 3, 3) by every vector of these coordinates."""
    return matrix_from_quaternion(quaternion_from_rotvec(np.array(list(product(x, y, z)))))


# rotations and shifts from which a segment is tried, each with each
_STARTS = _every_rotation((-0.3, 0.0, 0.3), (-0.7, -0.35, 0.0, 0.35, 0.7), (-0.3, 0.0, 0.3)), np.zeros((1, 3))
_HEAD_STARTS = (  # every joint of the trunk adds to the head's rotation, and to its position
    _every_rotation((-0.7, -0.35, 0.0, 0.35, 0.7), (-0.7, -0.35, 0.0, 0.35, 0.7), (-0.6, -0.3, 0.0, 0.3, 0.6)),
    0.13 * np.array([[0, 0, 0], [1, 0, 0], [-1, 0, 0], [0, 0, 1], [0, 0, -1]]),
)
_SEGMENT_GATES = (0.16, 0.12, 0.09, 0.07, 0.05, 0.05)  # the last one is what an unmatched marker costs
UNMATCHED_M, POSITION_SIGMA_M, ROTATION_SIGMA_RAD, NAME_SIGMA_M, REACH_M = 0.05, 0.06, 0.25, 0.015, 0.35


def settle_names(start, cloud):
    """Names matched again segment by segment; the pose is refitted to them and the slip of every marker kept."""
    model, body = start.model, start.model.arrays
    skeleton = model.skeleton
    bones, markers = len(skeleton.names), len(model.marker_names)
    world, joint, x = np.empty((bones, 3, 3)), np.empty((bones, 3)), np.empty((markers, 3))
    rest = np.tile(np.eye(3), (bones, 1, 1))
    rest[0] = _upright(start.local[0])
    pose_joints(body, start.root_m, rest, world, joint)
    place_markers(body, world, joint, x)  # ideal T-pose, facing as found
    found_world, found_joint, found = np.empty_like(world), np.empty_like(joint), np.empty_like(x)
    pose_joints(body, start.root_m, start.local, found_world, found_joint)
    place_markers(body, found_world, found_joint, found)
    observed = np.full((markers, 3), np.nan)
    free = np.ones(len(cloud), dtype=bool)
    waiting = []
    for segment in _SEGMENTS:
        starts = _HEAD_STARTS if segment == ("head",) else _STARTS
        members = np.flatnonzero(
            np.isin(model.marker_bone, [skeleton.index(b) for b in segment if b in skeleton.names])
        )
        if len(members):
            waiting.append((*_match_segment(x[members], found[members], cloud, free, starts), members, starts))
    while waiting:  # the segment that fits best takes its points first; others look again when theirs are gone
        waiting.sort(key=lambda w: w[0])
        _, names, points, members, starts = waiting.pop(0)
        if len(points) and not free[points].all():
            waiting.append((*_match_segment(x[members], found[members], cloud, free, starts), members, starts))
            continue
        observed[members[names]] = cloud[points]
        free[points] = False
    root, local = start.root_m.copy(), start.local.copy()
    residual, none = np.empty(markers), np.zeros(bones)
    seen = Observed(observed, np.full(markers, 1.0 / 0.02**2), 0.08)
    refine_pose(body, seen, Expected(local, none, local, none, np.empty((0, 6))), root, local, 20, 1e-3, residual)
    pose_joints(body, root, local, world, joint)
    place_markers(body, world, joint, x)
    slip = np.einsum("mji,mj->mi", world[model.marker_bone], observed - x)
    far = np.nan_to_num(residual, nan=_FINE[-1]) / _FINE[-1]
    return replace(
        start, root_m=root, local=local, slip=slip, matched=float(np.isfinite(observed[:, 0]).mean()),
        cost=float(np.minimum(far, 1.0) @ np.minimum(far, 1.0) / markers),
    )  # fmt: skip


def _upright(rotation):
    """The part of a rotation matrix that turns about +Y."""
    facing = np.arctan2(rotation[0, 2], rotation[2, 2])
    c, s = np.cos(facing), np.sin(facing)
    return np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]])


def _match_segment(ideal, found, cloud, free, starts):
    """Cost per marker, and which name belongs to which point: (cost, names, points).

    ideal (K, 3): the segment's markers in an ideal T-pose; found (K, 3): where closest points put them; free (N,);
    starts: rotations (J, 3, 3) and shifts (I, 3).
    """
    middle = found.mean(axis=0)
    near = np.flatnonzero(free & (np.linalg.norm(cloud - middle, axis=1) < REACH_M))
    if len(near) == 0:
        return np.inf, np.zeros(0, dtype=int), np.zeros(0, dtype=int)
    points, shape = cloud[near], ideal - ideal.mean(axis=0)
    rotation, shifts = starts
    if len(shape) > 2:
        rotation = np.concatenate([rotation, rigid_move(shape, found - middle)[0][None]])
    position = middle + np.tile(shifts, (len(rotation), 1))
    rotation = np.repeat(rotation, len(shifts), axis=0)
    going = np.ones(len(rotation), dtype=bool)
    paid = np.zeros(len(rotation))
    point, close = np.zeros((len(rotation), len(shape)), dtype=int), np.zeros((len(rotation), len(shape)), dtype=bool)
    for gate in _SEGMENT_GATES:
        now = np.flatnonzero(going)
        placed = shape @ rotation[now].swapaxes(1, 2) + position[now, None]
        away = scipy.spatial.distance.cdist(placed.reshape(-1, 3), points).reshape(len(now), len(shape), len(points))
        cost = np.minimum(away, gate) ** 2
        close[now] = False
        names, chosen = np.empty((2, len(now), min(cost.shape[1:])), dtype=int)
        for row, own in enumerate(cost):
            names[row], chosen[row] = scipy.optimize.linear_sum_assignment(own)
        each = cost[np.arange(len(now))[:, None], names, chosen]
        paid[now], point[now[:, None], names] = each.sum(axis=1), chosen
        close[now[:, None], names] = each < gate**2 * 0.999
        going[now] = close[now].sum(axis=1) > 1
        now = np.flatnonzero(going)
        held = close[now].astype(float)
        position[now], rotation[now] = _moved(shape, points[point[now]], held, rotation[now])
    paid += max(len(shape) - len(points), 0) * UNMATCHED_M**2
    angle = np.arccos(np.clip((np.trace(rotation, axis1=1, axis2=2) - 1) / 2, -1.0, 1.0))
    total = paid / NAME_SIGMA_M**2 + (angle / ROTATION_SIGMA_RAD) ** 2
    total += (np.linalg.norm(position - middle, axis=1) / POSITION_SIGMA_M) ** 2
    best = np.argmin(total)
    return total[best] / len(shape), np.flatnonzero(close[best]), near[point[best, close[best]]]


def _moved(shape, points, held, rotation):
    """(positions (S, 3), rotations (S, 3, 3)) that take shape (K, 3) nearest to points (S, K, 3) where held (S, K) is 1; two points leave
    the rotation as it is."""
    moved, position = rigid_move(np.broadcast_to(shape, points.shape), points, held)
    two = held.sum(axis=1) < 3
    moved[two] = rotation[two]
    share = held[two, :, None] / 2
    position[two] = (share * points[two]).sum(axis=1) - np.einsum("sij,sj->si", moved[two], (share * shape).sum(axis=1))
    return position, moved
