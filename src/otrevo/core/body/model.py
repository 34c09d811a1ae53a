"""The body as the solvers see it: a skeleton, markers riding on it, and what its joints like to do, as plain arrays."""

from dataclasses import dataclass, replace

import numpy as np

from otrevo.core.body.joints import joint_tables, rolling
from otrevo.core.body.skeleton import BODY_BONES, Skeleton, generic_skeleton
from otrevo.core.body.tree_solver import BodyArrays

MARKER_SIGMA_M = 0.006  # soft tissue plus placement left over after calibration


@dataclass(frozen=True)
class BodyModel:
    """skeleton (B bones, root first); marker_names (M); marker_bone (M,) index; marker_offset_m (M, 3), T-pose axes."""

    skeleton: Skeleton
    marker_names: tuple[str, ...]
    marker_bone: np.ndarray
    marker_offset_m: np.ndarray
    sigma: np.ndarray
    low: np.ndarray
    high: np.ndarray

    @property
    def arrays(self):
        """The BodyArrays of this body, for compiled loops."""
        return BodyArrays(
            self.skeleton.parents, self.skeleton.rest_offset_m, self.marker_bone, self.marker_offset_m,
            self.sigma, self.low, self.high, rolling(self.skeleton),
        )  # fmt: skip

    def with_geometry(self, rest_offset_m, marker_offset_m):
        """The same body with other bone lengths and marker positions."""
        return replace(
            self,
            skeleton=self.skeleton.with_offsets(rest_offset_m),
            marker_offset_m=np.ascontiguousarray(marker_offset_m, dtype=float),
        )


def body_model(skeleton, marker_names, marker_bones, marker_offset_m):
    """A BodyModel over the body bones and those finger bones that carry markers (or lead to one that does)."""
    needed = set(BODY_BONES)
    for bone in marker_bones:
        b = skeleton.index(bone)
        while b >= 0:
            needed.add(skeleton.names[b])
            b = skeleton.parents[b]
    kept = skeleton.keep(needed)
    sigma, low, high = joint_tables(kept)
    return BodyModel(
        kept,
        tuple(marker_names),
        np.array([kept.index(b) for b in marker_bones], dtype=np.int64),
        np.ascontiguousarray(marker_offset_m, dtype=float),
        sigma,
        low,
        high,
    )


def generic_body(chart, height_m):
    """The chart on the generic body of `height_m`: what is known before anybody has moved."""
    return body_model(generic_skeleton(height_m), chart.names, chart.bones, chart.scaled(height_m))
