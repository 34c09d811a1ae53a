"""Timecode track: linear timecode as sound, by which the room's sound is timed."""

from fractions import Fraction

from otrevo.core.devices.contract import Device

DEVICE = Device(
    id="timecode",
    words="Timecode",
    kind="audio",
    rate=Fraction(48000),
    shape=(),
    per_packet=2400,
    lane=None,
    worn=False,
    stamped=False,
)
