"""VRMA as it leaves: each character as a humanoid in T-pose and its motion. What is written comes from `core.retarget.deliver`."""

from otrevo.core.formats.contract import Format, of_characters
from otrevo.core.formats.glb import animated_frames

FORMAT = Format(
    id="vrma",
    words="VRMA, each character as a humanoid",
    holds="humanoids",
    conventions="VRMC_vrm_animation 1.0, metres, +Y up, facing +Z, rest in T-pose",
    ending=".vrma",
    check=animated_frames,
    files=of_characters("vrma"),
    usual=False,
)
