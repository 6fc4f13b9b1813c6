"""``draft``: the first plan from what was found, and what of it is rather a question."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.output import open_output
from neatledger.faces.show import show_report
from neatledger.office.edit import draft_text, take_out_draft, write_draft
from neatledger.questions import draft
from neatledger.reports.draft import additions_of, draft_report
from neatledger.reports.report import count_of

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument(
        "--only", action="append", choices=draft.PARTS, metavar="PART",
        help=f"only this part; may be given again: {', '.join(draft.PARTS)}",
    )  # fmt: skip
    act = parser.add_mutually_exclusive_group()
    act.add_argument("--text", action="store_true", help="print it as it would stand in office.yaml")
    act.add_argument("--write", action="store_true", help="add it to office.yaml; what is there stays as it is")
    act.add_argument("--undo", action="store_true", help="take out again what was drafted and still is marked so")


def run(args: argparse.Namespace, app: App) -> int:
    """Show the draft, write it, or take it out."""
    office = app.office
    if args.undo:
        gone = take_out_draft(office.folder)
        app.say(f"{count_of(gone, 'entry')} taken out of the plan.")
        return 0
    with app.progress("drafting"):
        found = draft.ask(office, args.only or draft.PARTS)
    additions, unsaid = additions_of(found)
    if args.text:
        with open_output(app.output) as out:
            out.write(draft_text(additions))
        return 0
    done = ""
    if args.write:
        done = f"{count_of(write_draft(office.folder, office.plan, additions), 'entry')} added to office.yaml."
    show_report(draft_report(found, additions, unsaid, done, office.count.when), app.output)
    return 0
