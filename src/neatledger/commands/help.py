"""``help [NAME]``: a command with its words, or what a word means; all commands, the options that all have."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import common_help, make_parser
from neatledger.commandtable import COMMANDS, MAP, OLD_NAMES, list_of_commands
from neatledger.errors import UnknownNameError
from neatledger.faces.output import open_output
from neatledger.formats.nearest import nearest
from neatledger.words import GLOSSARY, OUT, explained

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("name", metavar="NAME", nargs="?", help="a command, a word, or: options")
    parser.add_argument("-a", "--all", action="store_true", help="all commands, a line each")
    parser.add_argument(
        "--completion", dest="shell", choices=("bash", "zsh", "fish"), help="what completes words there"
    )
    parser.add_argument("--manual", action="store_true", help="the manual page, for man")


def run(args: argparse.Namespace, app: App) -> int:
    """Print what is asked for."""
    # Each is loaded only where it is asked for.
    if args.shell:
        from neatledger.commands.ways import completion

        return completion.run(args, app)
    if args.manual:
        from neatledger.commands.ways import manual

        return manual.run(args, app)
    with open_output(app.output) as out:
        out.write(_text(args.name, is_all=args.all) + "\n")
    return 0


def _text(name: str | None, *, is_all: bool) -> str:
    if name is None:
        return list_of_commands() if is_all else MAP
    if name in COMMANDS:
        return make_parser(name).format_help().rstrip()
    if name in OLD_NAMES:
        return f"{name} is now: neatledger {OLD_NAMES[name]}"
    if name == "options":
        return common_help()
    text = explained(name)
    if text:
        return text
    near = nearest(name, [*COMMANDS, *GLOSSARY, *OUT])
    hint = f"did you mean {' or '.join(near)}?" if near else "help --all lists the commands"
    raise UnknownNameError(f"{name!r} is no command, and no word with a meaning of its own here", hint=hint)
