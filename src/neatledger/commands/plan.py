"""``plan``: every fault of the plan at once, what it says of a person or folder, its spelling and its schema."""

from __future__ import annotations

import argparse
import json

from neatledger.app import App
from neatledger.core.tree.address import Address
from neatledger.faces.output import open_output
from neatledger.faces.show import show_report
from neatledger.office.edit import former_spelling, renew_plan
from neatledger.office.read import load_schema
from neatledger.questions import plan
from neatledger.questions.meant import person_or_folder
from neatledger.reports.plan import plan_check_report, renewed_report, saying_report
from neatledger.reports.report import Report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("what", metavar="NAME", nargs="?", help="all that it says of a person or folder, by line")
    act = parser.add_mutually_exclusive_group()
    act.add_argument("--check", action="store_true", help="every fault, and names that no system knows (default)")
    act.add_argument("--write", action="store_true", help="spell what is spelled as it was before as it is today")
    act.add_argument("--schema", action="store_true", help="print its JSON Schema, which editors complete words from")


def run(args: argparse.Namespace, app: App) -> int:
    """Check the plan, show what it says, or print its schema."""
    if args.schema:
        with open_output(app.output) as out:
            json.dump(load_schema(), out, indent=2)
            out.write("\n")
        return 0
    if args.write:
        show_report(renewed_report(renew_plan(app.office_dir)), app.output)
        return 0
    office = app.office
    if args.what:
        show_report(_shown(args.what, app), app.output)
        return 0
    meant = office.plan
    parts = [(len(meant.systems), "system"), (len(meant.people), "person"), (len(meant.groups), "group")]
    parts += [(len(meant.folders), "folder"), (len(meant.space.limits), "limit")]
    unmatched = plan.ask_unmatched(office) if office.has_count else None
    counted = {one.system for one in office.count.surveys} if office.has_count else set()
    uncounted = [name for name in office.plan.systems if name not in counted]
    when, former = office.count.when if office.has_count else "", len(former_spelling(app.office_dir))
    report = plan_check_report(parts, unmatched, when, uncounted, former)
    show_report(report, app.output)
    return 1 if unmatched else 0


def _shown(what: str, app: App) -> Report:
    office = app.office
    found = person_or_folder(office, what, office.find_planned)
    if isinstance(found, Address):
        return saying_report(str(found), plan.ask_folder(office, found))
    return saying_report(office.plan.people[found].name, plan.ask_person(office, found))
