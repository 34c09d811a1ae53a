"""Warm-up calibration, labelling and solving on bodies nobody tuned to. Times are for one thread, after one warm call."""

import time

import numpy as np
from tests.core.stage import RATE, label_shares, rolled, true_calibration, true_model, truly_labelled

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.errors import InputError
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.markers.label import label_take
from otrevo.core.solve.body import solve_take
from otrevo.core.warm_up.calibrate import calibrate_performer

TAKES = ("semaphore", "rope haul", "lantern", "radio watch")


def warm_up(seeds):
    """Names and bones from warm-ups with sloppy T-poses, a tenth of the markers missing and ghosts."""
    rows = []
    for seed in seeds:
        performer, _, optical = rolled("warm-up", seed, missing=0.1, sloppiness=7.0, facing=seed * 1.7)
        began = time.perf_counter()
        try:
            calibration, labels = calibrate_performer(optical.points_m, RATE, shipped_chart(), performer.height_m)
        except InputError as error:
            print(f"seed {seed}: {error}")
            rows.append((0.0, 0.0, time.perf_counter() - began, np.nan))
            continue
        seconds = time.perf_counter() - began
        right, wrong = label_shares(labels.labels, optical.truth)
        rows.append((right, wrong, seconds, calibration.figures["residual_rms_mm"]))
        print(f"seed {seed}: right {right:.4f} wrong {wrong:.4f} in {seconds:.1f} s, {rows[-1][3]:.1f} mm")
    right, wrong, seconds, residual = np.array(rows).T
    return {
        "bodies": len(rows), "named_99_percent_right": int((right > 0.99).sum()), "right": float(right.mean()),
        "wrong": float(wrong.mean()), "seconds_median": float(np.median(seconds)), "residual_mm": float(np.nanmean(residual)),
    }  # fmt: skip


def label(seeds):
    """Labels on takes with ~10 % of samples lost, limb losses, swapped columns and ghosts; true offsets known."""
    rows = []
    for seed in seeds:
        performer, _, optical = rolled(TAKES[seed % len(TAKES)], seed, hidden=0.1, facing=seed * 1.7)
        model = true_model(performer)
        if not rows:
            label_take(optical.points_m[:400], RATE, model)
        began = time.perf_counter()
        labels = label_take(optical.points_m, RATE, model)
        speed = len(optical.points_m) / float(RATE) / (time.perf_counter() - began)
        rows.append((*label_shares(labels.labels, optical.truth), speed))
        print(
            f"seed {seed} {TAKES[seed % len(TAKES)]}: right {rows[-1][0]:.4f} wrong {rows[-1][1]:.4f}, {speed:.0f}x real time"
        )
    right, wrong, speed = np.array(rows).T
    return {
        "takes": len(rows), "right": float(right.mean()), "right_worst": float(right.min()), "wrong": float(wrong.mean()),
        "times_real_time": float(np.median(speed)),
    }  # fmt: skip


def solve(seeds):
    """Joints against the truth, with true offsets and with the offsets a warm-up gave."""
    rows = []
    for seed in seeds:
        performer, performance, optical = rolled(TAKES[seed % len(TAKES)], seed, hidden=0.1, facing=seed * 1.7)
        known = true_calibration(performer)
        points = truly_labelled(optical, 57)
        if not rows:
            solve_take(points[:400], RATE, known)
        began = time.perf_counter()
        solution = solve_take(points, RATE, known)
        speed = len(points) / float(RATE) / (time.perf_counter() - began)
        _, _, warm = rolled("warm-up", seed, missing=0.0, sloppiness=4.0)
        try:
            calibration, _ = calibrate_performer(warm.points_m, RATE, shipped_chart(), performer.height_m)
            named = label_take(optical.points_m, RATE, calibration.model())
            found = solve_take(named.labelled_m, RATE, calibration)
            error = _errors(found, performance)
        except InputError as refusal:
            print(f"seed {seed}: {refusal}")
            error = np.array([np.nan])
        exact = _errors(solution, performance)
        rows.append((np.sqrt(np.mean(exact**2)), np.sqrt(np.mean(error**2)), np.percentile(error, 95), speed))
        print(
            f"seed {seed}: known offsets {rows[-1][0]:.1f} mm; calibrated {rows[-1][1]:.1f} mm, 95 % {rows[-1][2]:.1f} mm; {speed:.0f}x"
        )
    known, rms, p95, speed = np.array(rows).T
    return {
        "takes": len(rows), "known_offsets_rms_mm": float(known.mean()), "calibrated_rms_mm": float(np.nanmean(rms)),
        "calibrated_worst_rms_mm": float(np.nanmax(rms)), "calibrated_p95_mm": float(np.nanmean(p95)),
        "times_real_time": float(np.median(speed)),
    }  # fmt: skip


def _errors(solution, performance):
    found, _ = motion_joints(solution.motion)
    true, _ = motion_joints(performance.motion)
    return 1000 * np.linalg.norm(found[:, :22] - true[:, :22], axis=2)
