"""``counts``: the counts in the ledger."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.reports.report import Cell, Column, Report

__all__ = ["add_arguments", "run"]

_COLUMNS = (
    Column("count", "COUNT", number=True),
    Column("taken", "TAKEN"),
    Column("system", "SYSTEM"),
    Column("source", "SOURCE"),
    Column("folders", "FOLDERS", number=True),
    Column("files", "FILES", number=True),
    Column("not_seen", "NOT SEEN", number=True),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""


def run(args: argparse.Namespace, app: App) -> int:
    """List every count, the newest first."""
    rows: list[Sequence[Cell]] = []
    counts = app.ledger.counts()
    for count in reversed(counts):
        for one in count.surveys:
            rows.append((count.id, count.when, one.system, one.source, one.folders, one.files, one.not_seen))
    headline = f"{len(counts)} {'count' if len(counts) == 1 else 'counts'} in {app.ledger.path}."
    show_report(Report("counts", headline, _COLUMNS, rows), app)
    return 0
