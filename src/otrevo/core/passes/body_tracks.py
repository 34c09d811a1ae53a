"""What every solve gives of a body, whatever it was solved from."""

from otrevo.core.devices.catalogue import DEVICES
from otrevo.core.passes.contract import SampleClock, Track


def worn_devices(material, performer):
    """(Device, TakeStream) of what the performer wore and is calibrated for."""
    return tuple((d, s) for d in DEVICES if d.id in performer.devices and (s := material.recorded(d.id)) is not None)


def completed(motion, worn, performer, times):
    """The Motion with what devices know of it, at its frames' take times (T,)."""
    for device, stream in worn:
        if device.completes:
            motion = device.completes(stream, performer.devices[device.id], motion, times)
    return motion


def body_tracks(motion, performer, rate, clock):
    """The Tracks of a solved Motion: rotations with their skeleton, and places of its root."""
    skeleton = motion.skeleton
    bones = {
        "bones": skeleton.names,
        "parents": skeleton.parents.tolist(),
        "offsets_m": skeleton.rest_offset_m.tolist(),
        "worn": _marker_seats(performer, skeleton.names),
    }
    return [
        Track("body rotation", "rotations", rate, motion.rotation_local, clock, bones),
        Track("body root", "places", rate, motion.root_position_m, clock),
    ]


def uncertainty_track(bones, sd_m, usual_m, step, rate, clock):
    """How sure each joint is, (F, B) m, of every `step`-th frame."""
    details = {"bones": list(bones), "usual_m": [round(float(v), 5) for v in usual_m]}
    return Track(
        "joint uncertainty", "uncertainty", rate / step, sd_m, SampleClock(clock.start_s, clock.hz / step), details
    )


def device_tracks(worn, performer, duration_s):
    """What devices add to the take themselves."""
    out = []
    for device, stream in worn:
        made = device.track(stream, performer.devices[device.id], duration_s) if device.track else None
        if made is not None:
            details = {"device": device.id, "names": list(device.channel_names())}
            clock = SampleClock(0.0, float(stream.rate))
            out.append(Track(made.name, made.kind, stream.rate, made.values, clock, details))
    return out


def _marker_seats(performer, bones):
    """Where the markers sit on the body, [[number of the bone, x, y, z], ...]: offsets from the joint in T-pose axes, metres."""
    rows = zip(performer.marker_bones, performer.marker_offset_m.round(4).tolist(), strict=True)
    return [[bones.index(bone), *offset] for bone, offset in rows if bone in bones]
