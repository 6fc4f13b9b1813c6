"""What is kept from everybody in a tree, whatever lists and roles give: by flags of items, and by what is mounted.

The rules are those of `ways.lock_gates` and `ways.mount_gate`, for all folders and files at once.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits, RowIndex
from neatledger.core.access.shares import WRITING, SystemTerms
from neatledger.core.lists.rights import Right
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import Table

__all__ = ["Locks", "without"]


class Locks:
    """The locks of one tree.

    Arguments: its folders with their order, the terms of the system, what the lists of folders and those of files
    keep from everybody by their numbers, and how many lists there are.
    """

    def __init__(
        self,
        folders: Table,
        order: TreeOrder,
        terms: SystemTerms,
        of_folders: Mapping[int, Right],
        of_files: Mapping[int, Right],
        lists: int,
    ) -> None:
        self._by_list = _as_array(of_files, lists)
        own = _as_array(of_folders, lists)[folders["list"]]
        self._folders = own.copy()
        # What a flag lets not go from a folder, or what is mounted, stays there.
        self._folders[1:] |= np.where(own[folders["parent"][1:]] & int(Right.CLEAR), int(Right.DELETE), 0)
        if terms.mounts:
            self._folders |= _of_mounts(folders, order, terms)

    def of_folders(self, rows: RowIndex) -> NDArray[np.int64]:
        """Return what is kept from everybody on some folders, as numbers of rights."""
        found: NDArray[np.int64] = self._folders[rows]
        return found

    def of_files(self, folder: RowIndex, lists: RowIndex) -> NDArray[np.int64]:
        """Return what is kept from everybody on files, by their folder and list (a row each)."""
        above = self._folders[folder]
        # What keeps a folder itself from going does not keep its files; what lets nothing go from it does.
        goes = np.where(above & int(Right.CLEAR), int(Right.DELETE), 0)
        found: NDArray[np.int64] = self._by_list[lists] | above & int(Right.CHANGE) | goes
        return found


def without(bits: Bits, right: Right, locks: NDArray[np.int64]) -> Bits:
    """Return a right of some rows but where it is kept from everybody."""
    cut = (locks & int(right)) != 0
    return np.where(cut[:, None], np.uint64(0), bits) if cut.any() else bits


def _as_array(locked: Mapping[int, Right], lists: int) -> NDArray[np.int64]:
    found = np.zeros(max(1, lists), dtype=np.int64)
    for number, rights in locked.items():
        found[number] = int(rights)
    return found


def _of_mounts(folders: Table, order: TreeOrder, terms: SystemTerms) -> NDArray[np.int64]:
    """Return by folder what the mount in force there keeps; a folder at which something is mounted stays."""
    kept = np.full(folders.rows, -1, dtype=np.int64)
    kept[0] = int(WRITING) if terms.read_only else 0
    tops = []
    for mount in terms.mounts:
        row = order.find_row(mount.parts)
        if row is not None:
            kept[row] = int(WRITING) if mount.read_only else 0
            tops.append(row)
    # The innermost mount decides.
    order.spread_down(kept, unmarked=-1)
    kept[tops] |= int(Right.DELETE)
    return kept
