"""``space [PLACE]``: what is used, what is allowed, what is left; or what a folder holds, by whatever."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Mapping

from neatledger.app import App
from neatledger.commands.asking import entry_names, find_person
from neatledger.commands.holdings import find_folder, load_lines, load_views, owner_names
from neatledger.core.plan.limits import On
from neatledger.core.plan.space import Sort
from neatledger.core.space.promises import promises
from neatledger.core.space.sizes import show_size
from neatledger.core.space.usage import FIGURES
from neatledger.errors import UsageError
from neatledger.faces.show import show_report, write_rows
from neatledger.faces.table import show_cell
from neatledger.ledger.space import Figures, SpaceView
from neatledger.reports.promises import promises_report
from neatledger.reports.report import Cell
from neatledger.reports.space import Share, breakdown_report, every_report, figures_share, space_report

__all__ = ["add_arguments", "office_shares", "run"]

_BY = ("folder", "owner", "group", "kind", "sort", "system", "file")
_SORT_WORDS = {
    Sort.CURRENT: "files in use",
    Sort.VERSIONS: "old versions",
    Sort.BIN: "bin",
    Sort.SNAPSHOTS: "snapshots",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("place", metavar="PLACE", nargs="?", help="a folder (system:/path), or a person")
    parser.add_argument(
        "--by", choices=_BY, help="what the folder, or the office, holds by these (file: the largest)"
    )
    parser.add_argument("--every", action="store_true", help="every folder below it, not only those right in it")
    parser.add_argument("--promised", action="store_true", help="what limits promise, against what pools hold")
    parser.add_argument("--all", action="store_true", help="also people without any limit")
    parser.add_argument("--figure", metavar="FILE", help="draw what uses the space (png, svg or pdf)")


def run(args: argparse.Namespace, app: App) -> int:
    """Show the limits, one person's, what is promised, or what a folder holds."""
    if args.promised:
        lines = load_lines(app, load_views(app))
        show_report(promises_report(promises(app.plan, lines, app.today), app.count.when), app)
        return 0
    if args.place and ":" not in args.place and "/" not in args.place:
        if args.by:
            raise UsageError("a person's space is shown by their limits", hint="leave --by out, or name a folder")
        return _show_lines(app, find_person(app, args.place)[0], show_all=True)
    if args.place is None and args.by is None and not args.figure and not args.every:
        return _show_lines(app, None, show_all=args.all)
    by = args.by or ("folder" if args.place else "system")
    if args.every:
        return _show_every(app, args.place, by)
    notes: list[str] = []
    if args.place is None:
        whole, shares = office_shares(app, load_views(app), by)
    else:
        whole, shares, notes = _folder(app, args.place, by)
    report = breakdown_report(by, whole, shares, app.count.when, notes, machine=app.options.format != "table")
    if args.figure:
        from neatledger.faces.figures import draw_use, save_figure

        named = [(show_cell(share.name), share.occupied) for share in shares]
        save_figure(draw_use(str(whole.name), by, named), args.figure)
        app.say(f"The figure is in {args.figure}.")
    show_report(report, app)
    return 0


def _show_every(app: App, text: str | None, by: str) -> int:
    """Write every folder, in reading order; for machines as it goes, for people the first of them."""
    if text is None or by not in ("folder", "owner", "kind", "group"):
        raise UsageError(
            "every folder below which, and by what?", hint="space FOLDER --every [--by owner|kind|group]"
        )
    address, view, row = find_folder(app, load_views(app), text)
    name_of = owner_names(view) if by == "owner" else entry_names(view.reader).numbered_group

    def rows() -> Iterator[tuple[Cell, ...]]:
        for place, key, whole, own in view.every(row, by, name_of):
            yield place, key, *whole, *own

    write_rows(every_report(by, str(address), app.count.when), rows(), app)
    return 0


def _show_lines(app: App, person: str | None, *, show_all: bool) -> int:
    lines = load_lines(app, load_views(app))
    if person is not None:
        lines = [line for line in lines if line.target.on is On.PERSON and line.target.name == person]
    machine = app.options.format != "table"
    show_report(space_report(lines, app.count.when, app.today, show_all=show_all, machine=machine), app)
    return 0


def office_shares(app: App, views: Mapping[str, SpaceView], by: str) -> tuple[Share, list[Share]]:
    """Return what the office holds: by system, or by a key that its systems share, added up."""
    if by in ("folder", "file", "sort"):
        raise UsageError(f"the whole office is not shown by {by}", hint="name a folder: space barn:/ --by folder")
    systems = {name: _top(view) for name, view in views.items()}
    whole = dict.fromkeys(FIGURES, 0)
    for figures in systems.values():
        _add(whole, figures)
    if by == "system":
        return figures_share(app.plan.office, whole), [figures_share(*each) for each in systems.items()]
    sums: dict[str, Figures] = {}
    for view in views.values():
        for key, part in _parts(view, 0, by, app):
            _add(sums.setdefault(str(key), dict.fromkeys(FIGURES, 0)), part)
    return figures_share(app.plan.office, whole), [figures_share(*each) for each in sums.items()]


def _add(sums: Figures, figures: Mapping[str, int]) -> None:
    for name in FIGURES:
        sums[name] += figures[name]


def _top(view: SpaceView) -> Figures:
    """Return what a system holds, without trees that are counted in another system."""
    if any(one.row == 0 for one in view.again):
        return dict.fromkeys(FIGURES, 0)
    return view.at(0)


def _folder(app: App, text: str, by: str) -> tuple[Share, list[Share], list[str]]:
    if by == "system":
        raise UsageError("a folder lies in one system", hint="leave the folder out")
    address, view, row = find_folder(app, load_views(app), text)
    whole = figures_share(address, view.all_at(row) if by in ("sort", "file") else view.at(row))
    shares = [figures_share(name, figures) for name, figures in _parts(view, row, by, app)]
    notes = _sort_notes(view, row) if by not in ("sort", "file") else []
    if by == "file":
        notes = [f"Files of {show_size(view.smallest_named)} and more are kept by name."]
    return whole, shares, notes


def _sort_notes(view: SpaceView, row: int) -> list[str]:
    if view.sorts is None:
        return []
    apart = [
        f"{_SORT_WORDS[sort]} {show_size(figures[view.rules.measure])}"
        for sort, figures in view.by_sort(row).items()
        if sort not in view.rules.counted and figures["occupied"]
    ]
    return [f"Beside this, and not counted against limits here: {', '.join(apart)} (--by sort)."] if apart else []


def _parts(view: SpaceView, row: int, by: str, app: App) -> Iterator[tuple[Cell, Mapping[str, int]]]:
    names = entry_names(view.reader)
    match by:
        case "folder":
            yield from _subfolders(view, row)
        case "owner":
            owner_of = owner_names(view)
            sums: dict[str, Figures] = {}
            for ident, mine in view.by_owner(row).items():
                _add(sums.setdefault(owner_of(ident), dict.fromkeys(FIGURES, 0)), mine)
            yield from sums.items()
        case "group":
            for ident, figures in view.by_group(row).items():
                yield names.numbered_group(ident), figures
        case "kind":
            yield from view.by_kind(row).items()
        case "sort":
            for sort, figures in view.by_sort(row).items():
                yield _SORT_WORDS[sort], figures
        case _:
            yield from view.largest(row)


def _subfolders(view: SpaceView, row: int) -> Iterator[tuple[Cell, Mapping[str, int]]]:
    """Yield the folders in one, its own files, and what is seen in several of them, taken off once."""
    rest = dict(view.at(row))
    own = view.own_at(row)
    for child in view.reader.folder(row).children:
        figures = view.at(child)
        for name in FIGURES:
            rest[name] -= figures[name]
        yield view.reader.folder(child).name, figures
    yield "(itself and the files in it)", own
    met = {name: rest[name] - own[name] for name in FIGURES}
    if any(met.values()):
        yield "(seen in more than one of these)", met
