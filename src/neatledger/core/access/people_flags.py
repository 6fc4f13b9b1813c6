"""What people have by all their ways, as numbers: rights as flags, a bit for each right, folders × people."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits
from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone, flag_rights
from neatledger.core.lists.rights import Level, Right, level_of
from neatledger.core.tree.table import Table, spread_runs

__all__ = [
    "ABSENT_FLAG",
    "FILE_SORT",
    "REMOVAL",
    "UNKNOWN_FLAG",
    "PeopleFlags",
    "class_rows",
    "known_rights",
    "level_of_flags",
]

Ints = NDArray[np.int64]
UNKNOWN_FLAG = 1 << len(FLAG_RIGHTS)
"""Stands beside the flags of `FLAG_RIGHTS` where it is not known what else somebody has."""
ABSENT_FLAG = UNKNOWN_FLAG << 1
"""Stands alone where a folder is not there: nobody has anything on it."""

_DENSE = 16
"""Of so many people a word of bits they are all unpacked at once."""

# Whether a folder itself may be removed hangs on the folder above; that alone parts no rows.
REMOVAL = 1 << FLAG_RIGHTS.index(Right.DELETE)


def known_rights(flags: int) -> Right:
    """Return the rights among flags, whether or not it is known what else there is."""
    return flag_rights(flags & (UNKNOWN_FLAG - 1))


def level_of_flags(flags: int) -> Level:
    """Return the level that flags come to: unknown where it is not known what else there is."""
    return Level.UNKNOWN if flags & UNKNOWN_FLAG else level_of(known_rights(flags))


class PeopleFlags:
    """What people have by all their ways, as tables of folders × people.

    Of those in `untold` it is not known what more they have, anywhere: their accounts, or groups of theirs, were not
    told. Flags are few bits, and where people are many they may be kept in numbers of as few (`dtype`).
    """

    def __init__(
        self, everyone: Everyone, people: Sequence[str], untold: Collection[str] = (), dtype: type = np.int64
    ) -> None:
        self.everyone = everyone
        self._dtype = dtype
        self.width = len(people)
        self.untold = np.array([person in untold for person in people], dtype=bool)
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
        is_dense = self.width > _DENSE * bits.shape[1]
        spread = np.unpackbits(bits.view(np.uint8), axis=1, bitorder="little") if is_dense else None
        for columns in self._columns:
            place = np.maximum(columns, 0)
            if spread is not None:
                first = int(place[0])
                is_run = np.array_equal(place, np.arange(first, first + len(place)))
                bits_of = spread[:, first : first + len(place)] if is_run else spread[:, place]
                found |= bits_of.astype(bool) & (columns >= 0)
                continue
            found |= (bits[:, place >> 6] >> (place & 63).astype(np.uint64) & np.uint64(1)).astype(bool) & (
                columns >= 0
            )
        return found

    def flags(self, rows: Ints) -> Ints:
        """Return the flags of some folders × people; a row below 0 is a folder that is not there (`ABSENT_FLAG`)."""
        found: Ints = np.where(rows < 0, ABSENT_FLAG, 0)[:, None].repeat(self.width, axis=1).astype(self._dtype)
        there = np.flatnonzero(rows >= 0)
        rights, unknown = self.everyone.rights(rows[there])
        for number, right in enumerate(FLAG_RIGHTS):
            if right in rights:
                found[there] |= self.pick(rights[right]).astype(self._dtype) << number
        found[there] |= (self.pick(unknown) | self.untold).astype(self._dtype) * UNKNOWN_FLAG
        return found

    def file_flags(self, classes: Ints) -> Ints:
        """Return the flags of some rows of the table of files × people; changing a file stands as adding to it."""
        table = self.everyone.matrix.classes
        rights = self.everyone.file_rights(*(table[name][classes].astype(np.int64) for name in FILE_SORT))
        found: Ints = np.zeros((len(classes), self.width), dtype=self._dtype)
        for right, flag in _OF_FILES.items():
            if right in rights:
                found |= self.pick(rights[right]).astype(self._dtype) * flag
        found |= self.untold.astype(self._dtype) * UNKNOWN_FLAG
        return found


def class_rows(classes: Table, rows: Ints) -> tuple[Ints, Ints]:
    """Return the rows of the table of files that belong to some folders: of each the folder's place, and the row.

    A folder that is not there (a row below 0) has none.
    """
    lows, highs = (np.searchsorted(classes["folder"], rows, side) for side in ("left", "right"))
    return spread_runs(lows, highs - lows)


FILE_SORT = ("folder", "list", "owner")
_OF_FILES = {
    Right.READ: 1 << FLAG_RIGHTS.index(Right.READ),
    Right.CHANGE: 1 << FLAG_RIGHTS.index(Right.ADD),
    Right.DELETE: 1 << FLAG_RIGHTS.index(Right.DELETE),
    Right.UNSURE: UNKNOWN_FLAG,
}
