"""``kinds [FOLDER]``: how much there is of each kind of file, and what is stored though it is barred."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.holdings import find_folder, load_views, owner_names
from neatledger.core.plan.space import BarredFiles
from neatledger.core.space.usage import FIGURES
from neatledger.core.tree.address import Address
from neatledger.faces.show import show_report
from neatledger.ledger.space import Figures, SpaceView
from neatledger.reports.kinds import barred_report, kinds_report

__all__ = ["add_arguments", "find_barred", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", metavar="FOLDER", nargs="?", help="a folder and all below it (else the office)")
    parser.add_argument("--barred", action="store_true", help="what is stored though its kind is barred there")


def run(args: argparse.Namespace, app: App) -> int:
    """List kinds, or what is barred and stored; the exit status is 1 where there is any."""
    views = load_views(app)
    below: Address | None = None
    chosen = [(view, 0) for view in views.values()]
    if args.folder:
        below, view, row = find_folder(app, views, args.folder)
        chosen = [(view, row)]
    if args.barred:
        found = [each for view, _ in chosen for each in find_barred(app, view)]
        found = [each for each in found if below is None or each.folder.is_within(below)]
        show_report(barred_report(found, app.plan.space.barred, app.count.when), app)
        return 1 if found else 0
    kinds: dict[str, Figures] = {}
    for view, row in chosen:
        for kind, figures in view.by_kind(row).items():
            sums = kinds.setdefault(kind, dict.fromkeys(FIGURES, 0))
            for figure in FIGURES:
                sums[figure] += figures[figure]
    barred: dict[str, list[Address]] = {}
    for rule in app.plan.space.barred:
        for kind in rule.kinds:
            barred.setdefault(kind, []).append(rule.folder)
    name = str(below) if below else app.plan.office
    show_report(kinds_report(name, kinds, barred, app.count.when, machine=app.options.format != "table"), app)
    return 0


def find_barred(app: App, view: SpaceView) -> list[BarredFiles]:
    """Return what one system stores though its kind is barred there."""
    rules = [rule for rule in app.plan.space.barred if rule.folder.system == view.name]
    if not rules:
        return []
    owner_of = owner_names(view)
    found: dict[tuple[Address, str, str], BarredFiles] = {}
    for rule in rules:
        for folder, kind, ident, files, size in view.files_of_kinds(rule.folder.path, rule.kinds):
            owner = owner_of(ident)
            before = found.get((folder, kind, owner))
            if before is not None and before.rule is rule:
                files, size = files + before.files, size + before.size
            found[folder, kind, owner] = BarredFiles(folder, kind, owner, files, size, rule)
    return list(found.values())
