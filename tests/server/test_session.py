"""What the recorder makes of the cameras' packets: frames, recordings, a picture of now; no sockets."""

import json
import threading
from dataclasses import replace
from fractions import Fraction
from tempfile import TemporaryDirectory
from unittest import TestCase

import numpy as np

from otrevo.core.formats.camera_packets import DAY_US, CameraPacket
from otrevo.core.optics.coverage import SweepCoverage
from otrevo.core.optics.rig import rig_from_document
from otrevo.core.optics.wand import keeper_corner
from otrevo.core.sim.rig import Faults, film, make_room
from otrevo.core.sim.scenes import scene
from otrevo.server.recorder.journal import Journal
from otrevo.server.recorder.session import Session

RATE = Fraction(120)
ROOM = make_room(31, 6)
RIG, _ = rig_from_document(ROOM.rig_document(31))


def packets_of(seen, frames, first_sequence=0, zero_us=5_000_000):
    """CameraPackets of Centroids, in the order they would arrive."""
    out = []
    for f in range(frames):
        for c, camera in enumerate(ROOM.cameras):
            mine = (seen.frame == f) & (seen.camera == c)
            data = np.column_stack([seen.xy[mine], seen.radius[mine]])
            out.append(CameraPacket(camera.name, first_sequence + f, zero_us + round(f / RATE * 1_000_000), data))
    return out


class Frames(TestCase):
    def setUp(self):
        self.places = scene("sweep", 31, 2.0, 120.0, keeper_corner())
        self.seen, _ = film(ROOM.cameras, self.places, 31, Faults(reflections=0))
        self.packets = packets_of(self.seen, len(self.places))

    def recording(self, **values):
        session = Session("sweep", RIG, RATE, **values)
        session.keep_in(Journal.begin(self.enterContext(TemporaryDirectory()), {}))
        return session

    def fed(self, packets, **values):
        session = self.recording(**values)
        for i in range(0, len(packets), 70):
            session.take_in(packets[i : i + 70])
            session.advance()
        session.advance(whole=True)
        return session

    def test_what_was_sent_is_what_is_kept(self):
        session = self.fed(self.packets)
        kept = session.recorded()
        np.testing.assert_array_equal(kept.frame, self.seen.frame)
        np.testing.assert_array_equal(kept.camera, self.seen.camera)
        np.testing.assert_allclose(kept.xy, self.seen.xy, rtol=1e-6)
        self.assertEqual([s[0] for s in session.stamps], list(range(0, 240, 30)))
        self.assertAlmostEqual(session.stamps[1][1], 5.25)

    def test_packets_out_of_order_and_of_strangers(self):
        rng = np.random.default_rng(2)
        late = [
            p
            for i in range(0, len(self.packets), 12)
            for p in rng.permutation(np.array(self.packets[i : i + 12], dtype=object))
        ]
        late.insert(40, CameraPacket("c99", 1, 5_000_000, np.ones((3, 3))))
        np.testing.assert_allclose(np.sort(self.fed(late).recorded().xy, 0), np.sort(self.seen.xy, 0), rtol=1e-6)

    def test_lost_packets_are_counted_and_the_rest_is_kept(self):
        gone = {("c03", 20), ("c03", 21), ("c05", 100)}
        session = self.fed([p for p in self.packets if (p.camera, p.sequence) not in gone])
        self.assertEqual({k: v for k, v in session.lost.items() if v}, {"c03": 2, "c05": 1})
        lost = sum(((self.seen.frame == f) & (self.seen.camera == int(c[1:]) - 1)).sum() for c, f in gone)
        self.assertEqual(len(session.recorded()), len(self.seen) - lost)

    def test_a_packet_that_is_far_too_late_disturbs_nothing(self):
        late = [*self.packets[1:600], self.packets[0], *self.packets[600:]]
        session = self.fed(late)
        self.assertEqual((session.recorded().frames, session.late), (240, 1))

    def test_a_timecode_that_leaps_is_believed_only_when_it_stays_there(self):
        stray = [replace(self.packets[0], timecode_us=65_000_000)]
        session = self.fed([*self.packets[:600], *stray, *self.packets[600:]])
        np.testing.assert_array_equal(session.recorded().frame, self.seen.frame)
        leapt = [replace(p, timecode_us=p.timecode_us + 60_000_000) for p in self.packets[720:]]
        frames = self.fed([*self.packets[:720], *leapt]).recorded().frame
        self.assertEqual(frames[-1], 239 + 60 * 120)
        self.assertGreater((frames > 7200).sum(), 0.45 * len(self.seen))

    def test_numbers_that_are_none_are_left_out_and_pictures_sent_twice_are_kept_once(self):
        broken = self.packets[30].centroids.copy() if len(self.packets[30].centroids) else np.ones((2, 3))
        broken = np.vstack([broken, [np.nan, 3, 2], [5, np.inf, 2]])
        packets = [*self.packets[:30], replace(self.packets[30], centroids=broken), *self.packets[31:]]
        session = self.fed([p for p in packets for _ in range(2)], cameras=ROOM.cameras)
        kept = session.recorded()
        np.testing.assert_array_equal(kept.frame, self.seen.frame)
        np.testing.assert_allclose(kept.xy, self.seen.xy, rtol=1e-6)
        json.loads(json.dumps(session.snapshot(), allow_nan=False))
        self.assertEqual(sum(session.lost.values()), 0)

    def test_whatever_happens_on_the_way_what_is_kept_was_sent_and_stands_in_its_frame(self):
        sent = {
            (f, c): self.seen.xy[(self.seen.frame == f) & (self.seen.camera == c)]
            for f in range(240) for c in range(len(ROOM.cameras))
        }  # fmt: skip
        for seed in range(4):
            rng = np.random.default_rng(seed)
            order = np.arange(len(self.packets)) + rng.normal(0, rng.choice([2, 8, 30]), len(self.packets))
            arriving = np.argsort(order)
            arriving = arriving[rng.random(len(arriving)) < 0.97]  # some are lost
            arriving = np.repeat(arriving, 1 + (rng.random(len(arriving)) < 0.05))  # some come twice
            session = self.fed([self.packets[i] for i in arriving], zero_us=5_000_000)
            kept = session.recorded()
            self.assertTrue((np.diff(kept.frame * 100 + kept.camera) >= 0).all())
            for f, c in {(int(a), int(b)) for a, b in zip(kept.frame, kept.camera, strict=True)}:
                mine = kept.xy[(kept.frame == f) & (kept.camera == c)]
                np.testing.assert_allclose(np.sort(mine, axis=0), np.sort(sent[f, c], axis=0), rtol=1e-6)
            self.assertGreater(len(kept), 0.3 * len(self.seen))
            self.assertTrue(all(n >= 0 for n in session.lost.values()))

    def test_midnight_does_not_end_a_recording(self):
        late = packets_of(self.seen, 240, zero_us=DAY_US - 700_000)
        late = [CameraPacket(p.camera, p.sequence, p.timecode_us % DAY_US, p.centroids) for p in late]
        session = self.fed(late)
        np.testing.assert_array_equal(session.recorded().frame, self.seen.frame)
        self.assertAlmostEqual(session.stamps[0][1], 86400 - 0.7)
        self.assertAlmostEqual(session.stamps[-1][1], 210 / 120 - 0.7)

    def test_packets_may_come_in_while_frames_are_worked_through(self):
        session, feeding = self.recording(), threading.Event()

        def feed():
            for i in range(0, len(self.packets), 6):
                session.take_in(self.packets[i : i + 6])
            feeding.set()

        thread = threading.Thread(target=feed)
        thread.start()
        while not feeding.is_set():
            session.advance()
        thread.join()
        session.advance(whole=True)
        self.assertGreater(len(session.recorded()), 0.95 * len(self.seen))

    def test_nothing_is_kept_before_the_recording_begins(self):
        session = Session("watch", RIG, RATE)
        session.take_in(self.packets)
        self.assertTrue(session.advance(whole=True))
        self.assertFalse(session.advance(whole=True))
        self.assertEqual(len(session.recorded()), 0)

    def test_the_snapshot_shows_now_and_is_plain_json(self):
        coverage = SweepCoverage(RIG, keeper_corner(), RATE, cameras=ROOM.cameras)
        session = self.fed(self.packets, cameras=ROOM.cameras, coverage=coverage)
        shown = json.loads(json.dumps(session.snapshot(), allow_nan=False))
        self.assertEqual(shown["seconds"], 2.0)
        self.assertEqual(shown["timecode_s"], 7.0)
        last = self.seen.xy[(self.seen.frame == 239) & (self.seen.camera == 0)]
        np.testing.assert_allclose([p[:2] for p in shown["cameras"][0]["points"]], last, atol=0.06)
        rebuilt = np.array(shown["points"])
        off = np.linalg.norm(rebuilt[:, None] - self.places[239][None], axis=2).min(axis=0)
        self.assertLess(np.median(off), 0.002)
        self.assertEqual(len(shown["sweep"]["cameras"]), 6)
        self.assertIsNone(session.snapshot()["sweep"], "what has not changed is not sent again")

    def test_a_knocked_camera_is_told_and_a_true_room_is_not_blamed(self):
        for knocks, told in (((), []), ((("c02", 0.3, 0.002, 1),), ["c02"])):
            room = make_room(31, 6, knocks)
            body = np.random.default_rng(3).uniform([-0.5, 0.2, -0.5], [0.5, 1.8, 0.5], (40, 3))
            places = body + 0.2 * np.sin(np.arange(240) / 40)[:, None, None]
            seen, _ = film(room.cameras, places, 32, Faults(reflections=0, ghosts=0.02))
            session = self.fed(packets_of(seen, 240), cameras=ROOM.cameras)
            self.assertEqual([k["camera"] for k in session.snapshot()["knocked"]], told)
