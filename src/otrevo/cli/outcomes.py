"""What every pass on the command line has in common: progress, notes, reports."""

import sys
from fractions import Fraction

from otrevo.core.errors import InputError
from otrevo.core.formats.documents import write_document
from otrevo.core.snags import ranked


def run_declared(one, material, args):
    """The outcome of a declared pass, by the settings on the command line."""
    settings = {p.name: getattr(args, p.name) for p in one.parameters}
    report = progress_of(args)
    outcome = one.run(material, one.checked(settings), report)
    report(1.0)
    return outcome


def progress_of(args):
    """A function that is told how far a pass is, and prints it where that was asked for."""
    if not getattr(args, "progress", False):
        return lambda share: None
    return lambda share: print(f"{100 * share:.0f} %", file=sys.stderr, flush=True)


def delivery_rate(text):
    """Frames a second as somebody typed them, a Fraction."""
    try:
        rate = Fraction(text)
    except (ValueError, ZeroDivisionError):
        rate = Fraction(0)
    if not 1 <= rate <= 1000:
        raise InputError(f"--rate {text}: expected frames a second, from 1 to 1000, such as 60 or 30000/1001.")
    return rate


def say_notes(notes):
    """What was odd, a line each, on standard error."""
    for note in notes:
        print(f"otrevo: {note}", file=sys.stderr)


def write_report(path, name, figures, snags, notes):
    """A report of a pass: its figures, notes and ranked snags."""
    snags = [s.to_document() for s in ranked(snags)]
    write_document(path, {"otrevo": f"{name}-report/1", "figures": figures, "notes": list(notes), "snags": snags})
