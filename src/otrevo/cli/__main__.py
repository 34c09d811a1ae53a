"""`./otrevo run <pass>`: read files, call the pass, write files whole or not at all. Exit status 2 on bad input."""

import argparse
import sys

from otrevo.cli import bodies, characters, suits
from otrevo.core.errors import InputError


class _Once(argparse.Action):
    """Store a value, and refuse a second one: to use the last of two without a word would be a guess."""

    def __call__(self, parser, namespace, value, option=None):
        given = getattr(namespace, "_given", None) or set()
        if self.dest in given:
            raise InputError(f"{option} is given twice; expected one.")
        namespace._given = given | {self.dest}
        setattr(namespace, self.dest, value)


def build_parser(asked=None):
    """The parser of all commands, or, when one about characters is asked for, of those alone: the others load much."""
    parser = argparse.ArgumentParser(prog="otrevo run", description="Run one pass over files.", allow_abbrev=False)
    commands = parser.add_subparsers(dest="name", required=True, metavar="PASS")

    def add(name, function, summary, settings=()):
        p = commands.add_parser(name, help=summary, description=summary, allow_abbrev=False)
        p.register("action", None, _Once)
        p.set_defaults(function=function)
        p.add_argument("--progress", action="store_true", help="print percentages to standard error")
        for setting in settings:
            kind, words = int if setting.whole else float, f"{setting.words}, {setting.unit}. {setting.sentence}"
            p.add_argument(f"--{setting.name.replace('_', '-')}", type=kind, default=setting.default, help=words)
        return p

    if asked not in characters.COMMANDS + suits.COMMANDS + bodies.COMMANDS:
        from otrevo.cli import takes

        takes.add_commands(lambda name, function, summary: add(name, function, summary, takes.settings_of(name)))
    characters.add_commands(add)
    suits.add_commands(add)
    bodies.add_commands(add)
    return parser


def main(argv=None):
    given = sys.argv[1:] if argv is None else argv
    try:
        args = build_parser(given[0] if given else None).parse_args(given)
        args.function(args)
    except InputError as error:
        print(f"otrevo: {error}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("otrevo: stopped; nothing was left half written.", file=sys.stderr)
        return 130
    return 0


if __name__ == "__main__":
    sys.exit(main())
