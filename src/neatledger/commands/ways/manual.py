"""``manual``: a manual page for man(1), made from the commands' own words."""

from __future__ import annotations

import argparse

from neatledger import __version__
from neatledger.app import App
from neatledger.cli import make_parser
from neatledger.commandtable import COMMANDS, EXAMPLES
from neatledger.faces.output import open_output

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Print the page (man(7)): `neatledger manual > neatledger.1`."""
    with open_output(app.output) as out:
        out.write(_page())
    return 0


def _text(words: str) -> str:
    """Return words as a line of a page: what would be a request or an escape is none (groff(7))."""
    safe = words.replace("\\", "\\e").replace("-", "\\-").replace("\n", " ")
    return f"\\&{safe}" if safe.startswith((".", "'")) else safe


def _page() -> str:
    lines = [
        f'.TH NEATLEDGER 1 "" "neatledger {__version__}"',
        ".SH NAME",
        "neatledger \\- plan and audit a small office's accounts, groups and shared folders",
        ".SH SYNOPSIS",
        ".B neatledger",
        ".I COMMAND",
        "[OPTION ...]",
        ".SH COMMANDS",
    ]
    common: list[argparse.Action] = []
    for name, summary in COMMANDS.items():
        parser = make_parser(name)
        own, common = parser._actions[1:], parser._action_groups[-1]._group_actions
        lines += [".SS " + _text(name), _text(summary[0].upper() + summary[1:] + ".")]
        for action in own:
            if action not in common:
                lines += _option(action)
        for example in EXAMPLES.get(name, ()):
            lines += [".PP", ".EX", _text(f"neatledger {example}"), ".EE"]
    lines.append(".SH COMMON OPTIONS")
    for action in common:
        lines += _option(action)
    lines += [
        ".SH ENVIRONMENT",
        ".TP",
        "NEATLEDGER_OFFICE",
        _text("The folder of office.yaml, as --office names it."),
    ]
    lines += [".TP", "NEATLEDGER_USER_SYSTEM, NEATLEDGER_PASSWORD_SYSTEM"]
    lines += [_text("Who signs in to a system, its name in capitals; else the keyring is asked, else the terminal.")]
    lines += [".TP", "NO_COLOR", "No colour on a terminal.", ".SH EXIT STATUS"]
    lines += [_text("0: fine. 1: findings or differences. 2: it could not be done. 130: stopped by Ctrl-C.")]
    return "\n".join(lines) + "\n"


def _option(action: argparse.Action) -> list[str]:
    """Return the lines of one option or word of the call."""
    value = action.metavar or (action.dest.upper() if action.nargs != 0 else "")
    if action.choices and not action.metavar:
        value = "|".join(map(str, action.choices))
    words = ", ".join(action.option_strings)
    head = f".B {_text(words)}" if words else f".I {_text(str(value))}"
    lines = [".TP", f"{head} {_text(str(value))}" if words and value else head]
    return [*lines, _text((action.help or "") % {"default": action.default, "prog": ""})]
