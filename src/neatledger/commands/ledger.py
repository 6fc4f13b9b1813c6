"""``ledger``: the counts so far: listed, verified, moved, taken in, removed; and what somebody did, forgotten."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from neatledger.app import App
from neatledger.errors import UnknownNameError, UsageError
from neatledger.faces.show import show_report
from neatledger.ledger.store import Ledger
from neatledger.questions import keeping, taking
from neatledger.questions import moving_ledger as moving
from neatledger.reports.chain import chain_report
from neatledger.reports.counts import counts_report, not_seen_report
from neatledger.reports.report import count_of

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--not-seen", metavar="SYSTEM", help="list what the last count could not see of a system")
    parser.add_argument("--import", dest="take", metavar="FILE", help="take in a count that count --export made")
    parser.add_argument(
        "--allow",
        action="append",
        choices=taking.DANGERS,
        help="--import: take it though it is from the future, of another office, older, or from another source",
    )
    parser.add_argument(
        "--move", metavar="LEDGER", help="all of it into another, empty ledger: a file, or postgresql://…"
    )
    parser.add_argument("--remove", metavar="N", help="remove a mistaken count, by its number, for good")
    parser.add_argument("--forget", metavar="PERSON", help="remove all records of one person; sums are left")
    parser.add_argument("--yes", action="store_true", help="remove, or forget, without being asked")
    parser.add_argument(
        "--verify", action="store_true", help="recompute whether all in it is as it was written; status 1 if not"
    )
    parser.add_argument(
        "--head", metavar="SEAL", help="--verify: a seal that was kept elsewhere, from a report or a mail"
    )


def run(args: argparse.Namespace, app: App) -> int:
    """List every count, the newest first."""
    if args.not_seen:
        name, office = args.not_seen, app.office
        not_seen = office.reader(name).not_seen
        when = next(one.when for one in office.count.surveys if one.system == name)
        show_report(not_seen_report(name, not_seen, when), app.output)
        return 0
    if args.take is not None:
        _take(app, args.take, args.allow or ())
    elif args.allow:
        raise UsageError("--allow belongs to --import", hint="write: ledger --import FILE --allow older")
    if args.forget:
        return _forget(args, app)
    ledger = app.office.ledger
    if args.move is not None:
        return _move(app, ledger, args.move)
    if args.verify:
        return _prove(app, ledger, args.head)
    if args.head is not None:
        raise UsageError("--head belongs to --verify", hint="write: ledger --verify --head SEAL")
    if args.remove is not None:
        _remove(app, ledger, args.remove, insists=args.yes)
    names = {signer.key: name for name, signer in app.office.plan.signers.items()}
    show_report(counts_report(ledger.counts(), ledger.where, names), app.output)
    return 0


def _move(app: App, ledger: Ledger, target: str) -> int:
    with app.progress("moving") as progress:
        links = moving.move(ledger, target, progress)
    said = f"ledger: {target}" if "://" in target else "nothing of a ledger, and this is its file beside it"
    app.say(f"All of {ledger.where} is in {target} too, and its chain of {count_of(links, 'link')} holds there.")
    app.say(f"It is used from when the plan says: {said}. Put the old one away then: it is not written to any more.")
    return 0


def _take(app: App, file: str, allowed: Sequence[str]) -> None:
    with app.progress("taking the count"):
        found = taking.take(app.office, file, app.clock, allowed)
    key = found.signer if found.is_known else f"the key {found.signer}, which the plan does not name"
    whom = f"signed by {key}" if found.signer else "signed by nobody"
    app.say(f"Count {found.number} taken, {whom}; SHA-256 {found.digest}")


def _prove(app: App, ledger: Ledger, head: str | None) -> int:
    kept = None if head is None else ledger.chain.find(head)
    with app.progress("recomputing the links") as progress:
        found = ledger.chain.prove(progress)
    show_report(chain_report(found, ledger.where, head, kept), app.output)
    return 0 if found.holds and (head is None or kept is not None) else 1


def _remove(app: App, ledger: Ledger, number: str, *, insists: bool) -> None:
    """Remove a count once somebody has said so; raises `UnknownNameError`, or `UsageError` where nobody says."""
    count = next((one for one in ledger.counts() if str(one.id) == number), None)
    if count is None:
        raise UnknownNameError(f"no count has the number {number!r}", hint="ledger lists them")
    systems = ", ".join(one.system for one in count.surveys)
    what = f"count {count.id} of {count.when} ({systems})"
    if not insists and not app.agrees(f"Remove {what} for good?"):
        raise UsageError(f"{what} was not removed", hint="say yes, or --yes")
    ledger.remove_count(count.id)
    app.say(f"Removed {what}.")


def _forget(args: argparse.Namespace, app: App) -> int:
    """Remove the records of one person, once somebody has said so; raises `UsageError` where nobody does."""
    person = app.office.find_person(args.forget)
    what = f"all records of what {person.id} did"
    if not args.yes and not app.agrees(f"Remove {what} for good, and leave sums of nobody?"):
        raise UsageError(f"{what} were not removed", hint="say yes, or --yes")
    records, words = keeping.forget(app.office, person)
    app.say(
        f"Removed {count_of(records, 'record')} of {person.id}, and {count_of(words, 'word')}"
        " that nobody else used; sums by day and folder are left, under nobody's name."
    )
    return 0
