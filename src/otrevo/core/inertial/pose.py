"""From what sensors read to the pose of a body: rotations of the bones that carry sensors, and of those between them."""

import numpy as np

from otrevo.core.body.model import body_model
from otrevo.core.conventions import find_runs, make_continuous, matrix_from_quaternion, slerp
from otrevo.core.inertial.calibration import bone_rotations
from otrevo.core.inertial.unheard_limbs import likely_turns
from otrevo.core.solve.frames import Frames, Poses, solve_frames

SENSOR_SIGMA_RAD = 0.03
BRIDGED_S = 0.5  # what is lost for longer is not known
PROGRESS_FRAMES = 2000


def sensed_bones(recording, calibration, headings):
    """World rotations (T, S, 4) of the bones under the sensors; short losses are bridged, others NaN."""
    times = recording.times_s
    world = bone_rotations(recording.rotation, headings.at(times), calibration.mount)
    for s in range(world.shape[1]):
        known = np.isfinite(world[:, s, 0])
        if not known.any():
            continue
        world[known, s] = make_continuous(world[known, s])
        for a, b in find_runs(~known):
            if a > 0 and b < len(known) and (b - a) / recording.rate_hz <= BRIDGED_S:
                world[a:b, s] = slerp(times[[a - 1, b]], world[[a - 1, b], s], times[a:b])
    return world


def _across_silence(world):
    """World rotations (T, S, 4) with frames in which none of them is known filled in from those beside them, held at open ends."""
    out, frames = world.copy(), np.arange(len(world), dtype=float)
    for a, b in find_runs(np.isnan(world[..., 0]).all(axis=1)):
        beside = [k for k in (a - 1, b) if 0 <= k < len(world)]
        for s in np.flatnonzero(np.isfinite(world[beside, :, 0]).all(axis=0)):
            out[a:b, s] = slerp(frames[beside], make_continuous(world[beside, s]), frames[a:b])
    return out


def fit_pose(skeleton, names, world, rate_hz, progress=lambda share: None):
    """Local rotations (T, B, 4) of a Skeleton's bones that fit world rotations (T, S, 4) of the bones `names`.

    A limb that is not heard for a while goes with the others as in the rest of the take. What no sensor tells at all is
    shared along its chain by how stiff joints are, and keeps within what joints can do. Where none tells anything the body
    goes from how it was held before to how it is held after.
    """
    likely, likely_sd = likely_turns(names, world, rate_hz)
    world = _across_silence(world)
    model = body_model(skeleton, (), (), np.zeros((0, 3)))
    count, bones = len(world), len(model.skeleton.names)
    target, weight = np.zeros((count, bones, 4)), np.zeros((count, bones))
    for s, name in enumerate(names):
        known = np.isfinite(world[:, s, 0])
        b = model.skeleton.index(name)
        target[known, b] = world[known, s]
        weight[known, b] = 1 / SENSOR_SIGMA_RAD**2
        guessed = ~known & np.isfinite(likely[:, s, 0])
        target[guessed, b] = likely[guessed, s]
        weight[guessed, b] = 1 / likely_sd[s] ** 2
    told = weight > 0
    for b in range(bones - 1, 0, -1):
        told[:, model.skeleton.parents[b]] |= told[:, b]
    frames = Frames(np.empty((count, 0, 3)), np.empty((count, 0)), target, weight, told, np.empty((count, 0, 6)))
    poses = Poses(np.empty((count, 3)), np.empty((count, bones, 4)), np.empty((count, 0)))
    root, local, spin = np.zeros(3), np.tile(np.eye(3), (bones, 1, 1)), np.zeros((bones, 3))
    if weight[:, 0].any():  # begin where the hips are
        local[0] = matrix_from_quaternion(target[np.argmax(weight[:, 0] > 0), 0])
    for _ in range(3):
        solve_frames(model.arrays, frames, 0, 1, root, local, spin, False, poses)
        spin[:] = 0.0
    for start in range(0, count, PROGRESS_FRAMES):
        end = min(start + PROGRESS_FRAMES, count)
        solve_frames(model.arrays, frames, start, end, root, local, spin, start > 0, poses)
        progress(end / count)
    out = np.tile([0.0, 0.0, 0.0, 1.0], (count, len(skeleton.names), 1))
    out[:, [skeleton.index(n) for n in model.skeleton.names]] = make_continuous(poses.rotation)
    return out
