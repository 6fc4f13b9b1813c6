"""What a folder or the whole office holds: by subfolder, owner, group, kind, sort, system or single file."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.plan.limits import On
from neatledger.core.plan.space import Sort
from neatledger.core.space.figures import NOTHING, Figures, add_up
from neatledger.core.tree.address import Address
from neatledger.errors import UsageError
from neatledger.ledger.space import SpaceView
from neatledger.questions.office import Office, names_of
from neatledger.questions.views import CountedFolder, find_folder, load_views, owner_names

__all__ = [
    "BY",
    "Breakdown",
    "Difference",
    "EveryFolder",
    "FolderRow",
    "Share",
    "ask_every",
    "ask_folder",
    "ask_office",
]

BY = ("folder", "owner", "group", "kind", "sort", "system", "file")
"""What a folder's or the office's space can be broken down by."""

ITSELF, SEEN_AGAIN = "(itself and the files in it)", "(seen in more than one of these)"
_EVERY_BY = ("folder", "owner", "kind", "group")


@dataclass(frozen=True, slots=True)
class Share:
    """One part of what something holds; `name` is a subfolder's, a file's address, or a word."""

    name: Address | bytes | str
    figures: Figures


@dataclass(frozen=True, slots=True)
class Difference:
    """A place of which the system says that another amount is used than the counted files make (bytes)."""

    name: Address | str
    told: int
    counted: int


@dataclass(frozen=True, slots=True)
class Breakdown:
    """What something holds in all, and its parts.

    `differences` are the places above and below it of which the system says otherwise. `apart` is what is kept beside
    the files and not counted here, in the measure of limits; `smallest_named` is the size from which on files are
    known by name, where parts are files.
    """

    by: str
    whole: Share
    parts: list[Share]
    apart: Mapping[Sort, int]
    smallest_named: int | None = None
    differences: Sequence[Difference] = ()


@dataclass(frozen=True, slots=True)
class FolderRow:
    """One folder, or its part of one key: what it holds with all below it, and by itself."""

    folder: Address
    key: str
    whole: Figures
    own: Figures


@dataclass(frozen=True, slots=True)
class EveryFolder:
    """Every folder below one, in reading order."""

    top: Address
    rows: Iterator[FolderRow]


def ask_office(office: Office, by: str, views: Mapping[str, SpaceView] | None = None) -> Breakdown:
    """Return what the office holds: by system, or by a key that its systems share, added up; raises `UsageError`."""
    if by in ("folder", "file", "sort"):
        raise UsageError(f"the whole office is not shown by {by}", hint="name a folder: space barn:/ --by folder")
    views = views or load_views(office)
    mine = {name: view for name, view in views.items() if not view.is_elsewhere(b"/")}
    again = {name: Figures.of_row(view.counted_again().figures.sum(axis=0)) for name, view in mine.items()}
    whole = add_up(view.at(0) for view in mine.values()) - add_up(again.values())
    sums: dict[str, Figures] = {name: mine[name].at(0) if name in mine else NOTHING for name in views}
    if by != "system":
        sums = {}
        for name, view in mine.items():
            for part in (*_parts(view, 0, by), *(_parts_again(view, by) if again[name] else ())):
                key = str(part.name)
                sums[key] = sums.get(key, NOTHING) + part.figures
    elif any(again.values()):
        sums[SEEN_AGAIN] = NOTHING - add_up(again.values())
    return Breakdown(by, Share(office.plan.office, whole), [Share(*each) for each in sums.items()], {})


def _parts_again(view: SpaceView, by: str) -> Iterator[Share]:
    """Yield the parts of what other systems show too, as taken off."""
    name_of = owner_names(view) if by == "owner" else names_of(view.reader).numbered_group
    for word, figures in view.by_of(view.counted_again(), by, name_of):
        yield Share(word, NOTHING - figures)


def ask_folder(office: Office, text: str, by: str = "folder") -> Breakdown:
    """Return what a folder holds with all below it; raises `UnknownNameError` or `UsageError`."""
    if by == "system":
        raise UsageError("a folder lies in one system", hint="leave the folder out")
    found = find_folder(office, load_views(office), text)
    view, row = found.view, found.row
    is_all = by in ("sort", "file")
    whole = Share(found.address, view.all_at(row) if is_all else view.at(row))
    smallest = view.smallest_named if by == "file" else None
    apart = {} if is_all else _apart(found)
    return Breakdown(by, whole, list(_parts(view, row, by)), apart, smallest, list(_differences(found)))


def _differences(found: CountedFolder) -> Iterator[Difference]:
    """Yield where the system says that something else is used than was counted, for more than a fiftieth."""
    view, here = found.view, found.address
    for limit in view.found:
        top = os.fsencode(limit.name) if limit.on is On.FOLDER else b"/"
        place = Address(here.system, top)
        is_near = here.is_within(place) or place.is_within(here)
        counted = (
            view.used_in(top) if is_near and limit.on in (On.FOLDER, On.POOL) and limit.used is not None else None
        )
        if counted is None or limit.used is None:
            continue
        counted -= sum(view.held_in(os.fsencode(path)) or 0 for path in limit.leaves_out)
        # A pool holds more than its tree: only where it holds less does it say something of what was counted.
        is_less = limit.used < counted
        if abs(limit.used - counted) * 50 > limit.used and (is_less or limit.on is On.FOLDER):
            yield Difference(
                place if limit.on is On.FOLDER else f"pool {limit.name or here.system}", limit.used, counted
            )


def _apart(found: CountedFolder) -> dict[Sort, int]:
    view = found.view
    if view.sorts is None:
        return {}
    return {
        sort: figures.measured(view.rules.measure)
        for sort, figures in view.by_sort(found.row).items()
        if sort not in view.rules.counted and figures.occupied
    }


def ask_every(office: Office, text: str, by: str = "folder") -> EveryFolder:
    """Return every folder below one, itself included, each with a row for every key; raises `UnknownNameError`."""
    if by not in _EVERY_BY:
        hint = "space FOLDER --depth all [--by owner|kind|group]"
        raise UsageError("every folder below which, and by what?", hint=hint)
    found = find_folder(office, load_views(office), text)
    view = found.view
    name_of: Callable[[str], str] = owner_names(view) if by == "owner" else names_of(view.reader).numbered_group
    return EveryFolder(found.address, (FolderRow(*each) for each in view.every(found.row, by, name_of)))


def _parts(view: SpaceView, row: int, by: str) -> Iterator[Share]:
    match by:
        case "folder":
            yield from _subfolders(view, row)
        case "owner":
            owner_of = owner_names(view)
            sums: dict[str, Figures] = {}
            for ident, mine in view.by_owner(row).items():
                sums[owner_of(ident)] = sums.get(owner_of(ident), NOTHING) + mine
            for name, figures in sums.items():
                yield Share(name, figures)
        case "group":
            names = names_of(view.reader)
            for ident, figures in view.by_group(row).items():
                yield Share(names.numbered_group(ident), figures)
        case "kind":
            for kind, figures in view.by_kind(row).items():
                yield Share(kind, figures)
        case "sort":
            for sort, figures in view.by_sort(row).items():
                yield Share(sort.words, figures)
        case _:
            for address, figures in view.largest(row):
                yield Share(address, figures)


def _subfolders(view: SpaceView, row: int) -> Iterator[Share]:
    """Yield the folders in one, its own files, and what is seen in several of them, taken off once."""
    rest, own = view.at(row), view.own_at(row)
    for child in view.reader.folder(row).children:
        figures = view.at(child)
        rest -= figures
        yield Share(view.reader.folder(child).name, figures)
    yield Share(ITSELF, own)
    if rest - own:
        yield Share(SEEN_AGAIN, rest - own)
