"""Read a dropped motion file (BVH, GLB, USD) on anybody's skeleton, in a process of its own: it becomes a body of the take."""

from pathlib import Path

import numpy as np

from otrevo.core.errors import InputError
from otrevo.core.formats.bvh import read_bvh
from otrevo.core.formats.contract import FileStream
from otrevo.core.formats.guarded import answer_request, answer_with
from otrevo.core.retarget.adopt import adopt

UNKNOWN = "no person's skeleton was recognised in it, so its bones keep their names"


def body_of(path):
    """The FileStream "body file" of a motion file: our bones with the foreign skeleton's proportions, hips and then rotations.

    A BVH in which nobody is recognised, a prop's or an animal's, is kept as it is. Raises InputError for what cannot be understood.
    """
    path = Path(path)
    try:
        adopted = adopt(path)
        motion, notes, up = adopted.motion, list(adopted.notes), adopted.character.up
        if up != "+Y":
            notes.append(f"turned from {up.removeprefix('+')} up to Y up")
    except InputError:
        if path.suffix.lower() != ".bvh":
            raise
        motion = read_bvh(path)
        notes = [*motion.notes, UNKNOWN]
    data = np.concatenate([motion.root_position_m, motion.rotation_local.reshape(len(motion), -1)], axis=1)
    skeleton = motion.skeleton
    details = {
        "bones": list(skeleton.names), "parents": skeleton.parents.tolist(),
        "offsets_m": skeleton.rest_offset_m.tolist(), "notes": notes,
    }  # fmt: skip
    return FileStream("body file", "motion", motion.rate, data, details, True)


if __name__ == "__main__":
    answer_request(lambda request: answer_with(request, [body_of(request["path"])]))
