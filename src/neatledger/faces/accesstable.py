"""The table of access in a machine format, made fast: pieces of rows are made once and joined."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from math import prod

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.everyone import FLAG_RIGHTS, Column, Everyone, RowBlock, flag_rights
from neatledger.core.lists.rights import Level, Right, level_of
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import Table, folder_paths
from neatledger.faces.machine import Writer, machine_columns
from neatledger.reports.access import ACCESS_COLUMNS
from neatledger.reports.report import Cell

__all__ = ["KEYS", "AccessLines"]

KEYS = [key for key in machine_columns(ACCESS_COLUMNS) if key != "by"]
"""The columns of the table in machine formats, in their order."""

_HEAD, _FOLDER = KEYS[:3], KEYS[3:4]
_SHOWN = (Right.ENTER, Right.LIST, Right.ADD, Right.DELETE, Right.MANAGE)
_LOOKS = Right.READ | Right.VIEW
_UNKNOWN = 1 << len(FLAG_RIGHTS)


@dataclass(frozen=True, slots=True)
class _Head:
    """What stands in a row before the folder, and the ways of the rows to write."""

    text: str
    ways: tuple[str, ...]


@dataclass(slots=True)
class AccessLines:
    """Makes the rows of one system's table.

    `any` rows of people with a single way are repeated from that way, so that a reader who keeps to
    ``way == any`` has everyone.
    """

    system: str
    everyone: Everyone
    folders: Table
    writer: Writer

    def texts(self, blocks: Iterator[RowBlock]) -> Iterator[str]:
        """Yield text of many rows each."""
        path_of = folder_paths(self.folders)
        heads = [self._head(number, column) for number, column in enumerate(self.everyone.columns)]
        for block in blocks:
            if len(block.folder):
                yield self._block_text(block, path_of, heads)

    def _head(self, number: int, column: Column) -> _Head:
        if not column.principals:
            return _Head("", (column.way,))
        principals = [self.everyone.matrix.principals[one] for one in column.principals]
        account = "+".join(principal.account.login for principal in principals)
        is_single = number < len(self.everyone.single) and self.everyone.single[number]
        ways = (column.way, "any") if is_single else (column.way,)
        return _Head(self.writer.piece(_HEAD, (principals[0].person, account, self.system)), ways)

    def _tail(self, way: str, numbers: list[int]) -> str:
        flags, *files = numbers
        is_unknown = bool(flags & _UNKNOWN)
        rights = flag_rights(flags)
        level = Level.UNKNOWN if is_unknown else level_of(rights)

        def has(right: Right) -> Cell:
            return None if is_unknown else bool(rights & right)

        counts = [None if number < 0 else number for number in files]
        cells = [way, level.value, *map(has, _SHOWN), *counts, has(Right.READ), has(_LOOKS)]
        return self.writer.piece(KEYS[4:], cells)

    def _block_text(self, block: RowBlock, path_of: Callable[[int], bytes], heads: list[_Head]) -> str:
        rows, which_folder = np.unique(block.folder, return_inverse=True)
        folders = [self.writer.piece(_FOLDER, (Address(self.system, path_of(row)),)) for row in rows.tolist()]
        counts = block.counts
        flags = block.flags | block.unknown * _UNKNOWN
        numbers = np.stack([flags, counts.files, counts.read, counts.change, counts.delete], axis=1)
        kinds, which_kind = _distinct(numbers)
        ways = sorted({way for head in heads for way in head.ways})
        tails = {way: [self._tail(way, row) for row in kinds.tolist()] for way in ways}
        join, between = self.writer.join, self.writer.between
        # Head, folder and tail are joined by the same two signs in every row.
        sign = join(["", ""])
        both = [
            (head.text + sign, tails[head.ways[0]], tails[head.ways[1]] if len(head.ways) > 1 else None)
            for head in heads
        ]
        middles = [folder + sign for folder in folders]
        out: list[str] = []
        add = out.append
        for folder, column, kind in zip(
            which_folder.tolist(), block.column.tolist(), which_kind.tolist(), strict=True
        ):
            start, first, second = both[column]
            start += middles[folder]
            add(start + first[kind])
            if second is not None:
                add(start + second[kind])
        return between.join(out)


def _distinct(numbers: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.intp]]:
    """Return the distinct rows of a matrix of numbers, and for each row which one it is."""
    whole, numbers = numbers, numbers - numbers.min(axis=0, initial=0)
    radixes = [int(most) + 1 for most in numbers.max(axis=0, initial=0)]
    key = np.zeros(len(numbers), dtype=np.int64)
    if prod(radixes) < 1 << 62:
        for column, radix in zip(numbers.T, radixes, strict=True):
            key = key * radix + column
    else:
        for column in numbers.T:
            _, place = np.unique(column, return_inverse=True)
            _, key = np.unique(key * (int(place.max()) + 1) + place, return_inverse=True)
    _, first, which = np.unique(key, return_index=True, return_inverse=True)
    return whole[first], which
