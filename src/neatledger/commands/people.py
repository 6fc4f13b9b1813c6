"""``people [PERSON]``: the people with their accounts and groups, or one person's sheet."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.ways import guests, match
from neatledger.faces.show import show_report
from neatledger.questions import check, people
from neatledger.reports.people import accounts_report, people_report, sheet_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("person", metavar="PERSON", nargs="?", help="show this person's sheet")
    parser.add_argument("--accounts", action="store_true", help="a row an account: state, role, space, last seen")
    parser.add_argument("--services", action="store_true", help="also service accounts that the plan does not name")

    parser.add_argument("--guests", action="store_true", help="guests: by whom, what they reach, what comes next")
    parser.add_argument(
        "--match", action="store_true", help="accounts that nobody in the plan has, and whose they may be"
    )
    parser.add_argument("--write", action="store_true", help="--match: write the clear ones into office.yaml")


def run(args: argparse.Namespace, app: App) -> int:
    """List the people, or show one."""
    office = app.office
    if args.guests:
        return guests.run(args, app)
    if args.match:
        return match.run(args, app)
    if args.accounts:
        report = accounts_report(office.plan, people.accounts(office, args.person), office.count.when)
        show_report(report, app.output)
        return 0
    if args.person:
        sheet = people.sheet(office, args.person)
        problems = check.numbers_about(office, sheet.person, sheet.principals)
        show_report(sheet_report(office.plan, sheet, office.today, problems), app.output)
        return 0
    groups = people.groups_of(office)
    found = [] if app.is_of_plan else [one for each in office.principals.values() for one in each]
    report = people_report(office.plan, found, groups, office.today, with_services=args.services)
    show_report(report, app.output)
    return 0
