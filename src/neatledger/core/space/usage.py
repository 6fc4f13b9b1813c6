"""How much space is used: every folder's own and with all below it, by owner, group and kind, exactly.

What is used is a list of *items*: folders themselves, files added up by class, links and special files. An
object that is seen several times (hard links; a tree seen under two paths) counts once in every folder that
holds it, as ``du`` counts: of its places in reading order each but the first is taken off again where it
meets the one before it, in the lowest folder that holds both. So each folder's figure is its own and those
of the folders in it, less what is *met* there again, and every breakdown adds up to it.

Apparent bytes are sizes (st_size), occupied bytes what is allocated (512 × st_blocks, POSIX.1-2017 XBD
<sys/stat.h> and Linux inode(7)).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from neatledger.core.space.figures import FIGURES
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import Table

__all__ = ["FOLDERS", "OTHERS", "Again", "Items", "Usage", "find_totals", "find_totals_by"]

Ints = NDArray[np.int64]
Mask = NDArray[np.bool_]

OTHERS, FOLDERS = -1, -2
"""Kinds beside those of files: links and special files; folders themselves."""

_EXACT = 2.0**53  # up to here sums are exact in floating point, which is the fastest way to them


@dataclass(frozen=True, slots=True)
class Again:
    """A folder whose tree is counted elsewhere: its row, and the row of the same tree here (−1: another system)."""

    row: int
    same_as: int = -1


@dataclass(slots=True)
class Items:
    """Rows of what is used: where, under which list, whose, which kind, how much (less than zero: met again).

    All columns are of equal length; kinds below zero are `OTHERS` and `FOLDERS`.
    """

    folder: Ints
    list: Ints
    owner: Ints
    kind: Ints
    figures: Ints  # rows × FIGURES

    def __len__(self) -> int:
        return len(self.folder)

    def take(self, rows: NDArray[np.intp] | Mask) -> Items:
        """Return some of the items."""
        return Items(self.folder[rows], self.list[rows], self.owner[rows], self.kind[rows], self.figures[rows])

    def taken_off(self, at: Ints) -> Items:
        """Return these items as taken off again in other folders."""
        return Items(at.astype(np.int64), self.list, self.owner, self.kind, -self.figures)

    @classmethod
    def join(cls, pieces: Sequence[Items]) -> Items:
        """Return several items as one."""
        columns = zip(*((p.folder, p.list, p.owner, p.kind, p.figures) for p in pieces), strict=True)
        return cls(*(np.concatenate(column) for column in columns))


@dataclass(frozen=True, slots=True)
class _Identities:
    """Objects by what a machine knows them by: a row of each, device, inode; three columns of equal length."""

    row: Ints
    device: Ints
    inode: Ints

    def is_in(self, other: _Identities) -> Mask:
        """Tell of each object whether the other has it."""
        found = np.zeros(len(self.row), dtype=bool)
        # There are few devices, and numbers alone are told apart much faster than pairs.
        for device in np.unique(self.device):
            mine = self.device == device
            found[mine] = np.isin(self.inode[mine], other.inode[other.device == device])
        return found


def _items(table: Table, kind: Ints, files: Ints) -> Items:
    wide = [table[name].astype(np.int64) for name in ("folder", "list", "owner")]
    figures = np.stack([files, table["bytes"], table["occupied"]], axis=1).astype(np.int64)
    return Items(wide[0], wide[1], wide[2], kind.astype(np.int64), figures)


class Usage:
    """What one system uses, as one count saw it.

    Arguments: the tables of the survey; `again`, the folders that are counted elsewhere; `kept`, a mark for
    each folder whose own contents count at all (None: all).
    """

    def __init__(
        self,
        folders: Table,
        classes: Table,
        others: Table,
        hard: Table,
        again: Sequence[Again] = (),
        kept: Mask | None = None,
    ) -> None:
        self.tree = TreeOrder(folders)
        self._folders, self._classes, self._others, self._hard = folders, classes, others, hard
        self._again = again
        self._kept = kept

    @cached_property
    def _area(self) -> Ints:
        """Which of the trees that are counted elsewhere each folder lies in, 0 for none of them."""
        area = np.zeros(self.tree.rows, dtype=np.int64)
        for number, one in enumerate(self._again, 1):
            area[self.tree.below(one.row)] = number
        return area

    @cached_property
    def items(self) -> Items:
        """All items, in the reading order of their folders."""
        found = self._unsorted
        found = found.take(np.argsort(self.tree.preorder[found.folder], kind="stable"))
        # The outermost first: what is taken off with a tree need not be taken off for a tree in it.
        for one in self._outermost():
            found = self._without(found, one)
        return found

    @cached_property
    def _unsorted(self) -> Items:
        single, hard = self._single(), self._hard_items()
        return Items.join([single, hard, *self._met_again(single, hard)])

    def _single(self) -> Items:
        """Return all that has one name alone, and the folders themselves."""
        folders, classes, others = self._folders, self._classes, self._others
        rows = np.arange(folders.rows)
        nothing = np.zeros(folders.rows, dtype=np.int64)
        figures = np.stack([nothing, folders["bytes"], folders["occupied"]], axis=1).astype(np.int64)
        lists = folders["list"].astype(np.int64)
        own = Items(rows, lists, folders["owner"].astype(np.int64), nothing + FOLDERS, figures)
        files = _items(classes, classes["kind"], classes["files"])
        rest = _items(others, np.full(others.rows, OTHERS), np.zeros(others.rows, dtype=np.int64))
        # Classes count every name; files with several are counted apart, by identity, so their names are taken off.
        minus = self._hard_rows()
        found = Items.join([own, files, rest, minus.taken_off(minus.folder)])
        return found if self._kept is None else found.take(self._kept[found.folder])

    def _hard_rows(self) -> Items:
        hard = self._hard
        return _items(hard, hard["kind"], (hard["kind"] >= 0).astype(np.int64))

    def _hard_items(self) -> Items:
        found = self._hard_rows()
        return found if self._kept is None else found.take(self._kept[found.folder])

    def _met_again(self, single: Items, hard: Items) -> list[Items]:
        """Return what is to be taken off: later names of one file, and later sights of one folder."""
        device, inode = self._hard_identities()
        before, later = self._pairs(hard.folder, device, inode)
        # Two names of one file are one file to every folder that holds both: taken off where their paths meet.
        at = self.tree.meet(hard.folder[before], hard.folder[later])
        return [hard.take(later).taken_off(at), *self._folders_met(single)]

    def _hard_identities(self) -> tuple[Ints, Ints]:
        """Return device and inode of each of the hard items."""
        device, inode = self._hard["device"], self._hard["inode"]
        if self._kept is None:
            return device, inode
        mask = self._kept[self._hard["folder"]]
        return device[mask], inode[mask]

    def _folders_met(self, single: Items) -> list[Items]:
        known = np.flatnonzero(self._folders["inode"])
        if self._kept is not None:
            known = known[self._kept[known]]
        before, later = self._pairs(known, self._folders["device"][known], self._folders["inode"][known])
        if not len(later):
            return []
        # A folder seen again (a mount elsewhere in the tree) is told by its own identity, with all that is in it.
        at = np.full(self.tree.rows, -1, dtype=np.int64)
        at[known[later]] = self.tree.meet(known[before], known[later])
        found = single.take(at[single.folder] >= 0)
        return [found.taken_off(at[found.folder])]

    def folders_again(self) -> list[tuple[int, int]]:
        """Return the tops of trees that are seen again by identity: a later sight's row, and the earlier one's."""
        known = np.flatnonzero(self._folders["inode"])
        before, later = self._pairs(known, self._folders["device"][known], self._folders["inode"][known])
        again = {int(known[row]): int(known[first]) for first, row in zip(before, later, strict=True)}
        return [(row, first) for row, first in again.items() if int(self.tree.parent[row]) not in again]

    def _pairs(self, folder: Ints, device: Ints, inode: Ints) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
        """Return which rows are one object, as pairs of a row and the next in reading order."""
        # Most objects are seen once: a sort alone tells, quickly.
        if np.all(np.diff(np.sort(inode)) != 0):
            nothing = np.zeros(0, dtype=np.intp)
            return nothing, nothing
        area = self._area[folder]
        # What the plan says is counted elsewhere never pairs with what is outside of it: it is taken off as a
        # whole.
        order = np.lexsort((self.tree.preorder[folder], inode, device, area))
        same = (np.diff(inode[order]) == 0) & (np.diff(device[order]) == 0) & (np.diff(area[order]) == 0)
        return order[:-1][same], order[1:][same]

    def _outermost(self) -> list[Again]:
        place, size = self.tree.preorder, self.tree.size
        found: list[Again] = []
        for one in sorted(self._again, key=lambda one: int(place[one.row])):
            # In reading order a tree is a run: what begins inside the last one's run lies in it.
            if not found or place[one.row] >= place[found[-1].row] + size[found[-1].row]:
                found.append(one)
        return found

    def _without(self, items: Items, one: Again) -> Items:
        """Take a tree off where it is not counted: where it meets the same tree, or in the folder above it."""
        at = int(self.tree.parent[one.row])
        if one.same_as >= 0:
            at = int(self.tree.meet(np.array([one.row]), np.array([one.same_as]))[0])
        if at < 0:
            return items
        below = items.take(self._slice(items, one.row))
        found = Items.join([items, below.taken_off(np.full(len(below), at))])
        return found.take(np.argsort(self.tree.preorder[found.folder], kind="stable"))

    def _slice(self, items: Items, row: int) -> NDArray[np.intp]:
        places = self.tree.preorder[items.folder]
        first, end = np.searchsorted(places, [self.tree.preorder[row], self.tree.preorder[row] + self.tree.size[row]])
        return np.arange(first, end)

    def own_at(self, row: int) -> list[int]:
        """Return the figures of a folder itself and all right in it, names of one object there counted once."""
        if self._kept is not None and not self._kept[row]:
            return [0] * len(FIGURES)
        sums = np.array([0, self._folders["bytes"][row], self._folders["occupied"][row]], dtype=np.int64)
        for table, files in ((self._classes, "files"), (self._others, "")):
            here = table["folder"] == row
            sums[0] += table[files][here].sum() if files else 0
            sums[1:] += table["bytes"][here].sum(), table["occupied"][here].sum()
        here = np.flatnonzero(self._hard["folder"] == row)
        if len(here):
            identity = np.stack([self._hard["device"][here], self._hard["inode"][here]], axis=1)
            again = np.ones(len(here), dtype=bool)
            # The first name of each object stays, the others are taken off.
            again[np.unique(identity, axis=0, return_index=True)[1]] = False
            sums -= self._hard_rows().figures[here[again]].sum(axis=0)
        found: list[int] = sums.tolist()
        return found

    @cached_property
    def own(self) -> Ints:
        """Each folder's own figures (rows × FIGURES), less what is met again in it."""
        items = self.items if self._again else self._unsorted
        return _sum_by(items.folder, items.figures, self.tree.rows)

    @cached_property
    def totals(self) -> Ints:
        """Each folder's figures with all below it (rows × FIGURES)."""
        return np.stack([self.tree.roll_up(self.own[:, place]) for place in range(len(FIGURES))], axis=1)

    def seen_in(self, others: Sequence[Usage]) -> Items:
        """Return the items that other systems of the same machine show too, each object once, by its identity.

        What `again` says is counted elsewhere is in no system's figures, and so not among them.
        """
        mine = self._identities()
        folder_again, hard_again = (np.zeros(len(each.row), dtype=bool) for each in mine)
        for other in others:
            folders, hard = other._identities()
            folder_again |= mine[0].is_in(folders)
            hard_again |= mine[1].is_in(hard)
        shown = np.zeros(self.tree.rows, dtype=bool)
        shown[mine[0].row[folder_again]] = True
        single = self._single()
        return Items.join([single.take(shown[single.folder]), self._hard_rows().take(mine[1].row[hard_again])])

    def _identities(self) -> tuple[_Identities, _Identities]:
        """Return the identities of the folders, and of what has several names, each once; rows of their tables."""
        found = []
        for table, folder in (
            (self._folders, np.arange(self.tree.rows)),
            (self._hard, self._hard["folder"].astype(np.int64)),
        ):
            is_counted = (self._area[folder] == 0) & (table["inode"] != 0)
            if self._kept is not None:
                is_counted &= self._kept[folder]
            row = np.flatnonzero(is_counted)
            row = row[_first_of(table["device"][row], table["inode"][row])]
            found.append(_Identities(row, table["device"][row], table["inode"][row]))
        return found[0], found[1]

    def below(self, row: int) -> Items:
        """Return the items of a folder and all below it."""
        return self.items.take(self._slice(self.items, row))

    def by(self, keys: Ints, row: int = 0) -> dict[int, tuple[int, int, int]]:
        """Return figures of a folder with all below it by a key of each item, such as `items.owner`."""
        chosen = self._slice(self.items, row)
        return _by(keys[chosen], self.items.figures[chosen])

    @cached_property
    def alone(self) -> Items:
        """Items of each folder for itself: names of one object in it counted once, whatever other folders hold."""
        hard, device, inode = self._hard_items(), *self._hard_identities()
        return Items.join([self._single(), hard.take(_first_of(hard.folder, device, inode))])

    def own_by(self, keys: Ints, folder: Ints, key: Ints) -> Ints:
        """Return the figures of folders for themselves by a key, for rows as `roll_up_by` has them.

        `keys` are those of `alone` (0 and more).
        """
        wide = int(max(keys.max(initial=0), key.max(initial=0))) + 1
        codes, sums = _add_up(self.alone.folder * wide + keys, self.alone.figures)
        found = np.zeros((len(folder), len(FIGURES)), dtype=np.int64)
        place = np.searchsorted(folder * wide + key, codes)
        found[place] = sums
        return found

    def whole_by(self, name: str) -> dict[int, tuple[int, int, int]]:
        """Return the figures of the whole system by ``owner``, ``kind`` or ``list``."""
        items = self.items if self._again else self._unsorted
        return _by(getattr(items, name), items.figures)

    def roll_up_by(self, keys: Ints) -> tuple[Ints, Ints, Ints]:
        """Return every folder's figures with all below it by a key: folder, key, and figures (rows × FIGURES).

        Rows are sorted by folder and key; a folder has a row for each key that anything at or below it has.
        """
        low = int(keys.min(initial=0))
        # Folder and key in one number, so that adding up equal pairs is sorting numbers.
        wide = int(keys.max(initial=0)) - low + 1
        level = np.zeros(self.tree.rows, dtype=np.int64)
        for depth, (first, last) in enumerate(self.tree.levels):
            level[first:last] = depth
        of_item = level[self.items.folder]
        codes, sums = [np.zeros(0, dtype=np.int64)], [np.zeros((0, len(FIGURES)), dtype=np.int64)]
        carried, amounts = codes[0], sums[0]
        # From the deepest level up: what a level adds up to is carried to the folders above.
        for depth in range(len(self.tree.levels) - 1, -1, -1):
            mine = np.flatnonzero(of_item == depth)
            own = self.items.folder[mine] * wide + (keys[mine] - low)
            carried, amounts = _add_up(
                np.concatenate([carried, own]), np.concatenate([amounts, self.items.figures[mine]])
            )
            codes.append(carried)
            sums.append(amounts)
            folder, key = np.divmod(carried, wide)
            carried = self.tree.parent[folder].astype(np.int64) * wide + key
        codes.reverse()
        sums.reverse()
        folder, key = np.divmod(np.concatenate(codes), wide)
        return folder, key + low, np.concatenate(sums)


def _first_of(*columns: Ints) -> NDArray[np.intp]:
    """Return the rows that are the first of their like, in their order."""
    if not len(columns[0]):
        return np.zeros(0, dtype=np.intp)
    order = np.lexsort(columns)
    is_first = np.ones(len(order), dtype=bool)
    is_first[1:] = np.logical_or.reduce([column[order][1:] != column[order][:-1] for column in columns])
    return np.sort(order[is_first])


def _by(keys: Ints, figures: Ints) -> dict[int, tuple[int, int, int]]:
    if not len(keys):
        return {}
    low = int(keys.min())
    codes = keys - low
    size = int(codes.max()) + 1
    sums = _sum_by(codes, figures, size)
    there = np.flatnonzero(np.bincount(codes, minlength=size))
    rows = zip(there.tolist(), sums[there].tolist(), strict=True)
    return {low + code: (files, apparent, occupied) for code, (files, apparent, occupied) in rows}


def _sum_by(codes: Ints, figures: Ints, size: int) -> Ints:
    """Add up figures by codes from 0 to `size`; a row a code."""
    found = np.zeros((size, figures.shape[1]), dtype=np.int64)
    # Counting with weights adds up in floating point, which is exact as long as no sum can pass 2^53.
    if float(np.abs(figures).sum(axis=0, dtype=float).max(initial=0)) < _EXACT:
        for place in range(figures.shape[1]):
            found[:, place] = np.bincount(codes, figures[:, place], size)
    else:
        some, sums = _add_up(codes, figures)
        found[some] = sums
    return found


def _add_up(codes: Ints, figures: Ints) -> tuple[Ints, Ints]:
    """Add up figures by equal codes; codes come back sorted, each once."""
    if not len(codes):
        return codes, figures
    order = np.argsort(codes, kind="stable")
    codes = codes[order]
    starts = np.flatnonzero(np.diff(codes, prepend=codes[0] - 1))
    return codes[starts], np.add.reduceat(figures[order], starts, axis=0)


def find_totals(usage: Usage) -> dict[str, Table]:
    """Return the tables of totals that a count keeps: every folder's, and the system's by owner, kind and list."""
    return {"totals": _table(usage.totals, {}), **find_totals_by(usage, ("owner", "kind", "list"))}


def find_totals_by(usage: Usage, names: Sequence[str]) -> dict[str, Table]:
    """Return the system's totals alone, by some of owner, kind and list."""
    found = {}
    for name in names:
        sums = usage.whole_by(name)
        rows = np.array(list(sums.values()), dtype=np.int64).reshape(-1, len(FIGURES))
        found[f"{name}_totals"] = _table(rows, {"key": np.array(list(sums), dtype=np.int32)})
    return found


def _table(figures: Ints, more: dict[str, NDArray[np.int32]]) -> Table:
    columns = {name: figures[:, place].copy() for place, name in enumerate(FIGURES)}
    return Table({**more, **columns}, len(figures))
