"""``protect``: would it come back, how much would be lost, and who could destroy it with all its copies."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions import protect
from neatledger.reports.protect import protect_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", nargs="?", metavar="FOLDER", help="only this folder and what is below it")
    parser.add_argument("-a", "--all", action="store_true", help="also places of which the plan wants nothing")


def run(args: argparse.Namespace, app: App) -> int:
    """Show what is wanted beside what was found; status 1 where something is weaker."""
    office = app.office
    below = None if args.folder is None else office.address(args.folder)
    with app.progress("looking at copies"):
        found = protect.ask(office, below)
    show_report(protect_report(found, office.count.when, is_all=args.all), app.output)
    return 1 if any(one.standing.faults for one in found) else 0
