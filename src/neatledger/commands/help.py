"""``help [NAME]``: a command with its words, or what a word means; all commands, the options that all have."""

from __future__ import annotations

import argparse
from contextlib import suppress
from textwrap import fill

from neatledger.app import App
from neatledger.cli import common_help, make_parser
from neatledger.commandtable import COMMANDS, MAP, OLD_NAMES, WIDTH, list_of_commands
from neatledger.errors import NeatError, UnknownNameError
from neatledger.faces.output import open_output
from neatledger.formats.nearest import nearest
from neatledger.words import GLOSSARY, explained, word_of_today

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("name", metavar="NAME", nargs="?", help="a command, a word, or: options")
    parser.add_argument("-a", "--all", action="store_true", help="all commands, a line each")
    parser.add_argument(
        "--completion", dest="shell", choices=("bash", "zsh", "fish"), help="what completes words there"
    )
    parser.add_argument("--manual", action="store_true", help="the manual page, for man")


def _meaning(name: str, app: App) -> str:
    """Return what a word means, and an example of it from the office that is here, if there is any."""
    text = explained(name)
    word = word_of_today(name)
    if not text or word not in GLOSSARY:
        return text
    # Slow to load, and most help is of commands.
    from neatledger.questions.examples import example_of

    with suppress(NeatError, OSError):
        example = example_of(app.office, word)
        text += f"\nHere: {example}." if example else ""
    return _fill_lines(text)


def _fill_lines(text: str) -> str:
    """Return the lines of a text, none wider than a help text is."""
    return "\n".join(fill(line, WIDTH, break_on_hyphens=False) for line in text.splitlines())


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
        out.write(_text(args.name, app, is_all=args.all) + "\n")
    return 0


def _text(name: str | None, app: App, *, is_all: bool) -> str:
    if name is None:
        return list_of_commands() if is_all else MAP
    if name in COMMANDS:
        meaning = _meaning(name, app) if name in GLOSSARY else ""
        return make_parser(name).format_help().rstrip() + (f"\n\n{meaning}" if meaning else "")
    if name in OLD_NAMES:
        return f"{name} is now: neatledger {OLD_NAMES[name]}"
    if name == "options":
        return common_help()
    text = _meaning(name, app)
    if text:
        return text
    near = nearest(name, [*COMMANDS, *GLOSSARY])
    hint = f"did you mean {' or '.join(near)}?" if near else "help --all lists the commands"
    raise UnknownNameError(f"{name!r} is no command, and no word with a meaning of its own here", hint=hint)
