"""Two people beside each other on one system: what only one of them has, from which folder on downwards."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.comparing import REMOVAL, UNKNOWN_FLAG, known_rights, topmost
from neatledger.core.lists.rights import Right
from neatledger.core.tree.table import Table

__all__ = ["Apart", "apart"]

Ints = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Apart:
    """What two have on a folder and alike on `folders` of those below it; `row` is the folder's."""

    row: int
    left: Right
    right: Right
    is_known: bool
    folders: int


def apart(folders: Table, left: Ints, right: Ints) -> list[Apart]:
    """Return where two have different rights, in the order of the table's rows; flags of all folders, by row.

    A folder on which both have what they have on the one above it is counted there.
    """
    differs = (left ^ right) & ~REMOVAL != 0
    parent = folders["parent"].astype(np.int64)
    above = np.maximum(parent, 0)
    alike = differs & differs[above] & (parent >= 0)
    for side in (left, right):
        alike &= (side ^ side[above]) & ~REMOVAL == 0
    link = topmost(np.where(alike, above, np.arange(folders.rows)))
    tops, counts = np.unique(link[differs], return_counts=True)
    return [
        Apart(
            row,
            known_rights(int(left[row])),
            known_rights(int(right[row])),
            not (int(left[row]) | int(right[row])) & UNKNOWN_FLAG,
            number,
        )
        for row, number in zip(tops.tolist(), counts.tolist(), strict=True)
    ]
