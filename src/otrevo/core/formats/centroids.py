"""Centroids: what cameras see, as a CSV `frame,camera,x,y,radius` (plain or .gz), pixels, frames from 0."""

import gzip
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.columns import read_columns
from otrevo.core.formats.documents import write_whole

COLUMNS = ("frame", "camera", "x", "y", "radius")
MOST_ROWS = 60_000_000


@dataclass(frozen=True)
class Centroids:
    """frame (N,) and camera (N,) numbers, sorted by frame, then camera, then x; xy (N, 2) and radius (N,) in pixels."""

    frame: np.ndarray
    camera: np.ndarray
    xy: np.ndarray
    radius: np.ndarray

    def __len__(self):
        return len(self.frame)

    @property
    def frames(self):
        """How many frames the recording has, counted to the last one that shows anything."""
        return int(self.frame[-1]) + 1 if len(self.frame) else 0

    def only(self, keep):
        """Those of a mask (N,)."""
        return Centroids(self.frame[keep], self.camera[keep], self.xy[keep], self.radius[keep])

    def later(self, frames):
        """The same, so many frames later."""
        return Centroids(self.frame + frames, self.camera, self.xy, self.radius)

    def rows(self):
        """(N, 5) float32: frame, camera, x, y, radius, as the chunk store keeps them (frames up to 2**24 are exact)."""
        return np.column_stack([self.frame, self.camera, self.xy, self.radius]).astype(np.float32)

    def groups(self, cameras):
        """Where each picture's centroids begin: (frames * cameras + 1,), picture = frame * cameras + camera."""
        return np.searchsorted(self.frame * cameras + self.camera, np.arange(self.frames * cameras + 1))


def joined(pieces):
    """Centroids of several pieces, each later than the one before."""
    if not pieces:
        return Centroids(*(np.zeros(0, dtype=np.int64),) * 2, np.zeros((0, 2)), np.zeros(0))
    return Centroids(*(np.concatenate([getattr(p, n) for p in pieces]) for n in ("frame", "camera", "xy", "radius")))


def from_rows(rows):
    """Centroids of rows (N, 5) as `Centroids.rows` gives them, in their order."""
    rows = np.asarray(rows)
    return Centroids(
        rows[:, 0].astype(np.int64), rows[:, 1].astype(np.int64), rows[:, 2:4].astype(float), rows[:, 4].astype(float)
    )


def read_centroids(path, cameras, strangers=False):
    """Centroids and notes from a file; cameras: the rig's cameras (name, width, height), in their order.

    strangers: leave out and tell of cameras that are not among them (they could not be calibrated), instead of refusing.

    Raises InputError: no such file, wrong columns, text in a number's place, a camera the rig does not have, places
    outside the picture. Frames out of order are sorted and a repeated centroid is dropped; both are told in the notes.
    """
    path = Path(path)
    kinds = {"frame": int, "camera": str, "x": float, "y": float, "radius": float}
    table, odd = read_columns(path, kinds, "a CSV of centroids")
    if table.num_rows > MOST_ROWS:
        raise InputError(f"{path.name}: {table.num_rows} centroids; at most {MOST_ROWS} are read at once.")
    names = table["camera"].combine_chunks()
    number = {c.name: i for i, c in enumerate(cameras)}
    others = [n for n in names.dictionary.to_pylist() if n not in number]
    if others and (not strangers or len(others) == len(names.dictionary)):
        raise InputError(f"{path.name}: camera '{others[0]}' is not among the {len(cameras)} of the rig.")
    notes = odd + [f"camera {n} is not calibrated; its centroids are left out" for n in others]
    camera = np.array([number.get(n, -1) for n in names.dictionary.to_pylist()], dtype=np.int64)[
        names.indices.to_numpy()
    ]
    columns = {c: table[c].to_numpy() for c in ("frame", "x", "y", "radius")}
    for name, values in columns.items():
        wrong = np.flatnonzero(~np.isfinite(values) if values.dtype.kind == "f" else values < 0)
        if len(wrong):
            raise InputError(
                f"{path.name}: row {wrong[0] + 2}: {name} is {values[wrong[0]]}; expected a number from 0."
            )
    frame, xy = columns["frame"].astype(np.int64), np.column_stack([columns["x"], columns["y"]])
    size = np.array([(c.width, c.height) for c in cameras])
    outside = np.flatnonzero(((xy < -0.5) | (xy > size[camera] - 0.5)).any(axis=1) & (camera >= 0))
    if len(outside):
        r, c = outside[0], cameras[camera[outside[0]]]
        raise InputError(
            f"{path.name}: row {r + 2}: ({xy[r, 0]:g}, {xy[r, 1]:g}) lies outside the {c.width} x {c.height} picture of "
            f"camera {c.name}; the cameras file has another picture size than the recording."
        )
    known = camera >= 0
    centroids, more = tidied(frame[known], camera[known], xy[known], columns["radius"][known])
    return centroids, notes + more


def tidied(frame, camera, xy, radius):
    """Centroids in order, each once, and notes on what had to be put right."""
    notes = []
    if (np.diff(frame) < 0).any():
        notes.append(f"frames were out of order ({int((np.diff(frame) < 0).sum())} steps back); sorted")
    order = np.lexsort((xy[:, 1], xy[:, 0], camera, frame))
    frame, camera, xy, radius = frame[order], camera[order], xy[order], radius[order]
    same = (np.diff(frame) == 0) & (np.diff(camera) == 0) & (np.diff(xy, axis=0) == 0).all(axis=1)
    if same.any():
        notes.append(f"{int(same.sum())} centroids were there twice; kept once")
        keep = np.concatenate([[True], ~same])
        frame, camera, xy, radius = frame[keep], camera[keep], xy[keep], radius[keep]
    return Centroids(frame, camera, xy, radius), notes


def write_centroids(path, centroids, names):
    """Write a CSV (compressed when the name ends in .gz), whole or not at all; names: ids of the cameras."""
    lines = [",".join(COLUMNS)]
    lines += [
        f"{f},{names[c]},{x:.3f},{y:.3f},{r:.2f}"
        for f, c, (x, y), r in zip(centroids.frame, centroids.camera, centroids.xy, centroids.radius, strict=True)
    ]
    data = ("\n".join(lines) + "\n").encode()
    write_whole(path, gzip.compress(data, 1) if str(path).endswith(".gz") else data)
