"""``changes``: what access was gained and lost between two counts."""

from __future__ import annotations

import argparse
from datetime import date

from neatledger.app import App
from neatledger.commands.whole import load_everyone
from neatledger.core.access.everyone import Everyone, RowFilter
from neatledger.core.tree.table import folder_paths
from neatledger.errors import NoCountError
from neatledger.faces.show import show_report
from neatledger.ledger.store import CountInfo
from neatledger.reports.changes import Held, changes_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--since", metavar="DATE", type=date.fromisoformat, help="compare with the count of that day")


def run(args: argparse.Namespace, app: App) -> int:
    """Compare the count (--as-of, or the newest) with an older one (--since, or the one before)."""
    newer = app.count
    older = app.ledger.find_count(args.since) if args.since else _before(app, newer)
    report = changes_report(_held(app, older), _held(app, newer), older.when, newer.when)
    show_report(report, app)
    return 1 if report.rows else 0


def _before(app: App, newer: CountInfo) -> CountInfo:
    older = [count for count in app.ledger.counts() if (count.taken_at, count.id) < (newer.taken_at, newer.id)]
    if not older:
        raise NoCountError("there is no older count to compare with", str(app.ledger.path), "gather again later")
    return older[-1]


def _held(app: App, count: CountInfo) -> Held:
    """Return who has what where: system → path → person → the flags of their rights, all ways united."""
    found: Held = {}
    readers = app.readers_of(count)
    services = app.services_of(readers, count.taken_at.astimezone().date())
    for system, reader in readers.items():
        if services.holders[system]:
            everyone = load_everyone(services, reader, services.holders[system], is_narrow=True)
            found[system] = _flags(everyone)
    return found


def _flags(everyone: Everyone) -> dict[bytes, dict[str, int]]:
    path_of = folder_paths(everyone.matrix.folders)
    people = [
        everyone.matrix.principals[column.principals[0]].person if column.principals else ""
        for column in everyone.columns
    ]
    found: dict[bytes, dict[str, int]] = {path_of(row): {} for row in range(everyone.matrix.folders.rows)}
    paths = list(found)
    for block in everyone.blocks(RowFilter.EVERY):
        rows = zip(block.folder.tolist(), block.column.tolist(), block.flags.tolist(), strict=True)
        for folder, column, flags in rows:
            mine = found[paths[folder]]
            mine[people[column]] = mine.get(people[column], 0) | flags
    return found
