"""``forecast [PLACE]``: when warnings, limits and pools are met."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from neatledger.app import App
from neatledger.commands.asking import find_person
from neatledger.commands.holdings import History, find_folder, load_history, load_lines, load_views
from neatledger.core.plan.limits import On
from neatledger.core.space.forecast import find_trend
from neatledger.core.space.limit_table import LimitStatus, LimitTarget
from neatledger.errors import UsageError
from neatledger.faces.progress import Progress
from neatledger.faces.show import show_report
from neatledger.reports.forecast import Outlook, forecast_report, growth_of

__all__ = ["add_arguments", "look_ahead", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("place", metavar="PLACE", nargs="?", help="a folder, a person or a pool alone")
    parser.add_argument("--all", action="store_true", help="also places that will not be full")
    parser.add_argument("--figure", metavar="FILE", help="draw the growth of the place (png, svg or pdf)")


def run(args: argparse.Namespace, app: App) -> int:
    """Forecast all limited places, or one."""
    lines = load_lines(app, load_views(app))
    chosen = _choose(app, lines, args.place) if args.place else [line for line in lines if line.settings.limit]
    if args.figure and len(chosen) != 1:
        raise UsageError("a figure shows one place", hint="name it: forecast PLACE --figure FILE")
    history = load_history(app)
    outlooks = look_ahead(app, chosen, history)
    machine = app.options.format != "table"
    show_report(
        forecast_report(outlooks, app.count.when, show_all=args.all or bool(args.place), machine=machine), app
    )
    if args.figure:
        from neatledger.faces.figures import draw_growth, save_figure

        save_figure(draw_growth(growth_of(outlooks[0], history.used(chosen[0]))), args.figure)
        app.say(f"The figure is in {args.figure}.")
    return 0


def look_ahead(app: App, lines: Sequence[LimitStatus], history: History) -> list[Outlook]:
    """Return the outlook of every place from its history."""
    found = []
    with Progress(app.streams.err, "history", quiet=app.options.quiet) as progress:
        for line in lines:
            used = history.used(line)
            found.append(Outlook(line, find_trend(used), len(used)))
            progress(len(used))
    return found


def _choose(app: App, lines: Sequence[LimitStatus], name: str) -> list[LimitStatus]:
    pools = [line for line in lines if line.target.on is On.POOL and line.target.name == name]
    if pools:
        return pools
    if ":" not in name and "/" not in name:
        person = find_person(app, name)[0]
        return [line for line in lines if line.target.on is On.PERSON and line.target.name == person]
    address, view, row = find_folder(app, load_views(app), name)
    found = [line for line in lines if line.target.on is On.FOLDER and line.target.address == address]
    # A folder without a limit has a growth all the same.
    return found or [LimitStatus(LimitTarget.of_folder(address), view.at(row)[view.rules.measure])]
