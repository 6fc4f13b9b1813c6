"""``accept CHECK PLACE``: write into the plan that the office lives with a finding."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import day_of
from neatledger.core.checks.table import CHECKS
from neatledger.core.tree.patterns import match_text
from neatledger.errors import UnknownNameError
from neatledger.office.edit import add_acceptance
from neatledger.office.read import PLAN_NAME
from neatledger.questions import check
from neatledger.questions.told import place_of

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("check", metavar="CHECK", help="the check's name, as check shows it")
    parser.add_argument("place", metavar="PLACE", help="the finding's place; * stands for any run of characters")
    parser.add_argument("--reason", required=True, help="why the office lives with it")
    parser.add_argument("--until", metavar="DATE", type=day_of, help="the last day on which it is accepted")


def run(args: argparse.Namespace, app: App) -> int:
    """Edit the plan, keeping its comments."""
    if args.check not in CHECKS:
        args.check = check.check_called(args.check)
    office = app.office
    found = check.ask(office, [args.check])
    if not any(match_text(args.place, place_of(one.finding)) for one in found):
        where = f"{len(found)} elsewhere" if found else "none anywhere"
        hint = f"check --only {args.check} --all lists them: {where}"
        raise UnknownNameError(f"no finding of {args.check} at {args.place} in the count", hint=hint)
    until = args.until.isoformat() if args.until else None
    add_acceptance(office.folder, args.check, args.place, args.reason, until)
    ending = f" until {until}." if until else "."
    app.say(f"{office.folder / PLAN_NAME}: {args.check} at {args.place} is accepted{ending}")
    return 0
