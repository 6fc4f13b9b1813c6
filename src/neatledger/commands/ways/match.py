"""``match``: accounts that the plan matches with nobody yet, and the person whose they may be."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.core.people.matching import propose
from neatledger.faces.show import show_report
from neatledger.office.edit import add_accounts
from neatledger.reports.matching import matching_report

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Show the proposals, or write the clear ones into the plan."""
    office = app.office
    proposals = propose(office.plan, office.principals)
    clear = [one for one in proposals if one.is_clear]
    if args.write and clear:
        add_accounts(office.folder, [(one.candidates[0], one.system, one.account.login) for one in clear])
    show_report(matching_report(office.plan, proposals, len(clear) if args.write else 0), app.output)
    return 0
