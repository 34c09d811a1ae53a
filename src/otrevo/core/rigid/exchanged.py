"""Rigid bodies that are named after limbs they are not on: in the T-pose each is where another one should be."""

import numpy as np
import scipy

from otrevo.core.inertial.exchanged import pairs_of, rounds_of
from otrevo.core.rigid.by_place import AWAY_M, LEAST_AHEAD_M, going_ahead, places_in_t_pose, widest

# by how much nearer, as a sum of squares for each of them, bodies have to be to each other's places than to their own
NEARER_M2 = 0.13**2


def find_exchanged_bodies(bones, place, recording, height_m):
    """({body: the body where it sits}, the same as [(body, body, …)], whether left and right are swapped in all names).

    bones: {body: bone} as their names say; place: {body: (3,)} of all bodies of a BodiesRecording in the T-pose, NaN where not seen. Most of the pairs
    of left and right bodies tell which way the performer faces, and where as many say otherwise it is the way in which arms and thighs go.
    """
    seen = [n for n in bones if np.isfinite(place[n]).all()]
    if not seen:
        return {}, [], False
    left = widest(np.array([place[n] for n in seen]))
    ahead = _ahead(bones, place, recording, left)
    votes = sum(np.sign((place[n] - place[other]) @ left) for n, other in _pairs(bones, seen)) or ahead
    if votes == 0:
        return {}, [], False
    left = left * np.sign(votes)
    expected = places_in_t_pose(height_m, float(np.arctan2(-left[2], left[0])), {n: bones[n] for n in seen}, place)
    away2 = np.array([[((place[n] - expected[bones[m]]) ** 2).sum() for m in seen] for n in seen])
    body, limb = scipy.optimize.linear_sum_assignment(np.minimum(away2, (2 * AWAY_M) ** 2))
    sits = {seen[b]: seen[m] for b, m in zip(body, limb, strict=True) if b != m}
    rounds = []
    for round_ in rounds_of(pairs_of(sits)):
        at = [(seen.index(n), seen.index(sits[n])) for n in round_]
        nearer = sum(away2[b, b] - away2[b, m] for b, m in at)
        if nearer > NEARER_M2 * len(at) and max(away2[b, m] for b, m in at) < AWAY_M**2:
            rounds.append(round_)
    sits = {n: sits[n] for round_ in rounds for n in round_}
    right = {n: bones[sits.get(n, n)] for n in bones}
    return sits, rounds, _ahead(right, place, recording, left) < -LEAST_AHEAD_M


def _pairs(bones, seen):
    """[(left body, right body)] of the same limb."""
    called = {bones[n]: n for n in seen}
    return [
        (n, called["right" + b[4:]]) for b, n in called.items() if b.startswith("left") and "right" + b[4:] in called
    ]


def _ahead(bones, place, recording, left):
    """How far arms and thighs go to the front, as in going_ahead; left (3,): the way that is called left."""
    numbers = {recording.names.index(n): bone for n, bone in bones.items()}
    places = np.array([place[n] for n in recording.names])
    return going_ahead(numbers, recording.position_m, recording.rotation, places, np.cross(left, [0.0, 1.0, 0.0]))
