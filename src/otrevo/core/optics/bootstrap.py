"""First places of the cameras, from nothing but a wand read in single pictures.

Every reading is a little set of points before its camera. Two cameras that read the wand in the same frames see the same
points, so one rigid move takes the one's points to the other's: found by random triples of frames and refitted on
all that agree (M. A. Fischler, R. C. Bolles, Random sample consensus, 1981; K. S. Arun and others, Least-squares fitting
of two 3-D point sets, 1987). Cameras then join a tree, best-connected pair first. Where nobody says the focal lengths,
those are taken with which the points of two cameras agree best: a wrong one squeezes depth.
"""

from itertools import combinations

import numpy as np

from otrevo.core.conventions import rigid_move

TRIES = 120
AGREE = 0.05  # of the distance from the camera
FEWEST_SHARED, MOST_SHARED = 8, 150  # frames
FOCALS = np.geomspace(0.35, 2.8, 19)  # of the picture's width


def pair_move(a, b, rng, tries=TRIES):
    """The move from one camera's points a (F, M, 3) to another's b, by sample consensus.

    Returns rotation, shift, the share of frames that agree, and their RMS distance as a share of the distance.
    """
    frames, markers = a.shape[:2]
    some = np.argpartition(rng.random((tries, frames)), 2, axis=1)[:, :3]  # three frames, none of them twice
    rotation, shift = rigid_move(a[some].reshape(tries, 3 * markers, 3), b[some].reshape(tries, 3 * markers, 3))
    depth = np.linalg.norm(b, axis=2).mean(1) + np.linalg.norm(a, axis=2).mean(1)

    def apart(rotation, shift):
        moved = (a.reshape(-1, 3) @ np.swapaxes(rotation, 1, 2) + shift[:, None]).reshape(len(rotation), *a.shape)
        return np.linalg.norm(moved - b, axis=3).mean(2) / depth

    off = apart(rotation, shift)
    best = int(np.minimum(off, AGREE).sum(1).argmin())
    off, rotation, shift = off[best], rotation[best], shift[best]
    agree = off < AGREE
    for _ in range(4):
        if agree.sum() < 3:
            break
        rotation, shift = rigid_move(a[agree].reshape(-1, 3), b[agree].reshape(-1, 3))
        off = apart(rotation[None], shift[None])[0]
        agree = off < AGREE
    rms = float(np.sqrt(np.mean(off[agree] ** 2))) if agree.any() else np.inf
    return rotation, shift, float(agree.mean()), rms


def place_cameras(positions, rng):
    """Poses of the cameras that connect: {camera: (rotation (3, 3), position (3,))} in the first one's frame, world to camera.

    positions (F, C, M, 3): the wand before each camera, NaN where it was not read.
    """
    read = np.isfinite(positions[..., 0, 0])
    cameras = read.shape[1]
    moves = {}
    for i, j in combinations(range(cameras), 2):
        shared = _both_read(read, i, j)
        if len(shared) < FEWEST_SHARED:
            continue
        rotation, shift, share, rms = pair_move(positions[shared, i], positions[shared, j], rng)
        if share > 0.3 and share * len(shared) >= FEWEST_SHARED:
            moves[i, j] = (rotation, shift, share * len(shared) / (1e-3 + rms))
    groups = _groups(cameras, moves)
    best = max(groups, key=len)
    if len(best) < 2:
        return {}, groups
    root = max(best, key=lambda c: sum(m[2] for pair, m in moves.items() if c in pair))
    poses = {root: (np.eye(3), np.zeros(3))}
    while len(poses) < len(best):
        i, j = max(
            (pair for pair in moves if (pair[0] in poses) != (pair[1] in poses) and pair[0] in best),
            key=lambda pair: moves[pair][2],
        )
        rotation, shift, _ = moves[i, j]
        if j in poses:  # the move from j to i
            i, j = j, i
            rotation, shift = rotation.T, -rotation.T @ shift
        world_rotation, world_position = poses[i]  # x_i = world_turn (X - world_place)
        new = rotation @ world_rotation
        poses[j] = (new, world_position - new.T @ shift)
    return poses, groups


def _both_read(read, i, j):
    """Frames in which two cameras read the wand, not more than are needed, spread evenly; read (F, C)."""
    shared = np.flatnonzero(read[:, i] & read[:, j])
    return shared[np.linspace(0, len(shared) - 1, MOST_SHARED).astype(int)] if len(shared) > MOST_SHARED else shared


def _groups(cameras, moves):
    """Sets of cameras that connect through pairs."""
    group = {c: {c} for c in range(cameras)}
    for i, j in moves:
        if group[i] is not group[j]:
            group[i] |= group[j]
            for c in group[j]:
                group[c] = group[i]
    return [set(g) for g in {id(g): sorted(g) for g in group.values()}.values()]


def find_focals(read_with, widths, known, rng):
    """Focal lengths (C,) in pixels of cameras that did not say theirs.

    read_with(focals (C,), wanted (C,) mask) -> positions (F, C, M, 3), NaN for cameras not wanted; known (C,) the focal lengths
    given, NaN where none. All unknown ones are first tried at equal shares of the picture's width, then one by one.
    """
    cameras, everyone = len(known), np.ones(len(known), dtype=bool)

    def cost(positions, pairs):
        """Mean disagreement of some pairs of cameras."""
        read = np.isfinite(positions[..., 0, 0])
        values = []
        for i, j in pairs:
            shared = _both_read(read, i, j)
            if len(shared) >= FEWEST_SHARED:
                _, _, share, rms = pair_move(positions[shared, i], positions[shared, j], rng, 40)
                values.append(share * min(rms, AGREE) + (1 - share) * AGREE)
        return np.mean(values) if values else np.inf

    unknown = np.isnan(known)
    some = [(c, (c + step) % cameras) for c in np.flatnonzero(unknown) for step in (1, 2) if cameras > step]
    costs = [cost(read_with(np.where(unknown, f * widths, known), everyone), some) for f in FOCALS]
    focals = np.where(unknown, FOCALS[int(np.argmin(costs))] * widths, known)
    for spread in (np.geomspace(0.75, 1.33, 7), np.geomspace(0.93, 1.075, 5)):
        positions, better = read_with(focals, everyone), focals.copy()
        for c in np.flatnonzero(unknown):  # each camera against the others as they are
            costs = []
            for factor in spread:
                trial = focals.copy()
                trial[c] *= factor
                again = positions.copy()
                again[:, c] = read_with(trial, np.arange(cameras) == c)[:, c]
                costs.append(cost(again, [(c, o) for o in range(cameras) if o != c]))
            better[c] *= spread[int(np.argmin(costs))]
        focals = better
    return focals
