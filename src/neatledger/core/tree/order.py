"""The order of a tree's folders: its levels, where each folder stands in reading order, and what lies below it.

Rows are breadth-first, so each level is a run of rows, and a folder's row comes after that of the one above.
In reading order (each folder before what is in it, names sorted) a folder and all below it are one run.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.tree.table import Table

__all__ = ["TreeOrder"]

Ints = NDArray[np.int64]


class TreeOrder:
    """The order of one tree; `folders` needs the columns parent, first_child and children."""

    def __init__(self, folders: Table) -> None:
        self._folders = folders
        self.rows = folders.rows
        self.parent = folders["parent"]
        self._first_child = folders["first_child"]
        self._children = folders["children"]

    def find_row(self, parts: Sequence[bytes]) -> int | None:
        """Return the row of a folder by the names on the way down to it; needs the column of names."""
        row: int | None = 0
        for part in parts:
            row = None if row is None else self.find_child(row, part)
        return row

    def spread_down(self, marks: NDArray[Any], *, unmarked: int = 0) -> None:
        """Give every folder, in place, the mark of the nearest one at or above it that has one.

        `unmarked` stands for none, and is less than any mark.
        """
        for first, last in self.levels[1:]:
            here = marks[first:last]
            # Level by level from the top, so that the folder above has its mark by now.
            marks[first:last] = np.where(here > unmarked, here, marks[self.parent[first:last]])

    def find_many(self, paths: Iterable[tuple[bytes, ...]]) -> dict[tuple[bytes, ...], int | None]:
        """Return names on the way down → row for many folders: what they have in common is looked up once."""
        known: dict[tuple[bytes, ...], int | None] = {(): 0}

        def row_of(parts: tuple[bytes, ...]) -> int | None:
            if parts not in known:
                above = row_of(parts[:-1])
                known[parts] = None if above is None else self.find_child(above, parts[-1])
            return known[parts]

        for parts in paths:
            row_of(parts)
        return known

    def mark_below(self, tops: Iterable[Sequence[bytes]]) -> NDArray[np.bool_]:
        """Mark some folders, by the names on the way down to each, with all below; those that are there."""
        marks = np.zeros(self.rows, dtype=bool)
        for parts in tops:
            row = self.find_row(parts)
            if row is not None and not marks[row]:
                marks[self.below(row)] = True
        return marks

    def find_child(self, row: int, name: bytes) -> int | None:
        """Return the row of a folder's subfolder by its name."""
        names = self._folders.texts("name")
        low = int(self._first_child[row])
        high = low + int(self._children[row])
        found = bisect_left(names, name, low, high)
        return found if found < high and names[found] == name else None

    @cached_property
    def levels(self) -> list[tuple[int, int]]:
        """The rows of each level, as first and end."""
        found = [(0, 1)] if self.rows else []
        while found:
            first, last = found[-1]
            below = int(self._children[first:last].sum())
            if not below:
                break
            found.append((last, last + below))
        return found

    @cached_property
    def size(self) -> Ints:
        """How many folders each one is with all below it."""
        size = np.ones(self.rows, dtype=np.int64)
        for first, last in reversed(self.levels[1:]):
            above, end = int(self.parent[first]), int(self.parent[last - 1]) + 1
            sums = np.bincount(self.parent[first:last] - above, size[first:last], end - above)
            size[above:end] += sums.astype(np.int64)
        return size

    @cached_property
    def preorder(self) -> Ints:
        """Where each folder stands in reading order."""
        place = np.zeros(self.rows, dtype=np.int64)
        for first, last in self.levels[1:]:
            before = np.cumsum(self.size[first:last]) - self.size[first:last]
            parents = self.parent[first:last]
            before -= before[self._first_child[parents] - first]
            place[first:last] = place[parents] + 1 + before
        return place

    @cached_property
    def order(self) -> Ints:
        """All folders in reading order."""
        order = np.empty_like(self.preorder)
        order[self.preorder] = np.arange(self.rows)
        return order

    def below(self, top: int) -> Ints:
        """Return a folder and all below it, in reading order."""
        return self.order[self.preorder[top] : self.preorder[top] + self.size[top]]

    def is_below(self, folders: Ints, top: int) -> NDArray[np.bool_]:
        """Tell of each of some folders whether it is one, or lies below it."""
        place = self.preorder[folders] - self.preorder[top]
        found: NDArray[np.bool_] = (place >= 0) & (place < self.size[top])
        return found

    def roll_up(self, own: Ints) -> Ints:
        """Return for every folder the sum of a figure of its own and of all below it; exact in 64 bits."""
        sums = np.zeros(self.rows + 1, dtype=np.int64)
        np.cumsum(own[self.order], out=sums[1:])
        found: Ints = sums[self.preorder + self.size] - sums[self.preorder]
        return found

    def meet(self, some: Ints, others: Ints) -> Ints:
        """Return, pair by pair, the lowest folder in which both lie (or that one of them is)."""
        here, there = some.astype(np.int64), others.astype(np.int64)
        apart = np.flatnonzero(here != there)
        while len(apart):
            # The folder of the higher row is never above the other one: it goes up.
            ours, theirs = here[apart], there[apart]
            first = ours > theirs
            here[apart] = np.where(first, self.parent[ours], ours)
            there[apart] = np.where(first, theirs, self.parent[theirs])
            apart = apart[here[apart] != there[apart]]
        return here
