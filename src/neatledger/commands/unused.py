"""``unused``: rights that nobody used, and what would be missed without them."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import span_of
from neatledger.commands.ways.written import keep_steps
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import taking_away, unused
from neatledger.questions.meant import subjects_of
from neatledger.reports.unused import missed_report, unused_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("names", nargs="*", metavar="WHAT", help="of a person, in a folder and below, on a system")
    parser.add_argument(
        "--idle",
        type=span_of,
        metavar="SPAN",
        help="not used for so long: 90d, 6m (the plan's number of days, or 180d)",
    )
    parser.add_argument(
        "--only", action="append", default=[], choices=[one.value for one in unused.Kind], metavar="WHAT",
        help=f"only {', '.join(one.value for one in unused.Kind)}",
    )  # fmt: skip
    parser.add_argument(
        "--try", action="store_true", dest="is_trial", help="what would have been refused in the last year without"
    )
    parser.add_argument("--steps", metavar="FILE", help="also write the steps there, for mend FILE")


def run(args: argparse.Namespace, app: App) -> int:
    """Show what is unused, or what taking it away would do."""
    if args.idle is not None and args.idle < 1:
        raise UsageError(f"--idle {args.idle}", hint="one day at least")
    subjects = subjects_of(app.office, args.names)
    person, below = subjects.person, subjects.folder
    systems = [subjects.system] if subjects.system else []
    kinds = [unused.Kind(one) for one in args.only]
    with app.progress("looking for uses"):
        found = unused.ask(app.office, args.idle, kinds, person.id if person else "", below, systems)
    about = "".join([f" of {person.id}" if person else "", f" at or below {below}" if below else ""])
    about += f" on {subjects.system}" if subjects.system else ""
    if not args.is_trial and not args.steps:
        show_report(unused_report(found, about), app.output)
        return 1 if found.found else 0
    with app.progress("looking what would be missed"):
        trial = taking_away.try_out(app.office, found.found)
    keep_steps(app, args.steps, trial.steps)
    show_report(
        missed_report(trial.missed, trial.by_hand, len(trial.steps), len(found.found), found.unknown), app.output
    )
    return 0
