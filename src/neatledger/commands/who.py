"""``who FOLDER``: who can reach a folder, and by what."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.ways.levels import LEVELS
from neatledger.faces.show import show_report
from neatledger.questions import history, last_use, who
from neatledger.reports.sides import both_report, plan_who_report
from neatledger.reports.who import below_notes, of_level, who_report, with_last_use, with_since

__all__ = ["EXTRA_COLUMNS", "add_arguments", "run"]

EXTRA_COLUMNS = ("since",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", metavar="FOLDER", help="a folder or a file, as barn:/Records/2026")
    parser.add_argument("-a", "--all", action="store_true", help="also the people who have no right here")
    parser.add_argument("--level", choices=LEVELS, metavar="LEVEL", help=f"at least this level: {', '.join(LEVELS)}")


def run(args: argparse.Namespace, app: App) -> int:
    """Answer on the found side, the plan's, or both."""
    office = app.office
    address = office.address(args.folder)
    if app.options.side == "plan":
        who.refuse_unknown(office, address)
        show_report(plan_who_report(office.plan, address), app.output)
        return 0
    if app.options.side == "both":
        differences = who.ask_both(office, address)
        show_report(both_report("who", differences, args.folder), app.output)
        return 1 if any(differences) else 0
    found = who.ask(office, address)
    where, when = found.location.address, office.count.when
    report = who_report(
        where,
        found.people,
        found.names,
        when,
        is_all=args.all,
        single_files=found.single_files,
        is_supposed=bool(found.location.note),
        differences=who.differences_of(office, found),
        planned=who.planned_at(office, where),
        below=who.holding_words(office, found.location),
    )
    if found.location.note:
        report.notes.insert(0, f"{found.location.note[0].upper()}{found.location.note[1:]}".rstrip(".?") + ".")
    if found.location.is_folder:
        log, count = office.ledger.findings, office.count.id
        is_large = log.is_large(count)
        report.notes += below_notes(where, None if is_large else log.below(count, where), is_large=is_large)
    # Without being asked for: who never uses what they may is what this table is read for.
    words = last_use.seen_words(office, [where.system])
    if words:
        report = with_last_use(report, last_use.days_of_folder(office, where), ["person"], words)
    if "since" in args.extra:
        report = with_since(report, history.ask_since(office, where))
    if args.level not in (None, "any"):
        report = of_level(report, args.level)
    show_report(report, app.output)
    return 0
