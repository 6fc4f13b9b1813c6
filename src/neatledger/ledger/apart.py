"""What a count keeps in total, less some trees of it: worked out from these trees alone, however large the rest.

That is exact where nothing in these trees is seen elsewhere too: no object there has several names, and no
folder of the system is seen twice. Where that cannot be said there is no such answer, and all is worked out.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from neatledger.core.space.figures import NOTHING, Figures
from neatledger.core.space.usage import FOLDERS, OTHERS
from neatledger.core.tree.columns import COLUMNS
from neatledger.core.tree.table import Table
from neatledger.ledger.reader import SurveyReader

__all__ = ["ApartTrees"]

Ints = NDArray[np.int64]


class ApartTrees:
    """Some trees of a system, by the rows of their top folders, none within another."""

    def __init__(self, reader: SurveyReader, folders: Table, tops: Sequence[int]) -> None:
        self._reader = reader
        self._folders = folders
        self._tops = tops

    @cached_property
    def runs(self) -> list[tuple[int, int]]:
        """The rows of all folders in the trees, as runs of first and end: of each tree one on every level."""
        first_child, children = self._folders["first_child"], self._folders["children"]
        found = []
        for top in self._tops:
            first, end = top, top + 1
            while first < end:
                found.append((first, end))
                below = int(children[first:end].sum())
                first = int(first_child[first])
                end = first + below
        return found

    @cached_property
    def is_alone(self) -> bool:
        """Tell whether nothing in the trees is seen elsewhere too, as far as the count tells."""
        if self._reader.facts.get("folders_again", 1):
            return False
        hard = self._reader.table("hard")["folder"]
        ends = np.searchsorted(hard, np.array(self.runs, dtype=np.int64).reshape(-1, 2))
        return bool((ends[:, 0] == ends[:, 1]).all())

    @cached_property
    def above(self) -> dict[int, Figures]:
        """What the trees hold by the row of each folder that they lie in, their tops included."""
        parent = self._folders["parent"]
        found: dict[int, Figures] = {}
        for top in self._tops:
            figures = self._reader.totals(top)
            row = top
            while row >= 0:
                found[row] = found.get(row, NOTHING) + figures
                row = int(parent[row])
        return found

    def holds(self, row: int) -> bool:
        """Tell whether a folder lies in one of the trees."""
        tops, parent = set(self._tops), self._folders["parent"]
        while row >= 0:
            if row in tops:
                return True
            row = int(parent[row])
        return False

    def by(self, key: str) -> dict[int, Figures]:
        """Return what the trees hold by ``owner``, ``kind`` or ``list``."""
        pieces = list(self._pieces(key))
        if not pieces:
            return {}
        keys, figures = (np.concatenate(column) for column in zip(*pieces, strict=True))
        order = np.argsort(keys, kind="stable")
        starts = np.flatnonzero(np.diff(keys[order], prepend=keys.min() - 1))
        sums = np.add.reduceat(figures[order], starts, axis=0)
        return dict(zip(keys[order][starts].tolist(), map(Figures.of_row, sums.tolist()), strict=True))

    def _pieces(self, key: str) -> Iterator[tuple[Ints, Ints]]:
        for name in ("folders", "classes", "others"):
            table = self._reader.table(name)
            runs = np.array(self.runs, dtype=np.int64).reshape(-1, 2)
            for first, end in (runs if name == "folders" else np.searchsorted(table["folder"], runs)).tolist():
                size = end - first
                if key in COLUMNS[name]:
                    keys = table[key][first:end].astype(np.int64)
                else:
                    keys = np.full(size, FOLDERS if name == "folders" else OTHERS)
                files = table["files"][first:end] if name == "classes" else np.zeros(size, dtype=np.int64)
                figures = [files, table["bytes"][first:end], table["occupied"][first:end]]
                yield keys, np.stack(figures, axis=1).astype(np.int64)
