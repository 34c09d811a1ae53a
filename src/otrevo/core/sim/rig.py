"""Camera stand-ins: where they hang, how their lenses really bend, and the centroids they deliver.

The truth is richer than what the solvers assume: lenses with five distortion numbers, bodies in the way, blobs that melt
together or are cut by the picture's edge, lamps and strobes that never move, ghosts that do, frames lost, a camera knocked in
the middle of a recording.
"""

from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np
import scipy
from numba import njit

from otrevo.core.formats.centroids import Centroids
from otrevo.core.optics.camera import Camera
from otrevo.core.sim.motions import band_noise

WIDTH, HEIGHT = 2048, 1536
MARKER_RADIUS_M = 0.007
PIECE = 200  # frames worked on at a time
LARGEST_BLOB_PX, LEAST_BLOB = 40.0, 0.15  # the part of a blob that must be in the picture to be seen
GHOST, REFLECTION, WILD = -1, -2, -3


@dataclass(frozen=True)
class Faults:
    """What goes wrong in the pictures; shares are of sightings or frames."""

    noise_px: float = 0.1
    missed: float = 0.01
    ghosts: float = 0.05
    wild: float = 0.0  # sightings that are grossly off
    reflections: int = 2  # per camera, at most
    lost_frames: float = 0.0  # of the last camera
    knocked: tuple | None = None  # (camera number, from frame, degrees, metres)


def make_rig(seed, count=12, room_m=(8.0, 6.5)):
    """`count` cameras on the walls and a rail of a room, all looking at its middle, each with a lens of its own."""
    rng = np.random.default_rng([seed, 61])
    cameras = []
    for i in range(count):
        around = 2 * np.pi * (i + rng.uniform(-0.25, 0.25)) / count
        wall = np.array([np.cos(around), np.sin(around)])
        reach = 0.5 / np.abs(wall / np.array(room_m)).max()
        height = rng.uniform(2.4, 3.2) if i % 3 else rng.uniform(0.7, 1.4)
        position = np.array([reach * wall[0], height, reach * wall[1]])
        target = np.array([rng.uniform(-0.6, 0.6), rng.uniform(0.7, 1.2), rng.uniform(-0.6, 0.6)])
        forward = target - position
        forward /= np.linalg.norm(forward)
        right = np.cross(forward, [0.0, 1.0, 0.0])
        right /= np.linalg.norm(right)
        rotation = np.stack([right, np.cross(forward, right), forward])  # +y down, +z forward
        rotation = (
            scipy.spatial.transform.Rotation.from_rotvec([0, 0, rng.normal(0, np.radians(4))]).as_matrix() @ rotation
        )
        focal = rng.uniform(1150, 1500)
        lens = np.array([
            focal, focal, WIDTH / 2 + rng.normal(0, 12), HEIGHT / 2 + rng.normal(0, 12), rng.uniform(-0.14, 0.02),
            rng.normal(0, 0.02), rng.normal(0, 4e-4), rng.normal(0, 4e-4), rng.normal(0, 0.008),
        ])  # fmt: skip
        cameras.append(Camera(f"c{i + 1:02d}", WIDTH, HEIGHT, lens, position, rotation))
    return cameras


def knock(camera, degrees, metres, seed=0):
    """The camera turned by `degrees` and shifted by `metres`, both in a direction of chance."""
    rng = np.random.default_rng([seed, 62])
    axis, way = rng.normal(size=3), rng.normal(size=3)
    rotation = scipy.spatial.transform.Rotation.from_rotvec(
        np.radians(degrees) * axis / np.linalg.norm(axis)
    ).as_matrix()
    return replace(
        camera, rotation=rotation @ camera.rotation, position_m=camera.position_m + metres * way / np.linalg.norm(way)
    )


@dataclass(frozen=True)
class Room:
    """cameras as they truly hang by now; lamps: for each, what shines in its picture and never moves, (L, 2) pixels."""

    cameras: tuple[Camera, ...]
    lamps: tuple[np.ndarray, ...]

    def rig_document(self, seed, rate=Fraction(120), guess_off=0.05):
        """What the cameras say of themselves, a `cameras/1` document: focal lengths as printed on the lens, not as they are."""
        rng = np.random.default_rng([seed, 65])
        rows = [
            {"id": c.name, "width": c.width, "height": c.height,
             "focal_guess_px": round(float(c.lens[0] * (1 + rng.uniform(-guess_off, guess_off))))}
            for c in self.cameras
        ]  # fmt: skip
        return {"otrevo": "cameras/1", "rate": f"{rate.numerator}/{rate.denominator}", "cameras": rows}


def make_room(seed, count=12, knocks=()):
    """The Room of a seed, with everything that has happened to it: knocks are (camera id, degrees, metres, seed)."""
    rng = np.random.default_rng([seed, 66])
    cameras = make_rig(seed, count)
    lamps = tuple(rng.uniform(0.05, 0.95, (rng.integers(0, 3), 2)) * [WIDTH, HEIGHT] for _ in cameras)
    for name, degrees, metres, chance in knocks:
        cameras = [knock(c, degrees, metres, chance) if c.name == name else c for c in cameras]
    return Room(tuple(cameras), lamps)


def project(camera, points, margin_px=0.0):
    """Picture positions (..., 2) and depth (...) of world points (..., 3); NaN farther outside the picture than a margin."""
    p = (points - camera.position_m) @ camera.rotation.T
    depth = p[..., 2]
    fx, fy, cx, cy, k1, k2, p1, p2, k3 = camera.lens
    with np.errstate(invalid="ignore", divide="ignore"):
        a, b = p[..., 0] / depth, p[..., 1] / depth
        r2 = a * a + b * b
        radial = 1 + k1 * r2 + k2 * r2**2 + k3 * r2**3
        u = fx * (a * radial + 2 * p1 * a * b + p2 * (r2 + 2 * a * a)) + cx
        v = fy * (b * radial + p1 * (r2 + 2 * b * b) + 2 * p2 * a * b) + cy
        inside = (depth > 0.2) & (r2 < 1.5) & (u > -margin_px) & (u < camera.width - 1 + margin_px)
        inside &= (v > -margin_px) & (v < camera.height - 1 + margin_px)
    out = np.stack([u, v], -1)
    out[~inside] = np.nan
    return out, depth


@njit(cache=True, error_model="numpy")
def hidden_by(position, points, ends, radius):
    """Whether bodies stand between a camera at `position` and points (T, K, 3): (T, K); what is no point is not hidden.

    ends (T, S, 2, 3): the axes of S limbs as capsules of radius (S,). A marker on a limb's far side is hidden too.
    """
    frames, count = points.shape[:2]
    limbs = len(radius)
    out = np.zeros((frames, count), dtype=np.bool_)
    axis, away = np.empty((limbs, 3)), np.empty((limbs, 3))
    aa, ad, reach2 = np.empty(limbs), np.empty(limbs), (0.85 * radius) ** 2
    for t in range(frames):
        for s in range(limbs):
            aa[s], ad[s] = 1e-9, 0.0
            for i in range(3):
                axis[s, i], away[s, i] = ends[t, s, 1, i] - ends[t, s, 0, i], position[i] - ends[t, s, 0, i]
                aa[s] += axis[s, i] * axis[s, i]
                ad[s] += axis[s, i] * away[s, i]
        for k in range(count):
            sx, sy, sz = points[t, k, 0] - position[0], points[t, k, 1] - position[1], points[t, k, 2] - position[2]
            length2 = sx * sx + sy * sy + sz * sz
            if np.isnan(length2):
                continue
            for s in range(limbs):
                ax, ay, az = axis[s]
                wx, wy, wz = away[s]
                ab = sx * ax + sy * ay + sz * az
                bd = sx * wx + sy * wy + sz * wz
                # share of the line of sight that is nearest to the limb's axis, and of the axis nearest to it
                along = min(max((ab * ad[s] - aa[s] * bd) / (length2 * aa[s] - ab * ab + 1e-9), 0.0), 1.0)
                share = min(max((ab * along + ad[s]) / aa[s], 0.0), 1.0)
                along = min(max((ab * share - bd) / length2, 0.0), 1.0)
                dx, dy, dz = wx + along * sx - share * ax, wy + along * sy - share * ay, wz + along * sz - share * az
                near = dx * dx + dy * dy + dz * dz < reach2[s]
                if near and along < 1.0 - 0.5 * radius[s] / np.sqrt(length2):
                    out[t, k] = True
                    break
    return out


def film(cameras, points, seed, faults=None, bodies=None, lamps=None):
    """Centroids of world points (T, K, 3), NaN where absent, and the truth (N,): number of the point, or what it is.

    bodies: (ends (T, S, 2, 3), radius (S,)) of limbs in the way, or None; lamps: a Room's, or as many as chance has it.
    """
    faults = faults or Faults()
    rng = np.random.default_rng([seed, 63])
    frames = len(points)
    rows = []
    for c, camera in enumerate(cameras):
        shine = np.column_stack([rng.uniform(0, WIDTH, faults.reflections), rng.uniform(0, HEIGHT, faults.reflections)])
        shine = shine[: rng.integers(0, faults.reflections + 1)] if lamps is None else lamps[c]
        drift = np.cumsum(rng.normal(0, 1.0, (frames, 2)), 0) + rng.uniform(0, 1, 2) * [WIDTH, HEIGHT]
        there = rng.random(frames) > (faults.lost_frames if c == len(cameras) - 1 else 0.0)
        for first in range(0, frames, PIECE):
            part = slice(first, min(first + PIECE, frames))
            now = camera
            if faults.knocked and faults.knocked[0] == c and first >= faults.knocked[1]:
                now = knock(camera, *faults.knocked[2:], seed)
            positions, depth = project(now, points[part], LARGEST_BLOB_PX)
            seen = np.isfinite(positions[..., 0]) & (rng.random(positions.shape[:2]) >= faults.missed)
            if bodies is not None:
                in_picture = np.where(seen[..., None], points[part], np.nan)
                seen &= ~hidden_by(now.position_m, in_picture, bodies[0][part], bodies[1])
            seen &= there[part, None]
            f, k = np.nonzero(seen)
            xy = positions[f, k] + rng.normal(0, faults.noise_px, (len(f), 2))
            radius = now.lens[0] * MARKER_RADIUS_M / depth[f, k]
            truth = k.copy()
            wild = rng.random(len(f)) < faults.wild
            xy[wild] += rng.uniform(-40, 40, (wild.sum(), 2))
            truth[wild] = WILD
            xy, radius, truth, f = _melted(*_exposed(xy, radius, truth, f, (camera.width, camera.height)))
            pieces = [(f, xy, radius, truth)]
            count = rng.poisson(faults.ghosts * max(len(f), 1))
            g = rng.integers(0, part.stop - first, count)
            ghost = np.mod(drift[first + g] + rng.normal(0, 30, (count, 2)), [WIDTH, HEIGHT])
            pieces.append((g, ghost, rng.uniform(1, 4, count), np.full(count, GHOST)))
            for lamp in shine:
                on = np.flatnonzero(there[part] & (rng.random(part.stop - first) < 0.97))
                pieces.append(
                    (on, lamp + rng.normal(0, 0.15, (len(on), 2)), np.full(len(on), 3.0), np.full(len(on), REFLECTION))
                )
            for f, xy, radius, truth in pieces:
                rows.append((f + first, np.full(len(f), c), xy, radius, truth))
    frame, camera, xy, radius, truth = (np.concatenate(v) for v in zip(*rows, strict=True))
    inside = (xy > -0.5).all(1) & (xy < [WIDTH - 0.5, HEIGHT - 0.5]).all(1)
    order = np.lexsort((xy[:, 0], camera, frame))
    order = order[inside[order]]
    return Centroids(frame[order], camera[order], xy[order], radius[order]), truth[order]


def _exposed(xy, radius, truth, frame, size):
    """Blobs as the sensor has them: what lies beyond the picture's edge is cut off, so that the rest has another middle."""
    middle, half = (np.array(size) - 1) / 2, np.array(size) / 2
    (edge,) = np.nonzero((np.abs(xy - middle) > half - radius[:, None]).any(axis=1))
    xy, radius = xy.copy(), radius.copy()
    at, left = xy[edge], radius[edge]
    lit = np.pi * left**2
    for axis in (0, 1):
        for end, inwards in ((-0.5, 1.0), (size[axis] - 0.5, -1.0)):
            far = np.clip(inwards * (at[:, axis] - end) / np.maximum(left, 1e-9), -1.0, 1.0)
            part = np.arccos(-far) + far * np.sqrt(1 - far**2)  # of a disc of radius one, as an area
            cut = far < 1.0
            with np.errstate(invalid="ignore", divide="ignore"):
                at[cut, axis] += inwards * (left * 2 / 3 * (1 - far**2) ** 1.5 / part)[cut]
            left = left * np.sqrt(part / np.pi)
    xy[edge], radius[edge] = at, left
    keep = np.ones(len(xy), dtype=bool)
    keep[edge] = np.pi * left**2 > LEAST_BLOB * lit
    return xy[keep], radius[keep], truth[keep], frame[keep]


def _melted(xy, radius, truth, frame):
    """Blobs of one picture that overlap become one, at the mean of their places weighed by their areas."""
    order = np.lexsort((xy[:, 0], frame))
    xy, radius, truth, frame = xy[order], radius[order], truth[order], frame[order]
    keep = _melt(xy, radius, frame)
    return xy[keep], radius[keep], truth[keep], frame[keep]


@njit(cache=True)
def _melt(xy, radius, frame):
    """Let blobs flow together in place, in order of frame and x; returns which stay (N,)."""
    count = len(xy)
    keep = np.ones(count, dtype=np.bool_)
    close = np.empty(count, dtype=np.bool_)
    for step in range(1, 6):  # neighbours in x
        for a in range(count - step):
            b = a + step
            x, y = xy[a, 0] - xy[b, 0], xy[a, 1] - xy[b, 1]
            close[a] = frame[a] == frame[b] and np.sqrt(x * x + y * y) < 0.8 * (radius[a] + radius[b])
        for a in range(count - step):
            b = a + step
            if close[a] and keep[a] and keep[b]:
                w = radius[a] ** 2 / (radius[a] ** 2 + radius[b] ** 2)
                for i in range(2):
                    xy[a, i] = w * xy[a, i] + (1 - w) * xy[b, i]
                radius[a] = np.hypot(radius[a], radius[b])
                keep[b] = False
    return keep


def sweep(seed, wand, seconds=60.0, rate_hz=100.0, reach_m=(2.2, 1.8), heights_m=(0.15, 2.1)):
    """A wand swept through the room: its markers (T, M, 3) and its true pose, positions (T, 3) and rotations (T, 3, 3)."""
    rng = np.random.default_rng([seed, 64])
    frames = int(seconds * rate_hz)
    path = band_noise(rng, frames, 3, rate_hz, 0.05, 0.35)
    path = np.tanh(0.9 * path)
    middle = np.mean(heights_m)
    position = path * [reach_m[0], (heights_m[1] - heights_m[0]) / 2, reach_m[1]] + [0, middle, 0]
    rotation = scipy.spatial.transform.Rotation.from_rotvec(
        band_noise(rng, frames, 3, rate_hz, 0.05, 0.4) * 1.6
    ).as_matrix()
    offsets = wand.markers_m - wand.markers_m.mean(axis=0)
    return position[:, None] + np.einsum("tij,mj->tmi", rotation, offsets), position, rotation
