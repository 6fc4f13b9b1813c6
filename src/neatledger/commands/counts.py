"""``counts``: the counts in the ledger."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.reports.counts import counts_report, not_seen_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--not-seen", metavar="SYSTEM", help="list what the last count could not see of a system")


def run(args: argparse.Namespace, app: App) -> int:
    """List every count, the newest first."""
    if args.not_seen:
        name, office = args.not_seen, app.office
        not_seen = office.reader(name).not_seen
        when = next(one.when for one in office.count.surveys if one.system == name)
        show_report(not_seen_report(name, not_seen, when), app.output)
        return 0
    ledger = app.office.ledger
    show_report(counts_report(ledger.counts(), str(ledger.path)), app.output)
    return 0
