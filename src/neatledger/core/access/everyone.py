"""The whole table of access: a row for each folder, person and way, worked out block by block.

A *column* is one way of one account, or the union (`any`) of a person who has more ways than one; people
with a single way need no column of their own for it. A system where everybody may have several ways has a range
of columns for each, and one for the unions, with empty columns between. Which rows are wanted:

- `Rows.DIFFER`: where the rights on the folder are not those on the folder above;
- `Rows.EVERY`: every folder with any right;
- `Rows.ALL`: all.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import Enum
from functools import cached_property, lru_cache, reduce
from operator import or_

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits, principal_bit
from neatledger.core.access.matrix import Matrix
from neatledger.core.lists.rights import Right
from neatledger.core.people.principals import Principal
from neatledger.core.tree.columns import SeenState
from neatledger.core.tree.table import spread_runs

__all__ = ["FLAG_RIGHTS", "Column", "Everyone", "FileNumbers", "RowBlock", "RowFilter", "flag_rights"]

Ints = NDArray[np.int64]

FLAG_RIGHTS = (Right.ENTER, Right.LIST, Right.READ, Right.ADD, Right.DELETE, Right.MANAGE, Right.VIEW)
_FILE_RIGHTS = (Right.READ, Right.CHANGE, Right.DELETE)
_ROWS_AT_ONCE = 400_000
_CHUNK, _WIDEST = 16384, 8  # folders at a time for many people, and how many more for few


class RowFilter(Enum):
    """Which rows of the table are wanted."""

    DIFFER = "differ"
    EVERY = "every"
    ALL = "all"


@dataclass(frozen=True, slots=True)
class Column:
    """One way of the account `principals[0]`; or `any`, the union of a person's ways by all `principals`."""

    way: str
    principals: tuple[int, ...]


@dataclass(slots=True)
class FileNumbers:
    """How many files each folder of some rows has, and of these are read, changed, removed; −1 where not known."""

    files: Ints
    read: Ints
    change: Ints
    delete: Ints


@dataclass(slots=True)
class _FileClasses:
    """Files by folder, list and owner whatever their kind, a row each; `first` is each folder's first row."""

    folder: Ints
    list: Ints
    owner: Ints
    files: Ints
    first: Ints


@dataclass(slots=True)
class RowBlock:
    """Rows of the table as arrays of equal length.

    `flags` has a bit for each of `FLAG_RIGHTS`, in their order; `unknown` marks where a list was not seen.
    """

    folder: Ints
    column: Ints
    flags: Ints
    unknown: NDArray[np.bool_]
    counts: FileNumbers


@lru_cache(maxsize=256)
def flag_rights(flags: int) -> Right:
    """Return the set of rights for the bits of a row's flags."""
    rights = Right.NONE
    for number, right in enumerate(FLAG_RIGHTS):
        if flags >> number & 1:
            rights |= right
    return rights


def _either(mine: Bits | None, theirs: Bits | None) -> Bits | None:
    if mine is None or theirs is None:
        return theirs if mine is None else mine
    return mine | theirs


class Everyone:
    """The table of access of the principals of a matrix: of all, or of those whose numbers are given."""

    def __init__(self, matrix: Matrix, shown: Collection[int] | None = None) -> None:
        self.matrix = matrix
        self._shown = range(len(matrix.principals)) if shown is None else shown
        self.is_wide = len(matrix.ways) > 1
        self.columns = self._make_columns()
        self.words = max(1, (len(self.columns) + 63) // 64)
        self._extra = [(n, c) for n, c in enumerate(self.columns) if n >= self._ranges]
        used = sum(
            1 << n for n, column in enumerate(self.columns) if any(n in self._shown for n in column.principals)
        )
        self._opening = [
            (n, [one for one in column.principals if matrix.admins >> one & 1])
            for n, column in enumerate(self.columns)
            if column.way == "any" and any(matrix.admins >> one & 1 for one in column.principals)
        ]
        self._used = np.frombuffer(used.to_bytes(self.words * 8, "little"), dtype=np.uint64)

    @property
    def shown(self) -> Collection[int]:
        """The numbers of the principals whose rows are wanted."""
        return self._shown

    def ordinary(self, principals: Iterable[tuple[int, Principal]]) -> dict[str, list[int]]:
        """Return each person's principals by number, of those given; an administrator's own account is left out.

        It opens everything by its role, of which the plan of folders, expectations and checks do not speak.
        """
        people: dict[str, list[int]] = {}
        for number, principal in principals:
            if not self.matrix.admins >> number & 1:
                people.setdefault(principal.person, []).append(number)
        return people

    def columns_of_people(self) -> dict[str, list[int]]:
        """Return person → the columns that together say what they have: their union, or their only way."""
        found: dict[str, list[int]] = {}
        for number, column in enumerate(self.columns):
            if column.principals and (column.way == "any" or self.single[column.principals[0]]):
                found.setdefault(self.matrix.principals[column.principals[0]].person, []).append(number)
        return found

    def _make_columns(self) -> list[Column]:
        principals = self.matrix.principals
        numbers = range(len(principals))
        admins = [Column("admin", (number,)) for number in numbers if self.matrix.admins >> number & 1]
        people: dict[str, list[int]] = {}
        for number in numbers:
            people.setdefault(principals[number].person, []).append(number)
        if self.is_wide:
            # Ranges begin at whole words, so that the bits of a way are copied and not shifted.
            empty = [Column("", ())] * (self.matrix.words * 64 - len(principals))
            columns = []
            for way in self.matrix.ways:
                columns += [Column(way, (number,)) for number in numbers] + empty
            firsts = {mine[0]: tuple(mine) for mine in people.values()}
            columns += [Column("any", firsts[n]) if n in firsts else Column("", ()) for n in numbers] + empty
            # A person's union stands in the column of the first account; the others' columns there stay empty.
            self._others = [(mine[0], other) for mine in people.values() for other in mine[1:]]
            self._ranges = len(columns)
            self.single = [False] * len(principals)
            return columns + admins
        columns = [Column(self.matrix.ways[0], (number,)) for number in numbers]
        self._ranges = len(columns)
        columns += admins
        of_person: dict[str, list[Column]] = {}
        for column in columns:
            of_person.setdefault(principals[column.principals[0]].person, []).append(column)
        self.single = [len(of_person[principal.person]) == 1 for principal in principals]
        for ways in of_person.values():
            if len(ways) > 1:
                # An account by two ways is named once: the union is over accounts.
                columns.append(Column("any", tuple(dict.fromkeys(way.principals[0] for way in ways))))
        return columns

    def _widen(self, layers: Sequence[Bits | None], admin: Bits | None, rows: int) -> Bits:
        """Put the bits of all ways into their columns; `admin` tells who has the right by the way ``admin``."""
        wide = np.zeros((rows, self.words), dtype=np.uint64)
        if self.is_wide:
            self._widen_ranges(wide, layers, admin)
            first = None
        else:
            first = layers[0]
            if first is not None:
                wide[:, : first.shape[1]] = first[:, : self.words]
        for number, column in self._extra:
            values = np.zeros(rows, dtype=np.uint64)
            for principal in column.principals:
                if column.way != "admin" and first is not None:
                    values |= principal_bit(first, principal)
                if admin is not None and self.matrix.admins >> principal & 1:
                    values |= principal_bit(admin, principal)
            wide[:, number >> 6] |= values << np.uint64(number & 63)
        return wide

    def _widen_ranges(self, wide: Bits, layers: Sequence[Bits | None], admin: Bits | None) -> None:
        words = self.matrix.words
        union = wide[:, len(layers) * words : (len(layers) + 1) * words]
        for place, bits in enumerate(layers):
            if bits is not None:
                wide[:, place * words : (place + 1) * words] = bits
                union |= bits
        if admin is not None:
            union |= admin
        for mine, other in self._others:
            # What a person's further accounts have belongs to the column of the first.
            union[:, mine >> 6] |= principal_bit(union, other) << np.uint64(mine & 63)
            union[:, other >> 6] &= ~np.uint64(1 << (other & 63))

    def _admin(self, right: Right, rows: Ints) -> Bits | None:
        return self.matrix.admin_block(right, rows) if self.matrix.admins else None

    def rights(self, rows: Ints) -> tuple[dict[Right, Bits], Bits]:
        """Return the bits of every right of `FLAG_RIGHTS` on some folders, and those of what is unknown."""
        blocks = self.matrix.blocks(rows)
        found = {}
        for right in FLAG_RIGHTS:
            layers = [block.rights.get(right) for block in blocks]
            if right is not Right.VIEW or any(layer is not None for layer in layers):
                found[right] = self._widen(layers, self._admin(right, rows), len(rows))
        admin = self.matrix.admin_unknown(rows) if self.matrix.admins else None
        unknown = self._widen([block.unknown for block in blocks], admin, len(rows))
        self._clear_opened(unknown, rows)
        return found, unknown

    def _clear_opened(self, unknown: Bits, rows: Ints) -> None:
        """Take what an administrator's way opens anyway out of what is unknown of the unions."""
        if not self._opening or not unknown.any():
            return
        opened = self.matrix.opened(rows)
        for number, principals in self._opening:
            for principal in principals:
                unknown[:, number >> 6] &= ~(principal_bit(opened, principal) << np.uint64(number & 63))

    @cached_property
    def _classes(self) -> _FileClasses:
        classes, rows = self.matrix.classes, self.matrix.folders.rows
        folder, lists, owner = classes["folder"], classes["list"], classes["owner"]
        if not len(folder):
            nothing = np.zeros(0, dtype=np.int64)
            return _FileClasses(nothing, nothing, nothing, nothing, np.zeros(rows + 1, dtype=np.int64))
        new = np.ones(len(folder), dtype=bool)
        new[1:] = (folder[1:] != folder[:-1]) | (lists[1:] != lists[:-1]) | (owner[1:] != owner[:-1])
        # Kinds of files do not matter to rights: classes that differ in these alone are joined.
        starts = np.flatnonzero(new)
        files = np.add.reduceat(classes["files"].astype(np.int64), starts)
        folder = folder[starts]
        first = np.searchsorted(folder, np.arange(rows + 1))
        return _FileClasses(folder.astype(np.int64), lists[starts], owner[starts], files, first)

    def file_rights(self, folder: Ints, lists: Ints, owner: Ints) -> dict[Right, Bits]:
        """Return the bits of what may be done with files, by their folder, list and owner (a row each)."""
        found = {}
        blocks = self.matrix.file_blocks(folder, lists, owner)
        for right in _FILE_RIGHTS:
            layers = [bits.get(right) for bits in blocks]
            if right is Right.READ:
                # Who may only look at a file reads it too; the level tells the difference.
                layers = [_either(bits.get(Right.READ), bits.get(Right.VIEW)) for bits in blocks]
            admin = None
            if self.matrix.admins:
                admin = self.matrix.admin_files(right, folder, lists)
            found[right] = self._widen(layers, admin, len(folder))
        if any(Right.UNSURE in bits for bits in blocks):
            found[Right.UNSURE] = self._widen([bits.get(Right.UNSURE) for bits in blocks], None, len(folder))
            self._clear_opened(found[Right.UNSURE], folder)
        return found

    @cached_property
    def _has_files(self) -> NDArray[np.bool_]:
        """Mark the folders with files that may be reached where the folder gives nothing."""
        first = self._classes.first
        found: NDArray[np.bool_] = first[1:] > first[:-1]
        return found if not self.matrix.terms.asks_enter else np.zeros_like(found)

    @cached_property
    def may_differ(self) -> NDArray[np.bool_]:
        """Mark the folders whose rights may be others than those on the folder above.

        Where a folder, the one above it and the one above that have one list and one owner, they are the same:
        what a list takes from those below it shows on the first of them.
        """
        folders, doubt = self.matrix.folders, self.matrix.doubtful
        parent, lists, owner = folders["parent"], folders["list"], folders["owner"]
        same = np.zeros(folders.rows, dtype=bool)
        same[1:] = (lists[1:] == lists[parent[1:]]) & (owner[1:] == owner[parent[1:]])
        # A list that was not seen may be any: what it leaves open does not reach below one that lets nobody in.
        unseen = folders["state"] == SeenState.LIST_UNKNOWN
        same[1:] &= unseen[1:] == unseen[parent[1:]]
        same &= ~self.matrix.roots
        alike = np.zeros(folders.rows, dtype=bool)
        # Two levels: removal is judged by the folder above, so the first below a change may still differ.
        alike[1:] = same[1:] & same[parent[1:]] & (doubt[1:] == doubt[parent[1:]])
        marks = self.matrix.marks
        return ~alike if marks is None else ~alike | marks

    def _wanted(self, which: RowFilter, rows: Ints, rights: dict[Right, Bits], unknown: Bits) -> Bits:
        if which is RowFilter.ALL:
            return np.broadcast_to(self._used, (len(rows), self.words)).copy()
        wanted = np.zeros((len(rows), self.words), dtype=np.uint64)
        if which is RowFilter.EVERY:
            for bits in rights.values():
                wanted |= bits
            return wanted | unknown | self._any_file(rows)
        above = self.matrix.folders["parent"][rows].astype(np.int64)
        is_root = above < 0
        parents: Ints = np.maximum(above, 0)
        place: Ints = np.arange(len(parents))
        if self.words > 1:
            # Many folders share the one above: worth sorting out, but for a few people.
            parents, place = np.unique(parents, return_inverse=True)
        before, before_unknown = self.rights(parents)
        for right, bits in rights.items():
            wanted |= bits ^ before[right][place]
        wanted |= unknown ^ before_unknown[place]
        if is_root.any():
            # The root has nothing above it: whoever has any right there has a row.
            wanted[is_root] = unknown[is_root]
            for bits in rights.values():
                wanted[is_root] |= bits[is_root]
        if not self.matrix.terms.asks_enter:
            # Where passing through asks for nothing, files may be reached in a folder that gives nothing itself.
            wanted |= self._any_file(rows) & ~reduce(or_, rights.values(), unknown)
        return wanted

    def _any_file(self, rows: Ints) -> Bits:
        """Return who can do anything with any file right in some folders."""
        sorts = self._classes
        found = np.zeros((len(rows), self.words), dtype=np.uint64)
        begins, sizes = sorts.first[rows], sorts.first[rows + 1] - sorts.first[rows]
        place, classes = spread_runs(begins, sizes)
        if len(classes):
            given = self.file_rights(sorts.folder[classes], sorts.list[classes], sorts.owner[classes])
            np.bitwise_or.at(found, place, reduce(or_, given.values()))
        found[self.matrix.folders["state"][rows] != SeenState.WHOLE] = 0
        return found

    def blocks(self, which: RowFilter, folders: Ints | None = None) -> Iterator[RowBlock]:
        """Yield the wanted rows, folders in reading order (or those given, in their order)."""
        order = self.matrix.order.order if folders is None else folders
        if which is RowFilter.DIFFER:
            order = order[self.may_differ[order] | self._has_files[order]]
        step = _CHUNK * max(1, _WIDEST // self.words)
        for start in range(0, len(order), step):
            rows = order[start : start + step]
            rights, unknown = self.rights(rows)
            wanted = self._wanted(which, rows, rights, unknown) & self._used
            for part in self._slices(wanted):
                taken = {right: bits[part] for right, bits in rights.items()}
                yield self._row_block(rows[part], wanted[part], taken, unknown[part])

    @staticmethod
    def _slices(wanted: Bits) -> Iterator[NDArray[np.intp]]:
        """Yield the folders that have any wanted row, few enough at a time to bound the memory for rows."""
        some = np.flatnonzero(wanted.any(axis=1))
        bits = np.unpackbits(wanted[some].view(np.uint8), axis=1).sum(axis=1, dtype=np.int64)
        group = np.cumsum(bits) // _ROWS_AT_ONCE
        ends = np.flatnonzero(np.diff(group, append=-1)) + 1
        yield from np.split(some, ends[:-1])

    def _row_block(self, rows: Ints, wanted: Bits, rights: dict[Right, Bits], unknown: Bits) -> RowBlock:
        bits = np.unpackbits(wanted.view(np.uint8), axis=1, bitorder="little")
        place, column = np.divmod(np.flatnonzero(bits), bits.shape[1])
        word, shift = column >> 6, (column & 63).astype(np.uint64)
        flags = np.zeros(len(place), dtype=np.int64)
        for number, right in enumerate(FLAG_RIGHTS):
            if right not in rights:
                continue
            flags |= (rights[right][place, word] >> shift & np.uint64(1)).astype(np.int64) << number
        counts, unsure = self._counts(rows, place, word, shift)
        is_unknown = (unknown[place, word] >> shift & np.uint64(1)).astype(bool)
        closed = (self.matrix.folders["state"][rows] != SeenState.WHOLE)[place] | is_unknown
        for numbers in (counts.read, counts.change, counts.delete):
            numbers[unsure | closed] = -1
        counts.files[closed] = -1
        return RowBlock(rows[place], column.astype(np.int64), flags, is_unknown, counts)

    def _counts(
        self, rows: Ints, place: Ints, word: Ints, shift: NDArray[np.uint64]
    ) -> tuple[FileNumbers, NDArray[np.bool_]]:
        """Return the counts of files of some rows, and for which of them a file's list cannot be evaluated."""
        sorts = self._classes
        class_files, first = sorts.files, sorts.first
        begins, sizes = first[rows], first[rows + 1] - first[rows]
        starts = np.cumsum(sizes) - sizes
        run, classes = spread_runs(begins, sizes)
        bits = self.file_rights(sorts.folder[classes], sorts.list[classes], sorts.owner[classes])
        of_class = class_files[classes]
        totals = np.zeros(len(rows), dtype=np.int64)
        np.add.at(totals, run, of_class)
        # Every wanted row is taken once for each class of its folder.
        row, class_of_row = spread_runs(starts[place], sizes[place])
        weights = of_class[class_of_row]
        found = []
        for right in (*_FILE_RIGHTS, Right.UNSURE):
            if right not in bits:
                continue
            has = bits[right][class_of_row, word[row]] >> shift[row] & np.uint64(1)
            found.append(np.bincount(row, weights * has.astype(np.int64), len(place)).astype(np.int64))
        unsure = found[3] > 0 if len(found) > 3 else np.zeros(len(place), dtype=bool)
        return FileNumbers(totals[place], *found[:3]), unsure

    def rows_below(self, top: int) -> Ints:
        """Return a folder and all below it, in reading order."""
        return self.matrix.order.below(top)
