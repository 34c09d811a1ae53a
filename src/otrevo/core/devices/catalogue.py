"""All devices. A new one is a file that declares it and a line in DEVICES."""

from otrevo.core.devices import cameras, face_camera, gloves, room_sound, suit, timecode_track
from otrevo.core.errors import InputError

DEVICES = (
    cameras.DEVICE,
    suit.DEVICE,
    gloves.DEVICE,
    face_camera.DEVICE,
    timecode_track.DEVICE,
    room_sound.DEVICE,
)


def kit():
    """Ids of what a performer can wear; markers come first."""
    return tuple(d.id for d in DEVICES if d.worn)


def device_named(identity):
    """The Device of that id. Raises InputError naming those there are."""
    found = device_of(identity)
    if found is None:
        raise InputError(f"There is no device '{identity}'; expected one of {', '.join(d.id for d in DEVICES)}.")
    return found


def device_of(stream_name):
    """The Device whose stream has that name, or None for a stream that came from elsewhere."""
    return next((d for d in DEVICES if d.id == stream_name), None)


def worn(kit=None):
    """The Devices that a performer wears and that send readings of their own: all, or those of a kit. Markers do not."""
    return tuple(d for d in DEVICES if d.worn and d is not cameras.DEVICE and (kit is None or d.id in kit))


def of_the_room():
    """The Devices that nobody wears."""
    return tuple(d for d in DEVICES if not d.worn)
