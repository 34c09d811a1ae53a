"""BVH, written in one way and read in many.

Written: VRM bone names, centimetres, +Y up, rest pose = offsets. Only the root carries position channels; rotations
are intrinsic Z, X, Y in degrees (R = Rz Rx Ry), as the channel order says. Read: any names, orders, units and axes.
"""

import re
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np

from otrevo.core.body.kinematics import Motion, motion_joints
from otrevo.core.body.skeleton import END_OFFSETS, Skeleton
from otrevo.core.conventions import (
    CM_PER_M,
    RATES,
    euler_from_quaternion,
    matrix_from_quaternion,
    quaternion_conjugate,
    quaternion_from_euler,
    quaternion_multiply,
    quaternion_rotate,
)
from otrevo.core.errors import InputError
from otrevo.core.formats.contract import Format, PackageFile
from otrevo.core.formats.documents import write_whole
from otrevo.core.motion_rate import at_rate

MAX_BYTES = 512 * 1024 * 1024
FEWEST_BODY_JOINTS = 8
USUAL_HEIGHT_M = 1.7
STRETCH_NOTED_M = 0.001
# metres per unit, and how much less likely a unit is than centimetres: as a factor of the body's size, logarithmic
UNITS = {
    "centimetres": (0.01, 0.0), "metres": (1.0, 0.0), "millimetres": (0.001, 0.1), "inches": (0.0254, 0.35),
    "decimetres": (0.1, 0.35), "feet": (0.3048, 0.5),
}  # fmt: skip
_MOTION = re.compile(r"^\s*MOTION\b", re.IGNORECASE | re.MULTILINE)
_HIERARCHY = re.compile(r"\bHIERARCHY\b", re.IGNORECASE)
_COMMENT = re.compile(r"^\s*(#|//).*$", re.MULTILINE)
_FRAMES = re.compile(r"\bFrames\s*:\s*(\S+)", re.IGNORECASE)
_FRAME_TIME = re.compile(r"\bFrame\s+Time\s*:\s*(\S+)", re.IGNORECASE)
_END = -2  # marks an end site among the joints that are open
_CHANNELS = tuple(f"{axis}{kind}" for kind in ("position", "rotation") for axis in "xyz")


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
    rotation = motion.rotation_local[:, order]
    turning = (rotation[1:] != rotation[:-1]).any(axis=(0, 2))  # fingers without gloves keep still all through
    angles = np.repeat(euler_from_quaternion("ZXY", rotation[:1]), frames, axis=0)
    angles[:, turning] = euler_from_quaternion("ZXY", rotation[:, turning])
    channels = np.concatenate([motion.root_position_m * CM_PER_M, np.degrees(angles).reshape(frames, -1)], axis=1)
    lines += ["MOTION", f"Frames: {frames}", f"Frame Time: {float(1 / motion.rate):.10f}"]
    changing = np.r_[np.ones(3, dtype=bool), turning.repeat(3)]
    first = channels[0] if frames else np.zeros(len(changing))
    row = " ".join("%.6f" if c else f"{v:.6f}" for c, v in zip(changing, first, strict=True))
    rows = "\n".join(row % tuple(values) for values in channels[:, changing].tolist())
    write_whole(path, ("\n".join(lines) + "\n" + rows + "\n").encode())


def read_bvh(path):
    """A Motion from a BVH file of anybody's making: metres, +Y up, whatever units and axes the file has.

    Names, channel orders, letter case, blank lines and comment lines (`#`, `//`) are free. Units and the up axis are
    found from the skeleton, since BVH cannot state them; what was odd but understood is told in the Motion's `notes`.
    Raises InputError in one sentence for what cannot be understood.
    """
    tree, rate, values, notes = open_bvh(path)
    return _to_motion(tree, rate, values, notes)


def open_bvh(path, frames_wanted=True):
    """(hierarchy, exact rate, channel values (T, channels), notes) of a BVH, all in the file's own unit and axes.

    Without `frames_wanted` a skeleton with no frames at all is good enough. Raises InputError as read_bvh does.
    """
    path = Path(path)
    if path.stat().st_size > MAX_BYTES:
        raise InputError(f"{path.name}: larger than {MAX_BYTES // 2**20} MiB; expected a BVH of one take.")
    text = path.read_text(encoding="utf-8", errors="replace")
    if "#" in text or "//" in text:
        text = _COMMENT.sub("", text)
    mark = _MOTION.search(text)
    if (mark is None and frames_wanted) or not _HIERARCHY.search(text, 0, mark.start() if mark else len(text)):
        raise InputError(f"{path.name}: no HIERARCHY and MOTION; expected a BVH file, perhaps it is truncated.")
    tree, notes = _read_hierarchy(text[: mark.start()] if mark else text, path.name), []
    width = sum(map(len, tree.channels))
    if not frames_wanted and (mark is None or re.search(r"\bFrames\s*:\s*0\b", text[mark.end() :], re.IGNORECASE)):
        return tree, Fraction(30), np.zeros((0, width)), notes
    rate, values = _read_motion(text, mark.end(), width, path.name, notes)
    return tree, rate, values, notes


def local_matrices(tree, values):
    """(T, B, 4, 4) matrices from bone to parent of channel values (T, channels), in the file's unit and axes.

    Positions of a joint below the root replace its offset where they lie closer to it than to zero, else they add to it.
    """
    frames, offsets = len(values), np.array(tree.offsets)
    out = np.tile(np.eye(4), (frames, len(tree.names), 1, 1))
    out[..., :3, 3] = offsets
    for b, rotation, moved in _channels(tree, values):
        if rotation is not None:
            out[:, b, :3, :3] = matrix_from_quaternion(rotation)
        if moved is not None:
            out[:, b, :3, 3] = moved if b and not _adds(moved, offsets[b]) else moved + offsets[b]
    return out


def _channels(tree, values):
    """(joint, rotations (T, 4) or None, positions (T, 3) or None) of each joint."""
    at = 0
    for b, channels in enumerate(tree.channels):
        block = values[:, at : at + len(channels)]
        at += len(channels)
        axes = "".join(c[0] for c in channels if c.endswith("rotation")).upper()
        angles = block[:, [i for i, c in enumerate(channels) if c.endswith("rotation")]]
        moved = None
        if any(c.endswith("position") for c in channels):
            moved = np.zeros((len(values), 3))
            for i, c in enumerate(channels):
                if c.endswith("position"):
                    moved[:, "xyz".index(c[0])] = block[:, i]
        yield b, quaternion_from_euler(axes, np.radians(angles)) if axes else None, moved


def _adds(positions, offset):
    """Whether position channels (T, 3) add to a joint's offset (3,) rather than replace it."""
    middle = np.median(positions, axis=0)
    return np.abs(middle - offset).sum() > np.abs(middle).sum()


@dataclass
class _Hierarchy:
    """The skeleton as the file has it, in the file's own units: names, parents, offsets, channels and end sites by joint."""

    names: list
    parents: list
    offsets: list
    channels: list
    ends: list  # (joint, offset)


def _read_motion(text, start, width, where, notes):
    """(exact rate, values (T, width)) of the MOTION section that begins at `start`."""
    frames, frame_time = _FRAMES.search(text, start), _FRAME_TIME.search(text, start)
    try:
        announced, seconds = int(frames[1]), float(frame_time[1])
        values = np.fromstring(text[max(frames.end(), frame_time.end()) :], dtype=float, sep=" ")
    except (TypeError, ValueError):
        raise InputError(f"{where}: MOTION lacks Frames or Frame Time, or holds words that are not numbers.") from None
    if announced < 1 or not 0 < seconds < 10:
        raise InputError(f"{where}: {announced} frames of {seconds} s; expected at least one frame.")
    there = len(values) // width if width else 0
    if there < announced or len(values) != there * width:
        raise InputError(
            f"{where}: {len(values)} numbers after MOTION; {announced} frames of {width} channels need {announced * width}."
        )
    if there > announced:
        notes.append(f"says {announced} frames and holds {there}; all {there} are read")
    if not np.isfinite(values).all():
        raise InputError(f"{where}: MOTION holds NaN or infinite values.")
    return exact_rate(1 / seconds), values.reshape(there, width)


def _read_hierarchy(head, where):
    words = head.split()
    tree = _Hierarchy([], [], [], [], [])
    stack, pending, i = [], None, 0
    try:
        while i < len(words):
            word = words[i].upper()
            if word in ("ROOT", "JOINT"):
                tree.names.append(words[i + 1])
                tree.parents.append(stack[-1] if stack else -1)
                tree.offsets.append([0.0, 0.0, 0.0])
                tree.channels.append([])
                pending = len(tree.names) - 1
                i += 1
            elif word == "END":
                pending = _END
                i += 1
            elif word == "{":
                stack.append(pending)
            elif word == "}":
                stack.pop()
            elif word == "OFFSET":
                offset = [float(v) for v in words[i + 1 : i + 4]]
                if len(offset) != 3 or not np.isfinite(offset).all():
                    raise ValueError
                if stack[-1] == _END:
                    tree.ends.append((stack[-2], offset))
                else:
                    tree.offsets[stack[-1]] = offset
                i += 3
            elif word == "CHANNELS":
                count = int(words[i + 1])
                channels = [w.lower() for w in words[i + 2 : i + 2 + count]]
                if len(channels) != count or any(c not in _CHANNELS for c in channels) or len(set(channels)) < count:
                    raise ValueError
                tree.channels[stack[-1]] = channels
                i += 1 + count
            elif word != "HIERARCHY":
                raise ValueError
            i += 1
    except (ValueError, IndexError, TypeError):
        raise InputError(
            f"{where}: the HIERARCHY is malformed near word {i + 1} ('{words[min(i, len(words) - 1)][:40]}')."
        ) from None
    if not tree.names or stack:
        raise InputError(f"{where}: the HIERARCHY ends inside a joint; the file is truncated.")
    if tree.parents.count(-1) != 1:
        raise InputError(f"{where}: {tree.parents.count(-1)} ROOT joints; expected one skeleton in a file.")
    return tree


def _to_motion(tree, rate, values, notes):
    """The Motion of channel values (T, width) on a hierarchy, its units and axes turned into ours."""
    frames, offsets = len(values), np.array(tree.offsets)
    rotation = np.tile([0.0, 0.0, 0.0, 1.0], (frames, len(tree.names), 1))
    moved = {}  # joint -> its position channels (T, 3), 0 for an axis without one
    for b, turned, positions in _channels(tree, values):
        if turned is not None:
            rotation[:, b] = turned
        if positions is not None:
            moved[b] = positions
    root = np.tile(offsets[0], (frames, 1)) + moved.pop(0, np.zeros((frames, 3)))
    scale, stretch = _unit(tree, notes), 0.0
    for b, positions in moved.items():  # joints that carry positions: they replace the offset or add to it
        if _adds(positions, offsets[b]):
            positions = positions + offsets[b]
        offsets[b] = np.median(positions, axis=0)
        stretch = max(stretch, float(np.abs(positions - offsets[b]).max()) * scale)
    if stretch > STRETCH_NOTED_M:
        notes.append(f"its bones change length by up to {1000 * stretch:.0f} mm; each is read at its median length")
    offsets, root = offsets * scale, root * scale
    if _is_z_up(tree, offsets, scale):
        notes.append("turned from Z up to Y up")
        upright = np.array([-np.sqrt(0.5), 0.0, 0.0, np.sqrt(0.5)])  # -90 degrees about X: Z becomes Y
        offsets, root = quaternion_rotate(upright, offsets), quaternion_rotate(upright, root)
        rotation = quaternion_multiply(quaternion_multiply(upright, rotation), quaternion_conjugate(upright))
    skeleton = Skeleton(tuple(tree.names), np.array(tree.parents, dtype=np.int64), offsets)
    return Motion(skeleton, rate, root, rotation, tuple(notes))


def _rest_points(tree, offsets):
    """Joints and end sites (K, 3) of the rest pose about the root, in the unit of `offsets`."""
    positions = np.zeros((len(tree.names), 3))
    for b, parent in enumerate(tree.parents):
        if parent >= 0:
            positions[b] = positions[parent] + offsets[b]
    return positions


def _unit(tree, notes):
    """Metres per unit of the file. BVH cannot say it, so it is the unit in which the skeleton has a person's size.

    Fewer joints than make a body (a prop, say) say nothing about their unit: centimetres, as we write them.
    """
    positions = _rest_points(tree, tree.offsets)
    ends = np.array([positions[b] + offset for b, offset in tree.ends]).reshape(-1, 3)
    size = float(np.ptp(np.concatenate([positions, ends]), axis=0).max())
    if len(tree.names) < FEWEST_BODY_JOINTS or size <= 0:
        return UNITS["centimetres"][0]
    unlikely = {u: abs(np.log(size * metres / USUAL_HEIGHT_M)) + handicap for u, (metres, handicap) in UNITS.items()}
    unit = min(unlikely, key=unlikely.get)
    if unit != "centimetres":
        notes.append(f"read as {unit}: its skeleton is {size:.3g} units tall, {size * UNITS[unit][0]:.2f} m")
    return UNITS[unit][0]


def _is_z_up(tree, offsets, scale):
    """Whether the rest pose stands along Z instead of Y: a body is taller than it is deep."""
    if len(tree.names) < FEWEST_BODY_JOINTS:
        return False
    ends = [(b, np.array(offset) * scale) for b, offset in tree.ends]
    positions = _rest_points(tree, offsets)
    extent = np.ptp(np.concatenate([positions, np.array([positions[b] + o for b, o in ends]).reshape(-1, 3)]), axis=0)
    return bool(extent[2] > 1.5 * extent[1])


def exact_rate(hz):
    """The exact rate meant by a decimal frame time: a standard one within 0.05 %, else a plain fraction."""
    for rate in (*RATES, Fraction(100), Fraction(120), Fraction(90), Fraction(240)):
        if abs(hz / float(rate) - 1) < 2e-4:
            return rate
    return Fraction(hz).limit_denominator(1001)


def motion_difference(written, read):
    """Largest joint distance (mm) and joint rotation (degrees) between two motions of one skeleton, whatever its order."""
    order = [read.skeleton.names.index(n) for n in written.skeleton.names]
    a, rotation_a = motion_joints(written)
    b, rotation_b = motion_joints(read)
    between = quaternion_multiply(quaternion_conjugate(rotation_a), rotation_b[:, order])
    angle = 2 * np.arctan2(np.linalg.norm(between[..., :3], axis=-1), np.abs(between[..., 3]))
    return 1000 * float(np.abs(a - b[:, order]).max()), float(np.degrees(angle.max()))


def _files(take, rate):
    """The body's motion, and that of every prop, with the performer and with each character, at the delivery rate."""

    def file(ending, motion):
        def compare(path):
            mm, degrees = motion_difference(motion, read_bvh(path))
            return {"position_mm": mm, "rotation_deg": degrees}

        return PackageFile(ending, lambda path: write_bvh(path, motion), compare)

    props = [file(f"_{name}.bvh", at_rate(motion, rate)) for name, motion in take.props.items()]
    carried = [made for character in take.characters for made in character.files("bvh", rate)]
    return [file(".bvh", at_rate(take.motion, rate)), *props, *carried]


FORMAT = Format(
    id="bvh",
    words="BVH, the body and its props",
    holds="body",
    conventions="BVH, centimetres, +Y up, VRM bone names",
    ending=".bvh",
    check=lambda path: len(read_bvh(path)),
    files=_files,
    drops=(".bvh",),
    read_by="otrevo.core.retarget.dropped",
)
