"""``why PERSON FOLDER``: the gates of every way, in order, with the entries that decided."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import is_folder
from neatledger.faces.show import show_report
from neatledger.questions import why
from neatledger.reports.why import no_account_report, plan_lines, why_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("words", nargs=2, metavar="PERSON|FOLDER", help="a person, and a folder or a file")


def run(args: argparse.Namespace, app: App) -> int:
    """Explain; the plan's reasons stand beside it where the plan speaks of the folder."""
    office = app.office
    who, folder = sorted(args.words, key=is_folder)
    address = office.address(folder)
    person = office.find_person(who).id
    planned = plan_lines(office.plan, person, address)
    found = None if app.options.side == "plan" else why.ask(office, person, address)
    if found is None:
        show_report(no_account_report(person, address, planned), app.output)
    else:
        show_report(why_report(found, planned, why.difference_of(office, found)), app.output)
    return 0
