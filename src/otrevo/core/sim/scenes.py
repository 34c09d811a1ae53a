"""What goes on in the simulated room while it is prepared: nothing, a wand swept, a wand or markers lying on the floor.

A scene gives the true places of all markers in the room, (T, K, 3) metres at `rate_hz`, for the cameras to film.
"""

import numpy as np

from otrevo.core.sim.rig import MARKER_RADIUS_M, sweep

SCENES = ("still", "sweep", "wand on floor", "floor markers")
FLOOR = ((-1.7, -1.2), (1.5, -1.4), (1.8, 0.9), (-1.4, 1.3), (0.1, -1.6), (0.7, 1.5), (-0.5, 0.3), (0.9, -0.2))
LIES_AT_M, LIES_TURNED = (0.06, -0.04), 0.12  # nobody lays a wand down exactly


def scene(name, seed, seconds, rate_hz=120.0, wand=None):
    """The markers' true positions (T, K, 3) of a scene; wand: a Wand, for the scenes that have one."""
    frames, rng = int(seconds * rate_hz), np.random.default_rng([seed, 67])
    if name == "sweep":
        return sweep(seed, wand, seconds, rate_hz, (2.9, 2.3), (0.12, 2.2))[0]
    if name == "wand on floor":
        c, s = np.cos(LIES_TURNED), np.sin(LIES_TURNED)
        lying = wand.markers_m @ np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]]).T
        return np.repeat((lying + [LIES_AT_M[0], MARKER_RADIUS_M, LIES_AT_M[1]])[None], frames, axis=0)
    if name == "floor markers":
        height = MARKER_RADIUS_M + rng.normal(0, 0.0008, len(FLOOR))  # no floor is a plane
        markers = np.array([(x, h, z) for (x, z), h in zip(FLOOR, height, strict=True)])
        return np.repeat(markers[None], frames, axis=0)
    return np.zeros((frames, 0, 3))
