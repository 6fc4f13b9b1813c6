"""What one person can reach, folder by folder, with the single files that are theirs."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.core.access.everyone import RowFilter
from neatledger.core.tree.address import Address
from neatledger.faces.show import show_report
from neatledger.faces.showaccess import show_access
from neatledger.questions import access, differences, last_use, reach, single_files
from neatledger.reports.access import file_row
from neatledger.reports.everyone import access_report
from neatledger.reports.sides import both_report, plan_reach_report
from neatledger.reports.who import with_last_use, with_since

__all__ = ["run"]


def run(args: argparse.Namespace, app: App, name: str, which: RowFilter) -> int:
    """Answer on the found side, the plan's, or both; `which` says which rows."""
    office = app.office
    if app.options.side == "plan":
        show_report(plan_reach_report(office.plan, [office.find_planned(name)], "reach"), app.output)
        return 0
    person = office.find_person(name)
    if app.options.side == "both":
        found = differences.ask(office, [person.id])
        show_report(both_report("reach", found, person.id), app.output)
        return 1 if any(found) else 0
    empty = "" if person.principals else f"{person.id} has no account on any system that was counted"
    planned = office.plan.people.get(person.id)
    if planned is not None and not planned.is_here(office.today):
        begins = planned.start if planned.start and planned.start > office.today else None
        said = f"it begins on {begins}" if begins else f"it ended on {planned.end}"
        empty = f"{empty}; {said} by the plan" if empty else ""
        app.say(f"{person.id}: {said} by the plan (--side plan --today DATE shows what it gives then).")
    files = [
        file_row(one.address, way, one.access, office.names(system))
        for system in office.readers
        for one in single_files.ask(office, system, person.on(system))
        for way in one.ways
    ]
    tables = list(access.ask(office, [person.id]))
    if args.extra:
        is_machine = app.options.format != "table"
        report = access_report("reach", tables, which, office.count.when, files, is_whole=is_machine)
        addresses = [row["folder"] for row in report.rows if isinstance(row["folder"], Address)]
        if "used" in args.extra:
            days = last_use.days_of_tables(office, tables, {person.id}, addresses)
            words = last_use.seen_words(office, dict.fromkeys(one.system for one in tables))
            report = with_last_use(report, days, ["person", "folder"], words)
        if "since" in args.extra:
            with app.progress("since when"):
                since = reach.ask_since(office, person.id, addresses)
            report = with_since(report, since, "folder")
        show_report(report, app.output)
        return 0
    show_access("reach", tables, which, office.count.when, app.output, more=files, empty=empty)
    return 0
