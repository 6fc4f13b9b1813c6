"""``counts``: the counts in the ledger."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.reports.counts import counts_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""


def run(args: argparse.Namespace, app: App) -> int:
    """List every count, the newest first."""
    ledger = app.office.ledger
    show_report(counts_report(ledger.counts(), str(ledger.path)), app.output)
    return 0
