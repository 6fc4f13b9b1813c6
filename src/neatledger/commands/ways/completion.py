"""``completion SHELL``: what completes commands, options, people, folders and checks on a shell's command line."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable, Iterable

from neatledger.app import App, Options
from neatledger.cli import make_parser
from neatledger.commandtable import COMMANDS
from neatledger.errors import NeatError
from neatledger.faces.output import open_output
from neatledger.questions import Office

__all__ = ["complete", "run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Print what the shell is to read at its start."""
    from argcomplete.shell_integration import shellcode

    with open_output(app.output) as out:
        out.write(shellcode(["neatledger"], shell=args.shell) + "\n")
    return 0


def complete() -> None:
    """Answer a shell that asks what the word before the cursor may become, and end (argcomplete's protocol)."""
    import argcomplete

    line, point = os.environ.get("COMP_LINE", ""), int(os.environ.get("COMP_POINT", "0") or 0)
    words = line[:point].split()
    if len(words) > 2 or (len(words) == 2 and line[:point].endswith(" ")):
        name = words[1]
        if name not in COMMANDS:
            os._exit(0)
        parser = make_parser(name)
        # The command's own parser knows nothing of its name: that is taken out of the line.
        end = line.index(name, len(words[0])) + len(name)
        os.environ["COMP_LINE"] = words[0] + line[end:]
        os.environ["COMP_POINT"] = str(len(words[0]) + point - end)
    else:
        parser = argparse.ArgumentParser(prog="neatledger", add_help=False)
        parser.add_argument("command", choices=list(COMMANDS))
    for action in parser._actions:
        completer = _COMPLETERS.get(str(action.metavar))
        if completer is not None:
            action.completer = completer  # type: ignore[attr-defined]
    argcomplete.autocomplete(parser, always_complete_options=False)


_Completer = Callable[..., Iterable[str]]


def _of_office(ask: Callable[[Office, str], Iterable[str]]) -> _Completer:
    """Return what asks the office that a call would ask; nothing where there is none, or it cannot be read."""

    def completer(prefix: str, parsed_args: argparse.Namespace, **_: object) -> Iterable[str]:
        try:
            app = App.of_process(Options(getattr(parsed_args, "office", None)))
            return list(ask(app.office, prefix))
        except (NeatError, OSError):
            return []

    return completer


def _people(office: Office, prefix: str) -> Iterable[str]:
    found = {one.person for some in office.principals.values() for one in some} if office.has_count else set()
    return sorted({*office.plan.people, *found})


def _folders(office: Office, prefix: str) -> Iterable[str]:
    """Yield the folders of the level that is being written."""
    system, colon, path = prefix.partition(":")
    if not colon or system not in office.readers:
        return [f"{name}:/" for name in office.readers]
    reader = office.readers[system]
    above, _, _ = path.rpartition("/")
    chain, missing = reader.find_path(os.fsencode(above or "/"))
    if missing is not None:
        return []
    return [f"{system}:{above}/{name}" for name in reader.child_names(chain[-1]) if name.isprintable()]


def _checks(office: Office, prefix: str) -> Iterable[str]:
    from neatledger.core.checks.table import CHECKS

    return CHECKS


_COMPLETERS: dict[str, _Completer] = {
    **dict.fromkeys(("PERSON", "WHO", "PERSON|FOLDER", "FOLDER|PERSON", "WHAT", "N|WHAT"), _of_office(_people)),
    **dict.fromkeys(("FOLDER", "PLACE"), _of_office(_folders)),
    "CHECK": _of_office(_checks),
    "NAME": _of_office(lambda office, _: office.plan.systems),
}
