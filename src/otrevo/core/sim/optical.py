"""Optical stand-in: markers on soft tissue, seen with noise, hidden in bursts, as nameless broken trajectories."""

from dataclasses import dataclass

import numpy as np

from otrevo.core.conventions import matrix_from_quaternion
from otrevo.core.sim.motions import band_noise, marker_positions

PROP_TRUTH = -10
# soft tissue moves most on thighs and upper arms, least on head and hands; share of the full amplitude
_SOFTNESS = {"head": 0.3, "Hand": 0.4, "Foot": 0.35, "Toes": 0.3, "LowerArm": 0.6, "hips": 0.7, "LowerLeg": 0.8}


@dataclass(frozen=True)
class OpticalTake:
    """points_m (T, N, 3) nameless trajectories, NaN where absent; truth (T, N): marker index, -1 ghost, -2 nothing.

    true_places_m (T, M, 3): where every marker really was, soft tissue included, noise not.
    """

    points_m: np.ndarray
    truth: np.ndarray
    true_positions_m: np.ndarray


def see(performance, performer, chart, seed, noise_m=0.0003, soft_tissue_m=0.006, hidden=0.08, limb_losses=2,
        missing_markers=0.0, ghosts=4, swaps=3):  # fmt: skip
    """What the optical system delivers of a performance. `hidden`: share of samples lost in bursts of 0.05-1.5 s."""
    rng = np.random.default_rng([seed, 37])
    positions, visible = worn(performance, performer, chart, rng, soft_tissue_m, hidden, limb_losses, missing_markers)
    seen = positions + rng.normal(0, noise_m, positions.shape)
    seen[~visible] = np.nan
    points, truth = _break_up(seen, visible, rng, swaps)
    if ghosts:
        points, truth = _add_ghosts(points, truth, positions, rng, float(performance.motion.rate), ghosts)
    order = rng.permutation(points.shape[1])
    return OpticalTake(points[:, order], truth[:, order], positions)


def worn(performance, performer, chart, rng, soft_tissue_m=0.006, hidden=0.08, limb_losses=2, missing_markers=0.0):
    """Where the markers a performer wears really are (T, M, 3), and whether they are bare (T, M) or covered by something."""
    motion = performance.motion
    rate = float(motion.rate)
    bone = chart.bone_index(motion.skeleton)
    positions = marker_positions(motion, bone, performer.marker_offset_m)
    frames, markers = positions.shape[:2]
    positions = positions + _soft_tissue(rng, chart, positions, rate, soft_tissue_m)
    visible = np.ones((frames, markers), dtype=bool)
    still = int(1.0 * rate)  # the first second in T-pose is seen but for markers that fell off
    gone = rng.random(markers) < missing_markers
    visible[:, gone] = False
    budget = hidden * frames * markers
    while budget > 0:
        m = rng.integers(markers)
        length = int(np.exp(rng.uniform(np.log(0.05), np.log(1.5))) * rate)
        start = int(rng.integers(still, max(still + 1, frames - length)))
        visible[start : start + length, m] = False
        budget -= length
    for _ in range(limb_losses):
        limb = ("Arm", "Leg", "Hand", "Foot")[rng.integers(4)]
        side = ("left", "right")[rng.integers(2)]
        members = [i for i, b in enumerate(chart.bones) if b.startswith(side) and limb in b]
        start = int(rng.integers(still, max(still + 1, frames - int(1.5 * rate))))
        visible[start : start + int(rng.uniform(0.2, 1.0) * rate), members] = False
    for begin, end, bones in getattr(performance, "covered", ()):
        visible[int(begin * rate) : int(end * rate), [i for i, b in enumerate(chart.bones) if b.endswith(bones)]] = (
            False
        )
    return positions, visible


def see_prop(take, motion, prop, seed, noise_m=0.0003, hidden=0.08):
    """The same take with a prop's markers among the points; it hides in bursts like everything else."""
    rng = np.random.default_rng([seed, 41])
    positions, visible = held(motion, prop, rng, hidden)
    seen = positions + rng.normal(0, noise_m, positions.shape)
    seen[~visible] = np.nan
    points, truth = _break_up(seen, visible, rng, 0)
    points = np.concatenate([take.points_m, points], 1)
    truth = np.concatenate([take.truth, np.where(truth >= 0, PROP_TRUTH - truth, -2)], 1)
    order = rng.permutation(points.shape[1])
    return OpticalTake(points[:, order], truth[:, order], take.true_positions_m)


def held(motion, prop, rng, hidden=0.08):
    """Where a prop's markers are (T, K, 3), and whether they are bare (T, K)."""
    frames, markers = len(motion), len(prop.names)
    rotation = matrix_from_quaternion(motion.rotation_local[:, 0])
    positions = motion.root_position_m[:, None] + np.einsum("tij,kj->tki", rotation, prop.offset_m)
    visible = np.ones((frames, markers), dtype=bool)
    budget, rate = hidden * frames * markers, float(motion.rate)
    while budget > 0:
        length = int(np.exp(rng.uniform(np.log(0.05), np.log(1.5))) * rate)
        start = int(rng.integers(0, max(1, frames - length)))
        visible[start : start + length, rng.integers(markers)] = False
        budget -= length
    return positions, visible


def _soft_tissue(rng, chart, positions, rate, amplitude):
    """Skin over bone: band-limited, shared within a limb, larger where muscle is and when the limb is quick."""
    frames, markers = positions.shape[:2]
    limbs = sorted(set(chart.bones))
    shared = {b: band_noise(rng, frames, 3, rate, 0.4, 5.0) for b in limbs}
    own = band_noise(rng, frames, markers * 3, rate, 0.4, 6.0).reshape(frames, markers, 3)
    speed = np.linalg.norm(np.gradient(positions, 1 / rate, axis=0), axis=2, keepdims=True)
    activity = 0.35 + np.minimum(speed, 2.0)
    out = np.empty_like(positions)
    for m, b in enumerate(chart.bones):
        plain = b.removeprefix("left").removeprefix("right")
        size = amplitude * _SOFTNESS.get(plain, 1.0) * rng.uniform(0.6, 1.4) / np.sqrt(3)
        out[:, m] = size * activity[:, m] * (0.75 * shared[b] + 0.65 * own[:, m])
    return out


def _break_up(seen, visible, rng, swaps):
    """Columns that end when a marker hides; a marker that comes back takes any free column. A few columns trade."""
    frames, markers = visible.shape
    pieces = []
    for m in range(markers):
        edges = np.flatnonzero(np.diff(np.concatenate([[0], visible[:, m].astype(np.int8), [0]])))
        pieces += [(s, e, m) for s, e in zip(edges[::2], edges[1::2], strict=True)]
    pieces.sort()
    free_from = []
    placed = []
    for s, e, m in pieces:
        fits = [c for c, f in enumerate(free_from) if f < s - 2]
        c = int(rng.choice(fits)) if fits and rng.random() < 0.7 else len(free_from)
        if c == len(free_from):
            free_from.append(0)
        free_from[c] = e
        placed.append((s, e, m, c))
    points = np.full((frames, len(free_from), 3), np.nan)
    truth = np.full((frames, len(free_from)), -2, dtype=np.int16)
    for s, e, m, c in placed:
        points[s:e, c] = seen[s:e, m]
        truth[s:e, c] = m
    for _ in range(swaps):  # two trajectories trade columns where they come close
        t = int(rng.integers(frames // 4, frames - 10))
        present = np.flatnonzero(truth[t] >= 0)
        if len(present) < 2:
            continue
        a = int(rng.choice(present))
        distance = np.linalg.norm(points[t, present] - points[t, a], axis=1)
        b = int(present[np.argsort(distance)[1]])
        points[t:, [a, b]] = points[t:, [b, a]]
        truth[t:, [a, b]] = truth[t:, [b, a]]
    return points, truth


def _add_ghosts(points, truth, positions, rng, rate, ghosts):
    frames = len(points)
    extra = np.full((frames, ghosts, 3), np.nan)
    truth_extra = np.full((frames, ghosts), -2, dtype=np.int16)
    for g in range(ghosts):
        for _ in range(max(1, int(frames / rate / 8))):
            length = int(rng.uniform(0.03, 1.2) * rate)
            start = int(rng.integers(0, max(1, frames - length)))
            near = positions[start, rng.integers(positions.shape[1])] + rng.normal(0, 0.25, 3)
            drift = rng.normal(0, 0.15, 3)
            stop = min(start + length, frames)
            extra[start:stop, g] = near + np.arange(stop - start)[:, None] / rate * drift
            truth_extra[start:stop, g] = -1
    return np.concatenate([points, extra], 1), np.concatenate([truth, truth_extra], 1)
