"""How things are said in a sentence."""

import re


def in_a_row(names):
    """Names as one says them: "a", "a and b", "a, b and c"."""
    *first, last = names
    return f"{', '.join(first)} and {last}" if first else last


def in_words(bone):
    """ "leftUpperArm" as "left upper arm"; the sensor on the hips is called after the pelvis."""
    return "pelvis" if bone == "hips" else re.sub("[A-Z]", lambda c: f" {c[0].lower()}", bone)


def bones_in_a_row(bones):
    """Bones as one says them: "pelvis, left hand and head"."""
    return in_a_row([in_words(b) for b in bones])
