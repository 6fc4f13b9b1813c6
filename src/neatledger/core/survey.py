"""What a source hands back about one system: its accounts, groups, folders and files.

Folders are rows of a table in breadth-first order: row 0 is the root, the children of a folder are
neighbours, sorted by name as bytes. Files are not rows of their own: per folder they are added up by
list, owner and kind (a *class*), links and special files likewise (*others*). By name are kept: files whose
list or owner differs from that of most of their neighbours (*odd*), the largest (*large*), and names that
differ from another beside them in letter case only (*collisions*). Names of the same file system object are
kept by identity (*hard*). What every folder holds with all below it is there too, and the whole by
owner, kind and list (*totals*).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.accounts import Account, Group
from neatledger.core.columns import NotSeen
from neatledger.core.sharing.records import Shared

__all__ = ["Facts", "Survey", "Table", "folder_paths"]

Facts = dict[str, Any]
Column = NDArray[Any] | Sequence[bytes]


@dataclass(slots=True)
class Table:
    """Columns of equal length."""

    columns: dict[str, Column]
    rows: int

    def __getitem__(self, name: str) -> NDArray[Any]:
        column = self.columns[name]
        assert isinstance(column, np.ndarray)
        return column

    def texts(self, name: str) -> Sequence[bytes]:
        """Return a column of byte strings; from the ledger each chunk of it is unpacked when asked for."""
        column = self.columns[name]
        assert not isinstance(column, np.ndarray)
        return column


@dataclass(slots=True)
class Survey:
    """Everything that one source saw of one system, ready for the ledger."""

    system: str
    source: str
    model: str
    accounts: list[Account]
    groups: list[Group]
    folders: Table
    classes: Table
    odd: Table
    hard: Table
    others: Table
    large: Table
    totals: Mapping[str, Table]
    collisions: Table
    lists: list[bytes]
    idents: list[str]
    kinds: list[str]
    not_seen: list[NotSeen]
    facts: Facts = field(default_factory=dict)
    shared: Shared | None = None

    @property
    def files(self) -> int:
        """Return the number of regular files (names, not identities)."""
        return int(np.sum(self.classes["files"], dtype=np.int64))


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
