"""What the recorder does with one device's packets: readings put in order, kept when recording, and how it is doing now.

No sockets and no Django in here.
"""

import time
from collections import deque
from dataclasses import dataclass, field

import numpy as np

COUNTED_S = 1.0
MOST_AHEAD_S = 5.0  # a packet that claims to be farther ahead than this is not believed


@dataclass
class Readings:
    """One device: `device`, a core Device; who wears it, by id and name, or None and "" for the room's."""

    device: object
    performer_id: int | None = None
    performer: str = ""
    recording: bool = False
    trouble: str | None = None
    kept: list = field(default_factory=list)
    stamps: list = field(default_factory=list)

    def __post_init__(self):
        self.next, self.lost = 0, 0
        self.heard = deque()  # (moment, samples, share that answered) of the last second

    def take_in(self, packets):
        """Packets in the order they came. What was sent twice is kept once; what is missing counts as lost."""
        for p in packets:
            begun = self.next > 0 or bool(self.kept)
            if p.first < self.next or (begun and p.first > self.next + MOST_AHEAD_S * self.device.rate):
                continue
            self.lost += p.first - self.next if begun else 0
            self.next = p.first + len(p.samples)
            self.heard.append((time.monotonic(), len(p.samples), float(np.isfinite(p.samples).mean())))
            if self.recording:
                self.kept.append((p.first, p.samples))
                if p.second_of_day is not None:
                    self.stamps.append((p.first, p.second_of_day))

    def recorded(self, seconds):
        """(samples (T, *shape) float32 from the device's first on, NaN where lost; stamps) of a take of so many seconds."""
        end = max((first + len(x) for first, x in self.kept), default=0)
        end = min(end, int(seconds * self.device.rate))
        samples = np.full((end, self.device.width), np.nan, dtype=np.float32)
        for first, x in self.kept:
            samples[first : first + len(x)] = x[: max(0, end - first)]
        stamps = [(first, second) for first, second in self.stamps if first < end]
        return samples.reshape(end, *self.device.shape), stamps

    def snapshot(self):
        """What the Floor shows of it."""
        now = time.monotonic()
        while self.heard and now - self.heard[0][0] > COUNTED_S:
            self.heard.popleft()
        samples = sum(n for _, n, _ in self.heard)
        answering = sum(n * share for _, n, share in self.heard) / max(samples, 1)
        return {
            "id": self.device.id, "words": self.device.words, "performer": self.performer, "trouble": self.trouble,
            "rate": float(self.device.rate), "hz": samples / COUNTED_S, "lost": self.lost,
            "answering": round(answering, 3),
        }  # fmt: skip
