"""Whether a suit still sits as in its warm-up: joints that would have to bend as no body can say that it does not."""

import numpy as np

from otrevo.core.body.joints import joint_tables
from otrevo.core.errors import InputError
from otrevo.core.inertial.joint_freedom import joint_angles
from otrevo.core.inertial.joints import links_of
from otrevo.core.words import in_words

BEYOND_DEG = 10.0  # the limits are soft, sensors and headings err as well
SHARE, FEWEST = 0.35, 3  # of the joints: then it is the whole suit
LOOKS = 400


def impossible_joints(skeleton, names, world):
    """{joint: degrees} by which joints between neighbouring sensors are beyond their limits, in the median over time.

    Parameters
    ----------
    skeleton : Skeleton
    names : sequence of str
        The S bones that sensors are on.
    world : ndarray (T, S, 4)
        Their rotations by the suit.

    Returns
    -------
    dict
        Of the joints that are more than BEYOND_DEG off.

    Raises
    ------
    InputError
        When so many are that the suit must sit otherwise than it was calibrated.
    """
    _, low, high = joint_tables(skeleton)
    number, out, looked = {n: s for s, n in enumerate(names)}, {}, 0
    world = world[:: max(1, len(world) // LOOKS)]
    for above, below, joint in links_of(names):
        pair = world[:, [number[above], number[below]]]
        bend = joint_angles(joint, *pair[np.isfinite(pair[..., 0]).all(axis=1)].swapaxes(0, 1))
        if len(bend) < 10:
            continue
        chain, bone = [], skeleton.index(below)
        while skeleton.names[bone] != above:
            chain.append(bone)
            bone = skeleton.parents[bone]
        beyond = np.maximum(low[chain].sum(axis=0) - bend, 0.0) + np.maximum(bend - high[chain].sum(axis=0), 0.0)
        looked += 1
        median = float(np.degrees(np.median(np.linalg.norm(beyond, axis=1))))
        if median > BEYOND_DEG:
            out[joint] = round(median, 1)
    if len(out) >= max(FEWEST, SHARE * looked):
        worst = max(out, key=out.get)
        raise InputError(
            f"The suit sits otherwise than in its warm-up: {len(out)} of {looked} joints would bend as no body can, the {in_words(worst)} by {out[worst]:.0f}° "
            "too far; expected the mounts of the warm-up. Roll a warm-up with the suit as it is worn now."
        )
    return out
