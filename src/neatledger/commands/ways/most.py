"""Who can change, delete or read the most, and by which group: what one stolen account could do."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.core.lists.rights import Right
from neatledger.faces.show import show_report
from neatledger.questions import most
from neatledger.reports.compare import most_report

__all__ = ["run"]

_TOP = 15
RIGHTS = {"change": Right.CHANGE, "delete": Right.DELETE, "read": Right.READ}


def run(args: argparse.Namespace, app: App) -> int:
    """Show everybody, the most first."""
    right, top = RIGHTS[args.most], app.options.view.top or _TOP
    found = most.ask(app.office, right, top)
    show_report(most_report(found, right, app.office.count.when, top), app.output)
    return 0
