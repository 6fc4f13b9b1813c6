"""``why PERSON FOLDER``: the gates of every way, in order, with the entries that decided."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.asking import ask_person, entry_names, find_person, location_at
from neatledger.faces.show import show_report
from neatledger.reports.why import no_account_report, plan_lines, why_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("person", metavar="PERSON", help="a person's id, login or name")
    parser.add_argument("folder", metavar="FOLDER", help="a folder or a file")


def run(args: argparse.Namespace, app: App) -> int:
    """Explain; the plan's reasons stand beside it where the plan speaks of the folder."""
    address = app.address(args.folder)
    person, everywhere = find_person(app, args.person)
    principals = everywhere.get(address.system, [])
    planned = plan_lines(app.plan, person, address)
    if app.options.side == "plan" or not principals:
        show_report(no_account_report(person, address, planned), app)
        return 0
    reader = app.reader(address.system)
    place = location_at(reader, address)
    address = place.address
    access = ask_person(app, place, principals)
    report = why_report(
        address,
        place.chain,
        access,
        entry_names(reader),
        is_folder=place.is_folder,
        note=place.note,
    )
    report.notes += planned
    show_report(report, app)
    return 0
