"""``trail``: what was done, by whom, where and from where, as the systems' own logs say."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import day_of
from neatledger.core.trail.records import Did
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError, UsageError
from neatledger.faces.show import show_report
from neatledger.questions import trail
from neatledger.questions.office import FoundPerson
from neatledger.reports.trail import logs_report, trail_report

__all__ = ["add_arguments", "run"]

_WORDS = {
    "sign-in": Did.SIGN_IN, "open": Did.OPEN, "change": Did.CHANGE, "make": Did.MAKE, "rename": Did.RENAME,
    "delete": Did.DELETE, "rights": Did.RIGHTS, "account": Did.ACCOUNT,
}  # fmt: skip
_LINES = 200


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("names", nargs="*", metavar="PERSON|FOLDER", help="a person, a folder and all below, or both")
    parser.add_argument("--since", metavar="DATE", type=day_of, help="from this day on")
    parser.add_argument("--until", metavar="DATE", type=day_of, help="up to this day, itself included")
    parser.add_argument(
        "--did", action="append", default=[], choices=list(_WORDS), metavar="WHAT", help=f"only {', '.join(_WORDS)}"
    )
    parser.add_argument("--refused", action="store_true", help="only what was refused")
    parser.add_argument("--all", action="store_true", help=f"every line, and not only the last {_LINES}")
    parser.add_argument("--each", action="store_true", help="every record by itself")
    parser.add_argument("--read", action="store_true", help="read what is new in the logs, and say what came of it")


def run(args: argparse.Namespace, app: App) -> int:
    """Read, or show; reading ends with status 2 where a log could not be read."""
    office = app.office
    if args.read:
        with app.progress("reading logs") as progress:
            read = trail.read(office, app.clock, progress)
        show_report(logs_report(read), app.output)
        return 2 if any(one.failed for one in read) else 0
    if args.since and args.until and args.since > args.until:
        raise UsageError(f"nothing is both since {args.since} and until {args.until}", hint="exchange the days")
    person, below = _meant(app, args.names)
    is_all = args.all or app.options.format != "table"
    found = trail.ask(
        office, person, below, args.since, args.until, [_WORDS[word] for word in args.did],
        is_refused=args.refused, is_folded=not args.each, newest=None if is_all else _LINES,
    )  # fmt: skip
    about = "".join([f" by {person.id}" if person else "", f" at or below {below}" if below else ""])
    kept = office.ledger.trail.covered()
    covered = [
        f"{name}: records from {one.first.astimezone():%Y-%m-%d %H:%M} to {one.last.astimezone():%Y-%m-%d %H:%M}."
        for name, one in kept.items()
    ]
    without = [name for name in office.plan.systems if name not in kept]
    if without:
        covered.append(
            f"Nothing was read of what is done on {', '.join(without)}: whatever was done there is not here."
        )
    show_report(trail_report(found, about, covered, ()), app.output)
    return 0


def _meant(app: App, names: list[str]) -> tuple[FoundPerson | None, Address | None]:
    """Return the person and the folder that are meant; raises `UsageError` where there are two of one sort."""
    person: FoundPerson | None = None
    below: Address | None = None
    for name in names:
        try:
            found = app.office.find_person(name)
        except UnknownNameError as nobody:
            try:
                address = app.office.address(name)
            except (UnknownNameError, UsageError):
                if ":" in name or "/" in name:
                    raise
                raise nobody from None
            if below is not None:
                raise UsageError(f"two folders: {below} and {address}", hint="name one") from None
            below = address
        else:
            if person is not None:
                raise UsageError(f"two people: {person.id} and {found.id}", hint="name one")
            person = found
    return person, below
