"""Walk the header and the parameter section of a C3D file before the library under the reader does.

The library trusts the sizes and types that it finds there, and ends the process over wrong ones. Layout: the public
description of the format (header of 256 words, a parameter section of groups and parameters in a chain of offsets).
Bytes come in three orders: Intel (84), DEC (85: Intel's integers, VAX floats) and MIPS (86: big-endian); the library
reads the first two.
"""

from pathlib import Path

import numpy as np

from otrevo.core.errors import InputError

BLOCK = 512
MAX_PARAMETER_BYTES = 4 * 1024**2
INTEL, DEC, MIPS = 84, 85, 86
CHARACTER, BYTE, INTEGER, REAL = -1, 1, 2, 4
MAX_DIMENSIONS = 7
LONGEST_DESCRIPTION = 255  # its byte for a length, and one letter more than the library can count
MOST_ROTATIONS = 1000  # in a frame of points
FRAME_RATES = (1.0, 2000.0)
# what the library takes for granted: the types of parameters that say how the data lie
TYPES = {
    "POINT": {
        "USED": (INTEGER,), "SCALE": (REAL,), "RATE": (REAL,), "DATA_START": (INTEGER,), "FRAMES": (INTEGER, REAL),
        "LABELS": (CHARACTER,), "DESCRIPTIONS": (CHARACTER,), "UNITS": (CHARACTER,), "LONG_FRAMES": (REAL, INTEGER),
        "UP": (CHARACTER,), "UP_AXIS": (CHARACTER,), "X_SCREEN": (CHARACTER,), "Y_SCREEN": (CHARACTER,),
    },
    "ANALOG": {
        "USED": (INTEGER,), "SCALE": (REAL,), "RATE": (REAL,), "GEN_SCALE": (REAL,), "OFFSET": (INTEGER,),
        "LABELS": (CHARACTER,), "DESCRIPTIONS": (CHARACTER,), "UNITS": (CHARACTER,), "FORMAT": (CHARACTER,),
        "BITS": (INTEGER,),
    },
    "FORCE_PLATFORM": {
        "USED": (INTEGER,), "TYPE": (INTEGER,), "ZERO": (INTEGER,), "CORNERS": (REAL,), "ORIGIN": (REAL,),
        "CHANNEL": (INTEGER,), "CAL_MATRIX": (REAL,),
    },
    "ROTATION": {
        "USED": (INTEGER,), "DATA_START": (INTEGER,), "RATIO": (INTEGER, REAL), "RATE": (REAL,), "LABELS": (CHARACTER,),
        "DESCRIPTIONS": (CHARACTER,),
    },
    "TRIAL": {"ACTUAL_START_FIELD": (INTEGER,), "ACTUAL_END_FIELD": (INTEGER,), "CAMERA_RATE": (REAL,)},
}  # fmt: skip
NEEDED = {
    ("POINT", "USED"): 1,
    ("POINT", "FRAMES"): 1,
    ("POINT", "SCALE"): 1,
    ("POINT", "RATE"): 1,
    ("POINT", "DATA_START"): 1,
    ("ROTATION", "USED"): 1,
    ("ANALOG", "USED"): 1,
    ("FORCE_PLATFORM", "USED"): 1,
}


def _signed(byte):
    return byte - 256 if byte > 127 else byte


def _integers(data):
    return np.frombuffer(data, dtype="<u2").astype(int)


def _real(data, processor):
    if processor == DEC:  # VAX F: words exchanged, exponent two higher
        return float(np.frombuffer(bytes((data[2], data[3], data[0], data[1])), dtype="<f4")[0]) / 4
    return float(np.frombuffer(data, dtype="<f4")[0])


def refuse_damaged(path):
    """Raise InputError, naming the file and what is wrong, when header and parameters cannot be trusted."""
    path = Path(path)
    size = path.stat().st_size

    def refuse(why):
        raise InputError(f"{path.name}: the C3D is damaged ({why}).")

    with path.open("rb") as file:
        head = file.read(BLOCK)
        start = (head[0] - 1) * BLOCK
        file.seek(max(start, 0))
        section = file.read(4)
        if start < BLOCK or len(section) < 4:
            refuse("its parameters lie outside the file")
        processor = section[3]
        if processor == MIPS:
            raise InputError(f"{path.name}: written in the byte order of MIPS machines; expected that of Intel or DEC.")
        if processor not in (INTEL, DEC):
            refuse(f"processor {processor}; expected {INTEL} or {DEC}")
        data_block = int(_integers(head[16:18])[0])
        # some writers count too few blocks: the parameters reach to where the data begin
        length = max(section[2] * BLOCK, (data_block - 1) * BLOCK - start)
        section += file.read(max(0, min(length, MAX_PARAMETER_BYTES) - 4))
    points, _ = _check_header(path, head, processor, size, data_block, refuse)
    parameters = _walk(section, refuse)
    for (group, name), (kind, count, first, dimensions) in parameters.items():
        expected = (CHARACTER,) if name.startswith("LABELS") else TYPES.get(group, {}).get(name, (kind,))
        if kind not in expected:
            refuse(f"{group}:{name} has the wrong type")
        if kind == CHARACTER and dimensions == 0:  # the library looks for a length
            refuse(f"{group}:{name} is a text without a length")
        if count < NEEDED.get((group, name), 0):
            refuse(f"{group}:{name} is empty")
        if (group, name) == ("POINT", "USED") and first != points:
            refuse(f"the header has {points} points, POINT:USED {first}")
        if (group, name) == ("ROTATION", "RATIO") and first is not None and first > MOST_ROTATIONS:
            refuse(f"ROTATION:RATIO is {first}")
    if ("POINT", "USED") not in parameters:
        refuse("POINT:USED is missing")


def _check_header(path, head, processor, size, data_block, refuse):
    """(points, analog samples) of a frame. Raises through `refuse` what contradicts itself or the file's size."""
    points, analog, first, last = (int(v) for v in _integers(head[2:10]))
    scale, rate = _real(head[12:16], processor), _real(head[20:24], processor)
    if not np.isfinite(scale) or scale == 0 or last < first or not 2 <= data_block <= size // BLOCK + 1:
        refuse("its header makes no sense")
    if not FRAME_RATES[0] <= rate <= FRAME_RATES[1]:
        refuse(f"its header says {rate:.3g} frames a second")
    frame_bytes = (4 * points + analog) * (4 if scale < 0 else 2)
    if last < 65535 and (last - first + 1) * frame_bytes > size + BLOCK:
        raise InputError(
            f"{path.name}: truncated; {last - first + 1} frames of {points} points announced, the file is too short."
        )
    return points, analog


def _walk(section, refuse):
    """{(group, name): (type, number of values, first value or None, dimensions)} of all parameters, every offset checked."""
    names, found = {}, []
    at, end = 4, len(section)
    while True:
        if at + 2 > end:
            refuse("its parameters have no end")
        length, group = abs(_signed(section[at])), _signed(section[at + 1])
        if length == 0:
            break
        link = at + 2 + length
        if link + 2 > end:
            refuse("a parameter reaches beyond its section")
        name = bytes(section[at + 2 : link]).decode("ascii", "replace").upper().strip()
        step = int(_integers(section[link : link + 2])[0])
        if step and not 2 < step <= end - link:
            refuse("a parameter reaches beyond its section")
        body = section[link + 2 : link + step if step else end]
        if group < 0:
            names[-group] = name
            used = 0
        else:
            used, entry = _parameter(body, refuse)
            found.append((group, name, entry))
        if used > len(body) or (used < len(body) and used + 1 + body[used] > len(body)):
            refuse("a parameter is larger than its place")
        if used < len(body) and body[used] == LONGEST_DESCRIPTION:
            refuse("a description has no end")
        if step == 0:
            break
        at = link + step
    return {(names.get(group, ""), name): entry for group, name, entry in found}


def _parameter(body, refuse):
    """(bytes used, (type, number of values, first value, number of dimensions)) of a parameter: type, dimensions, values."""
    if len(body) < 2 or _signed(body[0]) not in (CHARACTER, BYTE, INTEGER, REAL) or body[1] > MAX_DIMENSIONS:
        refuse("a parameter has no known type")
    kind, dimensions = _signed(body[0]), [int(d) for d in body[2 : 2 + body[1]]]
    if len(dimensions) < body[1]:
        refuse("a parameter is larger than its place")
    count = int(np.prod(dimensions, dtype=np.int64))
    values = body[2 + body[1] :]
    first = int(_integers(values[:2])[0]) if kind == INTEGER and count and len(values) >= 2 else None
    return 2 + body[1] + abs(kind) * count, (kind, count, first, len(dimensions))
