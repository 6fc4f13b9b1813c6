"""A tree with folders that are alike laid on each other: what decides about rights is kept once for all of them.

Two folders are alike where those above them are laid on each other and they have one list, one owner and were seen as
well. What lies below folders that are laid on each other lies below the one that stands for them.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import Column, Table

__all__ = ["FoldedTree", "fold_tree"]

Ints = NDArray[np.int64]
_OF_RIGHTS = ("list", "owner", "state")


@dataclass(frozen=True)
class FoldedTree:
    """The tables of folders and of files by sort; `rows` is a folder that each stands for, `number` how many do.

    `row_of` is where each folder of the whole tree stands now, -1 where it was left out.
    """

    folders: Table
    classes: Table
    rows: Ints
    number: Ints
    row_of: Ints


def fold_tree(
    folders: Table, classes: Table, kept: NDArray[np.bool_], wanted: NDArray[np.bool_] | None = None
) -> FoldedTree:
    """Return the folders `wanted` (None: all) laid on each other where alike, but those `kept` by themselves.

    The folders above one that is wanted, or kept, are to be so too.
    """
    order = TreeOrder(folders)
    row_of = np.full(folders.rows, -1, dtype=np.int64)
    rows: list[Ints] = []
    parents: list[Ints] = []
    numbers: list[Ints] = []
    count = 0
    for first, last in order.levels:
        here = np.arange(first, last, dtype=np.int64)
        if wanted is not None:
            here = here[wanted[here]]
        above = row_of[np.maximum(folders["parent"][here], 0)] if count else np.full(len(here), -1, dtype=np.int64)
        code = above + 1
        for column in (
            *(folders[name][here].astype(np.int64) for name in _OF_RIGHTS),
            np.where(kept[here], here, -1),
        ):
            # Numbers of pairs, made small again each time, so that none grows beyond 64 bits.
            values = column - column.min(initial=0)
            _, code = np.unique(code * (int(values.max(initial=0)) + 1) + values, return_inverse=True)
        _, place, back, times = np.unique(code, return_index=True, return_inverse=True, return_counts=True)
        # Children of one folder are neighbours, and in the order of their names.
        by_parent = np.lexsort((here[place], above[place]))
        turned = np.empty_like(by_parent)
        turned[by_parent] = np.arange(len(by_parent))
        row_of[here] = count + turned[back]
        rows.append(here[place][by_parent])
        parents.append(above[place][by_parent])
        numbers.append(times[by_parent].astype(np.int64))
        count += len(place)
    nothing = np.zeros(0, dtype=np.int64)
    row, parent = np.concatenate([nothing, *rows]), np.concatenate([nothing, *parents])
    children = np.bincount(parent[parent >= 0], minlength=len(row)).astype("i4")
    names = folders.texts("name")
    columns: dict[str, Column] = {name: folders[name][row] for name in _OF_RIGHTS}
    columns |= {"name": [names[one] for one in row.tolist()], "parent": parent.astype("i4"), "children": children}
    columns["first_child"] = (1 + np.cumsum(children) - children).astype("i4")
    table = Table(columns, len(row))
    return FoldedTree(table, _folded_files(classes, row_of), row, np.concatenate([nothing, *numbers]), row_of)


def _folded_files(classes: Table, row_of: Ints) -> Table:
    folder = row_of[classes["folder"]] if classes.rows else np.zeros(0, dtype=np.int64)
    sorts = np.stack([folder, classes["list"].astype(np.int64), classes["owner"].astype(np.int64)], axis=1)
    sorts = np.unique(sorts[folder >= 0], axis=0)
    columns: dict[str, Column] = {"folder": sorts[:, 0], "list": sorts[:, 1], "owner": sorts[:, 2]}
    return Table(columns, len(sorts))
