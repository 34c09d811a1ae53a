"""What the recorder does with one device's packets: readings put in order, kept when recording, and how it is doing now.

No sockets and no Django in here.
"""

import time
from collections import deque
from dataclasses import dataclass

import numpy as np

COUNTED_S, SURELY_S = 1.0, 10.0  # what comes faster than a device sends was held up, unless it does so for this long
MOST_AHEAD_S = 5.0  # a packet that claims to be farther ahead than this is believed when many in a row say so
AHEAD_PACKETS = 20
STARTS_WITHIN_S = 10.0  # of being listened to, a device that has sent nothing yet is waited for


@dataclass
class Readings:
    """One device: `device`, a core Device; who wears it, by id and name, or None and "" for the room's."""

    device: object
    performer_id: int | None = None
    performer: str = ""
    trouble: str | None = None

    def __post_init__(self):
        self.next, self.lost, self.begun, self.ahead, self.full = 0, 0, False, 0, False
        self.kept = self.stamps = None
        self.listened_since = time.monotonic()
        self.heard = deque([(time.monotonic(), 0, 0.0)])  # (moment, samples, share that answered) of the last SURELY_S

    @property
    def name(self):
        """What it is called in a journal."""
        return self.device.id if self.performer_id is None else f"{self.device.id}-{self.performer_id}"

    def keep_in(self, journal):
        """Record from now on; where the journal holds readings already, go on after them."""
        self.kept, self.stamps = journal.rows(self.name, self.device.width), journal.pairs(self.name)
        self.next = len(self.kept)
        self.begun = self.next > 0

    def take_in(self, packets):
        """Packets in the order they came. What was sent twice is kept once; what is missing counts as lost.

        full: nothing more can be written, so what comes is lost; it goes on when there is room.
        """
        for p in packets:
            if p.first < self.next:
                continue
            if self.begun and p.first > self.next + MOST_AHEAD_S * self.device.rate and self.ahead < AHEAD_PACKETS:
                self.ahead += 1
                continue
            self.ahead = 0
            self.lost += p.first - self.next if self.begun else 0
            self.next, self.begun = p.first + len(p.samples), True
            self.heard.append((time.monotonic(), len(p.samples), float(np.isfinite(p.samples).mean())))
            if self.kept is not None:
                self._keep(p)
        self._forget()

    def _forget(self):
        before = time.monotonic() - SURELY_S
        while len(self.heard) > 1 and self.heard[1][0] < before:
            self.heard.popleft()

    def _keep(self, p):
        try:
            self.kept.pad(p.first)
            self.kept.add(p.samples)
            if p.second_of_day is not None:
                self.stamps.add([[p.first, p.second_of_day]])
            self.full = False
        except OSError:
            self.full = True

    def stamps_before(self, end):
        """[(sample, second of day)] of the samples before `end`."""
        return [(int(first), float(second)) for first, second in self.stamps.read() if first < end]

    def snapshot(self):
        """What the Floor shows of it."""
        self._forget()
        now, rate = time.monotonic(), float(self.device.rate)
        heard = [h for h in self.heard if now - h[0] <= COUNTED_S]
        samples = sum(n for _, n, _ in heard)
        answering = sum(n * share for _, n, share in heard) / max(samples, 1)
        hz = samples / COUNTED_S
        if hz > rate:
            (since, *_), *longer = self.heard
            hz = max(rate, min(hz, sum(n for _, n, _ in longer) / max(now - since, COUNTED_S)))
        return {
            "id": self.device.id, "words": self.device.words, "performer": self.performer, "trouble": self.trouble,
            "rate": rate, "hz": hz, "lost": self.lost,
            "waited_for": not self.begun and now - self.listened_since < STARTS_WITHIN_S,
            "answering": round(answering, 3),
        }  # fmt: skip
