"""The cameras' stand-in: what it shows, what it sends, and what it refuses."""

import asyncio
import json
import os
from dataclasses import replace
from tempfile import TemporaryDirectory
from unittest import TestCase, mock

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.camera_packets import PacketReader
from otrevo.core.optics.wand import keeper_corner
from otrevo.core.sim.rig import make_room
from otrevo.standins import cameras as standin
from otrevo.standins import world

ROOM = make_room(31, 6)


class StandIn(TestCase):
    def setUp(self):
        folder = self.enterContext(TemporaryDirectory())
        self.enterContext(mock.patch.dict(os.environ, OTREVO_STAGE=f"{folder}/stage.json"))
        world.build(1, 31, cameras=6)

    def request(self, **values):
        return {"otrevo": "scene/1", "production": 1, "rate": "120/1", "scene": "still", "seed": 4} | values

    def take(self, performer, motion, **values):
        world.rehearse(7, motion)
        world.embody(1, performer)
        whose = {"id": 1, "name": "Ines", "height_m": 1.7}
        return {"slate": 7, "title": "", "number": 1, "performer": whose, "seed": performer} | values

    def test_packets_of_a_scene_are_those_of_its_cameras(self):
        showing = standin.show(self.request(scene="sweep", wand=keeper_corner().to_document()))
        packets = PacketReader().feed(b"".join(showing.packets(2, 9_000_000)))
        self.assertEqual({p.camera for p in packets}, {c.name for c in ROOM.cameras})
        sequences = [p.sequence for p in packets if p.camera == "c01"]
        self.assertEqual(sequences, list(range(96, 144)))
        self.assertEqual(packets[0].timecode_us, 9_800_000)
        self.assertGreater(np.mean([len(p.centroids) for p in packets]), 2)

    def test_requests_that_cannot_be_shown_are_refused(self):
        for wrong in (
            {"scene": "circus"},
            {"otrevo": "scene/2"},
            {"scene": "sweep", "wand": {"markers_m": [[0, 0, 0]]}},
        ):
            with self.assertRaises(InputError):
                standin.show(self.request(**wrong))

    def test_it_listens_to_nobody_without_its_key(self):
        async def asked(request):
            server = await asyncio.start_server(standin._serve, "127.0.0.1", 0)
            async with server:
                reader, writer = await asyncio.open_connection(*server.sockets[0].getsockname())
                writer.write(json.dumps(request).encode() + b"\n")
                line = await reader.readline()
                writer.close()
                return line

        knock = {"otrevo": "stage/1", "do": "knock", "production": 1, "camera": "c01"}
        with mock.patch.dict(os.environ, OTREVO_STAGE_KEY="of-this-stage"):
            for wrong in ({}, {"key": "another"}, {"key": None}):
                self.assertEqual(asyncio.run(asked(knock | wrong)), b"")
            self.assertIn("words", json.loads(asyncio.run(asked(knock | {"key": "of-this-stage"}))))

    def test_a_performance_has_bodies_in_the_way(self):
        take = self.take(5, "rope haul", props=["lantern"])
        showing = standin.show(self.request(scene="take", take=take))
        self.assertGreater(showing.positions.shape[1], 55)
        self.assertIsNotNone(showing.bodies)
        self.assertGreater(len(PacketReader().feed(b"".join(showing.packets(0, 0)))), 200)

    def centroids(self, showing, piece):
        reader, sent = PacketReader(), showing.packets(piece, 0)
        packets = [p for data in sent for p in reader.feed(data)]
        return len(sent), sum(len(p.centroids) for p in packets)

    def test_whoever_has_performed_is_still_there_until_it_is_cut(self):
        showing = standin.show(self.request(scene="take", take=self.take(4, "semaphore")))
        last = len(showing.positions) // standin.PIECE_FRAMES
        self.assertTrue(np.isfinite(showing.last_positions).all(), "covered for a moment is not gone")
        frames, seen = self.centroids(showing, last - 1)
        self.assertGreater(seen, 6 * 20 * frames)
        for later in (last, last + 1, last + 200):
            self.assertEqual(self.centroids(showing, later)[0], standin.PIECE_FRAMES)
            self.assertAlmostEqual(self.centroids(showing, later)[1] / seen, 1.0, delta=0.2)

    def test_a_scene_of_the_room_is_over_after_its_last_frame(self):
        showing = standin.show(self.request())
        self.assertEqual(len(showing.packets(0, 0)), standin.PIECE_FRAMES)
        self.assertEqual(showing.packets(-(-len(showing.positions) // standin.PIECE_FRAMES), 0), [])

    def test_a_camera_that_sees_nothing_is_live_and_one_that_drops_pictures_drops_few(self):
        showing = standin.show(self.request())
        showing.room = replace(showing.room, lamps=[np.zeros((0, 2)) for _ in showing.room.cameras])
        sent = PacketReader().feed(b"".join(b"".join(showing.packets(n, 0)) for n in range(30)))
        frames = 30 * standin.PIECE_FRAMES
        counts = [sum(p.camera == c.name for p in sent) for c in showing.room.cameras]
        self.assertEqual(counts[:-1], [frames] * 5)
        self.assertTrue(0.97 * frames < counts[-1] < frames, counts)
