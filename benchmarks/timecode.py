"""LTC from audio and clocks from stamps, on seeds nobody tuned to."""

import time
from fractions import Fraction

import numpy as np

from otrevo.core.sim.audio import ltc_track
from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.core.timecode.lineup import fit_clock
from otrevo.core.timecode.ltc import read_ltc

FORMATS = (
    (30000, 1001, True),
    (30000, 1001, False),
    (25, 1, False),
    (24000, 1001, False),
    (24, 1, False),
    (30, 1, False),
)


def ltc(seeds):
    """Whole frames found, wrong ones, where they begin, and the speed."""
    found = wrong = whole = 0
    offsets, speeds, factor = [], [], []
    for seed in seeds:
        rng = np.random.default_rng(seed)
        numerator, denominator, drop = FORMATS[seed % len(FORMATS)]
        fmt = TimecodeFormat(Fraction(numerator, denominator), drop)
        speed = rng.uniform(0.95, 1.05)
        track, starts, frames = ltc_track(
            fmt, int(rng.integers(fmt.frames_per_day)), 20, speed=speed, level=rng.uniform(0.02, 0.9) * rng.choice([-1, 1]),
            noise=0.001, start_bit=int(rng.integers(80)), seed=seed,
        )  # fmt: skip
        began = time.perf_counter()
        reading = read_ltc(track, 48000, fmt)
        factor.append(20 / (time.perf_counter() - began))
        true = {int(f) % fmt.frames_per_day: s for f, s in zip(frames, starts, strict=True)}
        last = int(frames[-1] + 1) % fmt.frames_per_day  # cut off within the last bit: not whole, not wrong
        pairs = [(int(f), s) for f, s in zip(reading.frame, reading.sample, strict=True)]
        whole += len(true)
        found += len({f for f, _ in pairs} & set(true))
        wrong += len([f for f, _ in pairs if f not in true and f != last])
        offsets += [abs(s - true[f]) for f, s in pairs if f in true]
        speeds.append(abs(reading.speed_ppm - (speed - 1) * 1e6))
    return {
        "found": found / whole, "wrong": wrong, "start_error_samples": float(np.mean(offsets)),
        "speed_error_ppm_worst": float(max(speeds)), "times_real_time": float(np.median(factor)),
    }  # fmt: skip


def line_up(seeds):
    """Offset and drift from jittering stamps of which a tenth is wrong."""
    offset, drift = [], []
    for seed in seeds:
        rng = np.random.default_rng(seed)
        rate = float(rng.choice([60.0, 90.0, 100.0, 120.0]))
        true_offset, ppm = rng.uniform(-2, 2), rng.uniform(-80, 80)
        number = np.arange(0, 60 * rate, rate // 4)
        stamp = 43200 + true_offset + number / rate * (1 + 1e-6 * ppm) + rng.normal(0, 1e-4, len(number))
        bad = rng.random(len(number)) < 0.1
        stamp[bad] += rng.choice([-1.0, 1.0, 0.04], bad.sum())
        fit = fit_clock(number, stamp, rate, 43200)
        offset.append(abs(fit.offset_s - true_offset))
        drift.append(abs(fit.drift_ppm - ppm))
    return {"offset_error_ms_worst": 1000 * max(offset), "drift_error_ppm_worst": max(drift)}
