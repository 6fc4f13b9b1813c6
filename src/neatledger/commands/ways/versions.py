"""``versions [SYSTEM]``: what old versions and the bin take, and what another setting would free or cost."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions import versions
from neatledger.reports.versions import versions_report

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Show what is measured, and bound what is not."""
    with app.progress("history") as progress:
        found = versions.ask(app.office, args.system, args.keep, progress)
    report = versions_report(found, app.office.count.when, is_compared=args.keep is not None)
    show_report(report, app.output)
    return 0
