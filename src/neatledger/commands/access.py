"""``access``: everything: people, folders and ways as one table."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

from neatledger.app import App
from neatledger.commands.asking import planned_differences
from neatledger.commands.whole import load_everyone, people_rows, wanted_principals, write_tables
from neatledger.core.access.everyone import Everyone, RowFilter
from neatledger.core.tree.address import Address
from neatledger.faces.show import show_report
from neatledger.ledger.reader import SurveyReader
from neatledger.reports.sides import both_report, plan_reach_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    which = parser.add_mutually_exclusive_group()
    which.add_argument(
        "--every", action="store_true", help="every folder with any right, not only where rights change"
    )
    which.add_argument("--all", action="store_true", help="every folder and person, also those without any right")
    parser.add_argument("--below", metavar="FOLDER", help="only this folder and what is in it")
    parser.add_argument("--person", action="append", metavar="PERSON", help="only this person; may be given again")


def run(args: argparse.Namespace, app: App) -> int:
    """Write the table, system after system."""
    if app.options.side == "plan":
        show_report(plan_reach_report(app.plan, args.person or list(app.plan.people), "access"), app)
        return 0
    if app.options.side == "both":
        differences = [each for each in planned_differences(app) if not args.person or each.person in args.person]
        show_report(both_report("access", differences, app.plan.office), app)
        return 1 if any(differences) else 0
    which = RowFilter.ALL if args.all else RowFilter.EVERY if args.every else RowFilter.DIFFER
    below = app.address(args.below) if args.below else None
    tables = _tables(app, below, args.person)
    if app.options.format == "table":
        show_report(people_rows(tables, which, below, app), app)
        return 0
    write_tables("access", tables, which, below, app)
    return 0


def _tables(app: App, below: Address | None, people: list[str] | None) -> Iterator[tuple[SurveyReader, Everyone]]:
    for system, reader in app.readers.items():
        if below is None or below.system == system:
            principals = wanted_principals(app, system, people)
            if principals:
                yield reader, load_everyone(app.services, reader, principals)
