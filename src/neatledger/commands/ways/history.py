"""``history PERSON FOLDER``: what somebody had on a folder count by count, and what changed each time."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions import history
from neatledger.reports.history import history_report

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Show each time that it changed."""
    office = app.office
    found = history.ask(office, args.person, office.find_folder(args.folder, or_before=True))
    show_report(history_report(found), app.output)
    return 0
