"""Files of rigid bodies as trackers write them, for tests."""

import numpy as np

from otrevo.core.conventions import quaternion_multiply, quaternion_rotate
from otrevo.core.sim.rigid import strap_on

Y_TO_Z = np.array([np.sqrt(0.5), 0.0, 0.0, np.sqrt(0.5)])
HABIT = {"hips": "Pelvis", "chest": "Brustkorb", "head": "Kopf", "UpperArm": "{}_upper_arm", "LowerArm": "{}_forearm",
         "Hand": "{}_hand", "UpperLeg": "{}_thigh", "LowerLeg": "{}_shin", "Foot": "{}_foot"}  # fmt: skip


def called(bone, who="Mo"):
    """What somebody calls the rigid body on a bone."""
    side = "L" if bone.startswith("left") else "R"
    return f"{who}_" + HABIT[bone.removeprefix("left").removeprefix("right")].format(side)


def rows_of(motion, seed, bones, names=None, unit=1.0, z_up=False, step=1):
    """(time, body, px … qw) of the rigid bodies on these bones of a Motion, every `step`-th frame."""
    position, rotation = strap_on(motion, seed, bones)
    if z_up:
        position, rotation = quaternion_rotate(Y_TO_Z, position), quaternion_multiply(Y_TO_Z, rotation)
    values = np.concatenate([unit * position, rotation], axis=2)[::step].tolist()
    seconds = (np.arange(len(values)) * step / float(motion.rate)).tolist()
    return [
        (at, name, *value)
        for at, bodies in zip(seconds, values, strict=True)
        for name, value in zip(names or bones, bodies, strict=True)
        if value[0] == value[0]  # seen
    ]


def table_of(rows):
    """The text of such a file."""
    form = "%.6f,%s" + 7 * ",%.6f"
    lines = [form % row for row in rows]
    return "time,body,px,py,pz,qx,qy,qz,qw\n" + "\n".join(lines) + "\n"
