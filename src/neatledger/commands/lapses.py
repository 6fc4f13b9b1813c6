"""``lapses``: everything that lapses, by date, as a table and as a calendar."""

from __future__ import annotations

import argparse
from datetime import timedelta

from neatledger.app import App
from neatledger.cli import days_of
from neatledger.core.sharing.lapses import SORTS
from neatledger.errors import UsageError
from neatledger.faces.calendar import calendar_bytes
from neatledger.faces.show import show_report
from neatledger.files import write_file
from neatledger.questions import lapses
from neatledger.reports.lapses import calendar_days, lapses_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--within", type=days_of, metavar="DAYS", help="only what lapses within so many days")
    parser.add_argument("--past", action="store_true", help="also what lapsed already")
    parser.add_argument("--what", action="append", metavar="WHAT", help="only links, guests, … ; may be given again")
    parser.add_argument("--calendar", metavar="FILE", help="also write it as a calendar (iCalendar)")


def run(args: argparse.Namespace, app: App) -> int:
    """List it; with --calendar write a file that calendar programs read."""
    words = ["person" if word == "people" else word.removesuffix("s") for word in args.what or ()]
    for given, word in zip(args.what or (), words, strict=True):
        if word not in SORTS:
            many = ", ".join("people" if sort == "person" else f"{sort}s" for sort in SORTS)
            raise UsageError(f"nothing that lapses is called {given!r}", hint=f"--what wants one of: {many}")
    found = lapses.ask(app.office, within_days=args.within, what=words, is_of_plan=app.is_of_plan)
    shown = [*(found.past if args.past else ()), *found.coming]
    if args.calendar:
        days = calendar_days(shown)
        title = f"What lapses: {app.office.plan.office}"
        write_file(args.calendar, calendar_bytes(days, title, app.now))
        app.say(f"neatledger: wrote {len(days)} days into {args.calendar}")
    hidden = 0 if args.past else len(found.past)
    kinds = f" of the kind {' or '.join(words)}" if words else ""
    until = f" until {found.today + timedelta(days=args.within)}" if args.within is not None else ""
    show_report(lapses_report(shown, found.today, hidden, len(found.later), f"{kinds} ends{until}"), app.output)
    return 0
