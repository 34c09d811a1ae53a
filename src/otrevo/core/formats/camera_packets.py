"""Camera packets, version 1: what a tracking camera sends for every frame, over any byte stream (docs/formats.md).

Little endian, 28 bytes and 12 more for every centroid:

    offset  size  what
    0       4     "OTRV"
    4       1     version, 1
    5       1     flags, 0
    6       8     camera id, ASCII, filled up with zero bytes
    14      4     sequence number: this camera's packets, from 0, wrapping at 2**32; one that is missing was lost
    18      8     timecode: microseconds since midnight at the middle of the exposure
    26      2     how many centroids follow, each x, y, radius as float32 in pixels
"""

import struct
from dataclasses import dataclass

import numpy as np

from otrevo.core.errors import InputError

_HEAD = struct.Struct("<4sBB8sIQH")
MAGIC, VERSION = b"OTRV", 1
MOST_CENTROIDS = 4096
DAY_US = 86_400_000_000


@dataclass(frozen=True)
class CameraPacket:
    """One picture: sequence and timecode_us as the camera counts them; centroids (N, 3): x, y, radius in pixels."""

    camera: str
    sequence: int
    timecode_us: int
    centroids: np.ndarray


def encode_packet(camera, sequence, timecode_us, centroids):
    """The bytes of one picture's packet. Raises InputError for an id or a picture that does not fit."""
    name = camera.encode("ascii", "replace")
    if not 1 <= len(name) <= 8:
        raise InputError(f"Camera id '{camera}': expected 1 to 8 ASCII letters.")
    if len(centroids) > MOST_CENTROIDS:
        raise InputError(f"Camera {camera}: {len(centroids)} centroids in one picture; at most {MOST_CENTROIDS} fit.")
    head = _HEAD.pack(MAGIC, VERSION, 0, name, sequence & 0xFFFFFFFF, int(timecode_us) % DAY_US, len(centroids))
    return head + np.ascontiguousarray(centroids, dtype="<f4").tobytes()


class PacketReader:
    """Bytes in as they come, CameraPackets out; keeps what is not whole yet."""

    def __init__(self):
        self._rest = b""

    def feed(self, data):
        """The packets that `data` completes. Raises InputError when the stream is not one of camera packets."""
        data = self._rest + data
        at, packets = 0, []
        while len(data) - at >= _HEAD.size:
            magic, version, _, name, sequence, timecode, count = _HEAD.unpack_from(data, at)
            if magic != MAGIC:
                raise InputError("The cameras sent something that is not a camera packet; is this the right address?")
            if version != VERSION:
                raise InputError(f"A camera sends packets of version {version}; this program reads version {VERSION}.")
            if count > MOST_CENTROIDS:
                raise InputError(f"A camera packet claims {count} centroids; at most {MOST_CENTROIDS} are expected.")
            end = at + _HEAD.size + 12 * count
            if end > len(data):
                break
            centroids = np.frombuffer(data, "<f4", 3 * count, at + _HEAD.size).reshape(-1, 3).astype(float)
            camera = name.rstrip(b"\0").decode("ascii", "replace")
            packets.append(CameraPacket(camera, sequence, timecode, centroids))
            at = end
        self._rest = data[at:]
        return packets
