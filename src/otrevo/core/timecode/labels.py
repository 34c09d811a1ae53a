"""SMPTE ST 12-1 time labels: frame numbers to hh:mm:ss:ff and back, drop-frame exact, wrapping at 24 h.

Drop-frame (29.97 and 59.94 only) skips labels, never frames: the first 2 (at 59.94: 4) of every minute but each tenth.
Labels are written with ';' before the frames when drop-frame, ':' otherwise.
"""

import re
from dataclasses import dataclass
from fractions import Fraction

from otrevo.core.conventions import RATES
from otrevo.core.errors import InputError

_PATTERN = re.compile(r"^(\d{2}):(\d{2}):(\d{2})([:;])(\d{2})$")


@dataclass(frozen=True)
class TimecodeFormat:
    """An exact frame rate and whether labels are drop-frame. Raises InputError for a rate or pairing that is no standard."""

    rate: Fraction
    drop: bool = False

    def __post_init__(self):
        if self.rate not in RATES:
            known = ", ".join(f"{r.numerator}/{r.denominator}" for r in RATES)
            raise InputError(f"{self.rate} is not a timecode rate; expected one of {known}.")
        if self.drop and self.rate.denominator != 1001 or self.drop and self.nominal % 30:
            raise InputError(f"Drop-frame exists at 30000/1001 and 60000/1001 only, not at {self.rate}.")

    @property
    def nominal(self):
        """Labels per second: the rate rounded up to a whole number."""
        return -(-self.rate.numerator // self.rate.denominator)

    @property
    def dropped_per_minute(self):
        return self.nominal // 15 if self.drop else 0

    @property
    def frames_per_day(self):
        return 24 * 3600 * self.nominal - self.dropped_per_minute * (24 * 60 - 24 * 6)

    def label(self, frame):
        """The label of a frame number counted from 00:00:00:00; wraps at 24 h."""
        frame = int(frame) % self.frames_per_day
        d = self.dropped_per_minute
        if d:
            minute = 60 * self.nominal - d
            ten = 10 * minute + d
            tens, rest = divmod(frame, ten)
            frame += 9 * d * tens
            if rest >= 60 * self.nominal:  # the first minute of ten keeps all its labels
                frame += d * ((rest - 60 * self.nominal) // minute + 1)
        seconds, ff = divmod(frame, self.nominal)
        return f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}{';' if self.drop else ':'}{ff:02d}"

    def frame(self, label):
        """The frame number of a label. Raises InputError for labels that do not exist at this rate."""
        match = _PATTERN.match(label)
        if not match:
            raise InputError(f"'{label}' is not a timecode; expected hh:mm:ss:ff.")
        hh, mm, ss, ff = (int(match[i]) for i in (1, 2, 3, 5))
        return self.frame_of_fields(hh, mm, ss, ff, label)

    def frame_of_fields(self, hh, mm, ss, ff, label=None):
        """The frame number of separate fields, as read from LTC."""
        d = self.dropped_per_minute
        label = label or f"{hh:02d}:{mm:02d}:{ss:02d}:{ff:02d}"
        if hh > 23 or mm > 59 or ss > 59 or ff >= self.nominal:
            raise InputError(f"'{label}' does not exist at {self.rate} frames per second.")
        if d and ss == 0 and ff < d and mm % 10:
            raise InputError(f"'{label}' is one of the labels that drop-frame leaves out.")
        minutes = 60 * hh + mm
        return (60 * minutes + ss) * self.nominal + ff - d * (minutes - minutes // 10)

    def seconds(self, frame):
        """Real seconds since midnight of a frame number, exact."""
        return Fraction(frame) / self.rate
