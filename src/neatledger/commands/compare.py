"""``compare A B``: two people, two groups, or one at two dates: what only one of them has, and by what."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import day_of
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import compare
from neatledger.reports.compare import compare_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("one", metavar="A", help="a person or a group")
    parser.add_argument("other", metavar="B", nargs="?", help="another one; left out with --then")
    parser.add_argument("--then", metavar="DATE", type=day_of, help="the other one as the count of that day had it")


def run(args: argparse.Namespace, app: App) -> int:
    """Compare; the exit status is 1 where they differ."""
    if not args.other and not args.then:
        raise UsageError("with whom?", hint="compare A B, or compare A --then DATE")
    found = compare.ask(app.office, args.one, args.other or args.one, then=args.then)
    show_report(compare_report(found, app.office.count.when), app.output)
    return int(bool(found.differences))
