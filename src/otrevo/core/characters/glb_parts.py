"""The binary part of a GLB as it grows, and the container itself."""

import json
import struct

import numpy as np

FLOAT = 5126


class BinaryParts:
    """data, views and accessors of one buffer; `put` adds an array of floats."""

    def __init__(self, data=b"", views=None, accessors=None, buffer=0):
        self.data, self.buffer = bytearray(data), buffer
        self.views = [] if views is None else views
        self.accessors = [] if accessors is None else accessors

    def put(self, values, kind, bounds=False):
        """The number of a new accessor of float32 `values` (N, ...); kind: glTF's word for one element."""
        self.data.extend(b"\0" * (-len(self.data) % 4))
        data = np.ascontiguousarray(values, dtype="<f4")
        self.views.append({"buffer": self.buffer, "byteOffset": len(self.data), "byteLength": data.nbytes})
        self.data.extend(data.tobytes())
        accessor = {"bufferView": len(self.views) - 1, "componentType": FLOAT, "count": len(data), "type": kind}
        if bounds:
            flat = data.reshape(len(data), -1)
            accessor |= {"min": flat.min(axis=0).tolist(), "max": flat.max(axis=0).tolist()}
        self.accessors.append(accessor)
        return len(self.accessors) - 1


def glb_bytes(document, binary):
    """The bytes of a GLB with a document and its binary chunk."""
    text = json.dumps(document, separators=(",", ":"), ensure_ascii=False).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    length = 12 + 8 + len(text) + 8 + len(binary)
    return b"".join([
        struct.pack("<4sII", b"glTF", 2, length), struct.pack("<II", len(text), 0x4E4F534A), text,
        struct.pack("<II", len(binary), 0x004E4942), binary,
    ])  # fmt: skip
