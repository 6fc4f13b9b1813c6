"""``reach PERSON``: what a person can reach."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.asking import find_person, planned_differences
from neatledger.commands.whole import load_everyone, people_rows, write_tables
from neatledger.core.access.everyone import Everyone, RowFilter
from neatledger.errors import UnknownNameError
from neatledger.faces.show import show_report
from neatledger.ledger.reader import SurveyReader
from neatledger.reports.sides import both_report, plan_reach_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("person", metavar="PERSON", help="a person's id, login or name")
    parser.add_argument(
        "--every", action="store_true", help="every folder with any right, not only where rights change"
    )


def run(args: argparse.Namespace, app: App) -> int:
    """Answer on the found side, the plan's, or both."""
    if app.options.side == "plan":
        if args.person not in app.plan.people:
            raise UnknownNameError(f"the plan has no person {args.person!r}", hint="people lists everyone")
        show_report(plan_reach_report(app.plan, [args.person], "reach"), app)
        return 0
    person, principals = find_person(app, args.person)
    if app.options.side == "both":
        differences = planned_differences(app, person)
        show_report(both_report("reach", differences, person), app)
        return 1 if any(differences) else 0
    tables: list[tuple[SurveyReader, Everyone]] = [
        (app.readers[system], load_everyone(app.services, app.readers[system], found))
        for system, found in principals.items()
    ]
    which = RowFilter.EVERY if args.every else RowFilter.DIFFER
    if app.options.format == "table":
        report = people_rows(tables, which, None, app)
        report.name = "reach"
        if not principals:
            report.empty = f"{person} has no account on any system that was gathered"
        show_report(report, app)
    else:
        write_tables("reach", tables, which, None, app)
    return 0
