"""``lapses``: everything that lapses, by date, as a table and as a calendar."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from datetime import timedelta

from neatledger.app import App
from neatledger.core.sharing.judging import offers_of
from neatledger.core.sharing.lapses import Lapse, lapses_of_plan, lapses_of_principals, lapses_of_service
from neatledger.errors import NoCountError
from neatledger.faces.calendar import calendar_bytes
from neatledger.faces.show import show_report, write_file
from neatledger.reports.lapses import lapses_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--within", type=int, metavar="DAYS", help="only what lapses within so many days")
    parser.add_argument("--past", action="store_true", help="also what lapsed already")
    parser.add_argument("--what", action="append", metavar="WHAT", help="only links, guests, … ; may be given again")
    parser.add_argument("--calendar", metavar="FILE", help="also write it as a calendar (iCalendar)")


def run(args: argparse.Namespace, app: App) -> int:
    """List it; with --calendar write a file that calendar programs read."""
    today = app.services.day if _has_count(app) else app.today
    found = sorted(_all(app), key=lambda one: (one.day, one.what, str(one.place), one.who))
    if args.what:
        wanted = {word.removesuffix("s") if word not in ("person", "people") else "person" for word in args.what}
        found = [one for one in found if one.what in wanted]
    past = [one for one in found if one.day < today]
    coming = [one for one in found if one.day >= today]
    end = None if args.within is None else today + timedelta(days=args.within)
    later = [one for one in coming if end is not None and one.day > end]
    shown = [*(past if args.past else ()), *coming[: len(coming) - len(later)]]
    if args.calendar:
        days = [(one.day, f"{one.what}: {one.place}", _text(one), _key(one)) for one in shown]
        write_file(args.calendar, calendar_bytes(days, f"What lapses: {app.plan.office}", app.now))
        app.say(f"neatledger: wrote {len(days)} days into {args.calendar}")
    show_report(lapses_report(shown, today, 0 if args.past else len(past), len(later)), app)
    return 0


def _text(one: Lapse) -> str:
    return "\n".join(each for each in (one.who, one.then) if each)


def _key(one: Lapse) -> str:
    """Return what tells a day's event from others, and stays the same from run to run."""
    return "\x00".join((one.what, str(one.place), one.who, one.then))


def _has_count(app: App) -> bool:
    try:
        assert app.count
    except NoCountError:
        return False
    return True


def _all(app: App) -> Iterator[Lapse]:
    yield from lapses_of_plan(app.plan)
    if app.options.side == "plan" or not _has_count(app):
        return
    for system, principals in app.principals.items():
        yield from lapses_of_principals(system, principals, app.plan)
        service = app.services.service(system)
        if service is not None:
            yield from lapses_of_service(service, offers_of(service, {}))
