"""Tables as columns of equal length, and the paths of folders in them.

Folders are rows in breadth-first order: row 0 is the root, and the children of a folder are neighbours.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Column", "ColumnsByNeed", "Table", "folder_paths", "spread_runs"]

Column = NDArray[Any] | Sequence[bytes]


class ColumnsByNeed(dict[str, Column]):
    """Columns that are read when they are first asked for."""

    def __init__(self, load: Callable[[str], Column]) -> None:
        super().__init__()
        self._load = load

    def __missing__(self, name: str) -> Column:
        column = self[name] = self._load(name)
        return column


@dataclass(slots=True)
class Table:
    """Columns of equal length."""

    columns: dict[str, Column]
    rows: int

    def with_column(self, name: str, column: Column) -> Table:
        """Return the table with another column in the place of one, or beside all; nothing else is read for that."""
        columns = ColumnsByNeed(self.columns.__getitem__)
        columns[name] = column
        return Table(columns, self.rows)

    def __getitem__(self, name: str) -> NDArray[Any]:
        column = self.columns[name]
        assert isinstance(column, np.ndarray)
        return column

    def texts(self, name: str) -> Sequence[bytes]:
        """Return a column of byte strings; from the ledger each chunk of it is unpacked when asked for."""
        column = self.columns[name]
        assert not isinstance(column, np.ndarray)
        return column


def spread_runs(begins: NDArray[Any], sizes: NDArray[Any]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return every row of some runs of rows, in their order: which run it belongs to, and the row itself."""
    run = np.repeat(np.arange(len(sizes)), sizes)
    return run, np.repeat(begins - (np.cumsum(sizes) - sizes), sizes) + np.arange(len(run))


def folder_paths(folders: Table) -> Callable[[int], bytes]:
    """Return a function from a folder's row to its path."""
    names, parent = folders.texts("name"), folders["parent"].tolist()

    known = {0: b""}

    def path_of(row: int) -> bytes:
        steps = []
        while row not in known:
            steps.append(row)
            row = parent[row]
        path = known[row]
        for step in reversed(steps):
            path = known[step] = path + b"/" + names[step]
        return path or b"/"

    return path_of
