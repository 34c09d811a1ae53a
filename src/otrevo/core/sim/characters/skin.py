"""A smooth skin over a skeleton: an implicit surface of tapered capsules, meshed once, with weights, normals and face shapes.

Needs scikit-image, which only the making of the files needs. Metres, our axes.
"""

import numpy as np

CELL = 0.0085  # of the height
BLEND = 0.012  # of the height: how softly limbs run into one another


def capsules_of(body, radius, height, head):
    """[(bone, start (3,), end (3,), radius at start, radius at end)] of a Built body; radius: {what: (start, end)} in metres.

    head: its size against the height. Skull and jaw are balls of their own, before and above the head's joint.
    """
    out = []
    for b, name in enumerate(body.names):
        start, size = body.positions[b], _girth(name, radius)
        if name == "head":
            out += [
                (b, *(start + height * head * np.array(p) for p in ends), height * head * r0, height * head * r1)
                for ends, r0, r1 in SKULL
            ]
        elif size is not None:
            children = [
                c for c in range(len(body.names)) if body.parents[c] == b and _girth(body.names[c], radius) is not None
            ]
            ends = [body.positions[c] for c in children] or (
                [body.ends[b]] if np.isfinite(body.ends[b]).all() else [start + 1e-4]
            )
            firsts = [_girth(body.names[c], radius)[0] for c in children] or [size[1]]
            branching = len(ends) > 1  # a limb begins as thick as it goes on
            out += [
                (b, start, np.asarray(end), size[0], first if branching else size[1])
                for end, first in zip(ends, firsts, strict=True)
            ]
    return out


# (start, end) from the head's joint, as shares of the height for a head of size 1, and radii
SKULL = (
    (((0, 0.062, -0.006), (0, 0.066, 0.006)), 0.049, 0.047),
    (((0, 0.028, 0.012), (0, 0.022, 0.026)), 0.036, 0.026),
    (((0, 0.040, 0.046), (0, 0.036, 0.056)), 0.010, 0.009),
)


def _girth(name, radius):
    return next((r for key, r in radius.items() if name.endswith(key) or name.startswith(key)), None)


def distance(points, start, end, r0, r1):
    """Signed distance (N,) of points (N, 3) to a tapered capsule, about."""
    line = end - start
    f = np.clip((points - start) @ line / max(line @ line, 1e-12), 0, 1)
    return np.linalg.norm(points - start - f[:, None] * line, axis=1) - (r0 + f * (r1 - r0))


def mesh(capsules, height):
    """(vertices (V, 3), faces (F, 3), normals (V, 3)) of the smooth union of capsules."""
    from skimage.measure import marching_cubes

    cell, blend = CELL * height, BLEND * height
    low = np.min([np.minimum(c[1], c[2]) - max(c[3:]) for c in capsules], axis=0) - 3 * cell
    high = np.max([np.maximum(c[1], c[2]) + max(c[3:]) for c in capsules], axis=0) + 3 * cell
    shape = np.ceil((high - low) / cell).astype(int) + 1
    field = np.full(shape, 0.0)
    for _, start, end, r0, r1 in capsules:  # soft union: sum of exp(-d / blend)
        a = np.maximum(((np.minimum(start, end) - max(r0, r1) - 6 * blend - low) / cell).astype(int), 0)
        b = np.minimum(((np.maximum(start, end) + max(r0, r1) + 6 * blend - low) / cell).astype(int) + 2, shape)
        grid = np.stack(np.meshgrid(*(low[i] + cell * np.arange(a[i], b[i]) for i in range(3)), indexing="ij"), -1)
        d = distance(grid.reshape(-1, 3), start, end, r0, r1)
        field[a[0] : b[0], a[1] : b[1], a[2] : b[2]] += np.exp(np.clip(-d / (0.5 * blend), -40, 40)).reshape(
            grid.shape[:3]
        )
    vertices, faces, normals, _ = marching_cubes(-np.log(np.maximum(field, 1e-12)), 0.0, spacing=(cell,) * 3)
    a, b, c = (vertices[faces[:, i]] for i in range(3))
    outward = (np.cross(b - a, c - a) * -normals[faces[:, 0]]).sum() > 0  # the library winds them either way
    return vertices + low, faces if outward else faces[:, ::-1], -normals


def weights(vertices, capsules, count, height):
    """(joints (V, 4), weights (V, 4)): the nearest bones, softly, summing to one."""
    near = np.full((len(vertices), count), 1e3)
    for b, start, end, r0, r1 in capsules:
        near[:, b] = np.minimum(near[:, b], distance(vertices, start, end, r0, r1))
    w = np.exp(-np.maximum(near, -0.02 * height) / (0.009 * height))
    joints = np.argsort(-w, axis=1)[:, :4]
    w = np.take_along_axis(w, joints, axis=1)
    w /= w.sum(axis=1, keepdims=True)
    w[w < 0.02] = 0
    joints[w == 0] = 0  # glTF wants no bone named that holds nothing
    return joints, w / w.sum(axis=1, keepdims=True)


def face_shapes(vertices, head, height, size):
    """{what: displacement (V, 3)} of face shapes about the head's joint; size: of the head."""
    x = (vertices - head) / (height * size)

    def spot(at, width):
        return np.exp(-(((x - np.array(at)) / np.array(width)) ** 2).sum(axis=1))[:, None]

    h = height * size
    move = {
        "jaw open": spot((0, 0.015, 0.05), (0.03, 0.016, 0.04)) * np.array([0, -0.018, -0.004]),
        "smile left": spot((0.022, 0.028, 0.05), (0.012, 0.012, 0.03)) * np.array([0.006, 0.008, 0]),
        "smile right": spot((-0.022, 0.028, 0.05), (0.012, 0.012, 0.03)) * np.array([-0.006, 0.008, 0]),
        "brow left": spot((0.018, 0.078, 0.055), (0.014, 0.01, 0.03)) * np.array([0, 0.009, 0]),
        "brow right": spot((-0.018, 0.078, 0.055), (0.014, 0.01, 0.03)) * np.array([0, 0.009, 0]),
        "blink left": spot((0.018, 0.058, 0.055), (0.011, 0.007, 0.03)) * np.array([0, -0.010, 0.003]),
        "blink right": spot((-0.018, 0.058, 0.055), (0.011, 0.007, 0.03)) * np.array([0, -0.010, 0.003]),
        "pucker": spot((0, 0.028, 0.06), (0.016, 0.012, 0.03)) * np.array([0, 0, 0.010]),
        "cheeks": (spot((0.03, 0.035, 0.04), (0.014, 0.016, 0.03)) + spot((-0.03, 0.035, 0.04), (0.014, 0.016, 0.03)))
        * np.array([0, 0, 0.007]),
    }
    return {name: np.where(np.abs(d * h) > 2e-4, d * h, 0) for name, d in move.items()}
