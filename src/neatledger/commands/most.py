"""``most``: who can change, delete or read the most, and by which group: what one stolen account could do."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.core.lists.rights import Right
from neatledger.faces.show import show_report
from neatledger.questions import most
from neatledger.reports.compare import most_report

__all__ = ["add_arguments", "run"]

_RIGHTS = {"change": Right.CHANGE, "delete": Right.DELETE, "read": Right.READ}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--by", choices=_RIGHTS, default="change", help="what is looked at: change, delete or read")
    parser.add_argument("-n", "--top", type=int, default=15, metavar="N", help="how many people are shown (15)")


def run(args: argparse.Namespace, app: App) -> int:
    """Show everybody, the most first."""
    right = _RIGHTS[args.by]
    found = most.ask(app.office, right, args.top)
    show_report(most_report(found, right, app.office.count.when, args.top), app.output)
    return 0
