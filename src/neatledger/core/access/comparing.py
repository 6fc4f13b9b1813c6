"""Two states of one system beside each other: who gains and who loses what, where, and how much."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits
from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone, flag_rights
from neatledger.core.lists.rights import Level, Right, level_of

__all__ = [
    "FILE_SORT",
    "REMOVAL",
    "UNKNOWN_FLAG",
    "AccessChange",
    "PeopleFlags",
    "compare",
    "known_rights",
    "level_of_flags",
    "topmost",
]

Ints = NDArray[np.int64]
UNKNOWN_FLAG = 1 << len(FLAG_RIGHTS)
"""Stands beside the flags of `FLAG_RIGHTS` where it is not known what else somebody has."""

# Whether a folder itself may be removed hangs on the folder above; that alone parts no rows.
REMOVAL = 1 << FLAG_RIGHTS.index(Right.DELETE)
_CHUNK = 8192


def known_rights(flags: int) -> Right:
    """Return the rights among flags, whether or not it is known what else there is."""
    return flag_rights(flags & ~UNKNOWN_FLAG)


def level_of_flags(flags: int) -> Level:
    """Return the level that flags come to: unknown where it is not known what else there is."""
    return Level.UNKNOWN if flags & UNKNOWN_FLAG else level_of(known_rights(flags))


@dataclass(frozen=True, slots=True)
class AccessChange:
    """What changes alike for one person on a folder and those below it, whatever way they come.

    `row` is the topmost folder, of the state after; `before` and `after` are flags (`FLAG_RIGHTS`, `UNKNOWN_FLAG`).
    `folders` is how many, `files` how many files in them can be read that could not be before, `lost_files` the other
    way round, and `size` is the bytes of both.
    """

    person: str
    row: int
    before: int
    after: int
    folders: int
    files: int
    lost_files: int
    size: int

    @property
    def gained(self) -> Right:
        """What they may do afterwards and could not before."""
        return known_rights(self.after & ~self.before)

    @property
    def lost(self) -> Right:
        """What they could do before and may not afterwards."""
        return known_rights(self.before & ~self.after)


@dataclass(slots=True)
class _Cells:
    """Persons on folders where something changes, a row each; arrays of equal length."""

    row: Ints
    person: Ints
    before: Ints
    after: Ints
    files: Ints
    lost: Ints
    size: Ints


class PeopleFlags:
    """What people have by all their ways, as tables of folders × people."""

    def __init__(self, everyone: Everyone, people: Sequence[str]) -> None:
        self.everyone = everyone
        self.width = len(people)
        mine = everyone.columns_of_people()
        depth = max([len(mine.get(person, ())) for person in people] + [1])
        # Of each person the columns, one after the other; −1 where there is none (any more).
        self._columns = [
            np.array([mine[p][n] if n < len(mine.get(p, ())) else -1 for p in people], dtype=np.int64)
            for n in range(depth)
        ]

    def pick(self, bits: Bits) -> NDArray[np.bool_]:
        """Return folders × people from bits by column."""
        found = np.zeros((len(bits), self.width), dtype=bool)
        for columns in self._columns:
            place = np.maximum(columns, 0)
            found |= (bits[:, place >> 6] >> (place & 63).astype(np.uint64) & np.uint64(1)).astype(bool) & (
                columns >= 0
            )
        return found

    def flags(self, rows: Ints) -> Ints:
        """Return the flags of some folders × people; a row below 0 is a folder that is not there."""
        found = np.zeros((len(rows), self.width), dtype=np.int64)
        there = np.flatnonzero(rows >= 0)
        rights, unknown = self.everyone.rights(rows[there])
        for number, right in enumerate(FLAG_RIGHTS):
            if right in rights:
                found[there] |= self.pick(rights[right]).astype(np.int64) << number
        found[there] |= self.pick(unknown).astype(np.int64) * UNKNOWN_FLAG
        return found

    def file_flags(self, classes: Ints) -> Ints:
        """Return the flags of some rows of the table of files × people; changing a file stands as adding to it."""
        table = self.everyone.matrix.classes
        rights = self.everyone.file_rights(*(table[name][classes].astype(np.int64) for name in FILE_SORT))
        found = np.zeros((len(classes), self.width), dtype=np.int64)
        for right, flag in _OF_FILES.items():
            if right in rights:
                found |= self.pick(rights[right]).astype(np.int64) * flag
        return found


FILE_SORT = ("folder", "list", "owner")
_OF_FILES = {
    Right.READ: 1 << FLAG_RIGHTS.index(Right.READ),
    Right.CHANGE: 1 << FLAG_RIGHTS.index(Right.ADD),
    Right.DELETE: 1 << FLAG_RIGHTS.index(Right.DELETE),
    Right.UNSURE: UNKNOWN_FLAG,
}


def compare(
    before: Everyone, after: Everyone, people: Sequence[str], rows: Ints, old_rows: Ints | None = None
) -> list[AccessChange]:
    """Return what changes for some people on some folders, in reading order.

    `rows` are folders of the state after; `old_rows` says for every folder of it which row it had before (below 0:
    none), None where all kept theirs.
    """
    then, now = PeopleFlags(before, people), PeopleFlags(after, people)
    parts: list[_Cells] = []
    for start in range(0, len(rows), _CHUNK):
        chunk = rows[start : start + _CHUNK]
        olds = chunk if old_rows is None else old_rows[chunk]
        had, has = then.flags(olds), now.flags(chunk)
        # Who has the same rights on a folder may still have others on its files than before.
        files = _FileChanges(then, now, chunk, olds)
        changed = (had != has) | (files.gained > 0) | (files.lost > 0)
        row, person = np.nonzero(changed)
        if len(row):
            picked = (each[row, person] for each in (had, has, files.gained, files.lost, files.size))
            parts.append(_Cells(chunk[row], person, *picked))
    return _fold(parts, after, people)


class _FileChanges:
    """How many files right in some folders × people can be read newly or no longer, and the bytes of both.

    `olds` are the rows that the folders had before. As a rule a state has the files of the one before in the same
    rows of its table, and each is looked at; where a team folder shows other files than before, their sums are.
    """

    def __init__(self, then: PeopleFlags, now: PeopleFlags, rows: Ints, olds: Ints) -> None:
        shape = len(rows), now.width
        self.gained, self.lost, self.size = (np.zeros(shape, dtype=np.int64) for _ in range(3))
        old, new = _Files(then, olds), _Files(now, rows)
        if len(old.place) == len(new.place) and np.array_equal(old.place, new.place):
            newly, no_longer = new.read & ~old.read, old.read & ~new.read
            np.add.at(self.gained, new.place, newly * new.files)
            np.add.at(self.lost, old.place, no_longer * old.files)
            np.add.at(self.size, new.place, (newly | no_longer) * new.sizes)
            return
        for side, sign in ((new, 1), (old, -1)):
            np.add.at(self.gained, side.place, sign * side.read * side.files)
            np.add.at(self.size, side.place, sign * side.read * side.sizes)
        self.lost, self.gained = np.maximum(-self.gained, 0), np.maximum(self.gained, 0)
        self.size = np.abs(self.size)


class _Files:
    """The files right in some folders by row of the table: `place` says in which folder, `read` who reads them."""

    def __init__(self, people: PeopleFlags, rows: Ints) -> None:
        table = people.everyone.matrix.classes
        lows, highs = (np.searchsorted(table["folder"], rows, side) for side in ("left", "right"))
        counts = np.where(rows >= 0, highs - lows, 0)
        self.place = np.repeat(np.arange(len(rows)), counts)
        classes = np.repeat(lows - (np.cumsum(counts) - counts), counts) + np.arange(len(self.place))
        self.files, self.sizes = (table[name][classes].astype(np.int64)[:, None] for name in ("files", "bytes"))
        rights = people.everyone.file_rights(*(table[name][classes].astype(np.int64) for name in FILE_SORT))
        self.read = people.pick(rights[Right.READ])
        if Right.UNSURE in rights:
            self.read &= ~people.pick(rights[Right.UNSURE])


def topmost(link: Ints) -> Ints:
    """Follow links to the end: each place leads to one at or before it, and one that stands for itself to itself."""
    while True:
        further = link[link]
        if np.array_equal(further, link):
            return link
        link = further


def _fold(parts: Sequence[_Cells], after: Everyone, people: Sequence[str]) -> list[AccessChange]:
    """Fold the cells that change as the one above them does into that one."""
    if not parts:
        return []
    row, person, had, has, files, lost, size = (
        np.concatenate([getattr(part, name) for part in parts])
        for name in ("row", "person", "before", "after", "files", "lost", "size")
    )
    folders = after.matrix.folders
    # Rows are breadth-first: whatever lies above a cell has a smaller key among the same person's.
    key = person * folders.rows + row
    order = np.argsort(key)
    row, person, had, has, key = row[order], person[order], had[order], has[order], key[order]
    sums = [each[order] for each in (files, lost, size)]
    above = folders["parent"][row].astype(np.int64)
    wanted = person * folders.rows + above
    place = np.minimum(np.searchsorted(key, wanted), len(key) - 1)
    alike = (above >= 0) & (key[place] == wanted)
    for each in (had, has):
        alike &= each[place] & ~REMOVAL == each & ~REMOVAL
    link = topmost(np.where(alike, place, np.arange(len(key))))
    tops, at = np.unique(link, return_inverse=True)
    counts = np.bincount(at)
    totals = [np.zeros(len(tops), dtype=np.int64) for _ in sums]
    for total, each in zip(totals, sums, strict=True):
        np.add.at(total, at, each)
    columns = [each.tolist() for each in (person[tops], row[tops], had[tops], has[tops], counts, *totals)]
    reading = np.argsort(after.matrix.order.preorder[row[tops]], kind="stable").tolist()
    found = list(zip(*columns, strict=True))
    return [AccessChange(people[found[n][0]], *found[n][1:]) for n in reading]
