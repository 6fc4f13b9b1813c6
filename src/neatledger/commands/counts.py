"""``counts``: the counts in the ledger."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.errors import UnknownNameError, UsageError
from neatledger.faces.show import show_report
from neatledger.ledger.store import Ledger
from neatledger.reports.counts import counts_report, not_seen_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--not-seen", metavar="SYSTEM", help="list what the last count could not see of a system")
    parser.add_argument("--remove", metavar="N", help="remove a mistaken count, by its number, for good")
    parser.add_argument("--insist", action="store_true", help="remove it without being asked")


def run(args: argparse.Namespace, app: App) -> int:
    """List every count, the newest first."""
    if args.not_seen:
        name, office = args.not_seen, app.office
        not_seen = office.reader(name).not_seen
        when = next(one.when for one in office.count.surveys if one.system == name)
        show_report(not_seen_report(name, not_seen, when), app.output)
        return 0
    ledger = app.office.ledger
    if args.remove is not None:
        _remove(app, ledger, args.remove, insists=args.insist)
    show_report(counts_report(ledger.counts(), str(ledger.path)), app.output)
    return 0


def _remove(app: App, ledger: Ledger, number: str, *, insists: bool) -> None:
    """Remove a count once somebody has said so; raises `UnknownNameError`, or `UsageError` where nobody says."""
    count = next((one for one in ledger.counts() if str(one.id) == number), None)
    if count is None:
        raise UnknownNameError(f"no count has the number {number!r}", hint="counts lists them")
    systems = ", ".join(one.system for one in count.surveys)
    what = f"count {count.id} of {count.when} ({systems})"
    if not insists and not app.agrees(f"Remove {what} for good?"):
        raise UsageError(f"{what} was not removed", hint="say yes, or --insist")
    ledger.remove_count(count.id)
    app.say(f"Removed {what}.")
