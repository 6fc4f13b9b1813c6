"""Put the parts of a tree together into the tables of a survey: one numbering, breadth-first."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.space.usage import Usage, find_totals
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.survey.survey import Facts, Survey
from neatledger.core.tree.columns import (
    CLASS_COLUMNS,
    COLLISION_COLUMNS,
    FOLDER_COLUMNS,
    HARD_COLUMNS,
    LARGE_COLUMNS,
    ODD_COLUMNS,
    OTHER_COLUMNS,
    NotSeen,
)
from neatledger.core.tree.table import Table
from neatledger.sources.walk import FOLDER_ROW, Part

__all__ = ["Assembled", "assemble", "make_survey"]

Ints = NDArray[np.int64]


@dataclass(slots=True)
class Assembled:
    """The tables of one tree, and what the numbers in them stand for."""

    folders: Table
    classes: Table
    odd: Table
    hard: Table
    others: Table
    large: Table
    collisions: Table
    lists: list[bytes]
    idents: list[str]
    kinds: list[str]
    not_seen: list[NotSeen]


def _matrix(rows: Sequence[list[int]], width: int) -> list[Ints]:
    return [_signed(piece).reshape(-1, width) for piece in rows]


def _signed(numbers: list[int]) -> Ints:
    try:
        return np.fromiter(numbers, dtype=np.int64, count=len(numbers))
    except OverflowError:
        # Inode numbers may use all 64 bits: carried as the signed numbers of the same bits.
        wide = np.fromiter((number & 0xFFFFFFFFFFFFFFFF for number in numbers), np.uint64, count=len(numbers))
        return wide.astype(np.int64)


class _Numbers:
    """Maps the numbers that each part gave to one numbering for all."""

    def __init__(self, parts: list[Part]) -> None:
        lists: dict[bytes, int] = {}
        kinds: dict[str, int] = {}
        self.lists = [self._map(part.lists, lists) for part in parts]
        self.kinds = [self._map([kind.lower() for kind in part.kinds], kinds) for part in parts]
        self.list_bodies, self.kind_words = list(lists), list(kinds)
        self.starts: list[int] = np.cumsum([0, *(len(part.names) for part in parts)]).tolist()
        self.uids: Ints = np.empty(0, dtype=np.int64)
        self.new: Ints = np.empty(0, dtype=np.int64)

    @staticmethod
    def _map(own: Any, common: dict[Any, int]) -> Ints:
        return np.array([common.setdefault(key, len(common)) for key in own] or [0], dtype=np.int64)

    def of_lists(self, part: int, numbers: Ints) -> Ints:
        return np.where(numbers < 0, -1, self.lists[part][np.maximum(numbers, 0)])

    def of_kinds(self, part: int, numbers: Ints) -> Ints:
        return np.where(numbers < 0, -1, self.kinds[part][np.maximum(numbers, 0)])

    def of_rows(self, part: int, rows: Ints) -> Ints:
        return self.new[rows + self.starts[part]]

    def of_owners(self, uids: Ints) -> Ints:
        return np.searchsorted(self.uids, uids)


def assemble(parts: list[Part], ident_of: Callable[[int], str] = str) -> Assembled:
    """Put parts together: the first holds the upper levels, the others hang from it in its order.

    `ident_of` makes an owner's identifier of the number that the parts have for it.

    Rows are numbered breadth-first with the children of a folder side by side, in the order of names.
    """
    numbers = _Numbers(parts)
    rows = _matrix([part.folders for part in parts], len(FOLDER_ROW) + 2)
    sums = [[each.classes for each in part.sums] for part in parts]
    others = _matrix([part.others for part in parts], len(OTHER_COLUMNS))
    uids = [piece[:, 4] for piece in rows] + [each[:, 2] for some in sums for each in some]
    uids += [piece[:, 2] for piece in others]
    numbers.uids = np.unique(np.concatenate(uids))
    # The first part is read level by level, the others folder before contents and in order; so within one
    # depth all rows already follow their parents' order, and a stable sort by depth is breadth-first.
    by_depth = np.argsort(np.concatenate([piece[:, 1] for piece in rows]), kind="stable")
    numbers.new = np.empty(len(by_depth), dtype=np.int64)
    numbers.new[by_depth] = np.arange(len(by_depth))

    folders = _folders(parts, rows, numbers, by_depth)
    classes = _classes(parts, numbers)
    odd = _odd(parts, numbers)
    _count_below(folders, classes, "first_class", "classes")
    _count_below(folders, odd, "first_odd", "odds")
    return Assembled(
        folders,
        classes,
        odd,
        _hard(parts, numbers),
        _others(others, numbers),
        _large(parts, numbers),
        _collisions(parts, numbers),
        numbers.list_bodies,
        [ident_of(uid) for uid in numbers.uids.tolist()],
        numbers.kind_words,
        _not_seen(parts, numbers, folders),
    )


def _folders(parts: list[Part], rows: list[Ints], numbers: _Numbers, order: Ints) -> Table:
    for part, piece in enumerate(rows):
        piece[:, 2] = numbers.of_lists(part, piece[:, 2])
        piece[:, 3] = numbers.of_lists(part, piece[:, 3])
        above = piece[:, 0]
        piece[:, 0] = np.where(above < 0, parts[part].parent_row, above + numbers.starts[part])
    whole = np.concatenate(rows)[order]
    names = [name for part in parts for name in part.names]
    parent = numbers.new[whole[:, 0]]
    parent[0] = -1
    children = np.bincount(parent[1:], minlength=len(order))
    found: dict[str, Any] = dict(zip((*FOLDER_ROW, "links", "specials"), whole.T, strict=True))
    nothing = np.zeros(len(order), dtype=np.int64)
    found |= {
        "name": [names[row] for row in order.tolist()],
        "parent": parent,
        "owner": numbers.of_owners(found["owner"]),
        "children": children,
        "first_child": 1 + np.cumsum(children) - children,
    }
    for name in ("first_class", "classes", "first_odd", "odds"):
        found[name] = nothing
    return _typed(found, FOLDER_COLUMNS)


def _typed(found: dict[str, Any], spec: dict[str, str]) -> Table:
    columns = {name: found[name] if dtype == "bytes" else found[name].astype(dtype) for name, dtype in spec.items()}
    return Table(columns, len(next(iter(columns.values()))))


def _by_folder(whole: Ints) -> NDArray[np.intp]:
    return np.argsort(whole[:, 0], kind="stable")


def _classes(parts: list[Part], numbers: _Numbers) -> Table:
    pieces = [np.empty((0, len(CLASS_COLUMNS)), dtype=np.int64)]
    for number, part in enumerate(parts):
        for sums in part.sums:
            folder, listed, owner, kind, *rest = sums.classes.T
            moved = [
                numbers.of_rows(number, folder),
                numbers.of_lists(number, listed),
                numbers.of_owners(owner),
            ]
            pieces.append(np.stack([*moved, numbers.kinds[number][kind], *rest], axis=1))
    whole = np.concatenate(pieces)
    return _typed(dict(zip(CLASS_COLUMNS, whole[_by_folder(whole)].T, strict=True)), CLASS_COLUMNS)


def _odd(parts: list[Part], numbers: _Numbers) -> Table:
    pieces = [np.empty((0, 3), dtype=np.int64)]
    names: list[bytes] = []
    for number, part in enumerate(parts):
        for sums in part.sums:
            folder, listed, owner = sums.odd.T
            moved = [
                numbers.of_rows(number, folder),
                numbers.of_lists(number, listed),
                numbers.of_owners(owner),
            ]
            pieces.append(np.stack(moved, axis=1))
            if len(sums.odd):
                names += sums.odd_names.split(b"\0")
    whole = np.concatenate(pieces)
    order = _by_folder(whole)
    found: dict[str, Any] = dict(zip(("folder", "list", "owner"), whole[order].T, strict=True))
    found["name"] = [names[row] for row in order.tolist()]
    return _typed(found, ODD_COLUMNS)


def _hard(parts: list[Part], numbers: _Numbers) -> Table:
    pieces = [np.empty((0, len(HARD_COLUMNS)), dtype=np.int64)]
    for number, piece in enumerate(_matrix([part.hard for part in parts], len(HARD_COLUMNS))):
        folder, listed, owner, kind, *rest = piece.T
        moved = [numbers.of_rows(number, folder), numbers.of_lists(number, listed), numbers.of_owners(owner)]
        pieces.append(np.stack([*moved, numbers.of_kinds(number, kind), *rest], axis=1))
    whole = np.concatenate(pieces)
    return _typed(dict(zip(HARD_COLUMNS, whole[_by_folder(whole)].T, strict=True)), HARD_COLUMNS)


def _others(found: list[Ints], numbers: _Numbers) -> Table:
    """Add up links and special files by folder, list and owner."""
    pieces = [np.empty((0, len(OTHER_COLUMNS)), dtype=np.int64)]
    for number, piece in enumerate(found):
        folder, listed, owner, *rest = piece.T
        moved = [numbers.of_rows(number, folder), numbers.of_lists(number, listed), numbers.of_owners(owner)]
        pieces.append(np.stack([*moved, *rest], axis=1))
    whole = np.concatenate(pieces)
    keys, place = np.unique(whole[:, :3], axis=0, return_inverse=True)
    sums = np.zeros((len(keys), 3), dtype=np.int64)
    np.add.at(sums, place.reshape(-1), whole[:, 3:])
    return _typed(dict(zip(OTHER_COLUMNS, [*keys.T, *sums.T], strict=True)), OTHER_COLUMNS)


def _large(parts: list[Part], numbers: _Numbers) -> Table:
    pieces = [np.empty((0, len(LARGE_COLUMNS) - 1), dtype=np.int64)]
    for number, piece in enumerate(_matrix([part.large for part in parts], len(LARGE_COLUMNS) - 1)):
        folder, listed, owner, kind, *rest = piece.T
        moved = [numbers.of_rows(number, folder), numbers.of_lists(number, listed), numbers.of_owners(owner)]
        pieces.append(np.stack([*moved, numbers.of_kinds(number, kind), *rest], axis=1))
    whole = np.concatenate(pieces)
    order = _by_folder(whole)
    names = [name for part in parts for name in part.large_names]
    keys = [key for key in LARGE_COLUMNS if key != "name"]
    found: dict[str, Any] = dict(zip(keys, whole[order].T, strict=True))
    return _typed(found | {"name": [names[row] for row in order.tolist()]}, LARGE_COLUMNS)


def _collisions(parts: list[Part], numbers: _Numbers) -> Table:
    found = [
        (int(numbers.new[row + numbers.starts[part]]), name)
        for part, each in enumerate(parts)
        for row, name in each.collisions
    ]
    found.sort(key=lambda one: one[0])
    columns = {"folder": np.array([row for row, _ in found], dtype=np.int64), "name": [name for _, name in found]}
    return _typed(columns, COLLISION_COLUMNS)


def _count_below(folders: Table, rows: Table, first: str, count: str) -> None:
    counts = np.bincount(rows["folder"], minlength=folders.rows)
    folders.columns[count] = counts.astype("i4")
    folders.columns[first] = (np.cumsum(counts) - counts).astype("i4")


def _not_seen(parts: list[Part], numbers: _Numbers, folders: Table) -> list[NotSeen]:
    names, parent = folders.texts("name"), folders["parent"]

    def path_of(row: int, below: bytes) -> bytes:
        steps = [below] if below else []
        while row > 0:
            steps.append(names[row])
            row = int(parent[row])
        return b"/" + b"/".join(reversed(steps))

    found = [
        NotSeen(path_of(int(numbers.new[row + numbers.starts[part]]), below) if row >= 0 else below, why)
        for part, each in enumerate(parts)
        for row, below, why in each.not_seen
    ]
    return sorted(found, key=lambda item: (item.path, item.why))


def make_survey(
    system: str,
    source: str,
    tree: Assembled,
    accounts: tuple[list[Account], list[Group], list[NotSeen]],
    facts: Facts,
    model: str = "posix",
) -> Survey:
    """Make the survey of a system; `accounts` come with the lines of them not understood."""
    usage = Usage(tree.folders, tree.classes, tree.others, tree.hard)
    facts["folders_again"] = len(usage.folders_again())
    return Survey(
        system=system,
        source=source,
        model=model,
        accounts=accounts[0],
        groups=accounts[1],
        folders=tree.folders,
        classes=tree.classes,
        odd=tree.odd,
        hard=tree.hard,
        others=tree.others,
        large=tree.large,
        totals=find_totals(usage),
        collisions=tree.collisions,
        lists=tree.lists,
        idents=tree.idents,
        kinds=tree.kinds,
        not_seen=accounts[2] + tree.not_seen,
        facts=facts,
    )
