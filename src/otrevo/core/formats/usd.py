"""USD as it leaves: a USD character's own file with the take's animation. What is written comes from `core.retarget.deliver`."""

from otrevo.core.errors import InputError
from otrevo.core.formats.contract import Format, of_characters


def animated_frames(path):
    """Frames of a USD stage. Raises InputError for a file that is none, or holds no time."""
    from pxr import Tf, Usd

    try:
        stage = Usd.Stage.Open(str(path))
    except Tf.ErrorException:
        stage = None
    if stage is None or stage.GetEndTimeCode() <= stage.GetStartTimeCode():
        raise InputError(f"{path.name}: expected a USD file with an animation.")
    return int(stage.GetEndTimeCode() - stage.GetStartTimeCode()) + 1


FORMAT = Format(
    id="usd",
    words="USD, each USD character's own file, moving",
    holds="USD characters",
    conventions="UsdSkel, the character's own file, axes, unit and names, with the animation added",
    ending=".usdc",
    check=animated_frames,
    files=of_characters("usd"),
    drops=(".usda", ".usdc", ".usdz", ".usd"),
    read_by="otrevo.core.retarget.dropped",
)
