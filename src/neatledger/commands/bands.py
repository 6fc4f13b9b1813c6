"""``bands [BAND]``: limits from named settings; and, with new settings, what restating a band does."""

from __future__ import annotations

import argparse
from typing import Any

from neatledger.app import App
from neatledger.commands.holdings import load_lines, load_views
from neatledger.core.space.bands import apply_restating, restate
from neatledger.core.space.limit_table import build_limit_table, join_pools
from neatledger.core.space.promises import promises
from neatledger.core.space.sizes import parse_limit
from neatledger.errors import UnknownNameError, UsageError
from neatledger.faces.show import show_report
from neatledger.office.edit import write_restating
from neatledger.reports.bands import bands_report, restating_report

__all__ = ["add_arguments", "add_settings", "run", "stated_by"]


def add_settings(parser: argparse.ArgumentParser) -> None:
    """Declare the words that state a limit."""
    parser.add_argument("--limit", metavar="SIZE", help="the limit, as '20 GB', '18 GiB' or 'no limit'")
    parser.add_argument("--rule", choices=("enforced", "watched"), help="whether it can be passed")
    parser.add_argument("--grace-days", type=int, metavar="N", help="how long a watched limit may be passed")
    parser.add_argument("--warn", action="append", metavar="PERCENT:WHO,…", help="who is told when so much is used")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("band", metavar="BAND", nargs="?", help="one band alone")
    parser.add_argument("--all", action="store_true", help="also places on band that are as planned")
    restating = parser.add_argument_group("restating a band")
    add_settings(restating)  # type: ignore[arg-type]  # a group declares words as a parser does
    restating.add_argument("--bring-back", action="append", default=[], metavar="PLACE", help="end this exception")
    restating.add_argument("--later-only", action="store_true", help="for later places only: all others keep theirs")
    restating.add_argument("--insist", action="store_true", help="also lower limits below what is used")
    restating.add_argument("--write", action="store_true", help="write it into office.yaml")


def stated_by(args: argparse.Namespace) -> dict[str, Any]:
    """Return what the words of a call state of a limit; raises `UsageError`."""
    stated: dict[str, Any] = {}
    try:
        if args.limit is not None:
            stated["limit"] = parse_limit(args.limit)
        if args.rule is not None:
            stated["enforced"] = args.rule == "enforced"
        if args.grace_days is not None:
            stated["grace_days"] = args.grace_days
        if args.warn is not None:
            levels = [text.partition(":") for text in args.warn]
            warn = {int(level.rstrip("% ")): tuple(filter(None, who.split(","))) for level, _, who in levels}
            stated["warn"] = tuple(sorted(warn.items()))
    except ValueError as error:
        raise UsageError(str(error)) from None
    return stated


def run(args: argparse.Namespace, app: App) -> int:
    """List the bands, or show (and with --write do) what restating one does."""
    bands = app.plan.space.bands
    if args.band is not None and args.band not in bands:
        raise UnknownNameError(f"the plan has no band {args.band!r}", hint=f"there are: {', '.join(bands) or 'none'}")
    lines = load_lines(app, load_views(app))
    stated = stated_by(args)
    if not stated and not args.bring_back:
        show_all = args.all or app.options.format != "table"
        show_report(bands_report(bands, lines, args.band, show_all=show_all), app)
        return 0
    if args.band is None:
        raise UsageError("which band is to be restated?", hint="bands BAND --limit SIZE")
    for _, names in stated.get("warn", ()):
        for name in names:
            if name not in app.plan.people and name not in app.plan.groups:
                raise UnknownNameError(f"the plan has no person or group {name!r}", hint="people lists everyone")
    options = {"bring_back": args.bring_back, "later_only": args.later_only, "insist": args.insist}
    found = restate(lines, bands[args.band], stated, app.today, **options)
    plan = apply_restating(app.plan, found)
    after = join_pools(line for view in load_views(app).values() for line in build_limit_table(plan, view))
    # What is promised is what the plan would have the systems enforce, on both sides of the comparison.
    planned, then = (promises(app.plan, [line.as_planned() for line in each], app.today) for each in (lines, after))
    if args.write:
        write_restating(app.office_dir, found)
    show_report(restating_report(found, planned, then, is_written=args.write), app)
    return 0
