"""Origin and level: from where the wand lies on the floor, and from markers scattered over it, to the stage's world.

The wand at rest says where the origin is, which way is front, and roughly up; markers scattered on the floor say exactly
which way is up (total least squares plane, one stray marker tolerated). World: +Y up, front along +Z, floor at Y = 0.
"""

from dataclasses import dataclass

import numpy as np

from otrevo.core.conventions import rigid_move
from otrevo.core.errors import InputError
from otrevo.core.optics.camera import packed, pictures_of
from otrevo.core.optics.follow_wand import GATES_PX, follow, nothing_followed
from otrevo.core.optics.rebuild import rebuild_still
from otrevo.core.optics.wand_reading import wand_shape

STILL_M = 0.01
FEWEST_FLOOR, STRAY_M = 3, 0.03


@dataclass(frozen=True)
class Levelling:
    """rotation (3, 3), shift_m (3,): new = rotation old + shift; figures: heights of the floor markers in mm and what they say."""

    rotation: np.ndarray
    shift_m: np.ndarray
    figures: dict


def wand_at_rest(centroids, cameras, wand):
    """Find the markers of a wand that lies still.

    Parameters
    ----------
    centroids : Centroids
        A recording of it.
    cameras : sequence of Camera
        The calibrated cameras.
    wand : Wand
        The one that lies there.

    Returns
    -------
    ndarray (M, 3)
        Mean positions over all frames, metres, in the cameras' world.

    Raises
    ------
    InputError
        When the wand is not found or moves.
    """
    rest = nothing_followed(centroids.frames, len(cameras), len(wand.markers_m))
    follow(wand_shape(wand), pictures_of(centroids, len(cameras)), packed(cameras), GATES_PX, rest)
    found = np.flatnonzero(rest.score)
    if len(found) == 0:
        raise InputError(
            f"The wand '{wand.name}' was not found on the floor by two cameras; lay it where several cameras see all of "
            "its markers, and check that this is the wand."
        )
    placed = np.einsum("fij,mj->fmi", rest.rotation[found], wand.markers_m) + rest.position[found][:, None]
    middle = np.median(placed, axis=0)
    away = np.linalg.norm(placed - middle, axis=2).max(axis=1)
    if np.median(away) > STILL_M:
        raise InputError(
            f"The wand moved by {1000 * np.median(away):.0f} mm while it should lie still; let go of it and record again."
        )
    return placed[away < STILL_M].mean(axis=0)


def plane_through(points):
    """(normal (3,), middle (3,), heights (K,), mask of the points believed) of the best plane through points (K, 3)."""
    keep = np.ones(len(points), dtype=bool)
    while True:
        middle = points[keep].mean(axis=0)
        normal = np.linalg.svd(points[keep] - middle)[2][2]
        height = (points - middle) @ normal
        worst = int(np.abs(np.where(keep, height, 0)).argmax())
        if abs(height[worst]) < STRAY_M or keep.sum() <= FEWEST_FLOOR + 1:
            return normal, middle, height, keep
        keep[worst] = False


def level(centroids_wand, cameras, wand, centroids_floor=None, marker_radius_m=0.0):
    """Find origin, front and up from a wand on the floor.

    Parameters
    ----------
    centroids_wand : Centroids
        The wand at rest on the floor.
    cameras : sequence of Camera
        The calibrated cameras.
    wand : Wand
        The one that lies there.
    centroids_floor : Centroids, optional
        Markers scattered on the floor.
    marker_radius_m : float
        How high above the floor the middle of a marker lies.

    Returns
    -------
    Levelling
        Rotation and shift of the world, and figures of the floor.

    Raises
    ------
    InputError
        When neither the wand nor floor markers say where up is, or when floor markers lie in one line.
    """
    at = wand_at_rest(centroids_wand, cameras, wand)
    above = np.mean([c.position_m for c in cameras], axis=0) - at.mean(axis=0)
    rotation, position = rigid_move(wand.markers_m, at)
    figures = {"floor_markers": 0}
    up = None
    if wand.up is not None and not wand.straight:
        up = rotation @ wand.up
    elif not wand.straight:
        spread, axes = np.linalg.svd(wand.markers_m - wand.markers_m.mean(axis=0))[1:]
        if spread[2] < 0.004:  # a flat wand: up is across it, on the side of the cameras
            up = rotation @ axes[2]
            up *= np.sign(up @ above)
    origin = rotation @ (wand.origin_m if wand.origin_m is not None else wand.markers_m[0]) + position
    if centroids_floor is not None:
        points = rebuild_still(centroids_floor, cameras)
        if len(points) < FEWEST_FLOOR:
            raise InputError(
                f"{len(points)} floor markers were found; at least {FEWEST_FLOOR} are needed, spread over the floor."
            )
        normal, middle, height, believed = plane_through(points)
        spread = np.linalg.svd(points[believed] - middle, compute_uv=False)
        if spread[1] < 0.25:
            raise InputError("The floor markers lie almost in one line; spread them over the floor.")
        normal *= np.sign(normal @ (above if up is None else up))
        height = (points - middle) @ normal
        figures |= {
            "floor_markers": len(points), "floor_rms_mm": float(1000 * np.sqrt(np.mean(height[believed] ** 2))),
            "floor_heights_mm": (1000 * height).tolist(), "floor_left_out": int((~believed).sum()),
            "bulge_mm": _bulge(points[believed], middle, height[believed]),
            "wand_tilt_deg": None if up is None else float(np.degrees(np.arccos(np.clip(up @ normal, -1, 1)))),
        }  # fmt: skip
        up = normal
        origin = origin - ((origin - middle) @ up) * up
    if up is None:
        raise InputError(
            f"The wand '{wand.name}' is a line and says nothing about up; add --floor-markers, or use a wand with `up`."
        )
    up = up / np.linalg.norm(up)
    front = rotation @ wand.front if wand.front is not None else at[-1] - at[0]
    front = front - (front @ up) * up
    if np.linalg.norm(front) < 0.05 * (1.0 if wand.front is not None else np.linalg.norm(at[-1] - at[0])):
        raise InputError(f"The wand '{wand.name}' stands upright, so that its front is not known; lay it down.")
    front /= np.linalg.norm(front)
    world = np.stack([np.cross(up, front), up, front])
    shift = -world @ origin + [0.0, marker_radius_m, 0.0]
    return Levelling(world, shift, figures)


def _bulge(points, middle, height):
    """How much higher the middle of the floor is than its edge, mm, by a paraboloid; None with too few markers."""
    if len(points) < 6:
        return None
    along = (points - middle) @ np.linalg.svd(points - middle)[2][:2].T
    r2 = np.sum(along**2, axis=1)
    design = np.column_stack([np.ones(len(points)), along, r2])
    solution = np.linalg.lstsq(design, height, rcond=None)[0]
    return float(-1000 * solution[-1] * r2.max())


def quarter_turned(quarters):
    """The rotation (3, 3) by quarters of a turn about up, exact."""
    angle = np.pi / 2 * quarters
    c, s = round(np.cos(angle)), round(np.sin(angle))
    return np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]], dtype=float)


def stood_up(cameras, trail_m):
    """A first guess of a world nobody has levelled yet, as (rotation (3, 3), shift_m (3,)): up is what the cameras' pictures call
    up on average, the origin lies under the middle of where the wand was (F, 3), on the lowest place it went."""
    up = -np.mean([c.rotation[1] for c in cameras], axis=0)
    up /= np.linalg.norm(up)
    front = np.array([0.0, 0, 1]) if abs(up[2]) < 0.9 else np.array([1.0, 0, 0])
    front -= (front @ up) * up
    front /= np.linalg.norm(front)
    rotation = np.stack([np.cross(up, front), up, front])
    placed = trail_m @ rotation.T
    lowest = np.percentile(placed[:, 1], 0.5)
    return rotation, -np.array([np.median(placed[:, 0]), lowest, np.median(placed[:, 2])])
