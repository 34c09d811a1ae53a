"""Gloves: two bend sensors and one spread sensor for each finger."""

from dataclasses import replace
from fractions import Fraction

import numpy as np

from otrevo.core.devices.contract import Curve, Device, Lane
from otrevo.core.hands.gloves import FINGERS, calibrate_gloves, finger_angles, finger_rotations
from otrevo.core.timecode.lineup import resample_linear

HANDS = ("left", "right")
LEAST_SPAN = 180.0  # raw counts; a finger that hardly bends must not fill the lane with its noise


def calibrate(stream, solved):
    """Offset and gain of each sensor, by the flat hand and the fist."""
    return calibrate_gloves(stream.read().astype(float), float(stream.rate))


def completes(stream, document, motion, times_s):
    """The motion with the fingers as the gloves had them."""
    data = stream.read().astype(float)
    good = np.isfinite(data.reshape(len(data), -1)).all(axis=1)
    if good.sum() < 2:
        return motion
    angles = resample_linear(stream.clock.times(len(data))[good], finger_angles(data[good], document), times_s)
    rotation = motion.rotation_local.copy()
    for bone, turned in finger_rotations(angles, motion.skeleton).items():
        rotation[:, motion.skeleton.index(bone)] = turned
    return replace(motion, rotation_local=rotation)


DEVICE = Device(
    id="gloves",
    words="Gloves",
    kind="bends",
    rate=Fraction(90),
    shape=(2, len(FINGERS), 3),
    per_packet=11,
    lane=Lane(
        "left, right dashed · curl", 46, "curves", least_span=LEAST_SPAN,
        curves=tuple(
            Curve(3 * (5 * hand + finger), side, "dashed" if side == "right" else "solid")
            for hand, side in enumerate(HANDS) for finger in range(len(FINGERS))
        ),
    ),
    channels=tuple(f"{side} {f.lower()} {what}" for side in HANDS for f in FINGERS for what in ("first", "outer", "spread")),
    calibrate=calibrate,
    says=lambda document: ("both hands", f"flat hand, and fist at {document['fist_at_s']:.1f} s of the warm-up"),
    completes=completes,
)  # fmt: skip
