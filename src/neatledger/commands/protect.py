"""``protect``: would it come back, how much would be lost, and who could destroy it with all its copies."""

from __future__ import annotations

import argparse
from datetime import timedelta

from neatledger.app import App
from neatledger.core.plan.protection import parse_duration
from neatledger.core.protection.supposing import Supposed
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.formats.words import parse_pair
from neatledger.questions import protect
from neatledger.questions.office import Office
from neatledger.reports.protect import protect_report, then_report

__all__ = ["add_arguments", "run"]

_MOST_DIGITS = 6


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", nargs="?", metavar="FOLDER", help="only this folder and what is below it")
    parser.add_argument("-a", "--all", action="store_true", help="also places of which the plan wants nothing")
    parser.add_argument("--split", action="store_true", help="which folders belong together by how they change")
    supposed = parser.add_argument_group("supposed, if all ran as it is said")
    supposed.add_argument(
        "--into", action="append", default=[], metavar="FOLDER=BACKUP", help="a folder is taken into a backup"
    )
    supposed.add_argument(
        "--every",
        action="append",
        default=[],
        metavar="SYSTEM:RULE=LENGTH",
        help="it runs so often",
    )
    supposed.add_argument(
        "--kept", action="append", default=[], metavar="SYSTEM:RULE=LENGTH", help="its runs are kept for so long"
    )
    supposed.add_argument(
        "--versions",
        action="append",
        default=[],
        metavar="SYSTEM[:KIND]=N",
        help="N old versions are kept of each file, or of each of a kind",
    )


def run(args: argparse.Namespace, app: App) -> int:
    """Show what is wanted beside what was found, or what would be; status 1 where something is weaker."""
    office = app.office
    below = None if args.folder is None else office.find_folder(args.folder)
    if args.split:
        return _split(args, app)
    if args.into or args.every or args.kept or args.versions:
        # Forecasts are slow to load, and only asked for here.
        from neatledger.questions import suppose_protection

        supposed = suppose_protection.Supposition(_supposed(args, office), _versions(args.versions))
        then, versions = suppose_protection.ask(office, supposed, below)
        show_report(then_report(then, versions, office.count.when), app.output)
        return 1 if any(one.then.faults for one in then) else 0
    with app.progress("looking at copies"):
        found = protect.ask(office, below)
    show_report(protect_report(found, office.count.when, is_all=args.all), app.output)
    return 1 if any(one.standing.faults for one in found) else 0


def _split(args: argparse.Namespace, app: App) -> int:
    from neatledger.questions import splitting
    from neatledger.reports.split import split_report

    if args.folder is not None or args.into or args.every or args.kept or args.versions:
        raise UsageError("--split is of the whole office, and supposes nothing")
    with app.progress("looking at changes"):
        found = splitting.ask(app.office)
    show_report(split_report(found.groups, found.questions, app.office.count.when), app.output)
    return 0


def _supposed(args: argparse.Namespace, office: Office) -> dict[str, Supposed]:
    into: dict[str, dict[str, list[bytes]]] = {}
    for text in args.into:
        folder, name = parse_pair(text, "--into barn:/Homes=nightly")
        address = office.find_folder(folder)
        into.setdefault(address.system, {}).setdefault(name, []).append(address.path)
    every, kept = (_lengths(some) for some in (args.every, args.kept))
    return {
        system: Supposed(into.get(system, {}), every.get(system, {}), kept.get(system, {}))
        for system in dict.fromkeys([*into, *every, *kept])
    }


def _versions(some: list[str]) -> dict[str, dict[str, int]]:
    found: dict[str, dict[str, int]] = {}
    for text in some:
        name, number = parse_pair(text, "--versions barn:odt=20")
        system, _, kind = name.partition(":")
        if not number.isdecimal() or len(number) > _MOST_DIGITS:
            raise UsageError(f"{number!r} is no number of versions", hint="such as --versions barn:odt=20")
        found.setdefault(system, {})[kind.casefold().lstrip(".")] = int(number)
    return found


def _lengths(some: list[str]) -> dict[str, dict[str, timedelta]]:
    found: dict[str, dict[str, timedelta]] = {}
    for text in some:
        rule, length = parse_pair(text, "barn:nightly=1 hour")
        system, colon, name = rule.partition(":")
        if not colon:
            raise UsageError(f"{rule!r} names no system", hint=f"barn:{rule}=1 hour")
        try:
            found.setdefault(system, {})[name] = parse_duration(length)
        except ValueError as error:
            raise UsageError(str(error), hint="such as 15 minutes, 1 hour, 30 days") from None
    return found
