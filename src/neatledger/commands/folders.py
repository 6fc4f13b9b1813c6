"""``folders [FOLDER]``: folders with their owners and lists; one folder's list in full."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions import folders
from neatledger.reports.folders import folder_report, folders_report
from neatledger.reports.sides import plan_folders_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", metavar="FOLDER", nargs="?", help="this folder's list, and what is right below it")
    parser.add_argument("--depth", type=int, default=2, metavar="N", help="how far down to list (default 2)")
    parser.add_argument(
        "--lists", action="store_true", help="only folders whose list is unlike that of the one above"
    )


def run(args: argparse.Namespace, app: App) -> int:
    """List folders of all systems, or look at one."""
    office = app.office
    if app.options.side != "found":
        places = [] if app.options.side == "plan" else [one.address for one in office.plan.folders]
        there = {address: folders.is_there(office, address) for address in places}
        show_report(plan_folders_report(office.plan, there), app.output)
        return 0 if all(there.values()) else 1
    if args.folder:
        one = folders.ask_one(office, office.address(args.folder), only_lists=args.lists)
        show_report(folder_report(one.address, one.owner, one.entries, one.below), app.output)
        return 0
    show_report(folders_report(folders.ask(office, args.depth, only_lists=args.lists), args.depth), app.output)
    return 0
