"""How far a sweep has come while it is swept: which camera has seen the wand where in its picture, and where to go next.

Some frames a second are read picture by picture (core.optics.wand_reading). A picture is divided into cells; a cell that
showed enough of the wand is covered. As soon as enough readings are shared, the cameras are placed roughly by them
(core.optics.bootstrap), unless an earlier calibration says where they hang. Then it is known which cells look into the
volume at all, and which place in the room would fill most of those that are missing. Metres, pixels, seconds.
"""

from dataclasses import dataclass

import numpy as np
import scipy

from otrevo.core.formats.centroids import joined
from otrevo.core.optics.accuracy import picture_positions
from otrevo.core.optics.blinds import blinded
from otrevo.core.optics.camera import Camera
from otrevo.core.optics.level import stood_up
from otrevo.core.optics.picture_reading import is_triangle, read_pictures
from otrevo.core.optics.triangle_reading import AROUND
from otrevo.core.optics.wand_reading import wand_shape
from otrevo.core.words import in_a_row

READ_HZ = 20.0
CELLS = (8, 6)  # columns, rows of a picture
CELL_ENOUGH = 3  # markers seen in a cell
READINGS_ENOUGH = 250
COVERED_ENOUGH = 0.5  # of the cells that look into the volume
SHARED_ENOUGH = 40  # frames read by the same two cameras
PARTNERS_ENOUGH = 2
MOST_KEPT = 400  # frames of readings kept for placing cameras
GRID_M, LOWEST_M, HIGHEST_M = 0.35, 0.15, 2.1
GIVE_UP_S, GIVEN_UP_M = 4.0, 0.8  # a place told for so long in vain, and all around it, is not told again
FEWEST_SEE = 4  # cameras that must see a place for it to belong to the volume


@dataclass(frozen=True)
class CameraCoverage:
    """readings of the wand; cells (6, 8) of markers seen, rows from the top; looks (6, 8): cells that look into the volume,
    all of them while that is not known; covered: share of those; partners: cameras that read the wand together with it;
    lacks: what is missing in words, or nothing."""

    camera: str
    readings: int
    cells: np.ndarray
    looks: np.ndarray
    covered: float
    partners: int
    lacks: str

    @property
    def share(self):
        """How far this camera is, 0 to 1."""
        return min(self.readings / READINGS_ENOUGH, self.covered / COVERED_ENOUGH, self.partners / PARTNERS_ENOUGH, 1.0)


@dataclass(frozen=True)
class SweepState:
    """cameras; share: how far the slowest is; good_enough; sentence: what to do next; go_to_m (3,) or None; positions_m (C, 3)
    of the cameras as known, NaN where not; been_m (K, 3): where the wand was; wanted (K, 4): place and how many cameras lack it."""

    cameras: list
    share: float
    good_enough: bool
    sentence: str
    go_to_m: np.ndarray | None
    positions_m: np.ndarray
    been_m: np.ndarray
    wanted: np.ndarray


class SweepCoverage:
    """Fed with the centroids of a running sweep, piece by piece."""

    def __init__(self, rig, wand, rate, blinds=(), cameras=()):
        """rig: RigCameras; cameras: Cameras of an earlier calibration, if there is one; blinds: over the rig."""
        self.rig, self.wand, self.blinds = rig, wand, list(blinds)
        self.shape, self.every = wand_shape(wand), max(1, round(float(rate) / READ_HZ))
        count = len(rig)
        by_name = {c.name: c for c in cameras}
        self.cameras = [by_name.get(c.name) for c in rig]
        self.guessed = not any(self.cameras)
        self.readings = np.zeros(count, dtype=int)
        self.cells = np.zeros((count, CELLS[1], CELLS[0]), dtype=int)
        self.together = np.zeros((count, count), dtype=int)
        self.been, self.kept, self.volume = [], [], None
        self.frames_read, self.told, self.given_up = 0, None, []  # what was advised, and what did not help
        self.film, self.film_frames = [], 0  # of a triangle, which is read with the frames around
        self.lens = np.array([k.lens if k else c.first_lens() for c, k in zip(rig, self.cameras, strict=True)])
        self.size = np.array([(c.width, c.height) for c in rig], dtype=float)

    def add(self, centroids):
        """Read some of the frames of a piece: Centroids over the rig, frames counted from the piece's beginning."""
        centroids = centroids.only(~blinded(centroids, self.blinds))
        frames = np.arange(0, centroids.frames, self.every)
        if is_triangle(self.shape):
            self.film.append(centroids.later(self.film_frames))
            self.film_frames += centroids.frames
            if self.film_frames < 2 * AROUND + self.every:
                return
            centroids = joined(self.film)
            frames = np.arange(AROUND, self.film_frames - AROUND, self.every)
            rest = frames[-1] + self.every - AROUND  # what the next frame to read needs before it
            self.film, self.film_frames = (
                [centroids.only(centroids.frame >= rest).later(-rest)],
                self.film_frames - rest,
            )
        if not len(frames):
            return
        self.frames_read += len(frames)
        count = len(self.rig)
        positions, which = read_pictures(self.shape, centroids, centroids.groups(count), frames, self.lens)
        read = which[..., 0] >= 0
        self.readings += read.sum(axis=0)
        self.together += read.T.astype(int) @ read.astype(int)
        for c in range(count):
            seen = which[read[:, c], c].ravel()
            x, y = np.clip(np.floor(centroids.xy[seen] / self.size[c] * CELLS).astype(int), 0, np.array(CELLS) - 1).T
            np.add.at(self.cells[c], (y, x), 1)
        for f in np.flatnonzero(read.sum(axis=1) >= 2):
            self.kept.append(positions[f])
            if (at := self._middle(positions[f])) is not None:
                self.been.append(at)
        if len(self.kept) > MOST_KEPT:
            self.kept = self.kept[::2]

    def _middle(self, positions):
        """The wand's middle in the room as the known cameras read it, (3,), or None."""
        found = [
            positions[c].mean(axis=0) @ k.rotation + k.position_m
            for c, k in enumerate(self.cameras) if k is not None and np.isfinite(positions[c, 0, 0])
        ]  # fmt: skip
        return np.median(found, axis=0) if found else None

    def to_place(self):
        """Readings (F, C, M, 3) for core.optics.bootstrap.place_cameras, or None while there are too few or no need."""
        everyone = all(k is not None for k in self.cameras)
        return None if not self.guessed or everyone or len(self.kept) < SHARED_ENOUGH else np.array(self.kept)

    def place(self, poses):
        """Take over what place_cameras found: poses {camera: (rotation, position)}. True when more cameras are placed now."""
        if len(poses) <= sum(k is not None for k in self.cameras):
            return False
        self.cameras = [
            Camera(r.name, r.width, r.height, self.lens[c], poses[c][1], poses[c][0]) if c in poses else None
            for c, r in enumerate(self.rig)
        ]
        middle = np.array([m for m in map(self._middle, self.kept) if m is not None])
        rotation, shift = stood_up([k for k in self.cameras if k], middle)
        self.cameras = [k and k.moved(rotation, shift) for k in self.cameras]
        self.been, self.volume, self.told, self.given_up = list(middle @ rotation.T + shift), None, None, []
        return True

    def _volume(self):
        """Places of the volume (K, 3), the cell of each in each picture (C, K), -1 outside, and which are near which (K, K)."""
        known = [k for k in self.cameras if k is not None]
        positions = np.array([k.position_m for k in known])
        low, high = positions.min(axis=0), positions.max(axis=0)
        axes = [
            np.arange(low[0], high[0], GRID_M),
            np.arange(LOWEST_M, HIGHEST_M, GRID_M),
            np.arange(low[2], high[2], GRID_M),
        ]
        grid = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
        seen = picture_positions(known, grid)
        inside = np.isfinite(seen[..., 0]).sum(axis=0) >= min(FEWEST_SEE, len(known))
        grid, seen = grid[inside], seen[:, inside]
        cell, i = np.full((len(self.rig), len(grid)), -1), 0
        for c, k in enumerate(self.cameras):
            if k is None:
                continue
            at = np.floor(np.nan_to_num(seen[i] / self.size[c]) * CELLS).astype(int)
            at = np.clip(at, 0, np.array(CELLS) - 1)
            cell[c] = np.where(np.isfinite(seen[i, :, 0]), at[:, 1] * CELLS[0] + at[:, 0], -1)
            i += 1
        # views live on while this goes on
        a, b = scipy.spatial.cKDTree(grid).query_pairs(1.99 * GRID_M, output_type="ndarray").T
        itself = np.arange(len(grid))
        a, b = np.concatenate([a, b, itself]), np.concatenate([b, a, itself])
        near = scipy.sparse.csr_array((np.ones(len(a), dtype=bool), (a, b)), shape=(len(grid), len(grid)))
        return grid, cell, near

    def state(self):
        """The SweepState by now."""
        count, whole = len(self.rig), CELLS[0] * CELLS[1]
        placed = sum(k is not None for k in self.cameras)
        looks = np.ones((count, whole), dtype=bool)
        if self.volume is None and placed >= 2:
            self.volume = self._volume()
        grid, cell, near = self.volume or (np.zeros((0, 3)), np.zeros((count, 0), dtype=int), None)
        for c in range(count):
            if (cell[c] >= 0).any():
                looks[c] = np.bincount(cell[c][cell[c] >= 0], minlength=whole) >= 2
        full = self.cells.reshape(count, whole) >= CELL_ENOUGH
        covered = (full & looks).sum(axis=1) / np.maximum(looks.sum(axis=1), 1)
        partners = ((self.together >= SHARED_ENOUGH) & ~np.eye(count, dtype=bool)).sum(axis=1)
        rows = []
        for c, camera in enumerate(self.rig):
            missing = (~full[c] & looks[c]).reshape(CELLS[::-1])
            lacks = _lacks(self.readings[c], covered[c], partners[c], missing)
            rows.append(CameraCoverage(
                camera.name, int(self.readings[c]), self.cells[c].copy(), looks[c].reshape(CELLS[::-1]), float(covered[c]),
                int(partners[c]), lacks,
            ))  # fmt: skip
        behind = [c for c in range(count) if rows[c].lacks]
        go_to, wanted, why = self._next(grid, cell, near, full, behind)
        share = min(r.share for r in rows)
        positions = np.array([np.full(3, np.nan) if k is None else k.position_m for k in self.cameras])
        return SweepState(rows, share, not behind, self._sentence(rows, behind, go_to, why), go_to, positions,
                          np.array(self.been[-1500:]).reshape(-1, 3), wanted)  # fmt: skip

    def _next(self, grid, cell, near, full, behind):
        """Where in the room most cameras lack something: (place or None, wanted (K, 4), cameras that lack it there)."""
        votes = np.zeros(len(grid))
        lacking = np.zeros((len(self.rig), len(grid)), dtype=bool)
        for c in behind:
            lacking[c] = (cell[c] >= 0) & ~full[c][np.maximum(cell[c], 0)]
            votes += lacking[c]
        if not votes.any():
            return None, np.zeros((0, 4)), []
        best = self._worth_telling(grid, near @ votes, int(full.sum()))
        around = near[[best]].toarray()[0]
        why = [c for c in behind if lacking[c][around].any()]
        why.sort(key=lambda c: -lacking[c][around].sum())
        some = votes > 0
        return grid[best], np.column_stack([grid[some], votes[some]]), why

    def _worth_telling(self, grid, worth, filled):
        """The number of the place to go to: the one most is gained at, unless it was told for long and nothing came of it."""
        left = worth
        for position in self.given_up:
            left = np.where(np.linalg.norm(grid - position, axis=1) < GIVEN_UP_M, 0.0, left)
        if not left.any():  # everything was tried: from the beginning
            self.given_up, left = [], worth
        best = int(left.argmax())
        if self.told is None or np.linalg.norm(self.told[0] - grid[best]) > GRID_M or filled > self.told[1]:
            self.told = (grid[best], filled, self.frames_read)
        elif self.frames_read - self.told[2] > GIVE_UP_S * READ_HZ:
            self.given_up.append(grid[best])
            self.told = None
        return best

    def _sentence(self, rows, behind, go_to, why):
        if not behind:
            return "Good enough: every camera has seen the wand often and all over its picture. Stop, and solve."
        unseen = [rows[c].camera for c in behind if rows[c].readings == 0]
        if go_to is None:
            if unseen:
                return f"Show the wand to {_names(unseen)}: {'it has' if len(unseen) == 1 else 'they have'} not seen it yet."
            return f"Go on: {_names([rows[c].camera for c in behind])} {'is' if len(behind) == 1 else 'are'} behind."
        known = [(float(np.hypot(*(k.position_m - go_to)[[0, 2]])), k.name) for k in self.cameras if k is not None]
        nearest = [name for _, name in sorted(known)[:2]]
        height = "near the floor" if go_to[1] < 0.6 else "at waist height" if go_to[1] < 1.4 else "above your head"
        return f"Go to where {_names(nearest)} hang, {height}: {_names([rows[c].camera for c in why])} lack that part."


def _names(names, most=4):
    """c01, c02 and c03; the rest counted."""
    shown = list(names[:most]) + ([f"{len(names) - most} more"] if len(names) > most else [])
    return in_a_row(shown)


def _lacks(readings, covered, partners, missing):
    """What a camera lacks, in words."""
    if readings == 0:
        return "has not seen the wand"
    if covered < COVERED_ENOUGH and missing.any():
        y, x = np.nonzero(missing)
        row = "upper" if y.mean() < CELLS[1] / 2 - 0.9 else "lower" if y.mean() > CELLS[1] / 2 - 0.1 else ""
        column = "left" if x.mean() < CELLS[0] / 2 - 1.2 else "right" if x.mean() > CELLS[0] / 2 + 0.2 else ""
        part = " ".join([*filter(None, (row, column)), "part"]) if row or column else "edges"
        return f"{part} of its picture"
    if readings < READINGS_ENOUGH:
        return f"{READINGS_ENOUGH - readings} more sightings"
    if partners < PARTNERS_ENOUGH:
        return "sightings together with other cameras"
    return ""
