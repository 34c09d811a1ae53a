"""The loop of forward kinematics, compiled."""

from numba import njit


@njit(cache=True, error_model="numpy")
def forward(parents, offsets, root, local, position, rotation):
    """Joints and world rotations of poses (T), into position (T, B, 3) and rotation (T, B, 4)."""
    for t in range(local.shape[0]):
        for b in range(parents.shape[0]):
            p = parents[b]
            x, y, z, w = local[t, b, 0], local[t, b, 1], local[t, b, 2], local[t, b, 3]
            if p < 0:
                position[t, b] = root[t]
                rotation[t, b] = local[t, b]
                continue
            px, py, pz, pw = rotation[t, p, 0], rotation[t, p, 1], rotation[t, p, 2], rotation[t, p, 3]
            rotation[t, b, 0] = pw * x + px * w + py * z - pz * y
            rotation[t, b, 1] = pw * y - px * z + py * w + pz * x
            rotation[t, b, 2] = pw * z + px * y - py * x + pz * w
            rotation[t, b, 3] = pw * w - px * x - py * y - pz * z
            ox, oy, oz = offsets[b, 0], offsets[b, 1], offsets[b, 2]
            tx, ty, tz = 2 * (py * oz - pz * oy), 2 * (pz * ox - px * oz), 2 * (px * oy - py * ox)
            position[t, b, 0] = position[t, p, 0] + ox + pw * tx + py * tz - pz * ty
            position[t, b, 1] = position[t, p, 1] + oy + pw * ty + pz * tx - px * tz
            position[t, b, 2] = position[t, p, 2] + oz + pw * tz + px * ty - py * tx
