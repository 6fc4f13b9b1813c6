"""What other backups, or another number of old versions, would change in how places are protected."""

from __future__ import annotations

import argparse
from datetime import timedelta

from neatledger.app import App
from neatledger.core.plan.protection import parse_duration
from neatledger.core.protection.supposing import Supposed
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.formats.words import parse_pair
from neatledger.questions import Office
from neatledger.reports.protect import then_report

__all__ = ["run"]

_MOST_DIGITS = 6


def run(args: argparse.Namespace, app: App) -> int:
    """Show each place as it is and as it would be; status 1 where something would still be weaker than planned."""
    # Forecasts are slow to load, and only asked for here.
    from neatledger.questions import suppose_protection

    office = app.office
    supposed = suppose_protection.Supposition(_supposed(args, office), _versions(args.versions))
    below = office.find_folder(args.folder) if args.folder else None
    then, versions = suppose_protection.ask(office, supposed, below)
    show_report(then_report(then, versions, office.count.when), app.output)
    return 1 if any(one.then.faults for one in then) else 0


def _supposed(args: argparse.Namespace, office: Office) -> dict[str, Supposed]:
    into: dict[str, dict[str, list[bytes]]] = {}
    for text in args.backup:
        folder, name = parse_pair(text, "--backup barn:/Homes=nightly")
        address = office.find_folder(folder)
        into.setdefault(address.system, {}).setdefault(name, []).append(address.path)
    every, kept = (_lengths(some) for some in (args.backup_every, args.backup_kept))
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
