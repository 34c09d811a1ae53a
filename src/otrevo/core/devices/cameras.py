"""Tracking cameras: pictures with the centroids of markers, which the rebuild turns into points.

Their packets (core.formats.camera_packets) hold as many centroids as a picture has, so they have a reader of their own.
A performer's kit lists them as "optical": markers are worn.
"""

from fractions import Fraction

from otrevo.core.devices.contract import Device
from otrevo.core.timecode.clap import clap_in_points

DEVICE = Device(
    id="optical",
    words="Markers",
    kind="centroids",
    rate=Fraction(120),
    shape=(5,),
    per_packet=1,
    lane=None,
    clap=clap_in_points,
)
