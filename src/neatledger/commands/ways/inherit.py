"""``inherit FOLDER``: what a new item gets there, and what pushing its list down would change."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.formats.names import show_address
from neatledger.questions import inherit
from neatledger.reports.inherit import new_child_report, push_report

__all__ = ["run"]


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
