"""Device packets, version 1: readings of any device but a camera, over any byte stream (docs/formats.md).

Little endian, 28 bytes and 4 more for every number:

    offset  size  what
    0       4     "OTRD"
    4       1     version, 1
    5       1     flags: 1 when the timecode counts
    6       2     samples in this packet
    8       4     numbers in each sample
    12      8     number of the first sample since the device began; one that is missing was lost
    20      8     timecode: microseconds since midnight that the device shows at the first sample
    28            float32 numbers, sample by sample; NaN where a part of the device did not answer
"""

import struct
from dataclasses import dataclass

import numpy as np

from otrevo.core.errors import InputError

_HEAD = struct.Struct("<4sBBHIQQ")
MAGIC, VERSION, STAMPED = b"OTRD", 1, 1
MOST_NUMBERS = 1 << 20


@dataclass(frozen=True)
class DevicePacket:
    """first: number of its first sample; second_of_day: what the device showed there, or None; samples (n, width)."""

    first: int
    second_of_day: float | None
    samples: np.ndarray


def encode_device_packet(first, samples, second_of_day=None):
    """The bytes of one packet. samples (n, width)."""
    flags = 0 if second_of_day is None else STAMPED
    stamp = round(1e6 * (second_of_day or 0.0)) % 86_400_000_000
    head = _HEAD.pack(MAGIC, VERSION, flags, len(samples), samples.shape[1], int(first), stamp)
    return head + np.ascontiguousarray(samples, dtype="<f4").tobytes()


class DevicePacketReader:
    """Bytes of one Device in as they come, DevicePackets out; keeps what is not whole yet."""

    def __init__(self, device):
        self.device, self._rest = device, b""

    def feed(self, data):
        """The packets that `data` completes. Raises InputError when they are not this device's."""
        data, at, packets = self._rest + data, 0, []
        words, width = self.device.words, self.device.width
        while len(data) - at >= _HEAD.size:
            magic, version, flags, count, numbers, first, stamp = _HEAD.unpack_from(data, at)
            if magic != MAGIC:
                raise InputError(f"{words}: sent something that is not a device packet; is this the right address?")
            if version != VERSION:
                raise InputError(f"{words}: sends packets of version {version}; this program reads version {VERSION}.")
            if numbers != width or count * numbers > MOST_NUMBERS:
                raise InputError(
                    f"{words}: sends {count} samples of {numbers} numbers; expected {width} in each sample."
                )
            end = at + _HEAD.size + 4 * count * numbers
            if end > len(data):
                break
            samples = np.frombuffer(data, "<f4", count * numbers, at + _HEAD.size).reshape(count, numbers)
            packets.append(DevicePacket(first, stamp / 1e6 if flags & STAMPED else None, samples))
            at = end
        self._rest = data[at:]
        return packets
