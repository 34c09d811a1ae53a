"""Seeded made-up performers: their true bones and where the markers really ended up."""

from dataclasses import dataclass

import numpy as np

from otrevo.core.body.skeleton import Skeleton, generic_skeleton, rest_joints

_LIMBS = {
    "trunk": ("spine", "chest", "upperChest", "neck", "head"),
    "girdle": ("Shoulder", "UpperArm"),
    "arm": ("LowerArm", "Hand"),
    "leg": ("LowerLeg", "Foot"),
    "foot": ("Toes",),
    "pelvis": ("UpperLeg",),
}


@dataclass(frozen=True)
class SimulatedPerformer:
    """Truth about one body. marker_offset_m (M, 3): from the bone's joint, T-pose world axes."""

    height_m: float
    skeleton: Skeleton
    marker_offset_m: np.ndarray
    sloppiness_rad: np.ndarray  # (B, 3): how this person's T-pose differs from the ideal one


def make_performer(seed, chart, height_m=None, placement_sigma_m=0.01, sloppiness_deg=4.0, ratio=0.08):
    """A performer as tall as `height_m`, with limb proportions off by up to `ratio` and markers off by `placement_sigma_m` per axis."""
    rng = np.random.default_rng([seed, 11])
    height_m = float(rng.uniform(1.55, 1.95)) if height_m is None else height_m
    generic = generic_skeleton(height_m)
    offsets = generic.rest_offset_m.copy()
    factor = {limb: rng.uniform(1 - ratio, 1 + ratio) for limb in _LIMBS}
    for b, name in enumerate(generic.names):
        plain = name.removeprefix("left").removeprefix("right")
        for limb, bones in _LIMBS.items():
            if plain in bones or name in bones:
                offsets[b] *= factor[limb]
        if plain.startswith(("Thumb", "Index", "Middle", "Ring", "Little")):
            offsets[b] *= factor["arm"]
    own, usual = (rest_joints(s) for s in (generic.with_offsets(offsets), generic))
    taller = (usual["head"] - usual["leftFoot"])[1] / (own["head"] - own["leftFoot"])[1]
    offsets *= taller  # the height is what they say it is
    offsets[0] = [0.0, taller * (own["hips"] - own["leftFoot"])[1] + 0.08 * height_m / 1.75, 0.0]
    scale = offsets_scale(generic, offsets)
    bones = chart.bone_index(generic)
    markers = chart.scaled(height_m) * scale[bones] + rng.normal(0, placement_sigma_m, (len(bones), 3))
    sloppiness = np.radians(rng.normal(0, sloppiness_deg, (len(generic.names), 3)))
    sloppiness[[generic.index(n) for n in ("hips", "leftToes", "rightToes")]] *= 0.3
    return SimulatedPerformer(height_m, generic.with_offsets(offsets), markers, sloppiness)


def offsets_scale(generic, offsets):
    """How much longer each bone is than the generic one, (B, 1): the mean over its children's offsets."""
    scale = np.ones((len(generic.names), 1))
    for b in range(len(generic.names)):
        children = np.flatnonzero(generic.parents == b)
        if len(children):
            scale[b] = np.mean(
                np.linalg.norm(offsets[children], axis=1) / np.linalg.norm(generic.rest_offset_m[children], axis=1)
            )
    return scale
