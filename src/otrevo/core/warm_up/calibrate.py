"""Performer calibration from the optical warm-up, nobody clicking.

1. The generic body of the performer's height, with the chart's markers, is found in T-pose (core.markers.start), limb
   lengths tried as well. 2. It is followed through the warm-up with a wide tolerance. 3. Bone lengths and marker positions
   are fitted on frames spread over the routine (core.warm_up.geometry_fit). 4. With the fitted body the warm-up is followed
   again, forwards and backwards, names are voted per tracklet, and the geometry is fitted once more.
"""

import numpy as np

from otrevo.core.body.model import generic_body
from otrevo.core.body.performer import PerformerCalibration
from otrevo.core.body.skeleton import FINGER_BONES, generic_skeleton
from otrevo.core.errors import InputError
from otrevo.core.markers.label import TOLERANCE_M, end_pose, follow_both_ways, follow_take, gather, vote
from otrevo.core.markers.start import STILL_S, find_start
from otrevo.core.warm_up.exchanged import sort_out
from otrevo.core.warm_up.geometry_fit import SIGMA_M, fit_geometry
from otrevo.core.warm_up.name_trials import nameless_columns, try_names
from otrevo.core.warm_up.rest import facing_forward, share_of_rest

WIDE_TOLERANCE_M = 0.06
FIT_FRAMES = 240
# between moments that are looked at for the T-pose; until when the best of them is taken, and until when the first good one after that
SEARCH_STEP_S, SEARCH_S, LATEST_S = 1.0, 12.0, 60.0
PLAIN_COST = 0.15  # of a T-pose that needs no other one beside it
ROUNDS = 2
SMALLEST_MOVEMENT_RAD = 0.5
# of the frames' pull towards rest, in the last fit: names are settled. Collar bones, forearms and hands stray little on the whole; legs squat
REST_SHARE = 0.1
OTHERS_SHARE = {"Shoulder": 0.5, "LowerArm": 0.25, "Hand": 0.25, "UpperLeg": 0.05, "LowerLeg": 0.05, "Foot": 0.05}


def _pick_frames(seen_share, count):
    """Frame numbers spread evenly over those in which enough markers are seen."""
    usable = np.flatnonzero(seen_share > 0.5)
    return usable[np.linspace(0, len(usable) - 1, min(count, len(usable))).astype(int)]


def _observed(points_m, labels, markers):
    out = np.full((len(points_m), markers, 3), np.nan)
    t, c = np.nonzero(labels >= 0)
    out[t, labels[t, c]] = points_m[t, c]
    return out


def calibrate_performer(points_m, rate, chart, height_m, progress=None):
    """Calibrate a performer from a warm-up.

    Parameters
    ----------
    points_m : ndarray (T, N, 3)
        Nameless points in metres, Y up, with a T-pose in the first minute, NaN where absent.
    rate : Fraction
        Frames a second.
    chart : Chart
        The markers that are worn.
    height_m : float
        Of the performer.
    progress : callable, optional
        Called with the share that is done, 0 to 1. It may raise to stop the work.

    Returns
    -------
    tuple of PerformerCalibration and Labels
        The performer's skeleton with their markers on it, and the names of the warm-up's points.

    Raises
    ------
    InputError
        When there is no T-pose, the height is not a person's, or nothing moves.
    """
    if not 0.8 <= height_m <= 2.3:
        raise InputError(f"A height of {height_m:g} m is not a person's; expected metres between 0.8 and 2.3.")
    say = progress or (lambda share: None)
    points_m = np.ascontiguousarray(points_m, dtype=float)
    if len(points_m) < 2 * float(rate):
        raise InputError(f"The warm-up lasts {len(points_m) / float(rate):.1f} s; at least 2 s are needed.")
    start, at = find_start(
        generic_body(chart, height_m), points_m, rate, PLAIN_COST, SEARCH_S, LATEST_S, SEARCH_STEP_S, unknown_limbs=True
    )
    say(0.15)
    model, markers = start.model, len(chart.names)
    # first only the names settled in the T-pose, each where it was found there: a marker that fell off must not be
    # given to its neighbour while the body is still a guess
    worn = model.with_geometry(model.skeleton.rest_offset_m, model.marker_offset_m + np.nan_to_num(start.slip))
    label, root, local, residual = follow_both_ways(
        points_m, rate, worn, (start.root_m, start.local), WIDE_TOLERANCE_M, at, np.isfinite(start.slip[:, 0])
    )
    say(0.3)
    named, _ = vote(points_m, ((label, residual), (label, residual)), markers, rate)
    named = sort_out(points_m, named, worn, root, local, rate)
    observed = _observed(points_m, named, markers)
    picked = _pick_frames(np.isfinite(observed[..., 0]).mean(1), FIT_FRAMES // 2)
    if len(picked) < 20:
        raise InputError("Fewer than 20 frames of the warm-up could be named; check the chart and the height.")
    fit = fit_geometry(worn, observed[picked], root[picked], local[picked], 5, prior_model=model)
    nameless = nameless_columns(points_m, named, worn, root, local, rate)
    _, fit, tried = try_names(fit, observed[picked], model, nameless[picked])
    for number in range(ROUNDS):  # again, from the start, with the body better known and every name allowed
        tolerance = TOLERANCE_M if number else 1.3 * TOLERANCE_M
        fitted = fit.model
        nearest = np.abs(picked[tried] - at).argmin()
        forward, root, local, residual = follow_both_ways(
            points_m, rate, fitted, (fit.root_m[nearest], fit.local[nearest]), tolerance, at
        )
        end = end_pose(points_m, rate, fitted, (root[-1], local[-1]), residual[-1], start.cost)
        backward, _, _, back = follow_take(points_m, rate, fitted, end, tolerance, len(points_m) - 1, -1)
        named, support = vote(points_m, ((forward, residual), (backward, back)), markers, rate)
        say(0.35 + 0.6 * (number + 0.5) / ROUNDS)
        sorted_out = named if number == ROUNDS - 1 else sort_out(points_m, named, fitted, root, local, rate)
        observed = _observed(points_m, sorted_out, markers)
        picked = _pick_frames(np.isfinite(observed[..., 0]).mean(1), FIT_FRAMES // (ROUNDS - number))
        if number < ROUNDS - 1:
            fit = fit_geometry(fitted, observed[picked], root[picked], local[picked], 5, model)
        else:
            held = min(at + int(STILL_S / 2 * float(rate)), len(points_m) - 1)
            picked = np.union1d(picked, [held])
            share = share_of_rest(fitted, picked == held, REST_SHARE, OTHERS_SHARE, local[picked])
            frames = facing_forward(observed[picked], root[picked], local[picked], int(np.searchsorted(picked, held)))
            fit = fit_geometry(fitted, *frames, 5, model, share, sigma_m=_counted_m(fitted))
        if number < ROUNDS - 1:  # names that were still to be found may have gone wrong together
            nameless = nameless_columns(points_m, sorted_out, fitted, root, local, rate)
            _, fit, tried = try_names(fit, observed[picked], model, nameless[picked])
        say(0.35 + 0.6 * (number + 1) / ROUNDS)
    fitted, moved = fit.model, _movement(fit.local)
    labels = gather(points_m, named, support, start, root, local, markers)
    skeleton = _whole_skeleton(fitted.skeleton, height_m, root[at : at + max(2, int(STILL_S * float(rate)))])
    never_seen = [
        n for n, share in zip(chart.names, np.isfinite(observed[..., 0]).mean(0), strict=True) if share < 0.01
    ]
    figures = {
        "residual_rms_mm": float(1000 * np.sqrt(np.nanmean(fit.residual_m**2))),
        "named_share": labels.figures["named_share"],
        "markers_never_seen": never_seen,
        "frames_fitted": int(len(picked)),
        "joints_hardly_moved": [
            n for n, a in zip(fitted.skeleton.names, moved, strict=True)
            if a < SMALLEST_MOVEMENT_RAD and n.endswith(("UpperArm", "LowerArm", "UpperLeg", "LowerLeg"))
        ],
    }  # fmt: skip
    calibration = PerformerCalibration(
        float(height_m), skeleton, chart.name, chart.names, chart.bones, fitted.marker_offset_m, figures
    )
    say(1.0)
    return calibration, labels


def _counted_m(model):
    """By how much every marker of a BodyModel counts as being off (M,): those on one bone go with its skin together, and tell no more than one.

    If each counted for itself, the fit would explain skin by a joint further from where the markers are, since there a turn costs
    little: a knee came to lie 10 to 40 mm nearer to the other one.
    """
    return SIGMA_M * np.sqrt(np.bincount(model.marker_bone)[model.marker_bone])


def _movement(local):
    """Largest turn of every joint away from its mean over the frames, radians, (B,)."""
    mean = np.linalg.svd(local.mean(axis=0))
    middle = mean[0] @ mean[2]
    trace = np.einsum("fbij,bij->fb", local, middle)
    return np.arccos(np.clip((trace - 1) / 2, -1, 1)).max(axis=0)


def _whole_skeleton(fitted, height_m, t_pose_root):
    """The 52-bone skeleton: fitted bones, fingers scaled with the forearm, hips at their height in T-pose."""
    whole = generic_skeleton(height_m)
    offsets = whole.rest_offset_m.copy()
    forearm = np.mean(
        [
            np.linalg.norm(fitted.rest_offset_m[fitted.index(f"{s}Hand")])
            / np.linalg.norm(offsets[whole.index(f"{s}Hand")])
            for s in ("left", "right")
        ]
    )
    for b, name in enumerate(whole.names):
        if name in fitted.names:
            offsets[b] = fitted.rest_offset_m[fitted.index(name)]
        elif name in FINGER_BONES:
            offsets[b] *= forearm
    offsets[0] = [0.0, float(np.nanmedian(t_pose_root[:, 1])), 0.0]
    return whole.with_offsets(offsets)
