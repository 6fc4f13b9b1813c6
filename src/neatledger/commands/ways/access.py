"""Everything that people reach: people, folders and ways as one table."""

from __future__ import annotations

import argparse
from functools import partial
from typing import TYPE_CHECKING

from neatledger.app import App
from neatledger.core.access.everyone import RowFilter
from neatledger.core.tree.address import Address
from neatledger.faces.machine import WRITERS
from neatledger.faces.show import show_report
from neatledger.faces.showaccess import show_access, table_text
from neatledger.questions import access, differences, last_use
from neatledger.reports.access import rows_of_level
from neatledger.reports.everyone import access_report
from neatledger.reports.report import count_of
from neatledger.reports.sides import both_report, plan_reach_report
from neatledger.reports.who import with_last_use

if TYPE_CHECKING:
    from neatledger.questions.parts import TablePart

__all__ = ["run"]


def run(args: argparse.Namespace, app: App, which: RowFilter) -> int:
    """Write the table, system after system; `which` says which rows."""
    office = app.office
    below = office.find_folder(args.below) if args.below else None
    if app.options.side == "plan":
        people = [office.find_planned(name) for name in args.person or office.plan.people]
        show_report(plan_reach_report(office.plan, people, "access", below), app.output)
        return 0
    if app.options.side == "both":
        found = differences.ask(office, args.person, below)
        show_report(both_report("access", found, office.plan.office), app.output)
        return 1 if any(found) else 0
    if args.level not in (None, "any"):
        return _of_level(args, app, below)
    if "used" in args.extra:
        looked = list(access.ask(office, args.person, below))
        is_machine = app.options.format != "table"
        report = access_report("access", looked, which, office.count.when, is_whole=is_machine)
        whom = {str(row["person"]) for row in report.rows}
        folders = list(dict.fromkeys(row["folder"] for row in report.rows if isinstance(row["folder"], Address)))
        days = last_use.days_of_tables(office, looked, whom, folders)
        words = last_use.seen_words(office, [one.system for one in looked])
        show_report(with_last_use(report, days, ["person", "folder"], words), app.output)
        return 0
    made = None
    tables = access.ask(office, args.person, below)
    if office.workers is not None and app.options.format in WRITERS:
        # What only workers need loads all checks: not at every start.
        from neatledger.questions.parts import table_parts

        parts = table_parts(office, tables, args.person, below, which)
        made = filter(None, office.workers.each(partial(_text, form=app.options.format), parts))
    show_access("access", tables, which, office.count.when, app.output, made=made)
    return 0


def _of_level(args: argparse.Namespace, app: App, below: Address | None) -> int:
    """Show the rows of a level and above."""
    looked = list(access.ask(app.office, args.person, below))
    report = access_report("access", looked, RowFilter.EVERY, app.office.count.when, is_whole=True)
    rows, unsure = rows_of_level(report.rows, args.level)
    unknown = f"; of {len(unsure):,} more it is unknown" if unsure else ""
    report.headline = f"{count_of(len(rows), 'row')}: every folder with {args.level} or more{unknown}."
    report.rows, report.is_assured = [*rows, *unsure], False
    show_report(report, app.output)
    return 0


def _text(part: TablePart, form: str) -> str:
    """Return the text of a part of the table, on a worker."""
    from neatledger.questions.parts import table_of

    table, blocks = table_of(part)
    return table_text(table, blocks, form)
