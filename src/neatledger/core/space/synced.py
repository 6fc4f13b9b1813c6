"""What a synced device would hold for a person: the files that they can read, after the rules of syncing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import principal_bit
from neatledger.core.access.everyone import Everyone
from neatledger.core.lists.rights import Right
from neatledger.core.tree.columns import LARGE_BYTES
from neatledger.core.tree.table import Table

__all__ = ["SyncedSystem", "find_synced"]

Mask = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class SyncedSystem:
    """One system on a device: files and bytes that the person reads, and how much of it each rule leaves out.

    `is_exact` is false where files below the size that are kept by name might be left out too. `tops` has
    the bytes that stay by the first folder on the way.
    """

    reads: tuple[int, int]
    by_folder: tuple[int, int]
    by_kind: tuple[int, int]
    by_size: tuple[int, int]
    is_exact: bool
    tops: dict[int, tuple[int, int]]

    @property
    def holds(self) -> tuple[int, int]:
        """The files and bytes that the device holds."""
        left_out = zip(self.reads, self.by_folder, self.by_kind, self.by_size, strict=True)
        files, size = (reads - sum(rest) for reads, *rest in left_out)
        return files, size


def find_synced(
    everyone: Everyone,
    classes: Table,
    large: Table,
    without_folders: Mask,
    without_kinds: Sequence[int],
    largest: int | None,
) -> SyncedSystem:
    """Work out what a device holds of one system.

    Arguments: the table of access of the person's principals; the tables of classes and of large files;
    `without_folders`, a mark for each folder that is left out; the numbers of the kinds that are; the
    largest size in bytes.
    """
    may = _reads(everyone, classes)
    files, sizes = classes["files"].astype(np.int64), classes["bytes"].astype(np.int64)

    def sums(mask: Mask) -> tuple[int, int]:
        return int(files[mask].sum()), int(sizes[mask].sum())

    in_folder = may & without_folders[classes["folder"]]
    of_kind = may & ~in_folder & np.isin(classes["kind"], list(without_kinds))
    rest = may & ~in_folder & ~of_kind
    big = np.zeros(large.rows, dtype=bool)
    if largest is not None and large.rows:
        kept = (
            _reads(everyone, large) & ~without_folders[large["folder"]] & ~np.isin(large["kind"], list(without_kinds))
        )
        big = kept & (large["bytes"] > largest)
    by_size = int(big.sum()), int(large["bytes"][big].sum())
    tops: dict[int, tuple[int, int]] = {}
    top = _top_of(everyone)
    for folder, count, size in (
        *zip(classes["folder"][rest].tolist(), files[rest].tolist(), sizes[rest].tolist(), strict=True),
        *(
            (row, -1, -size)
            for row, size in zip(large["folder"][big].tolist(), large["bytes"][big].tolist(), strict=True)
        ),
    ):
        before = tops.get(int(top[folder]), (0, 0))
        tops[int(top[folder])] = before[0] + count, before[1] + size
    is_exact = largest is None or largest >= LARGE_BYTES - 1
    return SyncedSystem(sums(may), sums(in_folder), sums(of_kind), by_size, is_exact, tops)


def _reads(everyone: Everyone, table: Table) -> Mask:
    """Mark the rows whose files the person can read and take away, by any way: what is only shown is not held."""
    matrix = everyone.matrix
    found = np.zeros(table.rows, dtype=bool)
    if not table.rows:
        return found
    where = table["folder"], table["list"]
    bits = [matrix.file_bits(*where, table["owner"])[Right.READ]]
    if matrix.admins:
        bits.append(matrix.admin_files(Right.READ, *where))
    for principal in everyone.shown:
        for each in bits:
            found |= principal_bit(each, principal).astype(bool)
    return found


def _top_of(everyone: Everyone) -> NDArray[np.int64]:
    """Return for each folder the folder right below the root on the way to it; the root for itself."""
    order = everyone.matrix.order
    top = np.arange(order.rows)
    for first, last in order.levels[2:]:
        top[first:last] = top[order.parent[first:last]]
    return top
