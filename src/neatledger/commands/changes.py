"""``changes``: what access was gained and lost between two counts, by what, and what else changed."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import day_of, is_folder
from neatledger.commands.ways import compare
from neatledger.commands.ways import history as one_history
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import changes, changes_beside, history
from neatledger.questions.beside import SystemChange
from neatledger.reports.changes import changes_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument(
        "words", nargs="*", metavar="PERSON|FOLDER",
        help="a person and a folder: what they had there count by count; a person or group: what they had then",
    )  # fmt: skip
    parser.add_argument("--since", metavar="DATE", type=day_of, help="compare with the count of that day")
    parser.add_argument("--only", choices=("access",), help="only what people gained and lost")


def run(args: argparse.Namespace, app: App) -> int:
    """Compare the count (--as-of, or the newest) with an older one (--since, or the one before)."""
    if len(args.words) == 2:
        args.person, args.folder = sorted(args.words, key=is_folder)
        return one_history.run(args, app)
    if args.words:
        if args.since is None:
            raise UsageError("since when?", hint=f"changes {args.words[0]} --since DATE")
        args.one, args.other, args.then = args.words[0], None, args.since
        return compare.run(args, app)
    found = changes.ask(app.office, args.since)
    between = history.Between(app.office, found.older, found.newer)

    def why(change: SystemChange) -> changes.Explained:
        return changes.explain(app.office, found, change, between)

    others = [] if args.only else changes_beside.ask(app.office, found.older, found.newer)
    report = changes_report(found.changes, found.older.when, found.newer.when, why, others, found.left_out)
    show_report(report, app.output)
    return 1 if report.rows else 0
