"""Room microphone: one channel of sound; the clap is its sharpest onset."""

from fractions import Fraction

from otrevo.core.devices.contract import Device, Lane
from otrevo.core.timecode.clap import clap_in_sound

DEVICE = Device(
    id="room",
    words="Sound",
    kind="audio",
    rate=Fraction(48000),
    shape=(),
    per_packet=2400,
    lane=Lane("room", 34, "wave"),
    worn=False,
    stamped=False,
    clap=clap_in_sound,
)
