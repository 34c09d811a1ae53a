"""What a snag costs: by how many millimetres it may put the joints of the delivered body wrong.

A marker that is hidden while five others stand in for it costs next to nothing, however long; one that holds a wrist
alone costs centimetres in a tenth of a second. Snags of markers and limbs are ranked by this instead of by their length.
"""

from dataclasses import replace

import numpy as np

from otrevo.core.solve.uncertainty import influence

DAMAGE_LIMIT_M = 0.008  # what skin moves over bone anyway
HIDING, OFF = ("gap", "missing marker", "lost limb"), ("off the body", "spike")


def with_damage(snags, solved, uncertainty, clock):
    """Rank snags of markers and limbs by what they cost at the joints.

    Parameters
    ----------
    snags : sequence of Snag
        Of one solved take.
    solved : SolvedMarkers
        The solved take.
    uncertainty : BodyUncertainty
        Of the same take.
    clock : SampleClock
        Of its frames.

    Returns
    -------
    list of Snag
        Those of markers and limbs with `damage_mm` and a severity from it; others as they were.
    """
    beyond_m, seconds = uncertainty.beyond_usual_m(), clock.start_s + uncertainty.frames / clock.hz
    return [_judged(s, solved, beyond_m, seconds, clock) for s in snags]


def _judged(snag, solved, beyond_m, seconds, clock):
    model = solved.model
    if snag.kind in HIDING and (bone := _bone_of(snag.subject, model)) is not None:
        joints = _joints_held(bone, model, snag.kind == "lost limb")
        damage = _while_hidden(snag, joints, beyond_m, seconds)
    elif snag.kind in OFF and snag.subject in model.marker_names:
        damage = _pulled(snag, model.marker_names.index(snag.subject), solved, clock)
    else:
        return snag
    return replace(
        snag, damage_mm=round(1000 * damage, 2), severity=damage / DAMAGE_LIMIT_M,
        limit=f"{1000 * DAMAGE_LIMIT_M:.0f} mm at the joints",
    )  # fmt: skip


def _bone_of(subject, model):
    """The bone that a marker, or a limb, is about."""
    if subject in model.marker_names:
        return int(model.marker_bone[model.marker_names.index(subject)])
    return model.skeleton.names.index(subject) if subject in model.skeleton.names else None


def _joints_held(bone, model, whole_limb):
    """The joints that a marker on a bone holds, at its two ends, or for a whole limb all below."""
    parents, joints = model.skeleton.parents, [bone]
    for b in range(bone + 1, len(parents)):
        if parents[b] in (joints if whole_limb else [bone]):
            joints.append(b)
    return joints


def _while_hidden(snag, joints, beyond_m, seconds):
    """The most that these joints may be off, beyond what they always may, metres: beyond_m (F, B) at seconds (F,)."""
    within = (seconds >= snag.start_s - 1e-6) & (seconds < snag.end_s + 1e-6)
    if not within.any():
        within[np.abs(seconds - 0.5 * (snag.start_s + snag.end_s)).argmin()] = True
    return float(beyond_m[np.ix_(within, joints)].max())


def _pulled(snag, marker, solved, clock):
    """The most that a joint is moved by a marker where it lies furthest off, metres."""
    first = max(0, round((snag.start_s - clock.start_s) * clock.hz))
    last = max(first + 1, round((snag.end_s - clock.start_s) * clock.hz))
    off = solved.observed_m[first:last, marker] - solved.predicted_m[first:last, marker]
    size = np.linalg.norm(off, axis=1)
    if not np.isfinite(size).any():
        return 0.0
    at = int(np.nanargmax(size))
    return float(
        influence(
            solved.model, solved.root_m[first + at], solved.rotation_local[first + at], solved.weight[first + at],
            solved.target_weight[first + at], marker, off[at],
        ).max()
    )  # fmt: skip
