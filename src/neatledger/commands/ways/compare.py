"""``compare A B``: two people, two groups, or one at two dates: what only one of them has, and by what."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions import compare
from neatledger.reports.compare import compare_report

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Compare; the exit status is 1 where they differ."""
    found = compare.ask(app.office, args.one, args.other or args.one, then=args.then)
    show_report(compare_report(found, app.office.count.when), app.output)
    return int(bool(found.differences))
