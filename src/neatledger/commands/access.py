"""``access``: everything: people, folders and ways as one table."""

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
from neatledger.reports.everyone import access_report
from neatledger.reports.sides import both_report, plan_reach_report
from neatledger.reports.who import with_last_use

if TYPE_CHECKING:
    from neatledger.questions.parts import TablePart

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    which = parser.add_mutually_exclusive_group()
    which.add_argument(
        "--every", action="store_true", help="every folder with any right, not only where rights change"
    )
    which.add_argument("-a", "--all", action="store_true", help="every folder and person, with any right or none")
    parser.add_argument("-b", "--below", metavar="FOLDER", help="only this folder and what is in it")
    parser.add_argument("--used", action="store_true", help="when each last used it, by the systems' own logs")
    parser.add_argument("-p", "--person", action="append", metavar="PERSON", help="only this person (again: more)")


def run(args: argparse.Namespace, app: App) -> int:
    """Write the table, system after system."""
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
    which = RowFilter.ALL if args.all else RowFilter.EVERY if args.every else RowFilter.DIFFER
    if args.used:
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


def _text(part: TablePart, form: str) -> str:
    """Return the text of a part of the table, on a worker."""
    from neatledger.questions.parts import table_of

    table, blocks = table_of(part)
    return table_text(table, blocks, form)
