"""What a recorder that stands by does while it waits: everything that would take seconds in the first frame is loaded."""

from fractions import Fraction

import numpy as np

from otrevo.core.formats.camera_packets import CameraPacket
from otrevo.core.optics.camera import Camera
from otrevo.core.optics.rig import RigCamera
from otrevo.server.recorder.session import Session

RATE, FRAMES = Fraction(120), 90
WIDTH, HEIGHT, FOCAL_PX = 1000, 800, 900.0
_CORNERS = ((3.0, 3.0), (3.0, -3.0), (-3.0, 3.0), (-3.0, -3.0))


def _looking_in(number, x, z):
    """A camera 2 m up in a corner that looks at the middle."""
    position = np.array([x, 2.0, z])
    ahead = np.array([0.0, 1.0, 0.0]) - position
    ahead /= np.linalg.norm(ahead)
    right = np.cross(ahead, [0.0, 1.0, 0.0])
    right /= np.linalg.norm(right)
    lens = np.array([FOCAL_PX, FOCAL_PX, WIDTH / 2, HEIGHT / 2, 0, 0, 0, 0, 0])
    return Camera(f"r{number}", WIDTH, HEIGHT, lens, position, np.array([right, np.cross(ahead, right), ahead]))


def make_ready():
    """Put a moment of made-up points through a session, so that its compiled loops are loaded."""
    cameras = [_looking_in(i, x, z) for i, (x, z) in enumerate(_CORNERS)]
    session = Session(
        "watch", tuple(RigCamera(c.name, WIDTH, HEIGHT, FOCAL_PX) for c in cameras), RATE, tuple(cameras), zero_us=0
    )
    points = np.random.default_rng(1).uniform([-0.8, 0.4, -0.8], [0.8, 1.7, 0.8], (6, 3))
    for frame in range(FRAMES):
        moved = points + 0.2 * np.sin(frame / 20)
        for camera in cameras:
            seen = (moved - camera.position_m) @ camera.rotation.T
            xy = FOCAL_PX * seen[:, :2] / seen[:, 2:] + [WIDTH / 2, HEIGHT / 2]
            picture = np.column_stack([xy, np.full(len(xy), 2.0)])
            session.take_in([CameraPacket(camera.name, frame, round(1_000_000 * frame / RATE), picture)])
        if frame % 10 == 9:
            session.advance()
    session.advance(whole=True)
    return session
