"""``unused``: rights that nobody used, and what would be missed without them."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.formats.stepfiles import write_steps
from neatledger.questions import taking_away, unused
from neatledger.questions.meant import person_and_folder
from neatledger.reports.unused import missed_report, unused_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("names", nargs="*", metavar="PERSON|FOLDER", help="of a person alone, in a folder and below")
    parser.add_argument("--days", type=int, metavar="N", help="for so many days (default: unused-right-days, 180)")
    parser.add_argument(
        "--only", action="append", default=[], choices=[one.value for one in unused.Kind], metavar="WHAT",
        help=f"only {', '.join(one.value for one in unused.Kind)}",
    )  # fmt: skip
    parser.add_argument("--system", action="append", default=[], metavar="NAME", help="only of this system")
    parser.add_argument(
        "--try", action="store_true", dest="is_trial", help="what would have been refused in the last year without"
    )
    parser.add_argument("--keep", metavar="FILE", help="write the steps to a file, for mend --steps")


def run(args: argparse.Namespace, app: App) -> int:
    """Show what is unused, or what taking it away would do."""
    if args.days is not None and args.days < 1:
        raise UsageError(f"--days {args.days}", hint="one day at least")
    person, below = person_and_folder(app.office, args.names)
    kinds = [unused.Kind(one) for one in args.only]
    with app.progress("looking for uses"):
        found = unused.ask(app.office, args.days, kinds, person.id if person else "", below, args.system)
    about = "".join([f" of {person.id}" if person else "", f" at or below {below}" if below else ""])
    if not args.is_trial and not args.keep:
        show_report(unused_report(found, about), app.output)
        return 1 if found.found else 0
    with app.progress("looking what would be missed"):
        trial = taking_away.try_out(app.office, found.found)
    if args.keep:
        write_steps(args.keep, trial.steps)
        app.say(f"{len(trial.steps)} steps kept in {args.keep}")
    show_report(
        missed_report(trial.missed, trial.by_hand, len(trial.steps), len(found.found), found.unknown), app.output
    )
    return 0
