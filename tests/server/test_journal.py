"""What a recording leaves on the disk: read back to the last whole sample, gone on with, truthful about what is missing."""

import os
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import TestCase, mock

import numpy as np

from otrevo.core.devices.catalogue import device_named
from otrevo.core.devices.packets import DevicePacket
from otrevo.core.formats.camera_packets import CameraPacket
from otrevo.core.optics.rig import rig_from_document
from otrevo.core.sim.rig import make_room
from otrevo.server.recorder.journal import Journal, Rows, forget_kept, unfinished
from otrevo.server.recorder.kept_frames import KeptFrames
from otrevo.server.recorder.readings import AHEAD_PACKETS, Readings
from otrevo.server.recorder.session import Session

RATE = Fraction(120)
RIG, _ = rig_from_document(make_room(31, 3).rig_document(31))


def pictures(frames):
    """A packet of every camera for each of these frames; one centroid, whose x is the frame's number."""
    return [
        CameraPacket(camera.name, f, round(f / RATE * 1_000_000), np.array([[f % 500, 10.0, 2.0]]))
        for f in frames
        for camera in RIG
    ]


class OnDisk(TestCase):
    def setUp(self):
        self.root = Path(self.enterContext(TemporaryDirectory()))

    def test_half_a_row_at_the_end_is_cut_off_and_more_follows(self):
        rows = Rows(self.root / "a.rows", 3)
        rows.add(np.arange(12).reshape(4, 3))
        rows.close()
        with (self.root / "a.rows").open("ab") as file:
            file.write(b"12345")
        again = Rows(self.root / "a.rows", 3)
        self.assertEqual(len(again), 4)
        again.pad(6)
        again.add([[7, 8, 9]])
        np.testing.assert_array_equal(again.read(3, 4), [[9, 10, 11]])
        self.assertTrue(np.isnan(again.read(4, 6)).all())
        np.testing.assert_array_equal(again.read(6), [[7, 8, 9]])

    def test_what_cannot_be_written_leaves_what_was(self):
        rows = Rows(self.root / "a.rows", 3)
        rows.add(np.ones((4, 3)))
        with mock.patch.object(rows, "file", _Full(rows.file, 20)), self.assertRaises(OSError):
            rows.add(np.ones((4, 3)))
        self.assertEqual((len(rows), (self.root / "a.rows").stat().st_size), (4, 48))
        rows.add(np.zeros((1, 3)))
        np.testing.assert_array_equal(rows.read()[:, 0], [1, 1, 1, 1, 0])

    def test_one_that_was_left_is_found_and_one_that_ended_is_gone(self):
        journal = Journal.begin(self.root, {"kind": "take", "slate": 4})
        (self.root / "nothing").mkdir()
        (self.root / "nothing" / "about.json").write_text("{")
        found = unfinished(self.root)
        self.assertEqual([j.about["slate"] for j in found], [4])
        self.assertTrue(found[0].goes_on(60))
        self.assertLess(found[0].runs_for_s(), 5)
        os.utime(journal.folder / "about.json", (0, 0))
        self.assertFalse(found[0].goes_on(60), "nobody sends for so long")
        journal.end()
        self.assertEqual(unfinished(self.root), [])

    def test_what_is_kept_elsewhere_is_not_found_again_and_goes(self):
        kept, begun = (Journal.begin(self.root, {"kind": "take", "slate": n}) for n in (4, 5))
        kept.is_kept()
        self.assertEqual([j.about["slate"] for j in unfinished(self.root)], [5])
        forget_kept(self.root)
        self.assertTrue(kept.folder.exists(), "one that has just begun looks the same")
        os.utime(kept.folder, (0, 0))
        os.utime(begun.folder, (0, 0))
        forget_kept(self.root)
        self.assertEqual([f.name for f in self.root.iterdir()], [begun.folder.name])


class _Full:
    """A file on a disk that is full after so many bytes."""

    def __init__(self, file, room):
        self.file, self.room = file, room

    def write(self, data):
        if self.room <= 0:
            raise OSError(28, "No space left on device")
        part = data[: self.room]
        self.room -= len(part)
        return self.file.write(part)

    def __getattr__(self, name):
        return getattr(self.file, name)


class Frames(OnDisk):
    def session(self, journal):
        session = Session("take", RIG, RATE, zero_us=0)
        session.keep_in(journal)
        return session

    def feed(self, session, frames):
        for f in frames:
            session.take_in(pictures([f]))
            session.advance()

    def test_another_process_goes_on_and_says_which_frames_nobody_kept(self):
        journal = Journal.begin(self.root, {})
        self.feed(self.session(journal), range(200))  # the last three frames were not done when it was killed
        with (journal.folder / "cameras.rows").open("ab") as file:
            file.write(b"\0" * 47)  # nor this row, and a piece of another
        again = self.session(unfinished(self.root)[0])
        self.assertEqual(again.done, 197)
        self.feed(again, range(250, 400))
        again.advance(whole=True)
        self.assertEqual(again.kept.missing_before(400), [[197, 250]])
        self.assertEqual(again.kept.missing_before(420), [[197, 250], [400, 420]])
        kept = again.recorded()
        np.testing.assert_array_equal(np.unique(kept.frame), [*range(197), *range(250, 400)])
        np.testing.assert_array_equal(kept.xy[:, 0], kept.frame % 500)
        for kept_frames in (again.kept, KeptFrames(unfinished(self.root)[0])):
            for frame in (0, 60, 120, 180, 197, 230, 240, 300, 360, 399, 400):
                self.assertEqual(kept_frames.rows_before(frame), (kept.frame < frame).sum(), frame)

    def test_an_empty_room_is_not_missing(self):
        session = self.session(Journal.begin(self.root, {}))
        for f in range(50):
            session.take_in([CameraPacket("c01", f, round(f / RATE * 1_000_000), np.zeros((0, 3)))])
            session.advance()
        session.advance(whole=True)
        self.assertEqual((session.kept.missing_before(50), len(session.recorded())), ([], 0))

    def test_a_full_disk_loses_what_comes_then_and_nothing_before_or_after(self):
        session = self.session(Journal.begin(self.root, {}))
        self.feed(session, range(100))
        with mock.patch.object(session.kept.rows, "file", _Full(session.kept.rows.file, 0)):
            self.feed(session, range(100, 150))
            self.assertTrue(session.kept.full)
        self.feed(session, range(150, 200))
        self.assertFalse(session.kept.full)
        session.advance(whole=True)
        self.assertEqual(session.kept.missing_before(200), [[97, 147]])
        kept = session.recorded()
        self.assertEqual(set(range(200)) - set(kept.frame.tolist()), set(range(97, 147)))
        for frame in (60, 120, 180):
            self.assertEqual(session.kept.rows_before(frame), (kept.frame < frame).sum())


class HowFast(TestCase):
    """Samples a second that the Floor shows of a device, by when they were received."""

    def setUp(self):
        self.device, self.moment, self.sent = device_named("suit"), 0.0, 0
        self.enterContext(mock.patch("otrevo.server.recorder.readings.time", mock.Mock(monotonic=lambda: self.moment)))
        self.readings = Readings(self.device, 7, "Ines")

    def hz_when(self, moment, packets):
        """What is shown at a moment at which so many packets of ten samples are received."""
        self.moment = moment
        rows = np.zeros((10, self.device.width))
        firsts = range(self.sent, self.sent + 10 * packets, 10)
        self.sent += 10 * packets
        self.readings.take_in([DevicePacket(first, first / 100, rows) for first in firsts])
        return self.readings.snapshot()["hz"]

    def test_what_was_held_up_and_comes_at_once_is_no_faster(self):
        self.assertEqual(self.hz_when(3.2, 20), 100, "everything since it was asked")
        self.assertEqual(self.hz_when(4.3, 23), 100, "the rest of it, a moment later")
        shown = [self.hz_when(4.3 + i / 10, 1) for i in range(1, 31)]
        self.assertEqual({round(hz) for hz in shown}, {100})
        self.assertEqual(self.hz_when(9.3, 20), 100, "two seconds without a packet, and all of them then")

    def test_one_that_is_faster_or_slower_or_has_ended_says_so(self):
        self.assertAlmostEqual([self.hz_when(i / 12, 1) for i in range(1, 140)][-1], 120, delta=1)
        self.assertAlmostEqual([self.hz_when(20 + i / 5, 1) for i in range(12)][-1], 50, delta=10)
        self.moment += 0.9
        self.assertGreater(self.readings.snapshot()["hz"], 0)
        self.moment += 0.2
        self.assertEqual(self.readings.snapshot()["hz"], 0)

    def test_one_that_has_sent_nothing_is_waited_for_at_first(self):
        self.moment = 9.0
        self.assertTrue(self.readings.snapshot()["waited_for"], "it may be starting")
        self.moment = 11.0
        self.assertFalse(self.readings.snapshot()["waited_for"], "by now it is missed")
        self.readings = Readings(self.device, 7, "Ines")
        self.hz_when(12.0, 1)
        self.assertFalse(self.readings.snapshot()["waited_for"])
        self.moment = 14.0
        self.assertEqual(self.readings.snapshot()["hz"], 0)
        self.assertFalse(self.readings.snapshot()["waited_for"], "it was there before")


class Devices(OnDisk):
    def test_readings_go_on_after_a_gap_and_what_is_missing_is_nothing(self):
        device = device_named("suit")
        packet = lambda first: DevicePacket(first, first / 100, np.full((10, device.width), first))  # noqa: E731
        journal = Journal.begin(self.root, {})
        before = Readings(device, 7, "Ines")
        before.keep_in(journal)
        before.take_in([packet(f) for f in (0, 10, 20)])
        after = Readings(device, 7, "Ines")
        after.keep_in(unfinished(self.root)[0])
        after.take_in([packet(20), packet(60), packet(70)])
        self.assertEqual(after.lost, 30)
        rows = after.kept.read()
        self.assertEqual(len(rows), 80)
        np.testing.assert_array_equal(rows[[0, 29, 60, 79], 0], [0, 20, 60, 70])
        self.assertTrue(np.isnan(rows[30:60]).all())
        self.assertEqual([first for first, _ in after.stamps_before(65)], [0, 10, 20, 60])
        far = [packet(f) for f in range(5000, 5000 + 10 * (AHEAD_PACKETS + 2), 10)]
        after.take_in(far[:3])
        self.assertEqual(len(after.kept), 80, "one leap alone is not believed")
        after.take_in(far[3:])
        self.assertEqual(len(after.kept), 5000 + 10 * (AHEAD_PACKETS + 2))
