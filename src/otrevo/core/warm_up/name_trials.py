"""Names tried otherwise: which reading of the markers does the chart explain best?

Closest points can give the name of a marker that fell off to its neighbour, and the body then bends to suit. Over a
whole warm-up that shows. Limb by limb, points are tried under other names near them, the limb's geometry and poses are
fitted again to frames spread over the routine, and the reading with the highest marginal likelihood stays
(`GeometryFit.evidence`): a name that needs a joint of its own to be explained has to pay for that joint, and points that
stay nameless though they ride along with a bone cost as well. At the end of a limb, where names go wrong together, all
orders of the names are tried in which markers on one bone are about as far from each other as in the chart. Most of the frames are those in which the limb itself does the most unlike things: a wrist
that turns for four seconds out of forty is what tells a marker on the hand from one on the forearm.

Below, a column is one set of points over time, with a name or without; an order (M + E) tells which column every one of
the M names has, the last E places being those of columns without a name.
"""

from dataclasses import replace
from itertools import combinations, permutations
from math import factorial, perm

import numpy as np

from otrevo.core.body.compiled_rotations import log_rotations
from otrevo.core.body.skeleton import Skeleton
from otrevo.core.markers.label import tracklets
from otrevo.core.warm_up.geometry_fit import GeometryFit, fit_geometry, pose_all

NEAR_M = 0.16  # how far from a name's chart place points may lie to be tried under it
WORSE_M = 0.05  # tried even where the chart, as the limb is posed now, explains the points this much worse
FRAMES, EVEN_FRAMES, ITERATIONS, CHANGES = 40, 16, 4, 8
CLEARLY = 5.0  # of evidence, for a name is more often right than wrong: odds of twelve to one
MOST_ORDERS, LIKELY_ORDERS, QUICK_FRAMES, FINALISTS = 130, 40, 12, 6
ABSENT_SHARE, MOST_READINGS = 0.02, 14
NEVER_TOGETHER_M = 0.02  # how unlike the chart two markers count as that are never seen at one time
NAMELESS = 8.0  # evidence that a sample costs which rides with a bone and has no name
NAMELESS_M = 0.06  # what being nameless counts as, beside distances from the chart
RIDES_M, SHORTEST_S, FULL_SHARE = 0.02, 0.25, 0.15
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
        model, skeleton=skeleton, sigma=sigma, low=low, high=high,
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


def nameless_columns(points_m, labels, model, root, local, rate):
    """Points without a name that ride along with a bone, gathered to columns (T, E, 3), NaN where absent.

    points_m (T, N, 3), labels (T, N); root (T, 3), local (T, B, 3, 3): the poses that were followed.
    """
    frames = len(points_m)
    world, joint = pose_all(model, root, local)
    pieces = []
    for c, s, e in tracklets(points_m):
        if e - s < SHORTEST_S * float(rate) or (labels[s:e, c] >= 0).mean() > 0.2:
            continue
        part = slice(s, e, max(1, (e - s) // 60))
        position = np.einsum("tbji,tbj->tbi", world[part], points_m[part, c][:, None] - joint[part])
        b, mean, spread = _riding(position)
        if spread < 2 * RIDES_M:
            pieces.append((e - s, c, s, e, b, mean))
    columns, riding = [], []
    for _, c, s, e, b, mean in sorted(pieces, key=lambda p: -p[0]):
        for k, (bone, at) in enumerate(riding):
            if bone == b and np.linalg.norm(at - mean[b]) < RIDES_M and np.isnan(columns[k][s:e, 0]).all():
                columns[k][s:e] = points_m[s:e, c]
                break
        else:
            columns.append(np.full((frames, 3), np.nan))
            columns[-1][s:e] = points_m[s:e, c]
            riding.append((b, mean[b]))
    full = [c for c in columns if np.isfinite(c[:, 0]).mean() > FULL_SHARE]
    return np.stack(full, axis=1) if full else np.zeros((frames, 0, 3))


def _riding(position):
    """Of points (T, B, 3) as every bone sees them: the bone they ride with, where they are on each (B, 3), how far they stray on that one."""
    mean = position.mean(axis=0)
    spread = np.sqrt(position.var(axis=0).sum(axis=1)) + 0.05 * np.linalg.norm(mean, axis=1)
    b = int(spread.argmin())
    return b, mean, spread[b]


def joined(fit, nameless):
    """nameless (F, E, 3) with columns of one marker in one: never seen at one time, and at one place on a bone as the body is posed now.

    In two halves a marker could take the names of two.
    """
    world, joint = pose_all(fit.model, fit.root_m, fit.local)
    seen = np.isfinite(nameless[..., 0])
    kept, riding = [], []
    for e in np.argsort(-seen.sum(axis=0), kind="stable"):
        at = seen[:, e]
        if not at.any():
            continue
        b, mean, _ = _riding(np.einsum("tbji,tbj->tbi", world[at], nameless[at, e][:, None] - joint[at]))
        for column, (bone, place) in zip(kept, riding, strict=True):
            if np.linalg.norm(place - mean[bone]) < RIDES_M and np.isnan(column[at, 0]).all():
                column[at] = nameless[at, e]
                break
        else:
            kept.append(nameless[:, e].copy())
            riding.append((b, mean[b]))
    return np.stack(kept, axis=1) if kept else nameless[:, :0]


def chart_distances(fit, columns, chart_model):
    """(K, M): how far the points of every column lie, on average, from where the chart puts every name, metres."""
    model = fit.model
    world, joint = pose_all(model, fit.root_m, fit.local)
    out = np.full((columns.shape[1], len(model.marker_bone)), np.inf)
    seen = np.isfinite(columns[..., 0])
    count, known = np.maximum(seen.sum(0), 1)[:, None], seen.any(0)
    for b in np.unique(model.marker_bone):
        position = np.einsum("fji,fpj->fpi", world[:, b], columns - joint[:, b, None])
        mean = np.where(seen[..., None], position, 0.0).sum(0) / count
        for q in np.flatnonzero(model.marker_bone == b):
            out[known, q] = np.linalg.norm(mean - chart_model.marker_offset_m[q], axis=1)[known]
    return out


def _readings(distance, present):
    """Cycles of places in an order, likeliest first: the column of each goes to the one after it, the last one's to the
    first. Two names trade points, one of which may have none, or a name without points is reached through a second one.

    distance (M + E, M + E) of the columns, as ordered, from names and namelessness; present (M + E,).
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
    likely = sorted((c for c in cycles if c[0] > -WORSE_M), key=lambda c: -c[0])
    return [np.array(cycle) for _, cycle in likely[:MOST_READINGS]]


class _Limb:
    """One limb and the columns that may be its markers."""

    def __init__(self, part, chart_part, columns):
        self.part, self.chart_part, self.columns = part, chart_part, columns
        self.names = len(part.marker_names)
        self.share = np.isfinite(columns[..., 0]).mean(axis=0)
        bones = part.skeleton.names
        self.end = [m for m, b in enumerate(part.marker_bone) if any(e in bones[b] for e in _ENDS)]

    def score(self, fit, order):
        """Evidence of a reading, points left nameless counted in."""
        return fit.evidence - NAMELESS * self.share[order[self.names :]].sum() * len(fit.root_m)

    def fit(self, fit, order, changed, frames=None, iterations=ITERATIONS):
        """The limb fitted again from where it was, but for what the `changed` names had pulled along."""
        frames = slice(None) if frames is None else frames
        changed = [c for c in changed if c < self.names]
        offsets, turned = fit.model.marker_offset_m.copy(), fit.local[frames].copy()
        offsets[changed] = self.chart_part.marker_offset_m[changed]
        for b in set(self.part.marker_bone[changed]) - {0}:
            turned[:, b] = np.eye(3)  # a limb that bent to suit a wrong name must not start there
        start = fit.model.with_geometry(fit.model.skeleton.rest_offset_m, offsets)
        named = self.columns[frames][:, order[: self.names]]
        return fit_geometry(start, named, fit.root_m[frames], turned, iterations, self.chart_part)

    def posed(self, fit, observed, root, local, changed):
        """The limb of a fit in other frames, from poses in which the `changed` names had other points."""
        local = np.ascontiguousarray(local)
        for b in set(self.part.marker_bone[[c for c in changed if c < self.names]]) - {0}:
            local[:, b] = np.eye(3)
        return fit_geometry(fit.model, observed, np.ascontiguousarray(root), local, 1, self.chart_part)

    def improve(self, root, local):
        """The best order found and its fit."""
        order = np.arange(self.columns.shape[1])
        best = fit_geometry(self.part, self.columns[:, : self.names], root, local, ITERATIONS, self.chart_part)
        for _ in range(CHANGES):
            found, score = None, self.score(best, order) + CLEARLY
            distance = np.full((len(order), len(order)), NAMELESS_M)
            distance[:, : self.names] = chart_distances(best, self.columns[:, order], self.chart_part)
            for cycle in _readings(distance, self.share[order] > ABSENT_SHARE):
                trial_order = order.copy()
                trial_order[np.roll(cycle, -1)] = order[cycle]
                trial = self.fit(best, trial_order, cycle)
                if self.score(trial, trial_order) > score:
                    found, score = (trial_order, trial), self.score(trial, trial_order)
            if found is None:
                break
            order, best = found
        return self.reorder_end(order, best)

    def reorder_end(self, order, best):
        """The likely orders of the names at the limb's end, quickly on a few frames, the best of them with care."""
        open_positions = [*self.end, *range(self.names, len(order))]
        pool = [c for c in order[open_positions] if self.share[c] > ABSENT_SHARE]
        used = min(len(pool), len(self.end))
        if len(pool) < 2 or perm(len(pool), used) * perm(len(self.end), used) // factorial(used) > MOST_ORDERS:
            return order, best
        likely = sorted(self._orders_of_end(order, open_positions, pool, used), key=self._incongruence())[
            :LIKELY_ORDERS
        ]
        few = np.linspace(0, len(self.columns) - 1, min(QUICK_FRAMES, len(self.columns))).astype(int)
        tried = [(self.score(self.fit(best, o, self.end, few, 1), o), o) for o in likely]
        tried.sort(key=lambda t: -t[0])
        again = self.fit(best, order, self.end)  # a better fit to the same names is no case for others
        chosen, winner = order, max(best, again, key=lambda f: f.evidence)
        for _, trial_order in tried[:FINALISTS]:
            trial = self.fit(best, trial_order, self.end)
            if self.score(trial, trial_order) > self.score(winner, chosen) + CLEARLY:
                chosen, winner = trial_order, trial
        return chosen, winner

    def _orders_of_end(self, order, open_positions, pool, used):
        """Orders with the names at the limb's end given to `used` columns of the pool in every way."""
        for columns in combinations(pool, used):
            # what is left over goes to the nameless places first, then to names that stay without points
            rest = sorted((c for c in order[open_positions] if c not in columns), key=lambda c: -self.share[c])
            for names in permutations(self.end, used):
                trial_order = order.copy()
                trial_order[list(names)] = columns
                trial_order[[q for q in reversed(open_positions) if q not in names]] = rest
                yield trial_order

    def _incongruence(self):
        """A function that tells of an order how unlike the chart's the distances are between markers on one bone at the limb's end.

        However the limb is posed, these stay. They tell at once of most orders that they are wrong.
        """
        pairs = [(p, q) for p, q in combinations(self.end, 2) if self.part.marker_bone[p] == self.part.marker_bone[q]]
        apart = np.linalg.norm(self.columns[:, :, None] - self.columns[:, None], axis=3)
        seen = np.isfinite(apart)
        mean = np.where(seen, apart, 0.0).sum(axis=0) / np.maximum(seen.sum(axis=0), 1)
        mean[~seen.any(axis=0)] = np.nan
        one, other = np.array(pairs, dtype=int).reshape(-1, 2).T
        charted = np.linalg.norm(self.chart_part.marker_offset_m[one] - self.chart_part.marker_offset_m[other], axis=1)

        def unlike(order):
            off = mean[order[one], order[other]] - charted
            return float((np.where(np.isnan(off), NEVER_TOGETHER_M, off) ** 2).sum())

        return unlike


def united(fit, observed, chart_model):
    """observed (F, M, 3) with each marker that goes by two names in turn under one of them, the one the chart puts nearer.

    Points under two names that are never seen at one time and sit at one place are one marker: whole, it can be given its
    name; in two halves, one would have to keep a wrong one.
    """
    observed, seen = observed.copy(), np.isfinite(observed[..., 0])
    near = chart_distances(fit, observed, fit.model) < RIDES_M
    charted = chart_distances(fit, observed, chart_model)
    for p, q in np.argwhere(near | near.T):
        if p >= q or not seen[:, p].any() or not seen[:, q].any() or (seen[:, p] & seen[:, q]).any():
            continue
        name, other = (p, q) if charted[[p, q], p].mean() < charted[[p, q], q].mean() else (q, p)
        observed[seen[:, other], name] = observed[seen[:, other], other]
        observed[:, other] = np.nan
        seen[:, name] |= seen[:, other]
        seen[:, other] = False
    return observed


def telling_frames(local, count=FRAMES, even=EVEN_FRAMES):
    """Numbers of `count` frames: `even` of them spread over all, the others one by one where the joints are turned most
    unlike in any frame chosen before. local (F, B, 3, 3): the turns of the joints looked at.
    """
    frames = len(local)
    if frames <= count:
        return np.arange(frames)
    rotation = log_rotations(np.ascontiguousarray(local)).reshape(frames, -1)
    chosen = list(np.linspace(0, frames - 1, even).astype(int))
    unlike = np.linalg.norm(rotation[:, None] - rotation[None, chosen], axis=2).min(axis=1)
    while len(chosen) < count:
        chosen.append(int(unlike.argmax()))
        unlike = np.minimum(unlike, np.linalg.norm(rotation - rotation[chosen[-1]], axis=1))
        unlike[chosen] = -1.0
    return np.sort(np.array(chosen))


def try_names(fit, observed, chart_model, nameless=None):
    """Find the names for the points that the chart explains best.

    Parameters
    ----------
    fit : GeometryFit
        Of `observed`.
    observed : ndarray (F, M, 3)
        Metres, NaN where unseen.
    chart_model : BodyModel
        The body before any fit.
    nameless : ndarray (F, E, 3), optional
        Columns without a name.

    Returns
    -------
    tuple
        Order (M,): name m belongs to column order[m] of observed and nameless, once joined, together; the GeometryFit to some of the
        frames in that order; and the numbers of these frames.
    """
    observed = united(fit, observed, chart_model)
    some = np.linspace(0, len(observed) - 1, min(FRAMES, len(observed))).astype(int)
    markers = observed.shape[1]
    columns = observed if nameless is None else np.concatenate([observed, joined(fit, nameless)], axis=1)
    model, order, local = fit.model, np.arange(columns.shape[1]), fit.local.copy()
    world, joint = pose_all(model, fit.root_m, local)
    for bones in _LIMBS:
        part, kept, members = limb_of(model, bones)
        chart_part, *_ = limb_of(chart_model, bones)
        position = GeometryFit(model, fit.root_m[some], local[some], None, 0.0)
        here = chart_distances(position, columns[some][:, order[markers:]], chart_model)[:, members]
        spare = markers + np.flatnonzero((here < NEAR_M).any(axis=1))
        positions = np.concatenate([members, spare])
        if (np.isfinite(columns[some][:, order[positions], 0]).any(axis=0)).sum() < 3:
            continue
        start = local[:, kept].copy()
        start[:, 0] = world[:, kept[0]]
        frames = telling_frames(start[:, 1:])
        limb = _Limb(part, chart_part, columns[frames][:, order[positions]])
        own, limb_fit = limb.improve(joint[frames, kept[0]].copy(), np.ascontiguousarray(start[frames]))
        changed = np.flatnonzero(own != np.arange(len(own)))
        if len(changed) == 0:
            continue
        order[positions] = order[positions[own]]
        posed = limb.posed(limb_fit, columns[some][:, order[members]], joint[some, kept[0]], start[some], changed)
        local[np.ix_(some, kept[1:])] = posed.local[:, 1:]
    order = order[:markers]
    moved = order != np.arange(markers)
    offsets = np.where(moved[:, None], chart_model.marker_offset_m, model.marker_offset_m)
    start = model.with_geometry(model.skeleton.rest_offset_m, offsets)
    fitted = fit_geometry(start, columns[some][:, order], fit.root_m[some], local[some], ITERATIONS, chart_model)
    return order, fitted, some
