"""What the recorder does with the cameras' packets: frames put together, kept when recording, and a picture of now.

No sockets and no Django in here: packets in, snapshots out.
"""

import time
from dataclasses import dataclass

import numpy as np

from otrevo.core.formats.camera_packets import DAY_US
from otrevo.core.formats.centroids import Centroids, joined
from otrevo.core.optics.blinds import blinded, cut_off
from otrevo.core.optics.rebuild import RebuildSettings, no_tracks, rebuild_window
from otrevo.core.optics.trust import measure_trust
from otrevo.server.recorder.kept_frames import KeptFrames

SETTLE_FRAMES = 3  # a picture may come this much later than the others of its frame
TRUST_S, TRUST_LEAST_S, TRUST_EVERY_S = 1.0, 0.5, 0.25
LEAP_S, LEAP_PACKETS = 5.0, 60  # a timecode this far ahead is believed only when so many packets in a row say it
MOST_SHOWN = 400  # centroids of one camera in a snapshot
PLACE_EVERY_S = 6.0
MOST_SECONDS = 3600.0  # of one recording; longer ones were forgotten
STAMP_FRAMES = 30
STATE_EVERY_S = 0.25
MOST_WANTED = 200


@dataclass
class Session:
    """One scene before the cameras. rig: RigCameras; rate: Fraction; cameras, blinds: of the newest calibration, over the
    cameras it solved; room_blinds: over the rig; coverage: SweepCoverage while sweeping, else None."""

    kind: str
    rig: tuple
    rate: object
    cameras: tuple = ()
    blinds: tuple = ()
    room_blinds: tuple = ()
    coverage: object = None
    zero_us: int | None = None

    def __post_init__(self):
        self.number = {c.name: i for i, c in enumerate(self.rig)}
        self.waiting, self.latest, self.done = {}, -1, 0
        self.recording, self.kept = False, None
        self.late, self.leaps = 0, 0
        self.sequence, self.lost, self.packets = {}, dict.fromkeys(self.number, 0), dict.fromkeys(self.number, 0)
        self.fps, self.counted_at, self.counted = {}, time.monotonic(), dict(self.packets)
        self.tracks = no_tracks()
        names = [c.name for c in self.cameras]
        self.over = np.array([names.index(c.name) if c.name in names else -1 for c in self.rig])
        self.recent, self.knocked, self.suspects, self.trust_frames = [], [], set(), 0
        self.points = np.zeros((0, 3))
        self.now = [np.zeros((0, 3)) for _ in self.rig]
        self.stated, self.placed_at = 0.0, time.monotonic()

    def keep_in(self, journal):
        """Record from now on; where the journal holds frames already, go on after them."""
        self.kept, self.recording = KeptFrames(journal), True
        self.done = self.kept.done
        self.latest = self.done - 1

    def take_in(self, packets):
        """Sort packets into frames. A camera the room does not have is left out."""
        for p in packets:
            c = self.number.get(p.camera)
            if c is None:
                continue
            if self.zero_us is None:
                self.zero_us = p.timecode_us
            before = self.sequence.get(p.camera)
            if before is not None and p.sequence > before + 1:
                self.lost[p.camera] += p.sequence - before - 1
            self.sequence[p.camera] = p.sequence
            self.packets[p.camera] += 1
            since = (p.timecode_us - self.zero_us + DAY_US // 2) % DAY_US - DAY_US // 2  # a night may lie in between
            frame = round(since * float(self.rate) / 1e6)
            if frame < self.done:
                self.late += 1  # its frame is over
                continue
            if self.latest >= 0 and frame > self.latest + LEAP_S * float(self.rate) and self.leaps < LEAP_PACKETS:
                self.leaps += 1
                self.late += 1
                continue
            self.leaps = 0
            pictures = self.waiting.setdefault(frame, [])
            if any(c == other for other, _ in pictures):
                continue  # sent twice
            good = np.isfinite(p.centroids).all(axis=1)
            pictures.append((c, p.centroids if good.all() else p.centroids[good]))
            self.latest = max(self.latest, frame)

    def advance(self, whole=False):
        """Work through the frames that are complete; `whole`: all of them, at the end. True when there were any."""
        last = self.latest + 1 if whole else self.latest + 1 - SETTLE_FRAMES
        if last <= self.done:
            return False
        first, self.done = self.done, last
        there = [f for f in list(self.waiting) if first <= f < last]
        rows = [
            (frame - first, c, xyr)
            for frame in sorted(f for f in list(self.waiting) if f < last)  # more may come in while this goes on
            for c, xyr in sorted(self.waiting.pop(frame), key=lambda item: item[0])
        ]
        piece = _centroids([row for row in rows if row[0] >= 0])
        if self.recording:
            self.kept.add(piece.later(first), first, last, there)
        for c, xyr in ((c, xyr) for _, c, xyr in rows):
            self.now[c] = xyr[:MOST_SHOWN]
        if self.coverage is not None:
            self.coverage.add(piece)
        if self.cameras:
            self._rebuild(piece, last - first)
        return True

    def _rebuild(self, piece, frames):
        known = piece.only(self.over[piece.camera] >= 0)
        known = Centroids(known.frame, self.over[known.camera], known.xy, known.radius)
        known = known.only(~(blinded(known, self.blinds) | cut_off(known, self.cameras)))
        groups = np.searchsorted(
            known.frame * len(self.cameras) + known.camera, np.arange(frames * len(self.cameras) + 1)
        )
        found = rebuild_window(known, groups, 0, frames, self.cameras, self.tracks, RebuildSettings())
        self.points = found.x[frames - 1, : found.count[frames - 1]].copy()
        there = np.arange(found.x.shape[1])[None, :, None] < found.count[:, None, None]
        x = np.where(there, found.x, np.nan)
        self.recent.append((known, x))
        self.trust_frames += frames
        hz = float(self.rate)
        while sum(len(x) for _, x in self.recent[1:]) >= TRUST_S * hz:
            self.recent.pop(0)
        if self.trust_frames >= TRUST_EVERY_S * hz and sum(len(x) for _, x in self.recent) >= TRUST_LEAST_S * hz:
            self._trust()
            self.trust_frames = 0

    def _trust(self):
        """Whether every camera still stands where the calibration says, by the last second; said when it is found twice."""
        most = max((x.shape[1] for _, x in self.recent), default=0)
        if most < 3:
            return
        start, parts, points = 0, [], []
        for piece, x in self.recent:
            parts.append(piece.later(start))
            points.append(np.pad(x, ((0, 0), (0, most - x.shape[1]), (0, 0)), constant_values=np.nan))
            start += len(x)
        trust = measure_trust(np.concatenate(points), joined(parts), self.cameras, self.rate)
        at = self.done / float(self.rate)
        self.knocked = [
            {"camera": self.cameras[c].name, "shift_px": round(px, 2), "at_s": round(at, 1)}
            for c, _, px in trust.knocked()
        ]

    def recorded(self):
        """The Centroids kept so far."""
        return self.kept.centroids() if self.kept else joined([])

    @property
    def stamps(self):
        """[(frame, second of day)] of every STAMP_FRAMES-th frame that is done."""
        start, hz = (self.zero_us or 0) / 1e6, float(self.rate)
        return [(f, (start + f / hz) % 86400.0) for f in range(0, self.done, STAMP_FRAMES)]

    def to_place(self):
        """Now and then readings (F, C, M, 3) by which the cameras could be placed, else None."""
        if self.coverage is None or time.monotonic() - self.placed_at < PLACE_EVERY_S:
            return None
        self.placed_at = time.monotonic()
        return self.coverage.to_place()

    def snapshot(self):
        """What the browser draws, as plain lists."""
        now = time.monotonic()
        if now - self.counted_at > 1.0:
            since = now - self.counted_at
            self.fps = {n: (self.packets[n] - self.counted[n]) / since for n in self.packets}
            self.counted_at, self.counted = now, dict(self.packets)
        sweep = None  # sent only when it is new: it is the large part
        if self.coverage is not None and now - self.stated > STATE_EVERY_S:
            sweep = sweep_document(self.coverage.state())
            self.stated = time.monotonic()
        seconds = self.done / float(self.rate)
        return {
            "kind": self.kind, "recording": self.recording, "seconds": round(seconds, 2), "frame": self.done,
            "timecode_s": None if self.zero_us is None else round((self.zero_us / 1e6 + seconds) % 86400.0, 3),
            "rate": float(self.rate),
            "cameras": [
                {"id": c.name, "fps": round(self.fps.get(c.name, 0.0), 1), "lost": self.lost[c.name],
                 "points": np.round(self.now[i], 1).tolist()}
                for i, c in enumerate(self.rig)
            ],
            "points": np.round(self.points, 4).tolist(), "sweep": sweep, "knocked": self.knocked,
        }  # fmt: skip


def sweep_document(state):
    """A SweepState as plain lists for the browser."""
    return {
        "share": round(state.share, 3), "good_enough": state.good_enough, "sentence": state.sentence,
        "go_to_m": None if state.go_to_m is None else np.round(state.go_to_m, 2).tolist(),
        "positions_m": [None if np.isnan(p[0]) else np.round(p, 3).tolist() for p in state.positions_m],
        "been_m": np.round(state.been_m[::3], 2).tolist(),
        "wanted": np.round(_most(state.wanted), 2).tolist(),
        "cameras": [
            {"id": r.camera, "readings": r.readings, "covered": round(r.covered, 3), "cells": r.cells.tolist(),
             "looks": r.looks.astype(int).tolist(), "lacks": r.lacks, "share": round(r.share, 3)}
            for r in state.cameras
        ],
    }  # fmt: skip


def _most(wanted):
    """Of the places that are wanted, (K, 4), those that most cameras lack."""
    return wanted[np.argsort(-wanted[:, 3], kind="stable")[:MOST_WANTED]]


def _centroids(rows):
    """Centroids of (frame, camera, (n, 3)) rows sorted by frame and camera."""
    if not rows:
        return joined([])
    sizes = [len(xyr) for _, _, xyr in rows]
    frame, camera = (np.repeat([r[i] for r in rows], sizes).astype(np.int64) for i in (0, 1))
    data = np.concatenate([xyr for _, _, xyr in rows])
    order = np.lexsort((data[:, 0], camera, frame))
    return Centroids(frame[order], camera[order], data[order, :2], data[order, 2])
