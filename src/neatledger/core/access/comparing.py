"""Two states of one system beside each other: who may do more or less, on which folders and with how many files.

This is the one comparison that all others are made of. The two may be a count and an older one, a count and what is
supposed of it, what steps were to make and what was found after them, or two people in one state. Two answers are
kept apart from "nothing": a folder is not there (`ABSENT_FLAG`), and what somebody has was not told (`UNKNOWN_FLAG`).
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits
from neatledger.core.access.everyone import Everyone
from neatledger.core.access.file_changes import FILE_RIGHTS, NamedFiles, find_file_changes
from neatledger.core.access.moved_files import FilesChanged
from neatledger.core.access.people_flags import (
    ABSENT_FLAG,
    FILE_SORT,
    REMOVAL,
    UNKNOWN_FLAG,
    PeopleFlags,
    class_rows,
    known_rights,
)
from neatledger.core.access.row_pairs import RowPairs, Unseen
from neatledger.core.lists.rights import Right

__all__ = ["AccessChange", "compare"]

Ints = NDArray[np.int64]
_CHUNK = 8192


@dataclass(frozen=True, slots=True)
class AccessChange:
    """What changes alike for one person on a folder and those below it, whatever way they come.

    `path` is that of the topmost folder; `before` and `after` are flags (`FLAG_RIGHTS`, `UNKNOWN_FLAG`,
    `ABSENT_FLAG`). `folders` is how many. Of the files in them so many may be read, changed, removed that could not
    be before (`gained_files`) or the other way round (`lost_files`), with the bytes of those to be read (`size`); and
    of `untold_files` more it is not known what they may do with them (below 0: of fewer).
    """

    person: str
    path: bytes
    before: int
    after: int
    folders: int
    gained_files: FilesChanged
    lost_files: FilesChanged
    untold_files: int
    size: int

    @property
    def was_known(self) -> bool:
        """Tell whether it is known what they had."""
        return not self.before & UNKNOWN_FLAG

    @property
    def is_known(self) -> bool:
        """Tell whether it is known what they have afterwards."""
        return not self.after & UNKNOWN_FLAG

    @property
    def gained(self) -> Right:
        """What they may do with the folder afterwards and, as far as that is known, could not before."""
        return known_rights(self.after & ~self.before)

    @property
    def lost(self) -> Right:
        """What they could do with the folder before and may not afterwards: nothing where that is not known."""
        return known_rights(self.before & ~self.after) if self.is_known else Right.NONE

    @property
    def gains(self) -> bool:
        """Tell whether they gain anything, on folders or with files."""
        return bool(self.gained or self.gained_files)

    @property
    def loses(self) -> bool:
        """Tell whether they lose anything, on folders or with files."""
        return bool(self.lost or self.lost_files)


def compare(
    before: Everyone | None,
    after: Everyone | None,
    people: Sequence[str],
    pairs: RowPairs,
    places: Ints | None = None,
    *,
    others: Sequence[str] | None = None,
    named: NamedFiles | None = None,
    untold: tuple[Collection[str], Collection[str]] = ((), ()),
    unseen: Unseen | None = None,
) -> list[AccessChange]:
    """Return what changes for some people between two states, folders in reading order.

    None is a state in which nobody has an account. `places` are the pairs of folders to look at (None: all).
    `others` are those who stand beside the people on the second side, one for each, where they are not the same;
    `named` are the files that two counts know by name. `untold` are those of whom either side does not tell all,
    `unseen` marks the pairs whose folder either side may have and did not see.
    """
    had = None if before is None else PeopleFlags(before, people, untold[0])
    has = None if after is None else PeopleFlags(after, people if others is None else others, untold[1])
    if others is None and before is not None and after is not None:
        places = _may_differ(before, after, pairs, places)
    elif places is None:
        places = np.arange(len(pairs.after))
    parts: list[Ints] = []
    for start in range(0, len(places), _CHUNK):
        parts.append(_cells(had, has, pairs, places[start : start + _CHUNK], len(people), named, unseen))
    return _fold(parts, pairs, people)


# The columns of cells: where, who, flags before and after, and the numbers of files and bytes.
_PLACE, _PERSON, _BEFORE, _AFTER, _NUMBERS = 0, 1, 2, 3, 4


def _cells(
    had: PeopleFlags | None,
    has: PeopleFlags | None,
    pairs: RowPairs,
    places: Ints,
    width: int,
    named: NamedFiles | None,
    unseen: Unseen | None,
) -> Ints:
    """Return the cells of some folders × people in which anything changes, a row each."""
    old_rows, rows = pairs.before[places], pairs.after[places]
    sides = []
    for flags, some in ((had, old_rows), (has, rows)):
        absent = np.where(some < 0, ABSENT_FLAG, 0)[:, None].repeat(width, axis=1)
        sides.append(absent if flags is None else flags.flags(some))
    for side, marks in zip(sides, unseen or (), strict=False):
        side[marks[places]] = UNKNOWN_FLAG
    # Who has the same rights on a folder may still have others on its files than before.
    files = find_file_changes(had, has, old_rows, rows, is_one_count=pairs.is_one_count, named=named)
    is_other = ((sides[0] ^ sides[1]) & ~ABSENT_FLAG > 0) | files.is_any()
    place, person = np.nonzero(is_other)
    numbers = [files.gained[right] for right in FILE_RIGHTS] + [files.lost[right] for right in FILE_RIGHTS]
    columns = [each[place, person] for each in (*sides, *numbers, files.untold, files.size)]
    return np.column_stack([places[place], person, *columns])


def _may_differ(before: Everyone, after: Everyone, pairs: RowPairs, places: Ints | None) -> Ints:
    """Return the places of folders on which anybody's rights may differ: where accounts are the same, few."""
    if places is None:
        places = np.arange(len(pairs.after))
    columns = [
        [
            (column.way, [one.matrix.principals[number].account.login for number in column.principals])
            for column in one.columns
        ]
        for one in (before, after)
    ]
    if columns[0] != columns[1]:
        return places
    is_both = (pairs.before[places] >= 0) & (pairs.after[places] >= 0)
    found = [places[~is_both]]
    both = places[is_both]
    for start in range(0, len(both), _CHUNK):
        chunk = both[start : start + _CHUNK]
        old_rows, rows = pairs.before[chunk], pairs.after[chunk]
        (had, was_unknown), (has, is_unknown) = before.rights(old_rows), after.rights(rows)
        differs = (was_unknown ^ is_unknown).any(axis=1)
        for right in had.keys() | has.keys():
            old, new = had.get(right), has.get(right)
            differs |= True if old is None or new is None else (old ^ new).any(axis=1)
        differs |= _file_digests(before, old_rows) != _file_digests(after, rows)
        found.append(chunk[differs])
    return np.sort(np.concatenate(found))


def _file_digests(everyone: Everyone, rows: Ints) -> NDArray[np.uint64]:
    """Return a digest of what everybody may do with how many files of each of some folders.

    Alike for two folders exactly where that is the same, but for one chance in 2^64.
    """
    table = everyone.matrix.classes
    place, classes = class_rows(table, rows)
    rights = everyone.file_rights(*(table[name][classes].astype(np.int64) for name in FILE_SORT))
    digests = np.full(len(classes), 0x9E3779B97F4A7C15, dtype=np.uint64)
    for right in (*FILE_RIGHTS, Right.UNSURE):
        bits = rights.get(right)
        digests = _mixed(digests, bits)
    found = np.zeros(len(rows), dtype=np.uint64)
    np.add.at(found, place, digests * table["files"][classes].astype(np.uint64))
    return found


def _mixed(digests: NDArray[np.uint64], bits: Bits | None) -> NDArray[np.uint64]:
    """Return digests with some more words in them (the finalizer of SplitMix64, word by word)."""
    for word in range(0 if bits is None else bits.shape[1]):
        assert bits is not None, "there are words"
        digests = digests ^ bits[:, word]
        digests = (digests ^ (digests >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        digests = (digests ^ (digests >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        digests = digests ^ (digests >> np.uint64(31)) + np.uint64(1)
    return digests


def _topmost(link: Ints) -> Ints:
    """Follow links to the end: each place leads to one at or before it, and one that stands for itself to itself."""
    while True:
        further = link[link]
        if np.array_equal(further, link):
            return link
        link = further


def _fold(parts: Sequence[Ints], pairs: RowPairs, people: Sequence[str]) -> list[AccessChange]:
    """Fold the cells that change as the one above them does into that one."""
    cells = np.concatenate(parts) if parts else np.zeros((0, _NUMBERS), dtype=np.int64)
    if not len(cells):
        return []
    total = len(pairs.after)
    # Whatever lies above a cell has a smaller key among the same person's.
    key = cells[:, _PERSON] * total + cells[:, _PLACE]
    order = np.argsort(key)
    cells, key = cells[order], key[order]
    above = pairs.parent[cells[:, _PLACE]]
    wanted = cells[:, _PERSON] * total + above
    place = np.minimum(np.searchsorted(key, wanted), len(key) - 1)
    alike = (above >= 0) & (key[place] == wanted)
    for column in (_BEFORE, _AFTER):
        side = cells[:, column] & ~(REMOVAL | ABSENT_FLAG)
        alike &= side[place] == side
    link = _topmost(np.where(alike, place, np.arange(len(key))))
    tops, at = np.unique(link, return_inverse=True)
    counts = np.bincount(at)
    totals = np.zeros((len(tops), cells.shape[1] - _NUMBERS), dtype=np.int64)
    np.add.at(totals, at, cells[:, _NUMBERS:])
    begins = cells[tops]
    by_place: dict[int, list[int]] = {}
    for number, begin in enumerate(begins[:, _PLACE].tolist()):
        by_place.setdefault(begin, []).append(number)
    found = []
    for begin in pairs.reading_order(np.unique(begins[:, _PLACE])):
        path = pairs.path_of(begin)
        for number in by_place[begin]:
            _, person, before, after = begins[number, :_NUMBERS].tolist()
            *files, untold, size = totals[number].tolist()
            gained, lost = FilesChanged(*files[:3]), FilesChanged(*files[3:])
            change = AccessChange(
                people[person], path, before, after, int(counts[number]), gained, lost, untold, size
            )
            found.append(change)
    return found
