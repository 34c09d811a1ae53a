"""Face camera: 52 shapes a picture, none where it lost the face."""

from fractions import Fraction

import numpy as np

from otrevo.core.devices.contract import Curve, Device, DeviceTrack, Lane
from otrevo.core.face.shapes import FACE_SHAPES, calibrate_face, face_values
from otrevo.core.timecode.lineup import resample_linear


def track(stream, document, duration_s):
    """The shapes 0 to 1 by the performer's own neutral and ranges, resampled from the take's zero on."""
    data = stream.read().astype(float)
    seen = np.isfinite(data[:, 0])
    if seen.sum() < 2:
        return None
    own, at = stream.clock.times(len(data)), np.arange(int(duration_s * stream.rate)) / float(stream.rate)
    values = resample_linear(own[seen], face_values(data[seen], document), at)
    values[np.interp(at, own, (~seen).astype(float)) > 0.5] = np.nan
    return DeviceTrack("face shapes", "shapes", values)


def says(document):
    weak = document.get("weak", [])
    return (
        f"{len(FACE_SHAPES) - len(weak)} of {len(FACE_SHAPES)} shapes",
        f"hardly shown: {', '.join(weak)}" if weak else "",
    )


DEVICE = Device(
    id="face",
    words="Face camera",
    kind="shapes",
    rate=Fraction(60),
    shape=(len(FACE_SHAPES),),
    per_packet=5,
    lane=Lane("jaw, lids dotted", 38, "curves", curves=(
        Curve(FACE_SHAPES.index("jawOpen")), Curve(FACE_SHAPES.index("eyeBlinkLeft"), "", "dotted"),
    )),
    channels=FACE_SHAPES,
    details={"names": list(FACE_SHAPES)},
    calibrate=lambda stream, solved: calibrate_face(stream.read().astype(float)),
    says=says,
    track=track,
)  # fmt: skip
