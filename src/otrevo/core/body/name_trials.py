"""Names tried otherwise: which reading of the markers does the chart explain best?

Closest points can give the name of a marker that fell off to its neighbour, and the body then bends to suit. Over a
whole warm-up that shows. Limb by limb, points are tried under other names near them, the limb's geometry and poses are
fitted again to frames spread over the routine, and the reading with the highest marginal likelihood stays
(`GeometryFit.evidence`): a name that needs a joint of its own to be explained has to pay for that joint. At the end of
a limb, where names go wrong together, every order of the names is tried.
"""

from dataclasses import replace
from itertools import permutations
from math import perm

import numpy as np

from otrevo.core.body.geometry_fit import fit_geometry, pose_all
from otrevo.core.body.skeleton import Skeleton
from otrevo.core.body.tree_solver import chains

NEAR_M = 0.16  # how far from a name's chart place points may lie to be tried under it
WORSE_M = 0.05  # tried even where the chart, as the limb is posed now, explains the points this much worse
FRAMES, ITERATIONS, CHANGES = 40, 4, 8
CLEARLY = 2.0  # of evidence: e times likelier
MOST_ORDERS, QUICK_FRAMES, FINALISTS = 130, 12, 6
ABSENT_SHARE = 0.02
_LIMBS = (
    ("upperChest", "neck", "head"),
    *(("upperChest", *(s + b for b in ("Shoulder", "UpperArm", "LowerArm", "Hand"))) for s in ("left", "right")),
    *(("hips", *(s + b for b in ("UpperLeg", "LowerLeg", "Foot", "Toes"))) for s in ("left", "right")),
)  # root first
_ENDS = ("head", "LowerArm", "Hand", "Foot", "Toes", "Thumb", "Index", "Middle", "Ring", "Little")


def limb_of(model, bones):
    """The part of a BodyModel that consists of `bones`, the first being its root, and the indices of its bones and
    markers in the whole."""
    kept = [b for b, n in enumerate(model.skeleton.names) if n in bones or _rides_on(model.skeleton, b, bones[-1])]
    markers = np.flatnonzero(np.isin(model.marker_bone, kept))
    new = {b: i for i, b in enumerate(kept)}
    parents = np.array([-1, *(new[model.skeleton.parents[b]] for b in kept[1:])], dtype=np.int64)
    skeleton = Skeleton(
        tuple(model.skeleton.names[b] for b in kept), parents, model.skeleton.rest_offset_m[kept].copy()
    )
    sigma = model.sigma[kept].copy()
    low, high = model.low[kept].copy(), model.high[kept].copy()
    sigma[0], low[0], high[0] = model.sigma[0], model.low[0], model.high[0]  # the limb's root goes anywhere
    part = replace(
        model, skeleton=skeleton, chain=chains(parents), sigma=sigma, low=low, high=high,
        marker_names=tuple(model.marker_names[m] for m in markers),
        marker_bone=np.array([new[b] for b in model.marker_bone[markers]], dtype=np.int64),
        marker_offset_m=model.marker_offset_m[markers].copy(),
    )  # fmt: skip
    return part, np.array(kept), markers


def _rides_on(skeleton, bone, ancestor):
    """Whether `bone` is below `ancestor` (fingers that carry markers go with their hand)."""
    while skeleton.parents[bone] >= 0:
        bone = skeleton.parents[bone]
        if skeleton.names[bone] == ancestor:
            return True
    return False


def chart_distances(fit, observed, chart_model):
    """(M, M): how far the points now named p lie from where the chart puts name q, on average and in spread, metres."""
    model = fit.model
    world, joint = pose_all(model, fit.root_m, fit.local)
    out = np.full((observed.shape[1],) * 2, np.inf)
    for q, b in enumerate(model.marker_bone):
        place = np.einsum("fji,fpj->fpi", world[:, b], observed - joint[:, b, None])
        seen = np.isfinite(place[..., 0])
        count = np.maximum(seen.sum(0), 1)
        mean = np.nan_to_num(place).sum(0) / count[:, None]
        out[:, q] = np.where(seen.any(0), np.linalg.norm(mean - chart_model.marker_offset_m[q], axis=1), np.inf)
    return out


def _readings(distance, present):
    """Cycles of names, likeliest first: the points named by each take the name after it, the last one's the first.

    Two names trade points, one of which may have none, or a name without points is reached through a second one.
    """
    own, cycles = np.diag(distance), []
    near = (distance < NEAR_M) & ~np.eye(len(own), dtype=bool)
    for p in np.flatnonzero(present):
        for q in np.flatnonzero(near[p]):
            if present[q]:
                gain = own[p] - distance[p, q] + own[q]
                if q > p:
                    cycles.append((gain - distance[q, p], (p, q)))
                cycles += [(gain - distance[q, r], (p, q, r)) for r in np.flatnonzero(near[q] & ~present)]
            else:
                cycles.append((own[p] - distance[p, q], (p, q)))
    return [np.array(cycle) for gain, cycle in sorted(cycles, key=lambda c: -c[0]) if gain > -WORSE_M]


def _try_limb(part, chart_part, observed, root, local):
    """The best order of names found for one limb: (order, fit); points of name m are those given as order[m]."""
    markers = observed.shape[1]
    order = np.arange(markers)
    present = np.isfinite(observed[..., 0]).mean(0) > ABSENT_SHARE
    best = fit_geometry(part, observed, root, local, ITERATIONS, chart_part)
    for _ in range(CHANGES):
        found = None
        for cycle in _readings(chart_distances(best, observed[:, order], chart_part), present[order]):
            swap = np.arange(markers)
            swap[np.roll(cycle, -1)] = cycle
            trial = _fit_renamed(best, cycle, observed[:, order[swap]], chart_part)
            if trial.evidence > (found[1].evidence if found else best.evidence + CLEARLY):
                found = swap, trial
        if found is None:
            break
        order, best = order[found[0]], found[1]
    swap, best = _reorder_end(best, observed[:, order], chart_part)
    return order[swap], best


def _fit_renamed(fit, changed, observed, chart_part, frames=None, iterations=ITERATIONS):
    """The limb fitted again from where it was, but for what the `changed` markers had pulled along."""
    frames = slice(None) if frames is None else frames
    offsets, turned = fit.model.marker_offset_m.copy(), fit.local[frames].copy()
    offsets[changed] = chart_part.marker_offset_m[changed]
    for b in set(fit.model.marker_bone[changed]) - {0}:
        turned[:, b] = np.eye(3)  # a limb that bent to suit a wrong name must not start there
    start = fit.model.with_geometry(fit.model.skeleton.rest_offset_m, offsets)
    return fit_geometry(start, observed[frames], fit.root_m[frames], turned, iterations, chart_part)


def _reorder_end(best, observed, chart_part):
    """All orders of the names at the limb's end, quickly on a few frames, the best of them with care."""
    bones = best.model.skeleton.names
    end = np.array([m for m, b in enumerate(best.model.marker_bone) if any(e in bones[b] for e in _ENDS)], dtype=int)
    seen = end[np.isfinite(observed[:, end, 0]).mean(0) > ABSENT_SHARE]
    markers = np.arange(observed.shape[1])
    if len(seen) < 2 or perm(len(end), len(seen)) > MOST_ORDERS:
        return markers, best
    few = np.linspace(0, len(observed) - 1, min(QUICK_FRAMES, len(observed))).astype(int)
    tried = []
    for names in permutations(end, len(seen)):
        order = markers.copy()
        order[list(names)] = seen
        left = [m for m in end if m not in names]
        order[left] = [m for m in end if m not in seen]
        quick = _fit_renamed(best, end, observed[:, order], chart_part, few, 1)
        tried.append((quick.evidence, order))
    tried.sort(key=lambda t: -t[0])
    again = _fit_renamed(best, end, observed, chart_part)  # a better fit to the same names is no case for others
    chosen, winner = markers, max(best, again, key=lambda f: f.evidence)
    for _, order in tried[:FINALISTS]:
        trial = _fit_renamed(best, end, observed[:, order], chart_part)
        if trial.evidence > winner.evidence + CLEARLY:
            chosen, winner = order, trial
    return chosen, winner


def try_names(fit, observed, chart_model):
    """Names for the points that the chart explains best.

    fit: GeometryFit of `observed` (F, M, 3), NaN where unseen; chart_model: the body before any fit. Returns order
    (M,), name m belongs to the points now named order[m], the GeometryFit to some of the frames in that order, and the
    numbers of these frames.
    """
    some = np.linspace(0, len(observed) - 1, min(FRAMES, len(observed))).astype(int)
    named, root, local = observed[some], fit.root_m[some], fit.local[some].copy()
    model, order = fit.model, np.arange(observed.shape[1])
    world, joint = pose_all(model, root, local)
    for bones in _LIMBS:
        part, kept, markers = limb_of(model, bones)
        chart_part, *_ = limb_of(chart_model, bones)
        seen = named[:, markers]
        if np.isfinite(seen[..., 0]).any(0).sum() < 3:
            continue
        start = local[:, kept].copy()
        start[:, 0] = world[:, kept[0]]
        own, limb_fit = _try_limb(part, chart_part, seen, joint[:, kept[0]].copy(), np.ascontiguousarray(start))
        if np.array_equal(own, np.arange(len(own))):
            continue
        order[markers] = order[markers[own]]
        local[:, kept[1:]] = limb_fit.local[:, 1:]
    named = observed[some][:, order]
    moved = order != np.arange(len(order))
    places = np.where(moved[:, None], chart_model.marker_offset_m, model.marker_offset_m)
    start = model.with_geometry(model.skeleton.rest_offset_m, places)
    return order, fit_geometry(start, named, root, local, ITERATIONS, chart_model), some
