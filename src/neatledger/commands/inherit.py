"""``inherit FOLDER``: what a new item gets there, and what pushing its list down would change."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.formats.names import show_address
from neatledger.questions import inherit
from neatledger.reports.inherit import new_child_report, push_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", metavar="FOLDER", help="the folder, as loft:/Surgery")
    parser.add_argument("--made-by", metavar="PERSON", help="who makes the new item (else the folder's owner)")
    parser.add_argument("--push", action="store_true", help="what pushing the folder's list down would change")
    parser.add_argument(
        "--keep-own",
        action="store_true",
        help="with --push: entries of their own stay, and closed folders as they are",
    )


def run(args: argparse.Namespace, app: App) -> int:
    """Answer from the count; nothing is changed anywhere."""
    office = app.office
    address = office.find_folder(args.folder)
    if args.push:
        pushed = inherit.ask_push(office, address, keeps_own=args.keep_own)
        where = show_address(pushed.address)
        report = push_report(where, pushed.changes, pushed.names, keeps_own=args.keep_own)
    else:
        new = inherit.ask(office, address, args.made_by)
        where = show_address(new.address)
        report = new_child_report(where, new)
    show_report(report, app.output)
    return 0
