"""The cameras of a room before anything is known of them but their pictures (`cameras/1` in docs/formats.md)."""

from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from otrevo.core.errors import InputError

NOMINAL_FOCAL = 0.7  # of the picture's width, where nobody says


@dataclass(frozen=True)
class RigCamera:
    """focal_guess_px: what the lens should be, within some per cent, or None."""

    name: str
    width: int
    height: int
    focal_guess_px: float | None

    def first_lens(self, focal_px=None):
        """Lens numbers to start from: no distortion, the picture's middle."""
        focal = focal_px or self.focal_guess_px or NOMINAL_FOCAL * self.width
        return np.array([focal, focal, (self.width - 1) / 2, (self.height - 1) / 2, 0, 0, 0, 0, 0], dtype=float)


def rig_from_document(document, where="cameras"):
    """(RigCameras, rate) from a `cameras/1` document. Raises InputError naming the place in it."""
    try:
        rate = Fraction(str(document.get("rate")))
    except (ValueError, ZeroDivisionError):
        raise InputError(f"{where}: rate: expected frames per second as a fraction such as 100/1.") from None
    if not 1 <= rate <= 2000:
        raise InputError(f"{where}: rate: {float(rate):g} frames per second; expected 1 to 2000.")
    rows = document.get("cameras")
    if not isinstance(rows, list) or not rows:
        raise InputError(f"{where}: cameras: expected a list of cameras.")
    cameras = []
    for i, row in enumerate(rows):
        place = f"{where}: cameras[{i}]"
        if not isinstance(row, dict) or not isinstance(row.get("id"), str) or not row["id"]:
            raise InputError(f"{place}: expected an object with an id, width and height.")
        if row["id"] in [c.name for c in cameras]:
            raise InputError(f"{place}: the id '{row['id']}' is used twice.")
        for key in ("width", "height"):
            if not isinstance(row.get(key), int) or isinstance(row[key], bool) or not 16 <= row[key] <= 65536:
                raise InputError(f"{place}: {key}: expected whole pixels between 16 and 65536.")
        guess = row.get("focal_guess_px")
        if guess is not None:
            if (
                isinstance(guess, bool)
                or not isinstance(guess, (int, float))
                or not 0.1 * row["width"] < guess < 20 * row["width"]
            ):
                raise InputError(f"{place}: focal_guess_px: expected pixels, or null where it is not known.")
            guess = float(guess)
        cameras.append(RigCamera(row["id"], row["width"], row["height"], guess))
    return tuple(cameras), rate
