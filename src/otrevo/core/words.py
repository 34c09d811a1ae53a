"""How several things are said in a sentence."""


def in_a_row(names):
    """Names as one says them: "a", "a and b", "a, b and c"."""
    *first, last = names
    return f"{', '.join(first)} and {last}" if first else last
