"""``plan``: every fault of the plan at once, what it means for a person or a folder, and its schema for editors."""

from __future__ import annotations

import argparse
import json

from neatledger.app import App
from neatledger.core.tree.address import Address
from neatledger.faces.output import open_output
from neatledger.faces.show import show_report
from neatledger.office.read import load_schema
from neatledger.questions import plan
from neatledger.questions.meant import person_or_folder
from neatledger.reports.plan import plan_check_report, saying_report
from neatledger.reports.report import Report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("what", metavar="NAME", nargs="?", help="all that it says of a person or folder, by line")
    act = parser.add_mutually_exclusive_group()
    act.add_argument("--check", action="store_true", help="every fault, and names that no system knows (default)")
    act.add_argument("--schema", action="store_true", help="print its JSON Schema, which editors complete words from")


def run(args: argparse.Namespace, app: App) -> int:
    """Check the plan, show what it says, or print its schema."""
    if args.schema:
        with open_output(app.output) as out:
            json.dump(load_schema(), out, indent=2)
            out.write("\n")
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
    report = plan_check_report(parts, unmatched, office.count.when if office.has_count else "", uncounted)
    show_report(report, app.output)
    return 1 if unmatched else 0


def _shown(what: str, app: App) -> Report:
    office = app.office
    found = person_or_folder(office, what, office.find_planned)
    if isinstance(found, Address):
        return saying_report(str(found), plan.ask_folder(office, found))
    return saying_report(office.plan.people[found].name, plan.ask_person(office, found))
