"""The folders of two states of a system, each beside itself: the same by its path, or by what steps made of it."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.tree.address import parts_of
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import Table, folder_paths
from neatledger.core.tree.unseen import NOT_LISTED

__all__ = ["RowPairs", "Unseen", "mark_pairs_below", "rows_of_one_count", "rows_of_two_counts"]

Ints = NDArray[np.int64]
Unseen = tuple[NDArray[np.bool_], NDArray[np.bool_]]


@dataclass(frozen=True, slots=True)
class RowPairs:
    """Folders by their rows in two tables, below 0 where one of the two has none; arrays of equal length.

    `parent` is the place of the folder above among the pairs (below 0: none), always an earlier one. With
    `is_one_count` the files of both are the same ones, in the same rows of their tables.
    """

    before: Ints
    after: Ints
    parent: Ints
    is_one_count: bool
    path_of: Callable[[int], bytes]

    def unseen(self, states: tuple[Ints, Ints], missed: tuple[Collection[bytes], Collection[bytes]]) -> Unseen:
        """Tell of the folders that one side has not where it may have them: what they lie in was not seen whole.

        `states` are how the folders of both sides were seen, `missed` the paths of what was not.
        """
        found = []
        for rows, state, paths in zip((self.before, self.after), states, missed, strict=True):
            marks = np.zeros(len(rows), dtype=bool)
            not_listed = np.isin(state, [int(one) for one in NOT_LISTED])
            if not_listed.any() or paths:
                for place in np.flatnonzero(rows < 0).tolist():
                    above = int(self.parent[place])
                    row = int(rows[above]) if above >= 0 else -1
                    marks[place] = not_listed[row] if row >= 0 else above >= 0 and marks[above]
                    marks[place] |= self.path_of(place) in paths
            found.append(marks)
        return found[0], found[1]

    def reading_order(self, places: Ints) -> list[int]:
        """Return some places in the order in which a tree is read: each folder before what is in it, names sorted."""
        return sorted(places.tolist(), key=lambda place: parts_of(self.path_of(place)))


def rows_of_one_count(before: Table, after: Table, old_rows: Ints | None = None) -> RowPairs:
    """Pair the folders of a count with those of what steps would make of it.

    `old_rows` says for every folder of the second which row it had in the first (below 0: none); None where all kept
    theirs.
    """
    if old_rows is None:
        return _of_same_rows(before, is_one_count=True)
    return _paired(before, after, old_rows.astype(np.int64), is_one_count=True)


def rows_of_two_counts(before: Table | None, after: Table | None) -> RowPairs:
    """Pair the folders of two counts by their paths; None is a count without the system."""
    if before is None or after is None:
        table = after if before is None else before
        assert table is not None, "one of the two has the system"
        same = _of_same_rows(table, is_one_count=False)
        nothing = np.full(table.rows, -1, dtype=np.int64)
        old_rows, rows = (nothing, same.after) if before is None else (same.before, nothing)
        return RowPairs(old_rows, rows, same.parent, False, same.path_of)
    if before is after or _are_alike(before, after):
        return _of_same_rows(after, is_one_count=before is after)
    path_of = folder_paths(before)
    known = {path_of(row): row for row in range(before.rows)}
    path_of = folder_paths(after)
    old_rows = np.fromiter((known.get(path_of(row), -1) for row in range(after.rows)), np.int64, after.rows)
    return _paired(before, after, old_rows, is_one_count=False)


def _are_alike(before: Table, after: Table) -> bool:
    if before.rows != after.rows or not np.array_equal(before["parent"], after["parent"]):
        return False
    return all(mine == other for mine, other in zip(before.texts("name"), after.texts("name"), strict=True))


def _of_same_rows(table: Table, *, is_one_count: bool) -> RowPairs:
    rows = np.arange(table.rows)
    return RowPairs(rows, rows, table["parent"].astype(np.int64), is_one_count, folder_paths(table))


def _paired(before: Table, after: Table, old_rows: Ints, *, is_one_count: bool) -> RowPairs:
    """Pair folders: first all of the second table in its order, then those that only the first has, in its order."""
    is_kept = np.zeros(before.rows, dtype=bool)
    is_kept[old_rows[old_rows >= 0]] = True
    gone = np.flatnonzero(~is_kept)
    place = np.zeros(before.rows, dtype=np.int64)
    place[old_rows[old_rows >= 0]] = np.flatnonzero(old_rows >= 0)
    place[gone] = after.rows + np.arange(len(gone))
    above = before["parent"][gone].astype(np.int64)
    parent_of_gone = np.where(above < 0, -1, place[np.maximum(above, 0)])
    path_before, path_after = folder_paths(before), folder_paths(after)

    def path_of(number: int) -> bytes:
        return path_after(number) if number < after.rows else path_before(int(gone[number - after.rows]))

    return RowPairs(
        np.concatenate([old_rows, gone]),
        np.concatenate([np.arange(after.rows), np.full(len(gone), -1)]),
        np.concatenate([after["parent"].astype(np.int64), parent_of_gone]),
        is_one_count,
        path_of,
    )


def mark_pairs_below(pairs: RowPairs, order: TreeOrder, tops: list[bytes]) -> Ints:
    """Return the places of pairs at and below some folders of the second table."""
    marks = np.zeros(len(pairs.after), dtype=bool)
    there = pairs.after >= 0
    marks[there] = order.mark_below(map(parts_of, tops))[pairs.after[there]]
    # What is only in the first table lies below what the second has, or below what lies so.
    for place in np.flatnonzero(~there).tolist():
        above = int(pairs.parent[place])
        marks[place] = marks[above] if above >= 0 else True
    return np.flatnonzero(marks)
