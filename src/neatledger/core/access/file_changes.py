"""What changes with the files right in a folder, person by person: how many are read, changed, removed that were not.

Steps leave every file where it is: there each is looked at by itself. Between two counts files come and go as people
work, and a count knows few of them by name. Then only so many are told as cannot be new or gone: where somebody reads
two files fewer and there are two more that they do not read, they lost two. Files that both counts know by name are
looked at one by one there too. Whoever could do a thing with no file of a folder that had some, and can now, gained
it, though the files may be new.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits
from neatledger.core.access.moved_files import moved_files
from neatledger.core.access.people_flags import FILE_SORT, PeopleFlags, class_rows
from neatledger.core.lists.rights import Right
from neatledger.core.tree.table import Table

__all__ = ["FILE_RIGHTS", "FileChanges", "NamedFiles", "find_file_changes"]

Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]

FILE_RIGHTS = (Right.READ, Right.CHANGE, Right.DELETE)


@dataclass(frozen=True, slots=True)
class NamedFiles:
    """The files that two counts know by name: of each its table of odd files."""

    before: Table
    after: Table


@dataclass(slots=True)
class FileChanges:
    """Folders × people: by right the files gained and lost, and the bytes of those gained or lost for reading.

    `untold` is of how many files more it is not known (below 0: fewer) what a person may do with them.
    """

    gained: Mapping[Right, Ints]
    lost: Mapping[Right, Ints]
    size: Ints
    untold: Ints

    def is_any(self) -> Bools:
        """Tell where anything changes."""
        found: Bools = self.untold != 0
        for right in FILE_RIGHTS:
            found |= (self.gained[right] > 0) | (self.lost[right] > 0)
        return found


class _Files:
    """The files right in some folders by row of the table: `place` says in which folder, `has` who may do what."""

    def __init__(self, people: PeopleFlags, rows: Ints) -> None:
        table = people.everyone.matrix.classes
        self.rows = len(rows)
        self.place, classes = class_rows(table, rows)
        self.files, self.sizes = (table[name][classes].astype(np.int64)[:, None] for name in ("files", "bytes"))
        rights = people.everyone.file_rights(*(table[name][classes].astype(np.int64) for name in FILE_SORT))
        self.unsure = _unsure(people, rights, len(classes))
        self.has = {right: people.pick(rights[right]) & ~self.unsure for right in FILE_RIGHTS}

    def add_up(self, marks: Bools, numbers: Ints) -> Ints:
        """Return folders × people: the sums of a number of files over those that are marked."""
        found = np.zeros((self.rows, marks.shape[1]), dtype=np.int64)
        np.add.at(found, self.place, marks * numbers)
        return found


def _unsure(people: PeopleFlags, rights: Mapping[Right, Bits], files: int) -> Bools:
    """Return files × people: of which it is not known what somebody may do with them."""
    nobody = np.zeros((files, people.width), dtype=bool)
    found: Bools = (people.pick(rights[Right.UNSURE]) if Right.UNSURE in rights else nobody) | people.untold
    return found


def find_file_changes(
    before: PeopleFlags | None,
    after: PeopleFlags | None,
    old_rows: Ints,
    rows: Ints,
    *,
    is_one_count: bool,
    named: NamedFiles | None = None,
) -> FileChanges:
    """Return what changes with the files of some folders, by their rows in both states (below 0: not there).

    None is a state in which nobody has anything. With `is_one_count` the files of both are the same ones.
    """
    width = max(side.width for side in (before, after) if side is not None)
    old = None if before is None else _Files(before, old_rows)
    new = None if after is None else _Files(after, rows)
    is_same = (
        is_one_count
        and old is not None
        and new is not None
        and np.array_equal(old.place, new.place)
        and np.array_equal(old.files, new.files)
    )
    if is_same and old is not None and new is not None:
        return _one_by_one(old, new)
    found = _at_least(old, new, (len(rows), width))
    if named is not None and before is not None and after is not None:
        _add_named(found, before, after, old_rows, rows, named)
    return found


def _one_by_one(old: _Files, new: _Files) -> FileChanges:
    gained, lost = {}, {}
    for right in FILE_RIGHTS:
        gained[right] = new.add_up(new.has[right] & ~old.has[right] & ~old.unsure, new.files)
        lost[right] = new.add_up(old.has[right] & ~new.has[right] & ~new.unsure, new.files)
    reads_other = (new.has[Right.READ] ^ old.has[Right.READ]) & ~old.unsure & ~new.unsure
    untold = new.add_up(new.unsure, new.files) - new.add_up(old.unsure, new.files)
    return FileChanges(gained, lost, new.add_up(reads_other, new.sizes), untold)


def _at_least(old: _Files | None, new: _Files | None, shape: tuple[int, int]) -> FileChanges:
    nothing = np.zeros(shape, dtype=np.int64)
    totals, unsure = [], []
    for side in (old, new):
        every = None if side is None else np.ones((len(side.place), shape[1]), dtype=bool)
        totals.append(nothing if side is None or every is None else side.add_up(every, side.files))
        unsure.append(nothing if side is None else side.add_up(side.unsure, side.files))
    gained, lost = {}, {}
    for right in FILE_RIGHTS:
        had, has = (nothing if side is None else side.add_up(side.has[right], side.files) for side in (old, new))
        lacked, lacks = totals[0] - had - unsure[0], totals[1] - has - unsure[1]
        gained[right], lost[right] = moved_files(had, has, lacked, lacks)
    sizes = [nothing if side is None else side.add_up(side.has[Right.READ], side.sizes) for side in (old, new)]
    is_other = (gained[Right.READ] > 0) | (lost[Right.READ] > 0)
    return FileChanges(gained, lost, np.where(is_other, np.abs(sizes[1] - sizes[0]), 0), unsure[1] - unsure[0])


def _add_named(
    found: FileChanges, before: PeopleFlags, after: PeopleFlags, old_rows: Ints, rows: Ints, named: NamedFiles
) -> None:
    """Tell at least of those files that both counts know by name and whose answer is another."""
    places, sides = _same_names(old_rows, rows, named)
    if not len(places):
        return
    has: list[dict[Right, Bools]] = []
    for people, table, odd in ((before, named.before, sides[0]), (after, named.after, sides[1])):
        rights = people.everyone.file_rights(*(table[name][odd].astype(np.int64) for name in FILE_SORT))
        unsure = _unsure(people, rights, len(odd))
        has.append({right: people.pick(rights[right]) & ~unsure for right in FILE_RIGHTS} | {Right.UNSURE: unsure})
    is_sure = ~(has[0][Right.UNSURE] | has[1][Right.UNSURE])
    for right in FILE_RIGHTS:
        for numbers, marks in (
            (found.gained[right], has[1][right] & ~has[0][right] & is_sure),
            (found.lost[right], has[0][right] & ~has[1][right] & is_sure),
        ):
            by_name = np.zeros_like(numbers)
            np.add.at(by_name, places, marks.astype(np.int64))
            np.maximum(numbers, by_name, out=numbers)


def _same_names(old_rows: Ints, rows: Ints, named: NamedFiles) -> tuple[Ints, tuple[Ints, Ints]]:
    """Return the files of some folders that are known by name on both sides: the folder's place, and both rows."""
    names = [table.texts("name") for table in (named.before, named.after)]
    bounds = []
    for table, some in ((named.before, old_rows), (named.after, rows)):
        bounds.append([np.searchsorted(table["folder"], some, side).tolist() for side in ("left", "right")])
    places: list[int] = []
    pairs: list[tuple[int, int]] = []
    (old_lows, old_highs), (lows, highs) = bounds
    for place in range(len(rows)):
        if old_rows[place] < 0 or rows[place] < 0 or lows[place] == highs[place]:
            continue
        known = {names[0][odd]: odd for odd in range(old_lows[place], old_highs[place])}
        for odd in range(lows[place], highs[place]) if known else ():
            if names[1][odd] in known:
                places.append(place)
                pairs.append((known[names[1][odd]], odd))
    both = np.array(pairs, dtype=np.int64).reshape(-1, 2)
    return np.array(places, dtype=np.int64), (both[:, 0], both[:, 1])
