"""``leave NAME``: somebody leaves: what hangs on them, who takes it over, the days, and the steps."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import day_of
from neatledger.commands.ways.written import keep_steps, write_worksheets
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.formats.words import parse_pair
from neatledger.office.edit_people import put_last_day
from neatledger.questions import leaving
from neatledger.reports.joining import step_rows
from neatledger.reports.leaving import hanging_rows, leaving_days, leaving_report
from neatledger.reports.report import Aside, count_of

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("person", metavar="PERSON", help="who leaves")
    parser.add_argument("--last-day", type=day_of, metavar="DATE", help="their last day (default: as the plan says)")
    parser.add_argument(
        "--successor", action="append", default=[], metavar="[FOLDER=]PERSON",
        help="who takes over what they leave; of a folder, somebody else",
    )  # fmt: skip
    parser.add_argument("--steps", metavar="FILE", help="also write the steps there, for mend FILE")
    parser.add_argument(
        "--write", action="store_true", help="write it into office.yaml; not while anything has no successor"
    )
    parser.add_argument(
        "--allow", action="append", default=[], choices=("no-successor",), help="no-successor: write it all the same"
    )


def run(args: argparse.Namespace, app: App) -> int:
    """Show what hangs on somebody, and write their last day."""
    pairs = dict(parse_pair(word, "FOLDER=PERSON") for word in args.successor if "=" in word)
    named = [word for word in args.successor if "=" not in word]
    if len(named) > 1:
        raise UsageError(f"two successors of all: {' and '.join(named)}", hint="write FOLDER=PERSON for one folder")
    folders = {str(app.office.address(key)): who for key, who in pairs.items()}
    with app.progress("looking what hangs on them"):
        found = leaving.ask(app.office, args.person, args.last_day, named[0] if named else "", folders)
    missing = len(found.without_successor)
    plan = found.then.plan.people[found.person]
    notes: list[str | Aside] = [f"Mind: {note}." for note in found.notes]
    keep_steps(app, args.steps, [item.step for item in found.work.items])
    if args.write:
        if missing and "no-successor" not in args.allow:
            hint = "--successor PERSON, --successor FOLDER=PERSON, or --allow no-successor"
            raise UsageError(f"{count_of(missing, 'thing')} would have no successor: nothing was written", hint=hint)
        heirs = {f"{one.system}:{one.path.decode()}": who for one, who in plan.successors.items()}
        put_last_day(app.office.folder, found.person, found.last_day, plan.successor, heirs)
        notes.append("It was written into office.yaml.")
        notes.append(Aside(f"mend {found.person} shows the steps when they are due; check tells what is left."))
    else:
        notes.append("Nothing was changed; --write writes it into office.yaml.")
    day = found.then.today
    rows = [*leaving_days(found.last_day, found.clocks, plan.successor), *hanging_rows(found.hanging)]
    rows += [
        {"what": row["what"], "place": row["place"], "value": row["value"], "to": "", "because": row["because"]}
        for row in step_rows(found.work.items, found.work.names, day)
    ]
    report = leaving_report(found.name, rows, missing, found.last_day, [str(one) for one in notes])
    write_worksheets(app, args.others, report)
    show_report(report, app.output)
    return 1 if missing else 0
