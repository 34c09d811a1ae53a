"""Reading any wand in single pictures of a recording: lines and shapes as they are, triangles with the film around them."""

import numpy as np

from otrevo.core.optics.triangle_reading import ORDERS, name_triangles, place_triangles
from otrevo.core.optics.wand_reading import read_all


def is_triangle(shape):
    """Whether a WandShape is three markers that are no line."""
    return not shape.straight and len(shape.order) == 3


def name_triangles_in(shape, centroids, groups, frames, lens):
    """Which centroids of some frames are which marker of a triangle: which (F, C, 3), -1 where unclear, and side (F, C)."""
    which, side = np.full((len(frames), len(lens), 3), -1), np.ones((len(frames), len(lens)))
    name_triangles(ORDERS, shape.markers_m, centroids.xy, groups, centroids.frames, frames, lens, which, side)
    return which, side


def read_pictures(shape, centroids, groups, frames, lens, wanted=None, named=None):
    """Read a wand in pictures: positions (F, C, M, 3) before each camera, NaN where it was not read, and which (F, C, M)
    centroids it is, -1 where none.

    shape: WandShape; groups as Centroids.groups; frames (F,); lens (C, 9); wanted (C,): which cameras to read,
    or None for all; named: what name_triangles_in said of these frames, for a triangle that is read with many lenses.
    """
    wanted = np.ones(len(lens), dtype=bool) if wanted is None else wanted
    frames = np.ascontiguousarray(frames)
    positions = np.full((len(frames), len(lens), len(shape.order), 3), np.nan)
    if is_triangle(shape):
        named = named or name_triangles_in(shape, centroids, groups, frames, lens)
        which, side = (np.ascontiguousarray(v) for v in named)
        place_triangles(shape.markers_m, centroids.xy, lens, wanted, which, side, positions)
        return positions, np.where(np.isfinite(positions[..., 0]), which, -1)
    which = np.full(positions.shape[:3], -1)
    read_all(shape, centroids.xy, groups, frames, lens, wanted, positions, which)
    return positions, which
