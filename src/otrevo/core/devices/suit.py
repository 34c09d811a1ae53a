"""Body suit: orientation and acceleration of seventeen sensors."""

from fractions import Fraction

import numpy as np

from otrevo.core.body.kinematics import motion_joints
from otrevo.core.conventions import slerp
from otrevo.core.devices.contract import Device, Lane
from otrevo.core.solve.body import measured_bones
from otrevo.core.solve.suit import SUIT_BONES, calibrate_suit, resample_sensor, suit_to_world
from otrevo.core.timecode.clap import clap_in_accelerations


def _bones(solved):
    """World rotations (T, 17, 4) of the suit's bones, and where markers show them (T, 17)."""
    model = solved.performer.model()
    measured = measured_bones(model, solved.seen)[:, [model.skeleton.index(b) for b in SUIT_BONES]]
    _, world = motion_joints(solved.motion)
    return world[:, [solved.motion.skeleton.index(b) for b in SUIT_BONES]], measured


def calibrate(stream, solved):
    """How each sensor sits on its bone, by the body as markers show it."""
    data = stream.read().astype(float)
    own = stream.clock.times(len(data))
    world, measured = _bones(solved)
    bones = slerp(solved.times_s, world, own)
    nearest = np.clip(np.searchsorted(solved.times_s, own), 0, len(solved.times_s) - 1)
    bones[~measured[nearest]] = np.nan
    return calibrate_suit(data[..., :4], bones)


def guides(stream, document, solved):
    """World rotations of bones, {bone: (T, 4)}; headings from the bones that markers show."""
    data = stream.read().astype(float)
    sensor = resample_sensor(stream.clock.times(len(data)), data[..., :4], solved.times_s)
    world, measured = _bones(solved)
    return suit_to_world(sensor, document, world, measured, float(solved.motion.rate))


def says(document):
    residual = np.sqrt(np.mean(np.square([s["residual_deg"] for s in document.values()])))
    worst = max(document, key=lambda bone: document[bone]["residual_deg"])
    return f"{len(document)} sensors, {residual:.1f}°", f"worst {worst}, {document[worst]['residual_deg']:.1f}°"


DEVICE = Device(
    id="suit",
    words="Suit",
    kind="orientations",
    rate=Fraction(100),
    shape=(len(SUIT_BONES), 7),
    per_packet=5,
    lane=Lane(f"{len(SUIT_BONES)} sensors · received", 30, "share", parts=len(SUIT_BONES)),
    channels=tuple(f"{bone} {what}" for bone in SUIT_BONES for what in ("qx", "qy", "qz", "qw", "ax", "ay", "az")),
    clap=lambda data, times_s: clap_in_accelerations(data[..., 4:7], times_s),
    calibrate=calibrate,
    says=says,
    guides=guides,
)
