"""BVH on each character's own skeleton. What is written comes from `core.retarget.deliver`."""

from otrevo.core.formats.bvh import open_bvh
from otrevo.core.formats.contract import Format, of_characters

FORMAT = Format(
    id="character_bvh",
    words="BVH, on each character's skeleton",
    holds="characters' skeletons",
    conventions="BVH, the character's own unit, axes and names; its zero pose is the character's rest pose",
    ending=".bvh",
    check=lambda path: len(open_bvh(path)[2]),
    files=of_characters("character_bvh"),
    usual=False,
)
