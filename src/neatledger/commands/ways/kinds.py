"""``kinds [FOLDER]``: how much there is of each kind of file, and what is stored though it is barred."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions import kinds
from neatledger.reports.kinds import barred_report, kinds_report

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """List kinds, or what is barred and stored; the exit status is 1 where there is any."""
    office = app.office
    if args.barred:
        barred = kinds.ask_barred(office, args.folder)
        show_report(barred_report(barred, office.plan.space.barred, office.count.when), app.output)
        return 1 if barred else 0
    found = kinds.ask(office, args.folder)
    show_report(kinds_report(found.name, found.kinds, found.barred, office.count.when), app.output)
    return 0
