"""``folders [FOLDER]``: folders with their owners and lists; one folder's list in full."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import depth_of
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import folders
from neatledger.reports.folders import folder_report, folders_report
from neatledger.reports.sides import plan_folders_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", metavar="FOLDER", nargs="?", help="this folder's list, and what is right below it")
    parser.add_argument("--depth", type=depth_of, default=2, metavar="N", help="how far down to list (2), or all")
    parser.add_argument(
        "--lists", action="store_true", help="only folders whose list is unlike that of the one above"
    )

    parser.add_argument("--new-item", action="store_true", help="what a new folder or file gets in it")
    parser.add_argument("--made-by", metavar="PERSON", help="who makes the new item (else the folder's owner)")
    parser.add_argument("--pushed", action="store_true", help="what pushing its list down would change below")
    parser.add_argument("--keep-own", action="store_true", help="pushed: own entries and closed folders stay")


def run(args: argparse.Namespace, app: App) -> int:
    """List folders of all systems, or look at one."""
    office = app.office
    if args.new_item or args.pushed:
        if not args.folder:
            raise UsageError("of which folder?", hint="folders FOLDER --new-item")
        from neatledger.commands.ways import inherit

        args.push = args.pushed
        return inherit.run(args, app)
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
