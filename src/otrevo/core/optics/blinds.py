"""What cannot be trusted in a camera's picture: blinds, where something shines that never moves, and blobs cut by its edge.

A recording of a still, empty room shows reflections and strobes as centroids that stay where they are. Centroids of a
camera are gathered to clusters; one that is there in a good part of the frames, and stays, is proposed as a blind.
"""

from dataclasses import dataclass

import numpy as np
import scipy

CELL_PX = 4.0
THERE_SHARE = 0.2
MARGIN_PX = 4.0


@dataclass(frozen=True)
class Blind:
    """A disc of a camera's picture, pixels; share: of the frames in which something was there."""

    camera: int
    xy: tuple[float, float]
    radius: float
    share: float

    def to_document(self, names):
        return {
            "camera": names[self.camera],
            "x": self.xy[0],
            "y": self.xy[1],
            "radius": self.radius,
            "share": self.share,
        }


def find_blinds(centroids, cameras, share=THERE_SHARE):
    """Find what shines in a still room and never moves.

    Parameters
    ----------
    centroids : Centroids
        A recording of the empty, still room.
    cameras : int
        How many cameras there are.
    share : float
        Of the frames in which a blob must be there.

    Returns
    -------
    list of Blind
        Discs of the pictures, pixels, camera by camera.
    """
    blinds, frames = [], max(centroids.frames, 1)
    for c in range(cameras):
        mine = centroids.camera == c
        if not mine.any():
            continue
        xy, radius, frame = centroids.xy[mine], centroids.radius[mine], centroids.frame[mine]
        cell = np.floor(xy / CELL_PX).astype(int)
        cell -= cell.min(axis=0)
        counts = np.zeros(cell.max(axis=0) + 1)
        np.add.at(counts, (cell[:, 0], cell[:, 1]), 1)
        # something on a cell's edge falls into two of them, so cells that hold a fair part are joined
        regions, many = scipy.ndimage.label(counts > 0.15 * share * frames, structure=np.ones((3, 3)))
        region = regions[cell[:, 0], cell[:, 1]]
        for r in range(1, many + 1):
            inside = region == r
            there = len(np.unique(frame[inside])) / frames
            if there < share:
                continue
            middle = np.median(xy[inside], axis=0)
            away = np.linalg.norm(xy[inside] - middle, axis=1)
            size = np.percentile(away, 99) + np.percentile(radius[inside], 95) + MARGIN_PX
            blinds.append(Blind(c, (float(middle[0]), float(middle[1])), float(size), float(there)))
    return blinds


def blinded(centroids, blinds):
    """Mask (N,): centroids whose middle lies in a blind of their camera."""
    out = np.zeros(len(centroids), dtype=bool)
    for blind in blinds:
        mine = centroids.camera == blind.camera
        out[mine] |= np.linalg.norm(centroids.xy[mine] - blind.xy, axis=1) < blind.radius
    return out


def cut_off(centroids, cameras):
    """Mask (N,): centroids whose blob reaches the edge of its picture: what lies beyond is missing, so its middle is wrong.

    cameras: what `centroids.camera` counts, each with width and height in pixels.
    """
    far = np.array([(c.width - 0.5, c.height - 0.5) for c in cameras]).reshape(-1, 2)[centroids.camera]
    reach = centroids.radius[:, None]
    return ((centroids.xy - reach < -0.5) | (centroids.xy + reach > far)).any(axis=1)
