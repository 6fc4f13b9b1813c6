"""``trail``: what was done, by whom, where and from where, as the systems' own logs say."""

from __future__ import annotations

import argparse
from datetime import timedelta

from neatledger.app import App
from neatledger.cli import day_of
from neatledger.core.trail.records import Did, Severity
from neatledger.core.tree.address import Address
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import trail
from neatledger.questions.covered import short_of_today
from neatledger.questions.meant import person_and_folder
from neatledger.questions.office import FoundPerson
from neatledger.reports.trail import signs_report, trail_report

__all__ = ["add_arguments", "run"]

_WORDS = {one.key: one for one in Did}
_LINES = 200


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("names", nargs="*", metavar="PERSON|FOLDER", help="a person, a folder and all below, or both")
    parser.add_argument("--since", metavar="DATE", type=day_of, help="from this day on")
    parser.add_argument("--until", metavar="DATE", type=day_of, help="up to this day, itself included")
    parser.add_argument(
        "--only", action="append", default=[], choices=list(_WORDS), metavar="KIND", help=f"only {', '.join(_WORDS)}"
    )
    parser.add_argument("--refused", action="store_true", help="only what was refused")
    parser.add_argument(
        "--severity", choices=[one.name.lower() for one in Severity], default="info", metavar="LEAST",
        help="info (all), notice (what deletes, shares, changes rights), or warning (what was refused)",
    )  # fmt: skip
    parser.add_argument(
        "--address", action="append", default=[], metavar="PLACE", help="from this network address or device"
    )
    parser.add_argument(
        "-a", "--all", action="store_true", help=f"every record by itself, and not only the last {_LINES} lines"
    )
    parser.add_argument(
        "--unusual",
        action="store_true",
        help="what is unusual in the last thirty days, or since --since; a number: one of it whole",
    )


def run(args: argparse.Namespace, app: App) -> int:
    """Show what was done, or what of it is unusual."""
    office = app.office
    if args.since and args.until and args.since > args.until:
        raise UsageError(f"nothing is both since {args.since} and until {args.until}", hint="exchange the days")
    # Of what is unusual one may be asked for by its number.
    numbers = [int(name) for name in args.names if name.isdecimal()] if args.unusual else []
    names = [name for name in args.names if not numbers or not name.isdecimal()]
    person, below = person_and_folder(app.office, names)
    if args.unusual:
        return _odd(args, app, person, below, numbers[0] if numbers else None)
    is_all = args.all or app.options.format != "table"
    found = trail.ask(
        office, person, below, args.since, args.until, [_WORDS[word] for word in args.only],
        is_refused=args.refused, severity=Severity[args.severity.upper()], origins=args.address,
        is_folded=not args.all, newest=None if is_all else _LINES,
    )  # fmt: skip
    for_people = app.options.format == "table"
    show_report(trail_report(found, _about(person, below), _covered(app), (), for_people=for_people), app.output)
    return 0


def _covered(app: App) -> list[str]:
    """Say of each system what its records cover."""
    office = app.office
    kept = office.ledger.trail.covered()
    spans = [
        f"{name} {one.first.astimezone():%Y-%m-%d} to {one.last.astimezone():%Y-%m-%d}" for name, one in kept.items()
    ]
    covered = f"Logs read: {', '.join(spans)}." if spans else "No log was read."
    without = [name for name in office.plan.systems if name not in kept]
    return [f"{covered} {', '.join(without)}: none, so unknown." if without else covered]


def _odd(
    args: argparse.Namespace, app: App, person: FoundPerson | None, below: Address | None, number: int | None
) -> int:
    if args.only or args.refused or args.all:
        raise UsageError("--unusual shows everything that is unusual", hint="leave --only, --refused and -a out")
    # It looks at all of the last months at once, which no other question does.
    from neatledger.questions import signs

    found = [
        one
        for one in signs.ask(app.office, args.since, args.until)
        if (person is None or one.person == person.id)
        and (below is None or (one.sign.path and Address(one.sign.system, one.sign.path).is_within(below)))
    ]
    since = args.since or app.office.today - timedelta(days=signs.DAYS)
    about = f"{_about(person, below)} from {since} to {args.until or app.office.today}"
    if number is not None and not 0 < number <= len(found):
        raise UsageError(f"there is no unusual event {number}", hint=f"trail --unusual lists them, 1 to {len(found)}")
    report = signs_report(found, about, _covered(app), short_of_today(app.office, since), number)
    report.last = ""
    show_report(report, app.output)
    return 1 if found else 0


def _about(person: FoundPerson | None, below: Address | None) -> str:
    return "".join([f" by {person.id}" if person else "", f" at or below {below}" if below else ""])
