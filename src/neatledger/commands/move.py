"""``move NAME --post POST``: somebody changes posts: what goes, what comes, what stays, and the steps of each day."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import day_of
from neatledger.commands.ways.written import keep_steps, write_worksheets
from neatledger.faces.show import show_report
from neatledger.office.edit_people import put_move
from neatledger.questions import moving
from neatledger.reports.joining import step_rows
from neatledger.reports.moving import moving_report, moving_rows
from neatledger.reports.report import Aside

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("person", metavar="PERSON", help="who changes posts")
    parser.add_argument("--post", action="append", required=True, metavar="POST", help="the new post, or several")
    parser.add_argument("--start", type=day_of, metavar="DATE", help="from this day (default: today)")
    parser.add_argument("--overlap", type=day_of, metavar="DATE", help="until then they hold the old posts too")
    parser.add_argument("--because", default="", metavar="TEXT", help="why, as for whom they stand in")
    parser.add_argument("--steps", metavar="FILE", help="also write the steps of the first day there, for mend FILE")
    parser.add_argument("--write", action="store_true", help="write it into office.yaml")


def run(args: argparse.Namespace, app: App) -> int:
    """Show what comes of it, and write it."""
    with app.progress("looking what comes of it"):
        found = moving.ask(app.office, args.person, args.post, args.start, args.overlap, args.because)
    keep_steps(app, args.steps, [item.step for item in found.work[0][1].items])
    notes: list[str | Aside] = [f"Mind: {note}." for note in found.notes]
    if args.write:
        accounts = {system: choice.login for system, choice in found.choices.items()}
        put_move(app.office.folder, found.person, found.posts, accounts, found.unlisted)
        notes.append("It was written into office.yaml.")
        notes.append(Aside(f"mend {found.person} shows the steps of each day when they are due."))
    else:
        notes.append("Nothing was changed; --write writes it into office.yaml.")
    rows = moving_rows(found.posts, found.choices, found.changes, found.groups, found.stays, found.tell)
    for day, work in found.work:
        rows += step_rows(work.items, work.names, day)
    report = moving_report(found.name, found.day, rows, notes)
    write_worksheets(app, args.others, report)
    show_report(report, app.output)
    return 0
