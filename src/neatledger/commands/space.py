"""``space [PLACE]``: what is used, what is allowed, what is left; or what a folder holds, by whatever."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import ALL_DEPTHS, depth_of, is_folder
from neatledger.commands.ways import forecast, kinds, room, versions
from neatledger.core.plan.limits import On
from neatledger.core.space.promises import promises
from neatledger.errors import UsageError
from neatledger.faces.show import show_report, show_rows
from neatledger.questions import freeing, limits, space
from neatledger.questions.views import load_views
from neatledger.reports.promises import promises_report
from neatledger.reports.space import breakdown_report, every_report, every_row, space_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument(
        "words", nargs="*", metavar="FOLDER|PERSON",
        help="what a folder holds; a person's limits; both: how much they can still store there",
    )  # fmt: skip
    ways = (*space.BY, "version")
    parser.add_argument("--by", choices=ways, metavar="WHAT", help=f"added up by {', '.join(ways)}")
    parser.add_argument("--only", choices=("not-allowed",), help="--by kind: only what is not allowed there")
    parser.add_argument("--depth", type=depth_of, metavar="all", help="all: every folder below it")
    parser.add_argument(
        "--forecast", action="store_true", help="when warnings and limits are met, and disks are full"
    )
    parser.add_argument("--promised", action="store_true", help="what limits promise, against what disks hold")
    parser.add_argument("-a", "--all", action="store_true", help="every place and person, with a limit or none")


def run(args: argparse.Namespace, app: App) -> int:
    """Show the limits, one person's, what is promised, or what a folder holds."""
    args.place = args.words[0] if args.words else None
    args.every, args.figure = args.depth == ALL_DEPTHS, args.others[0] if args.others else None
    if args.forecast:
        return forecast.run(args, app)
    if args.by == "version":
        args.system, args.keep = (args.place or "").partition(":")[0] or None, None
        return versions.run(args, app)
    if args.by == "kind" and (args.only or (args.place is None and not args.figure)):
        args.folder, args.barred = args.place, bool(args.only)
        return kinds.run(args, app)
    if len(args.words) == 2:
        args.person, args.folder = sorted(args.words, key=is_folder)
        return room.run(args, app)
    if len(args.words) > 2:
        raise UsageError("a folder, a person, or one of each", hint="space FOLDER PERSON")
    is_person = bool(args.place) and ":" not in args.place and not is_folder(args.place)
    if is_person and args.by and not args.promised:
        raise UsageError("a person's space is shown by their limits", hint="leave --by out, or name a folder")
    is_of_office = not (args.place or args.by or args.figure or args.every)
    if args.promised or is_person or is_of_office:
        _show_limits(args, app, args.place if is_person else None)
    elif args.every:
        _show_every(app, args.place, args.by or ("folder" if args.place else "system"))
    else:
        _show_breakdown(args, app)
    return 0


def _show_limits(args: argparse.Namespace, app: App, name: str | None) -> None:
    office = app.office
    views = load_views(office)
    statuses = limits.ask(office, views, is_of_plan=app.is_of_plan)
    when = office.count.when
    if args.promised:
        show_report(promises_report(promises(office.plan, statuses, office.today), when), app.output)
        return
    if name is not None:
        person = office.find_person(name).id
        statuses = [one for one in statuses if one.target.on is On.PERSON and one.target.name == person]
    show_all = args.all or name is not None
    free = freeing.ask(office, statuses, views) if not show_all and not app.is_of_plan else []
    report = space_report(statuses, when, office.today, show_all=show_all, free=free)
    show_report(report, app.output)


def _show_every(app: App, folder: str | None, by: str) -> None:
    """Write every folder, in reading order; for machines as it goes, for people the first of them."""
    if folder is None:
        hint = "space FOLDER --depth all [--by owner|kind|group]"
        raise UsageError("every folder below which, and by what?", hint=hint)
    found = space.ask_every(app.office, folder, by)
    rows = (every_row(by, one.folder, one.key, one.whole, one.own) for one in found.rows)
    show_rows(every_report(by, str(found.top), app.office.count.when), rows, app.output)


def _show_breakdown(args: argparse.Namespace, app: App) -> None:
    office = app.office
    if args.place is None:
        found = space.ask_office(office, args.by or "system")
    else:
        found = space.ask_folder(office, args.place, args.by or "folder")
    if args.figure:
        from neatledger.faces.figures import draw_use, save_figure
        from neatledger.faces.table import show_cell

        shares = [(show_cell(part.name), part.figures.occupied) for part in found.parts]
        save_figure(draw_use(show_cell(found.whole.name), found.by, shares), args.figure)
        app.say(f"The figure is in {args.figure}.")
    show_report(breakdown_report(found, office.count.when), app.output)
