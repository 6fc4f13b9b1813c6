"""How much there is of each kind of file, and what is stored though its kind is barred there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.plan.space import BarredFiles
from neatledger.core.space.figures import NOTHING, Figures
from neatledger.core.tree.address import Address
from neatledger.ledger.space import SpaceView
from neatledger.questions.office import Office
from neatledger.questions.views import find_folder, load_views, owner_names

__all__ = ["Kinds", "ask", "ask_barred", "barred_on"]


@dataclass(frozen=True, slots=True)
class Kinds:
    """The kinds of files below a folder, or in the whole office, and the folders where each is barred."""

    name: str
    kinds: Mapping[str, Figures]
    barred: Mapping[str, Sequence[Address]]


def ask(office: Office, folder: str | None = None) -> Kinds:
    """Return the kinds below a folder, or in the whole office; raises `UnknownNameError`."""
    views = load_views(office)
    name, chosen = office.plan.office, [(view, 0) for view in views.values()]
    if folder:
        found = find_folder(office, views, folder)
        name, chosen = str(found.address), [(found.view, found.row)]
    kinds: dict[str, Figures] = {}
    for view, row in chosen:
        for kind, figures in view.by_kind(row).items():
            kinds[kind] = kinds.get(kind, NOTHING) + figures
    barred: dict[str, list[Address]] = {}
    for rule in office.plan.space.barred:
        for kind in rule.kinds:
            barred.setdefault(kind, []).append(rule.folder)
    return Kinds(name, kinds, barred)


def ask_barred(office: Office, folder: str | None = None) -> list[BarredFiles]:
    """Return what is stored though its kind is barred, everywhere or below a folder; raises `UnknownNameError`."""
    views = load_views(office)
    below = find_folder(office, views, folder) if folder else None
    chosen = views.values() if below is None else [below.view]
    found = [each for view in chosen for each in barred_on(office, view)]
    return [each for each in found if below is None or each.folder.is_within(below.address)]


def barred_on(office: Office, view: SpaceView) -> list[BarredFiles]:
    """Return what one system stores though its kind is barred there."""
    rules = [rule for rule in office.plan.space.barred if rule.folder.system == view.name]
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
