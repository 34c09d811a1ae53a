"""A skeleton by what was measured on a person; what was not is estimated from their height."""

import numpy as np

from otrevo.core.body.skeleton import GENERIC_HEIGHT_M, generic_skeleton
from otrevo.core.errors import InputError

ACROMION = 0.02  # how far the tip of the shoulder is over its joint, by the height
# name: (words, share of the height where it is not measured, least, most) in metres
MEASURES = {
    "height_m": ("height", 1.0, 0.8, 2.6),
    "arm_span_m": ("arm span", 1.029, 0.7, 2.9),
    "hip_height_m": ("height of the hip joints", 0.531, 0.3, 1.5),
    "knee_height_m": ("height of the knees", 0.286, 0.15, 0.9),
    "shoulder_height_m": ("height of the shoulders", 0.82, 0.5, 2.2),
    "shoulder_width_m": ("width of the shoulders", 0.2, 0.15, 0.8),
    "hip_width_m": ("width between the hip joints", 0.103, 0.08, 0.5),
    "foot_length_m": ("length of the feet", 0.152, 0.1, 0.45),
}


def measures_from(document, where):
    """{measure: metres} of a `measures/1` document. Raises InputError naming the place in it."""
    out = {}
    for key, value in document.items():
        if key == "otrevo":
            continue
        if key not in MEASURES:
            raise InputError(f"{where}: '{key}' is not a measure; expected some of {', '.join(MEASURES)}.")
        words, _, least, most = MEASURES[key]
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not least <= value <= most:
            raise InputError(f"{where}: {key}: {value!r}; expected the {words} in metres, {least:g} to {most:g}.")
        out[key] = float(value)
    return out


def measured_skeleton(measures):
    """(Skeleton, notes) of a person with these measures, {name: metres}. Raises InputError when neither height nor span is known."""
    height = measures.get("height_m") or measures.get("arm_span_m", 0.0) / MEASURES["arm_span_m"][1]
    if not height:
        raise InputError("Neither the height nor the arm span is known; expected one of them, in metres.")
    got = {name: measures.get(name, share * height) for name, (_, share, _, _) in MEASURES.items()}
    skeleton = generic_skeleton(height)
    rest = skeleton.rest_offset_m.copy()

    def scale(bones, factor):
        for bone in bones:
            rest[skeleton.index(bone)] *= factor

    ankle = 0.08 * height / GENERIC_HEIGHT_M
    for side in ("left", "right"):
        sign = 1.0 if side == "left" else -1.0
        rest[skeleton.index(f"{side}UpperLeg"), 0] = sign * got["hip_width_m"] / 2
        scale(
            [f"{side}LowerLeg"],
            (got["hip_height_m"] - got["knee_height_m"]) / abs(rest[skeleton.index(f"{side}LowerLeg"), 1]),
        )
        scale([f"{side}Foot"], max(0.05, got["knee_height_m"] - ankle) / abs(rest[skeleton.index(f"{side}Foot"), 1]))
        scale([f"{side}Toes"], got["foot_length_m"] / (0.152 * height))
        inside = sum(rest[skeleton.index(side + b), 0] for b in ("Shoulder", "UpperArm"))
        scale([f"{side}Shoulder", f"{side}UpperArm"], got["shoulder_width_m"] / 2 / abs(inside))
        arm = sum(rest[skeleton.index(side + b), 0] for b in ("LowerArm", "Hand"))
        hand = 0.1 * height  # from wrist to fingertip
        scale(
            [f"{side}LowerArm", f"{side}Hand"],
            max(0.2, got["arm_span_m"] / 2 - got["shoulder_width_m"] / 2 - hand) / abs(arm),
        )
    rest[0] = [0.0, got["hip_height_m"] - rest[skeleton.index("leftUpperLeg"), 1], 0.0]
    trunk = sum(rest[skeleton.index(b), 1] for b in ("spine", "chest", "upperChest", "leftShoulder", "leftUpperArm"))
    scale(("spine", "chest", "upperChest"), max(0.3, got["shoulder_height_m"] - ACROMION * height - rest[0, 1]) / trunk)
    guessed = [words for name, (words, *_) in MEASURES.items() if name not in measures]
    notes = (
        [f"estimated from the {'height' if 'height_m' in measures else 'arm span'}: {', '.join(guessed)}"]
        if guessed
        else []
    )
    return skeleton.with_offsets(np.asarray(rest)), notes
