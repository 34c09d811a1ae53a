"""Names tried otherwise: which reading of the markers does the chart explain best?

Closest points can give a marker that fell off the name's neighbour, and the body then bends to suit. Over a whole
warm-up that shows: the misnamed marker ends far from where the chart puts its name. Every such name is tried on the
points of its neighbours, the geometry is fitted again to some frames, and the reading with the lowest cost stays.
"""

import numpy as np

from otrevo.core.body.geometry_fit import fit_geometry
from otrevo.core.body.tree_solver import pose_joints

NEAR_M = 0.15  # how far from a name's chart place points may lie to be tried under it
BETTER_M = 0.004  # tried if the chart explains the places this much better,
SUSPECT_M = 0.06  # or if they lie this far from the place of the name they have
FRAMES, ITERATIONS, ROUNDS = 48, 4, 6
CLEARLY = 8.0  # in cost: e^4 times likelier


def chart_distances(fit, observed, chart_model):
    """(M, M): how far the points now named p lie, on average, from where the chart puts name q, metres."""
    model = fit.model
    frames, markers = observed.shape[:2]
    bones = len(model.skeleton.names)
    world, joint = np.empty((frames, bones, 3, 3)), np.empty((frames, bones, 3))
    for f in range(frames):
        pose_joints(
            model.skeleton.parents, model.skeleton.rest_offset_m, fit.root_m[f], fit.local[f], world[f], joint[f]
        )
    out = np.full((markers, markers), np.inf)
    for q in range(markers):
        b = model.marker_bone[q]
        place = np.einsum("fji,fpj->fpi", world[:, b], observed - joint[:, b, None])
        with np.errstate(invalid="ignore"):
            seen = np.isfinite(place[..., 0])
            mean = np.where(seen[..., None], place, 0.0).sum(0) / np.maximum(seen.sum(0), 1)[:, None]
            spread = np.sqrt(np.nansum((place - mean) ** 2, axis=(0, 2)) / np.maximum(seen.sum(0), 1))
        out[:, q] = np.where(seen.any(0), np.linalg.norm(mean - chart_model.marker_offset_m[q], axis=1) + spread, np.inf)
    return out


def _readings(distance, present):
    """Pairs (p, q): the points named p take the name q, and those named q, if any, take p."""
    pairs = []
    own = np.diag(distance)
    for p in np.flatnonzero(present):
        for q in np.flatnonzero(distance[p] < NEAR_M):
            if p == q or (present[q] and q < p):
                continue
            gain = own[p] - distance[p, q] + (own[q] - distance[q, p] if present[q] else 0.0)
            if gain > BETTER_M or own[p] > SUSPECT_M:
                pairs.append((gain, int(p), int(q)))
    return [(p, q) for _, p, q in sorted(pairs, reverse=True)]


def try_names(fit, observed, chart_model, rate_of_absence=0.02):
    """The permutation of names that the chart explains best: (M,) new name of the points now named m, and the fit to it.

    observed (F, M, 3), NaN where unseen, for the frames of `fit`.
    """
    some = np.linspace(0, len(observed) - 1, min(FRAMES, len(observed))).astype(int)
    named = observed[some]
    markers = observed.shape[1]
    new_name = np.arange(markers)
    present = np.isfinite(observed[..., 0]).mean(0) > rate_of_absence
    best = fit_geometry(fit.model, named, fit.root_m[some], fit.local[some], ITERATIONS, prior_model=chart_model)
    refused, tried = set(), 0
    for _ in range(ROUNDS):
        distance = chart_distances(best, named, chart_model)
        improved = False
        for p, q in _readings(distance, present):
            if (p, q) in refused:
                continue
            order = np.arange(markers)
            order[[p, q]] = q, p
            offsets = best.model.marker_offset_m.copy()
            offsets[[p, q]] = chart_model.marker_offset_m[[p, q]]
            start = best.model.with_geometry(best.model.skeleton.rest_offset_m, offsets)
            trial = fit_geometry(
                start, named[:, order], best.root_m, best.local, ITERATIONS, prior_model=chart_model
            )
            tried += 1

            if trial.cost < best.cost - CLEARLY:
                best, named, improved = trial, named[:, order], True
                present = present[order]
                # order is its own inverse: names p and q trade places in the running assignment
                new_name = order[new_name]
                break
            refused.add((p, q))
        if not improved:
            break
    return new_name, best
