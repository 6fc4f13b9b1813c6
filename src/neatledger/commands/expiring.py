"""``expiring``: everything that ends, by date, as a table and as a calendar."""

from __future__ import annotations

import argparse
from datetime import timedelta

from neatledger.app import App
from neatledger.cli import span_of
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
    parser.add_argument("--within", type=span_of, metavar="SPAN", help="only what ends so soon: 7d, 2w, 6m")
    parser.add_argument("--past", action="store_true", help="also what has ended already")
    parser.add_argument("--only", action="append", metavar="KIND", help="only links, guests, ...; may be given again")


def _sort_of(word: str) -> str:
    """Return the word for a sort of things that end, as it may be typed: ``links``, ``beyond-posts``, ``people``."""
    plain = word.casefold().replace("-", " ")
    plain = plain if plain in SORTS else "person" if plain == "people" else plain.removesuffix("s")
    # "hand-out" is written with its hyphen.
    return word if word in SORTS else word.removesuffix("s") if word.removesuffix("s") in SORTS else plain


def run(args: argparse.Namespace, app: App) -> int:
    """List it; with --calendar write a file that calendar programs read."""
    words = [_sort_of(word) for word in args.only or ()]
    for given, word in zip(args.only or (), words, strict=True):
        if word not in SORTS:
            many = ", ".join(SORTS)
            raise UsageError(f"nothing that ends is called {given!r}", hint=f"--only wants one of: {many}")
    found = lapses.ask(app.office, within_days=args.within, what=words, is_of_plan=app.is_of_plan)
    shown = [*(found.past if args.past else ()), *found.coming]
    for target in args.others:
        days = calendar_days(shown)
        title = f"What ends: {app.office.plan.office}"
        write_file(target, calendar_bytes(days, title, app.now))
        app.say(f"neatledger: wrote {len(days)} days into {target}")
    hidden = 0 if args.past else len(found.past)
    kinds = f" of the kind {' or '.join(words)}" if words else ""
    until = f" until {found.today + timedelta(days=args.within)}" if args.within is not None else ""
    show_report(lapses_report(shown, found.today, hidden, len(found.later), f"{kinds} ends{until}"), app.output)
    return 0
