"""``synced PERSON``: what a synced device would hold for a person, after the rules of syncing."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions import synced
from neatledger.reports.synced import synced_report

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Add up what the person reads, and take off what the rules leave out."""
    show_report(synced_report(synced.ask(app.office, args.person), app.office.count.when), app.output)
    return 0
