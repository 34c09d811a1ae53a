"""Names that were exchanged on the way, put right stretch by stretch.

Two markers near to each other may come back under each other's name whenever both were hidden, so that either name has some
points of both, and no reading of the names as a whole is right. Every unbroken stretch of a name's points has a mean place on
the body; a stretch that lies where most of the other name's points lie goes over to it, and what lies where none of a
name's points should be loses its name. Places are only as good as the poses that were followed, so this prepares names for
being tried (core.warm_up.name_trials) and gives no verdict itself. Metres; a stretch is (column, first frame, frame after last).
"""

import numpy as np

from otrevo.core.warm_up.geometry_fit import pose_all

NEAR_M = 0.16  # names whose places lie farther apart are not exchanged
APART_M = 0.02  # and two whose points lie no farther apart cannot be told by their places
STRANGER_M = 0.025  # from the middle of a name's points
SHORTEST_S = 0.05


def sort_out(points_m, labels, model, root, local, rate):
    """Labels (T, N) in which every name has the points of one marker, as far as their places on the body tell.

    points_m (T, N, 3), labels (T, N); root (T, 3), local (T, B, 3, 3): the poses of the BodyModel that were followed.
    """
    world, joint = pose_all(model, root, local)
    bone, labels = model.marker_bone, labels.copy()
    stretches = _stretches(labels, len(bone), max(2, int(SHORTEST_S * float(rate))))

    def positions(rows, b):
        return np.array([_place(points_m, world[:, b], joint[:, b], row) for row in rows])

    for p, q, b in _neighbours(model):
        if not (stretches[p] and stretches[q]):
            continue
        rows = stretches[p] + stretches[q]
        mine = np.arange(len(rows)) < len(stretches[p])
        over = _belongs_to_other(positions(rows, b), _lengths(rows), mine)
        for i in over:
            labels[_at(rows[i])] = -1
        for i in over:  # the longest first; where the other name has a point already, it stays without
            column, first, end = rows[i]
            name = q if mine[i] else p
            if not (labels[first:end] == name).any():
                labels[first:end, column] = name
        for name in (p, q):
            stretches[name] = [row for row in rows if labels[row[1], row[0]] == name]
    for name, rows in enumerate(stretches):
        if rows:
            at = positions(rows, bone[name])
            for i in np.flatnonzero(np.linalg.norm(at - _middle(at, _lengths(rows)), axis=1) > STRANGER_M):
                labels[_at(rows[i])] = -1
    return labels


def _stretches(labels, markers, shortest):
    """For every name the unbroken stretches that have it."""
    out = [[] for _ in range(markers)]
    for column in range(labels.shape[1]):
        cuts = (np.flatnonzero(np.diff(labels[:, column])) + 1).tolist()
        for first, end in zip([0, *cuts], [*cuts, len(labels)], strict=True):
            if labels[first, column] >= 0 and end - first >= shortest:
                out[labels[first, column]].append((column, first, end))
    return out


def _neighbours(model):
    """Pairs of names (p, q) near to each other on one bone or on two that are joined, and the bone nearer to the trunk."""
    parents, bone = model.skeleton.parents, model.marker_bone
    rest = np.zeros((len(parents), 3))
    for b, parent in enumerate(parents):
        rest[b] = model.skeleton.rest_offset_m[b] + (rest[parent] if parent >= 0 else 0.0)
    at = rest[bone] + model.marker_offset_m
    for p in range(len(bone)):
        for q in range(p + 1, len(bone)):
            kin = bone[p] == bone[q] or parents[bone[p]] == bone[q] or parents[bone[q]] == bone[p]
            if kin and np.linalg.norm(at[p] - at[q]) < NEAR_M:
                yield p, q, bone[p] if parents[bone[q]] == bone[p] else bone[q]


def _belongs_to_other(at, size, mine):
    """Numbers of stretches that lie where the other name's points do, the longest first.

    at (K, 3) their places, size (K,) their lengths, mine (K,) whether a stretch has the first of the two names.
    """
    one, two = _middle(at[mine], size[mine]), _middle(at[~mine], size[~mine])
    apart = np.linalg.norm(one - two)
    if apart < APART_M:
        return []
    nearer_to_two = np.linalg.norm(at - one, axis=1) - np.linalg.norm(at - two, axis=1)
    over = np.flatnonzero(np.where(mine, nearer_to_two, -nearer_to_two) > 0.5 * apart)
    return over[np.argsort(-size[over], kind="stable")]


def _place(points_m, world, joint, stretch):
    """Mean position (3,) of a stretch on a bone whose rotations (T, 3, 3) and joints (T, 3) are given."""
    column, first, end = stretch
    part = slice(first, end, max(1, (end - first) // 20))
    return np.einsum("tji,tj->ti", world[part], points_m[part, column] - joint[part]).mean(axis=0)


def _lengths(rows):
    return np.array([end - first for _, first, end in rows])


def _at(stretch):
    return slice(stretch[1], stretch[2]), stretch[0]


def _middle(positions, size):
    """Median position (3,) of stretches at (K, 3), long ones counting more."""
    order = np.argsort(positions, axis=0)
    total = np.cumsum(size[order], axis=0)
    half = (total >= 0.5 * total[-1]).argmax(axis=0)
    return np.array([positions[order[half[i], i], i] for i in range(3)])
