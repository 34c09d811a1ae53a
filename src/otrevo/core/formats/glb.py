"""GLB as it leaves: a character's own file with the take's animation added. What is written comes from `core.retarget.deliver`."""

import json
import struct

from otrevo.core.errors import InputError
from otrevo.core.formats.contract import Format, of_characters


def animated_frames(path):
    """Frames of the last animation of a GLB, by its first channel. Raises InputError for a file that is no animated GLB."""
    try:
        data = path.read_bytes()
        magic, version, length, size, kind = struct.unpack("<4sIIII", data[:20])
        if magic != b"glTF" or version != 2 or length != len(data) or kind != 0x4E4F534A:
            raise ValueError
        document = json.loads(data[20 : 20 + size])
        sampler = document["animations"][-1]["samplers"][0]
        return int(document["accessors"][sampler["input"]]["count"])
    except (ValueError, KeyError, IndexError, TypeError, struct.error):
        raise InputError(f"{path.name}: expected a GLB with an animation.") from None


FORMAT = Format(
    id="glb",
    words="GLB, each character's own file with its skin, moving",
    holds="characters",
    conventions="GLB, the character's own file, axes, unit and names, with the animation added",
    ending=".glb",
    check=animated_frames,
    files=of_characters("glb"),
    drops=(".glb", ".vrm"),
    read_by="otrevo.core.retarget.dropped",
)
