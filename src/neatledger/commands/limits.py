"""``limits [BAND]``: limits from named settings; and, with new settings, what restating a band does."""

from __future__ import annotations

import argparse
from typing import Any

from neatledger.app import App
from neatledger.cli import days_of
from neatledger.core.space.sizes import parse_limit
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.office.edit import write_restating
from neatledger.office.space import NO_GRACE
from neatledger.questions import bands
from neatledger.reports.bands import bands_report, restating_report

__all__ = ["add_arguments", "run"]


def _add_settings(parser: argparse.ArgumentParser) -> None:
    """Declare the words that state a limit."""
    parser.add_argument("--limit", metavar="SIZE", help="the limit, as '20 GB', '18 GiB' or 'no limit'")
    parser.add_argument("--rule", choices=("blocks", "warns"), help="whether it blocks, or only warns")
    parser.add_argument(
        "--grace-days",
        type=_grace_of,
        metavar="N",
        help="days a limit that warns may be exceeded, or none",
    )
    parser.add_argument("--warn", action="append", metavar="PERCENT:WHO,…", help="who is told when so much is used")


def _grace_of(text: str) -> int | str:
    return text if text == NO_GRACE else days_of(text)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("band", metavar="BAND", nargs="?", help="one band alone")
    parser.add_argument("-a", "--all", action="store_true", help="every place, also those that do not differ")
    restating = parser.add_argument_group("restating a band")
    _add_settings(restating)  # type: ignore[arg-type]  # a group declares words as a parser does
    restating.add_argument("--bring-back", action="append", default=[], metavar="PLACE", help="end this exception")
    restating.add_argument("--later-only", action="store_true", help="for later places only: all others keep theirs")
    restating.add_argument(
        "--allow", action="append", default=[], choices=("below-use",), help="also lower limits below what is used"
    )
    restating.add_argument("--write", action="store_true", help="write it into office.yaml")


def _stated_by(args: argparse.Namespace) -> dict[str, Any]:
    """Return what the words of a call state of a limit; raises `UsageError`."""
    stated: dict[str, Any] = {}
    try:
        if args.limit is not None:
            stated["limit"] = parse_limit(args.limit)
        if args.rule is not None:
            stated["enforced"] = args.rule == "blocks"
        if args.grace_days is not None:
            stated["grace_days"] = None if args.grace_days == NO_GRACE else args.grace_days
        if args.warn is not None:
            levels = [text.partition(":") for text in args.warn]
            warn = {int(level.rstrip("% ")): tuple(filter(None, who.split(","))) for level, _, who in levels}
            stated["warn"] = tuple(sorted(warn.items()))
    except ValueError as error:
        raise UsageError(str(error)) from None
    return stated


def run(args: argparse.Namespace, app: App) -> int:
    """List the bands, or show (and with --write do) what restating one does."""
    office = app.office
    stated = _stated_by(args)
    band = office.find_band(args.band) if args.band else None
    if not stated and not args.bring_back:
        statuses = bands.ask(office, band, is_of_plan=app.is_of_plan)
        show_report(bands_report(office.plan.space.bands, statuses, band, show_all=args.all), app.output)
        return 0
    if band is None:
        raise UsageError("which band is to be restated?", hint="limits BAND --limit SIZE")
    found = bands.ask_restated(
        office,
        band,
        stated,
        bring_back=args.bring_back,
        later_only=args.later_only,
        insist="below-use" in args.allow,
        is_of_plan=app.is_of_plan,
    )
    # What cannot be written is refused where it is shown already.
    write_restating(office.folder, office.plan, found.restating, only_try=not args.write)
    report = restating_report(found.restating, found.before, found.after, is_written=args.write)
    show_report(report, app.output)
    return 0
