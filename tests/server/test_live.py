"""The live path: packets into frames, frames into recordings, from the cameras' socket to the people who watch."""

import asyncio
import json
import os
import threading
from dataclasses import replace
from fractions import Fraction
from unittest import TestCase, mock

import numpy as np
from asgiref.testing import ApplicationCommunicator
from django.contrib.auth.models import AnonymousUser, User
from django.db import connection
from django.test import Client, TransactionTestCase
from django.utils import timezone

from otrevo.core.errors import InputError
from otrevo.core.formats.camera_packets import DAY_US, CameraPacket, PacketReader
from otrevo.core.optics.coverage import SweepCoverage
from otrevo.core.optics.rig import rig_from_document
from otrevo.core.optics.wand import keeper_corner
from otrevo.core.sim.rig import Faults, film, make_room
from otrevo.core.sim.scenes import scene
from otrevo.server.floor.models import Rolling
from otrevo.server.live import address
from otrevo.server.live.consumer import Live
from otrevo.server.live.recorder import Recorder
from otrevo.server.live.session import Session
from otrevo.server.shoot.models import Take
from otrevo.server.stage.models import StageRecording
from otrevo.server.stage.room import room_of
from otrevo.server.streams.store import read_centroids, recorded
from otrevo.standins import cameras as standin
from tests.server.production import PASSWORD, calibrate, make_production, work

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


class BeforeTheCameras(TestCase):
    def shown(self, request):
        base = {"otrevo": "scene/1", "room": {"seed": 31, "cameras": 6, "knocks": []}, "rate": "120/1", "seed": 4}
        return standin.show(base | request)

    def centroids(self, showing, piece):
        reader, sent = PacketReader(), showing.packets(piece, 0)
        packets = [p for data in sent for p in reader.feed(data)]
        return len(sent), sum(len(p.centroids) for p in packets)

    def test_whoever_has_performed_is_still_there_until_it_is_cut(self):
        performance = {"motion": "semaphore", "performer_seed": 4, "seed": 4, "height_m": 1.7}
        showing = self.shown({"scene": "take", "performance": performance})
        last = len(showing.places) // standin.PIECE_FRAMES
        self.assertTrue(np.isfinite(showing.last_places).all(), "covered for a moment is not gone")
        frames, seen = self.centroids(showing, last - 1)
        self.assertGreater(seen, 6 * 20 * frames)
        for later in (last, last + 1, last + 200):
            self.assertEqual(self.centroids(showing, later)[0], standin.PIECE_FRAMES)
            self.assertAlmostEqual(self.centroids(showing, later)[1] / seen, 1.0, delta=0.2)

    def test_a_scene_of_the_room_is_over_after_its_last_frame(self):
        showing = self.shown({"scene": "still"})
        self.assertEqual(len(showing.packets(0, 0)), standin.PIECE_FRAMES)
        self.assertEqual(showing.packets(-(-len(showing.places) // standin.PIECE_FRAMES), 0), [])


class Frames(TestCase):
    def setUp(self):
        self.places = scene("sweep", 31, 2.0, 120.0, keeper_corner())
        self.seen, _ = film(ROOM.cameras, self.places, 31, Faults(reflections=0))
        self.packets = packets_of(self.seen, len(self.places))

    def fed(self, packets, **values):
        session = Session("sweep", RIG, RATE, recording=True, **values)
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
        np.testing.assert_allclose(kept.xy, self.seen.xy)
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
        np.testing.assert_allclose(np.sort(self.fed(late).recorded().xy, 0), np.sort(self.seen.xy, 0))

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
        np.testing.assert_allclose(kept.xy, self.seen.xy)
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
                np.testing.assert_allclose(np.sort(mine, axis=0), np.sort(sent[f, c], axis=0))
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
        session, feeding = Session("sweep", RIG, RATE, recording=True), threading.Event()

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


class StandIn(TestCase):
    def request(self, **values):
        spec = {"seed": 31, "cameras": 6, "knocks": []}
        return {"otrevo": "scene/1", "room": spec, "rate": "120/1", "scene": "still", "seed": 4} | values

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

    def test_a_performance_has_bodies_in_the_way(self):
        performance = {"motion": "rope haul", "performer_seed": 5, "seed": 6, "height_m": 1.7, "props": ["lantern"]}
        showing = standin.show(self.request(scene="take", performance=performance))
        self.assertGreater(showing.places.shape[1], 55)
        self.assertIsNotNone(showing.bodies)
        self.assertGreater(len(PacketReader().feed(b"".join(showing.packets(0, 0)))), 200)


class Running:
    """The stand-in cameras and the recorder on sockets of their own, in this process."""

    async def __aenter__(self):
        self.cameras = await asyncio.start_server(standin._serve, "127.0.0.1", 0, limit=1 << 20)
        self.recorder = Recorder(self.cameras.sockets[0].getsockname()[1])
        self.server = await asyncio.start_server(self.recorder.serve, "127.0.0.1", 0, limit=1 << 20)
        port = self.server.sockets[0].getsockname()[1]
        self.patch = mock.patch.dict(os.environ, {
            "OTREVO_RECORDER_PORT": str(port), "OTREVO_SECRET_KEY": address.greeting()["key"],
        })  # fmt: skip
        self.patch.start()
        self.running = asyncio.create_task(self.recorder.run())
        return self

    async def __aexit__(self, *_):
        self.running.cancel()
        await self.recorder._hang_up()
        self.recorder.apart.shutdown(wait=False, cancel_futures=True)
        self.server.close()
        self.cameras.close()
        self.patch.stop()

    async def watch(self, production, until, seconds=60.0):
        """Snapshots until one satisfies `until`."""
        reader, writer = await asyncio.open_connection("127.0.0.1", address.ports()[0], limit=1 << 22)
        writer.write(json.dumps(address.greeting() | {"do": "subscribe", "production": production}).encode() + b"\n")

        async def look():
            while True:
                snapshot = json.loads(await reader.readline())
                if until(snapshot):
                    return snapshot

        try:
            return await asyncio.wait_for(look(), seconds)
        finally:
            writer.close()


def ask(request):
    return asyncio.to_thread(address.ask, request)


class Recording(TransactionTestCase):
    def setUp(self):
        self.production, self.slate = make_production()
        self.user = User.objects.get(username="technician-SMS")

    def test_a_sweep_is_watched_recorded_and_kept(self):
        wand = keeper_corner().to_document()

        async def story():
            async with Running() as here:
                shown = await here.watch(self.production.pk, lambda s: s.get("frame", 0) > 20)
                self.assertEqual((shown["kind"], shown["recording"]), ("watch", False))
                start = {
                    "do": "start",
                    "production": self.production.pk,
                    "user": self.user.pk,
                    "kind": "sweep",
                    "wand": wand,
                }
                await ask(start)
                with self.assertRaisesRegex(InputError, "recording"):
                    await ask(start)
                shown = await here.watch(
                    self.production.pk, lambda s: s.get("kind") == "sweep" and s["seconds"] > 2 and s["sweep"]
                )
                self.assertGreater(max(c["readings"] for c in shown["sweep"]["cameras"]), 10)
                answer = await ask({"do": "stop", "production": self.production.pk, "keep": True})
                with self.assertRaisesRegex(InputError, "Nothing is being recorded"):
                    await ask({"do": "stop", "production": self.production.pk})
                return answer

        answer = asyncio.run(story())
        recording = StageRecording.objects.get(pk=answer["recording"])
        self.assertEqual(
            (recording.kind, recording.made_by, recording.wand["name"]), ("sweep", self.user, "quay corner")
        )
        self.assertGreater(recording.seconds, 2)
        seen = read_centroids(recording.stream)
        self.assertGreater(len(seen) / seen.frames, 12 * 2)
        self.assertTrue((np.diff(seen.frame) >= 0).all())

    def test_a_room_that_is_watched_for_long_is_asked_for_anew(self):
        async def story():
            async with Running() as here:
                with mock.patch.object(standin, "LONGEST_S", 1.0):
                    await here.watch(self.production.pk, lambda s: s.get("seconds", 0) > 0.7)
                    again = await here.watch(self.production.pk, lambda s: 0 < s.get("seconds", 9) < 0.5)
                self.assertIsNone(again["trouble"])

        asyncio.run(story())

    def test_what_is_dropped_leaves_nothing(self):
        async def story():
            async with Running() as here:
                await ask({"do": "start", "production": self.production.pk, "user": self.user.pk, "kind": "still"})
                await here.watch(self.production.pk, lambda s: s.get("recording") and s["seconds"] > 0.5)
                return await ask({"do": "stop", "production": self.production.pk, "keep": False})

        self.assertEqual(asyncio.run(story()), {"dropped": True})
        self.assertEqual(StageRecording.objects.count(), 0)

    def test_a_recording_that_nobody_stops_ends_by_itself_and_can_still_be_kept(self):
        async def story():
            async with Running() as here:
                await ask({"do": "start", "production": self.production.pk, "user": self.user.pk, "kind": "still"})
                await here.watch(self.production.pk, lambda s: "the most that is kept" in (s.get("trouble") or ""))
                return await ask({"do": "stop", "production": self.production.pk, "keep": True})

        with mock.patch("otrevo.server.live.session.MOST_SECONDS", 1.0):
            kept = StageRecording.objects.get(pk=asyncio.run(story())["recording"])
        self.assertGreater(kept.seconds, 0.9)
        self.assertLess(kept.seconds, 6.0)

    def test_a_take_is_rolled_live_and_worked_through(self):
        calibrate(self.slate.performer)
        technician = Client()
        technician.login(username="technician-SMS", password=PASSWORD)

        def send(path):
            try:
                return technician.post(f"/api/slates/{self.slate.pk}/{path}")
            finally:
                connection.close()  # of this thread

        def post(path):
            return asyncio.to_thread(send, path)

        async def story():
            async with Running() as here:
                self.assertEqual((await post("stand-by")).status_code, 200)
                self.assertEqual((await post("roll")).status_code, 200)
                shown = await here.watch(
                    self.production.pk, lambda s: s.get("kind") == "take" and s["seconds"] > 5 and len(s["points"]) > 40
                )
                self.assertEqual(shown["knocked"], [])
                return (await post("cut")).json()

        took = asyncio.run(story())
        self.assertFalse(Rolling.objects.exists())
        take = Take.objects.get(pk=took["id"])
        stream = recorded(take, "cameras")
        self.assertGreater(stream.details["frames"], 500)
        frame, second = stream.stamps[3]
        self.assertAlmostEqual(second - take.zero_s, frame / 120, places=2)
        work()
        self.assertEqual({r.state for r in take.runs.all()}, {"done"}, [(r.name, r.message) for r in take.runs.all()])
        self.assertEqual(recorded(take, "cameras").pk, stream.pk, "what was recorded live is what is worked on")
        claps = take.runs.get(name="line up").figures["claps_s"]
        self.assertLess(abs(claps["optical"] - claps["room"]), 0.03, "the cameras' stamps and the sound say one time")
        self.assertLess(take.runs.get(name="solve").figures["residual_rms_mm"], 6)

    def test_a_recorder_that_was_restarted_does_not_take_the_take_with_it(self):
        technician = Client()
        technician.login(username="technician-SMS", password=PASSWORD)
        with mock.patch(
            "otrevo.server.floor.api.ask", side_effect=[{"ok": True}, InputError("Nothing is being recorded.")]
        ):
            technician.post(f"/api/slates/{self.slate.pk}/roll")
            Rolling.objects.update(started_at=timezone.now() - timezone.timedelta(seconds=6))
            answer = technician.post(f"/api/slates/{self.slate.pk}/cut")
        self.assertEqual(answer.status_code, 200, answer.content)
        take = Take.objects.get()
        self.assertIn("live recording of the cameras was lost", take.note)
        self.assertEqual(take.runs.count(), 5)

    def test_a_wrong_key_is_not_answered(self):
        async def story():
            async with Running():
                reader, writer = await asyncio.open_connection("127.0.0.1", address.ports()[0])
                writer.write(
                    json.dumps(
                        {"key": "guess", "do": "start", "production": self.production.pk, "kind": "still"}
                    ).encode()
                    + b"\n"
                )
                self.assertEqual(await reader.read(), b"")
                writer.close()

        asyncio.run(story())

    def test_cameras_that_are_switched_off_are_told(self):
        async def story():
            async with Running() as here:
                here.cameras.close()
                here.recorder.cameras_port = 9  # nobody listens there
                shown = await here.watch(self.production.pk, lambda s: s.get("trouble"))
                self.assertIn("cannot be reached", shown["trouble"])

        asyncio.run(story())


class Socket(TransactionTestCase):
    async def connected(self, user, production):
        scope = {
            "type": "websocket", "path": f"/live/{production}", "user": user,
            "url_route": {"kwargs": {"production": production}},
        }  # fmt: skip
        link = ApplicationCommunicator(Live.as_asgi(), scope)
        await link.send_input({"type": "websocket.connect"})
        self.assertEqual((await link.receive_output(5))["type"], "websocket.accept")
        return link

    def test_strangers_and_other_productions_are_turned_away(self):
        production, _ = make_production()
        make_production("Night Tide", "NTD")
        turned = [AnonymousUser(), *User.objects.filter(username__in=["technician-NTD", "animator-SMS"])]

        async def story(user):
            closed = await (await self.connected(user, production.pk)).receive_output(5)
            self.assertEqual((closed["type"], closed["code"]), ("websocket.close", 4403))

        for user in turned:
            with self.subTest(user.username):
                asyncio.run(story(user))

    def test_a_member_gets_snapshots_and_is_told_when_there_are_none(self):
        production, _ = make_production()
        room_of(production)
        user = User.objects.get(username="clean-up-SMS")

        async def story():
            with mock.patch.dict(os.environ, {"OTREVO_RECORDER_PORT": "9"}):
                link = await self.connected(user, production.pk)
                self.assertIn("does not answer", json.loads((await link.receive_output(5))["text"])["trouble"])
                await link.send_input({"type": "websocket.disconnect", "code": 1000})
                await link.wait()
            async with Running():
                link = await self.connected(user, production.pk)
                snapshot = json.loads((await link.receive_output(30))["text"])
                self.assertEqual(len(snapshot["cameras"]), 12)
                await link.send_input({"type": "websocket.disconnect", "code": 1000})
                await link.wait()

        asyncio.run(story())
