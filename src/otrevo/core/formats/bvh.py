"""BVH, read and written: VRM bone names, centimetres, +Y up, rest pose = offsets, channels ZXY degrees.

Only the root carries position channels. Rotations are intrinsic Z, X, Y (R = Rz Rx Ry), as the channel order says.
"""

from fractions import Fraction
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from otrevo.core.body.kinematics import Motion
from otrevo.core.body.skeleton import END_OFFSETS, Skeleton
from otrevo.core.conventions import CM_PER_M, RATES
from otrevo.core.errors import InputError
from otrevo.core.formats.documents import write_whole

MAX_BYTES = 512 * 1024 * 1024


def write_bvh(path, motion):
    """Write a Motion whole or not at all. Raises InputError when it holds missing values."""
    if not (np.isfinite(motion.root_position_m).all() and np.isfinite(motion.rotation_local).all()):
        raise InputError(f"{Path(path).name}: the motion has frames without a pose; BVH has no way to say 'missing'.")
    skeleton = motion.skeleton
    lines = ["HIERARCHY"]
    order = []

    def joint(b, depth):
        pad = "\t" * depth
        name = skeleton.names[b]
        # the root's place is wholly in its position channels
        offset = np.zeros(3) if skeleton.parents[b] < 0 else skeleton.rest_offset_m[b] * CM_PER_M
        lines.append(f"{pad}{'ROOT' if skeleton.parents[b] < 0 else 'JOINT'} {name}")
        lines.append(f"{pad}{{")
        lines.append(f"{pad}\tOFFSET " + " ".join(f"{v:.6f}" for v in offset))
        position = "6 Xposition Yposition Zposition" if skeleton.parents[b] < 0 else "3"
        lines.append(f"{pad}\tCHANNELS {position} Zrotation Xrotation Yrotation")
        order.append(b)
        children = np.flatnonzero(skeleton.parents == b)
        for c in children:
            joint(int(c), depth + 1)
        if len(children) == 0:
            end = np.array(END_OFFSETS.get(name, (0.0, -0.03, 0.0))) * CM_PER_M
            lines.extend([f"{pad}\tEnd Site", f"{pad}\t{{", f"{pad}\t\tOFFSET " + " ".join(f"{v:.6f}" for v in end)])
            lines.append(f"{pad}\t}}")
        lines.append(f"{pad}}}")

    joint(int(np.flatnonzero(skeleton.parents < 0)[0]), 0)
    frames = len(motion)
    angles = Rotation.from_quat(motion.rotation_local[:, order].reshape(-1, 4)).as_euler("ZXY", degrees=True)
    table = np.concatenate([motion.root_position_m * CM_PER_M, angles.reshape(frames, -1)], axis=1)
    lines += ["MOTION", f"Frames: {frames}", f"Frame Time: {float(1 / motion.rate):.10f}"]
    rows = "\n".join(" ".join(f"{v:.6f}" for v in row) for row in table.tolist())
    write_whole(path, ("\n".join(lines) + "\n" + rows + "\n").encode())


def read_bvh(path):
    """A Motion from a BVH file in centimetres; any names, any channel order. Raises InputError in one sentence."""
    path = Path(path)
    if path.stat().st_size > MAX_BYTES:
        raise InputError(f"{path.name}: larger than {MAX_BYTES // 2**20} MiB; expected a BVH of one take.")
    text = path.read_text(encoding="utf-8", errors="replace")
    head, found, tail = text.partition("MOTION")
    if "HIERARCHY" not in head or not found:
        raise InputError(f"{path.name}: no HIERARCHY and MOTION; expected a BVH file, perhaps it is truncated.")
    names, parents, offsets, channels = _read_hierarchy(head, path.name)
    words = tail.split()
    try:
        frames = int(words[words.index("Frames:") + 1])
        at = words.index("Time:") + 1
        frame_time = float(words[at])
        values = np.array(words[at + 1 :], dtype=float)
    except (ValueError, IndexError):
        raise InputError(
            f"{path.name}: MOTION lacks Frames or Frame Time, or holds words that are no numbers."
        ) from None
    width = sum(map(len, channels))
    if frames < 1 or not 0 < frame_time < 10:
        raise InputError(f"{path.name}: {frames} frames of {frame_time} s; expected at least one frame.")
    if len(values) != frames * width:
        raise InputError(
            f"{path.name}: {len(values)} numbers after MOTION; {frames} frames of {width} channels need {frames * width}."
        )
    if not np.isfinite(values).all():
        raise InputError(f"{path.name}: MOTION holds NaN or infinite values.")
    return _to_motion(names, parents, offsets, channels, values.reshape(frames, width), _exact_rate(1 / frame_time))


def _read_hierarchy(head, where):
    words = head.split()
    names, parents, offsets, channels, stack = [], [], [], [], []
    in_end = False
    i = 0
    try:
        while i < len(words):
            w = words[i]
            if w in ("ROOT", "JOINT"):
                names.append(words[i + 1])
                parents.append(stack[-1] if stack else -1)
                offsets.append([0.0, 0.0, 0.0])
                channels.append([])
                pending, in_end = len(names) - 1, False
                i += 1
            elif w == "End":
                in_end = True
                i += 1
            elif w == "{":
                stack.append(-2 if in_end else pending)
            elif w == "}":
                in_end = False
                stack.pop()
            elif w == "OFFSET":
                if stack[-1] != -2:
                    offsets[stack[-1]] = [float(v) for v in words[i + 1 : i + 4]]
                i += 3
            elif w == "CHANNELS":
                n = int(words[i + 1])
                channels[stack[-1]] = words[i + 2 : i + 2 + n]
                i += 1 + n
            i += 1
    except (ValueError, IndexError, UnboundLocalError):
        raise InputError(
            f"{where}: the HIERARCHY is malformed near word {i + 1} ('{words[min(i, len(words) - 1)]}')."
        ) from None
    if not names or stack:
        raise InputError(f"{where}: the HIERARCHY ends inside a joint; the file is truncated.")
    return tuple(names), np.array(parents, dtype=np.int64), np.array(offsets) / CM_PER_M, channels


def _to_motion(names, parents, offsets, channels, values, rate):
    frames = len(values)
    rotation = np.tile([0.0, 0.0, 0.0, 1.0], (frames, len(names), 1))
    root = np.tile(offsets[0], (frames, 1))
    at = 0
    for b, names_of in enumerate(channels):
        block = values[:, at : at + len(names_of)]
        at += len(names_of)
        axes = "".join(c[0] for c in names_of if c.endswith("rotation"))
        angles = block[:, [i for i, c in enumerate(names_of) if c.endswith("rotation")]]
        if axes:
            rotation[:, b] = Rotation.from_euler(axes, angles, degrees=True).as_quat()
        if parents[b] < 0:
            for i, c in enumerate(names_of):
                if c.endswith("position"):
                    root[:, "XYZ".index(c[0])] += block[:, i] / CM_PER_M
    return Motion(Skeleton(names, parents, offsets), rate, root, rotation)


def _exact_rate(hz):
    """The exact rate meant by a decimal frame time: a standard one within 0.05 %, else a plain fraction."""
    for rate in (*RATES, Fraction(100), Fraction(120), Fraction(90), Fraction(240)):
        if abs(hz / float(rate) - 1) < 2e-4:
            return rate
    return Fraction(hz).limit_denominator(1001)
