"""Camera packets: what goes in comes out, however the bytes are cut; what is no packet is refused in a sentence."""

import struct
import unittest

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.camera_packets import DAY_US, MOST_CENTROIDS, PacketReader, encode_packet


class CameraPackets(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(1)
        self.pictures = [rng.uniform(0, 2048, (n, 3)).astype(np.float32) for n in (3, 0, 57, 1)]
        self.stream = b"".join(
            encode_packet(f"c{i:02d}", i + 7, 1_000_000 * i, picture) for i, picture in enumerate(self.pictures)
        )

    def check(self, packets):
        self.assertEqual([p.camera for p in packets], ["c00", "c01", "c02", "c03"])
        self.assertEqual([p.sequence for p in packets], [7, 8, 9, 10])
        self.assertEqual([p.timecode_us for p in packets], [0, 1_000_000, 2_000_000, 3_000_000])
        for packet, picture in zip(packets, self.pictures, strict=True):
            np.testing.assert_array_equal(packet.centroids, picture)

    def test_whole_or_cut_anywhere(self):
        self.check(PacketReader().feed(self.stream))
        for size in (1, 5, 27, 28, 29, 100):
            reader = PacketReader()
            pieces = [self.stream[i : i + size] for i in range(0, len(self.stream), size)]
            self.check([p for piece in pieces for p in reader.feed(piece)])

    def test_layout_is_the_documented_one(self):
        one = encode_packet("c07", 5, 42, self.pictures[0])
        self.assertEqual(len(one), 28 + 12 * 3)
        self.assertEqual(one[:6], b"OTRV\x01\x00")
        self.assertEqual(one[6:14], b"c07\0\0\0\0\0")
        self.assertEqual(struct.unpack_from("<IQH", one, 14), (5, 42, 3))
        np.testing.assert_array_equal(np.frombuffer(one, "<f4", 9, 28), self.pictures[0].ravel())

    def test_counters_wrap(self):
        (packet,) = PacketReader().feed(encode_packet("c01", 2**32 + 3, DAY_US + 9, self.pictures[1]))
        self.assertEqual((packet.sequence, packet.timecode_us), (3, 9))

    def test_what_does_not_fit_is_refused(self):
        for camera in ("", "far too long"):
            with self.assertRaisesRegex(InputError, "1 to 8"):
                encode_packet(camera, 0, 0, self.pictures[0])
        with self.assertRaisesRegex(InputError, str(MOST_CENTROIDS)):
            encode_packet("c01", 0, 0, np.zeros((MOST_CENTROIDS + 1, 3)))

    def test_other_bytes_are_refused_in_a_sentence(self):
        with self.assertRaisesRegex(InputError, "not a camera packet"):
            PacketReader().feed(b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
        newer = bytearray(self.stream)
        newer[4] = 2
        with self.assertRaisesRegex(InputError, "version 2"):
            PacketReader().feed(bytes(newer))
        huge = bytearray(self.stream)
        huge[26:28] = b"\xff\xff"
        with self.assertRaisesRegex(InputError, "65535"):
            PacketReader().feed(bytes(huge))


if __name__ == "__main__":
    unittest.main()
