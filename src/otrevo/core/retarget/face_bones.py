"""Eyes and jaw moved by bones, on characters whose faces have no shapes for them.

The bones turn about the head's own axes: eyes to the side and up or down by where the performer looks, the jaw about the line from ear
to ear. How far a whole look or a whole open jaw goes is a usual face's.
"""

import numpy as np

from otrevo.core.conventions import quaternion_conjugate, quaternion_from_rotvec, quaternion_multiply
from otrevo.core.retarget.angles import hanging_on

GAZE, JAW = np.radians(30), np.radians(22)
EYES = {"leftEye": ("Left", 1.0), "rightEye": ("Right", -1.0)}


def turn_face_bones(plan, drivers, names, values, rotations):
    """Turn eyes and jaw in world rotations (T, B, 4), in place. Returns whether any did.

    names, values (T, S): the performer's face shapes at the frames, 0 to 1; drivers: what moves the character's own shapes.
    """
    shown, known = {d.shape for d in drivers}, set(names)

    def shape(name):
        found = values[:, list(names).index(name)] if name in known else np.zeros(len(values))
        return np.nan_to_num(found)

    turns = {}
    if not any(s.startswith("eyeLook") for s in shown):
        for bone, (side, out) in EYES.items():
            aside = GAZE * out * (shape(f"eyeLookOut{side}") - shape(f"eyeLookIn{side}"))
            up = GAZE * (shape(f"eyeLookUp{side}") - shape(f"eyeLookDown{side}"))
            turns[bone] = np.stack([-up, aside, np.zeros(len(values))], axis=1)
    if "jawOpen" not in shown:
        turns["jaw"] = np.stack([JAW * shape("jawOpen"), np.zeros(len(values)), np.zeros(len(values))], axis=1)
    head = plan.joints.get("head")
    turns = {plan.joints[b]: t for b, t in turns.items() if b in plan.joints and np.abs(t).max() > 0}
    if head is None or not turns:
        return False
    own = quaternion_multiply(rotations[:, head], quaternion_conjugate(plan.arrays.change[head])[None])
    for b, turn in turns.items():
        world = quaternion_multiply(quaternion_multiply(own, quaternion_from_rotvec(turn)), quaternion_conjugate(own))
        for own_or_below in [b, *hanging_on(b, plan.arrays.parents)]:
            rotations[:, own_or_below] = quaternion_multiply(world, rotations[:, own_or_below])
    return True
