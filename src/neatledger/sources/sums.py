"""Add files up by folder, list, owner and kind, and pick those that differ from their neighbours."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["FILE_ROW", "Ints", "Sums", "sum_up"]

Ints = NDArray[np.int64]

FILE_ROW = ("folder", "list", "owner", "kind", "bytes", "blocks", "changed")
"""What a file's row of numbers holds, in order; blocks are of 512 bytes."""


@dataclass(slots=True)
class Sums:
    """Files of some folders added up.

    `classes` has eight columns as `CLASS_COLUMNS`; `odd` has folder, list and owner of the files named in
    `odd_names` (parted by NUL), folder by folder.
    """

    classes: Ints
    odd: Ints
    odd_names: bytes


def _starts(columns: list[Ints]) -> NDArray[np.intp]:
    """Return where a new run of equal rows begins, for rows sorted by these columns."""
    new = np.zeros(len(columns[0]), dtype=bool)
    new[0] = True
    for column in columns:
        new[1:] |= column[1:] != column[:-1]
    return np.flatnonzero(new)


def sum_up(rows: Ints, names: Sequence[bytes]) -> Sums:
    """Add up whole folders of files: `rows` are theirs (files × FILE_ROW), `names` their names."""
    order = np.lexsort((rows[:, 3], rows[:, 2], rows[:, 1], rows[:, 0]))
    folder, listed, owner, kind, size, blocks, changed = rows[order].T
    starts = _starts([folder, listed, owner, kind])
    counts = np.diff(starts, append=len(order))
    sums = [
        np.add.reduceat(size, starts),
        np.add.reduceat(blocks, starts) * 512,
        np.maximum.reduceat(changed, starts),
    ]
    keys = [column[starts] for column in (folder, listed, owner, kind)]
    classes = np.stack([*keys, counts, *sums], axis=1)
    odd = _odd_files(folder, listed, owner)
    numbers = np.stack([folder[odd], listed[odd], owner[odd]], axis=1)
    # No name holds a NUL: joined they are encoded, and handed from process to process, as one string.
    named = b"\0".join([names[row] for row in order[odd].tolist()])
    return Sums(classes, numbers, named)


def _odd_files(folder: Ints, listed: Ints, owner: Ints) -> NDArray[np.intp]:
    """Return which rows (sorted by folder, list, owner) are not of their folder's most common sort."""
    starts = _starts([folder, listed, owner])
    counts = np.diff(starts, append=len(folder))
    folder_starts = _starts([folder[starts]])
    per_folder = np.diff(folder_starts, append=len(starts))
    most = np.repeat(np.maximum.reduceat(counts, folder_starts), per_folder)
    # Of several equally common sorts the first one is the usual one.
    candidate = np.where(counts == most, np.arange(len(starts)), len(starts))
    usual = np.repeat(np.minimum.reduceat(candidate, folder_starts), per_folder)
    return np.flatnonzero(np.repeat(usual != np.arange(len(starts)), counts))
