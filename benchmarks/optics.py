"""Camera calibration and rebuilding on made-up rooms nobody tuned to; times are process time."""

import time
from fractions import Fraction

import numpy as np
from tests.core.test_rebuild import score
from tests.core.test_sweep_calibration import centre_errors_mm, guesses

from otrevo.core.optics.calibrate import calibrate_sweep
from otrevo.core.optics.rebuild import RebuildSettings, no_tracks, rebuild, rebuild_window
from otrevo.core.optics.wand import SHIPPED_WANDS
from otrevo.core.sim.bodies import limbs
from otrevo.core.sim.rig import Faults, film, make_rig, sweep


def calibrate(seeds):
    """12 cameras, 60 s at 100 Hz, 5 % ghosts, reflections, 1 % misses, focal guess within 5 %, all wands in turn."""
    rows = []
    for seed in seeds:
        wand = list(SHIPPED_WANDS.values())[seed % len(SHIPPED_WANDS)]
        rig = make_rig(seed)
        centroids, _ = film(rig, sweep(seed, wand)[0], seed, Faults(wild=0.02 if seed % 4 > 1 else 0.0))
        began = time.process_time()
        found = calibrate_sweep(centroids, guesses(rig, seed), wand)
        seconds = time.process_time() - began
        rms = float(np.sqrt(np.mean(centre_errors_mm(found.cameras, rig) ** 2)))
        rows.append(
            (
                len(found.cameras) == 12,
                rms,
                rms / found.figures["position_limit_mm"],
                found.figures["reprojection_rms_px"],
                seconds,
            )
        )
        print(
            f"seed {seed} {wand.name}: centres {rms:.3f} mm, {rows[-1][2]:.2f} of the limit, {rows[-1][3]:.4f} px, {seconds:.1f} s"
        )
    whole, rms, ratio, pixels, seconds = np.array(rows, dtype=float).T
    return {
        "rooms": len(rows), "all_cameras": int(whole.sum()), "centre_mm": float(rms.mean()), "of_limit": float(ratio.mean()),
        "of_limit_worst": float(ratio.max()), "reprojection_px": float(pixels.mean()), "seconds": float(np.median(seconds)),
    }  # fmt: skip


def rebuilding(seeds):
    """Two performers in each other's way before 12 and 24 cameras, and the same frame by frame as a live stream."""
    from tests.core.stage import rolled

    out = {}
    for count in (12, 24):
        rows, live = [], []
        for seed in seeds:
            places, ends, radii = [], [], []
            for i, (motion, x) in enumerate((("semaphore", -1.1), ("rope haul", 0.5))):
                _, performance, optical = rolled(motion, seed + i)
                part, at = slice(240, 1440), np.array([x, 0, 0.2 * i])
                axes, radius = limbs(performance.motion, part)
                places.append(optical.true_positions_m[part] + at), ends.append(axes + at), radii.append(radius)
            places, rig = np.concatenate(places, axis=1), make_rig(seed, count)
            bodies = (np.concatenate(ends, axis=1), np.concatenate(radii))
            centroids, truth = film(rig, places, seed, Faults(ghosts=0.03, reflections=1), bodies)
            rebuild(centroids.only(centroids.frame < 5), rig, Fraction(120))
            began = time.process_time()
            found = rebuild(centroids, rig, Fraction(120))
            speed = len(places) / 120 / (time.process_time() - began)
            seen = np.zeros(places.shape[:2])
            np.add.at(seen, (centroids.frame[truth >= 0], truth[truth >= 0]), 1)
            hit, ghosts, errors = score(found, places)
            able = seen >= 3
            ratio = np.sqrt(np.mean(errors**2)) / np.sqrt(np.nanmean(found.sd_m**2))
            rows.append((speed, 1 - (hit & able).sum() / able.sum(), ghosts / len(errors), ratio))
            print(
                f"{count} cameras, seed {seed}: {speed:.1f}x, missed {rows[-1][1]:.2%}, ghosts {rows[-1][2]:.3%}, {ratio:.2f} of the limit"
            )
            state, groups = no_tracks(), centroids.groups(count)
            for f in range(centroids.frames):
                began = time.perf_counter()
                rebuild_window(centroids, groups, f, f + 1, rig, state, RebuildSettings())
                live.append(1000 * (time.perf_counter() - began))
        speed, missed, ghosts, ratio = np.mean(rows, axis=0)
        out |= {
            f"speed_{count}": float(speed), f"missed_{count}": float(missed), f"ghosts_{count}": float(ghosts),
            f"of_limit_{count}": float(ratio), f"live_p99_ms_{count}": float(np.percentile(live, 99)),
            f"live_worst_ms_{count}": float(np.max(live)),
        }  # fmt: skip
    return out
