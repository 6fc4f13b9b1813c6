"""``protect``: would it come back, how much would be lost, and who could destroy it with all its copies."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import protect
from neatledger.reports.protect import protect_report

__all__ = ["add_arguments", "run"]

_MOST_DIGITS = 6


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", nargs="?", metavar="FOLDER", help="only this folder and what is below it")
    parser.add_argument("-a", "--all", action="store_true", help="also places of which the plan wants nothing")
    parser.add_argument("--split", action="store_true", help="which folders belong together by how they change")


def run(args: argparse.Namespace, app: App) -> int:
    """Show what is wanted beside what was found, or what would be; status 1 where something is weaker."""
    office = app.office
    below = None if args.folder is None else office.find_folder(args.folder)
    if args.split:
        return _split(args, app)
    with app.progress("looking at copies"):
        found = protect.ask(office, below)
    show_report(protect_report(found, office.count.when, is_all=args.all), app.output)
    return 1 if any(one.standing.faults for one in found) else 0


def _split(args: argparse.Namespace, app: App) -> int:
    from neatledger.questions import splitting
    from neatledger.reports.split import split_report

    if args.folder is not None:
        raise UsageError("--split is of the whole office", hint="leave the folder out")
    with app.progress("looking at changes"):
        found = splitting.ask(app.office)
    show_report(split_report(found.groups, found.questions, app.office.count.when), app.output)
    return 0
